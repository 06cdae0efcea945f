#include "app/brief/order_dialog.h"

#include "app/parts.h"
#include "recipe/recipe_edits.h"
#include "workspace/session.h"
#include "workspace/text.h"

#include <QDialogButtonBox>
#include <QHBoxLayout>
#include <QKeyEvent>
#include <QListWidget>
#include <QPushButton>
#include <QVBoxLayout>

namespace oxgoad {

OrderDialog::OrderDialog(Session& session, const std::string& column, QWidget* parent)
    : QDialog(parent), m_session(session), m_column(column) {
    setObjectName("orderDialog");
    setWindowTitle(tr("The order of the levels"));
    setAttribute(Qt::WA_DeleteOnClose);
    auto* layout = new QVBoxLayout(this);
    auto* says = plainLabel(tr("%1 is predicted as ranks. Put its levels in their order, the lowest first: "
                               "drag them, or move them with "
                               "Alt and the arrow keys.")
                                .arg(qs(column)),
                            {}, this);
    says->setWordWrap(true);
    layout->addWidget(says);
    m_levels = new QListWidget(this);
    m_levels->setObjectName("orderLevels");
    m_levels->setAccessibleName(tr("Levels from low to high"));
    m_levels->setDragDropMode(QAbstractItemView::InternalMove);
    for (const std::string& level : session.table().find(column)->levels())
        m_levels->addItem(qs(level));
    m_levels->setCurrentRow(0);
    m_levels->installEventFilter(this);
    layout->addWidget(m_levels, 1);
    auto* moves = new QHBoxLayout;
    for (const int by : {-1, 1}) {
        auto* button = linkButton(by < 0 ? tr("lower") : tr("higher"), this);
        button->setObjectName(by < 0 ? "orderLower" : "orderHigher");
        connect(button, &QPushButton::clicked, this, [this, by] { move(by); });
        moves->addWidget(button);
    }
    moves->addStretch(1);
    layout->addLayout(moves);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Cancel, this);
    auto* take = buttons->addButton(tr("Predict these ranks"), QDialogButtonBox::AcceptRole);
    take->setDefault(true);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    layout->addWidget(buttons);
    connect(this, &QDialog::accepted, this, [this] {
        m_session.view().erase("response");
        m_session.change(withOrderedResponse(m_session.draft(), m_column, order()));
    });
    resize(420, 360);
}

std::vector<std::string> OrderDialog::order() const {
    std::vector<std::string> out;
    for (int row = 0; row < m_levels->count(); ++row)
        out.push_back(ss(m_levels->item(row)->text()));
    return out;
}

void OrderDialog::move(int by) {
    const int from = m_levels->currentRow(), to = from + by;
    if (from < 0 || to < 0 || to >= m_levels->count()) return;
    m_levels->insertItem(to, m_levels->takeItem(from));
    m_levels->setCurrentRow(to);
}

bool OrderDialog::eventFilter(QObject* watched, QEvent* event) {
    if (event->type() == QEvent::KeyPress) {
        const auto* key = static_cast<QKeyEvent*>(event);
        const bool up = key->key() == Qt::Key_Up;
        if ((key->modifiers() & Qt::AltModifier) && (up || key->key() == Qt::Key_Down)) {
            move(up ? -1 : 1);
            return true;
        }
    }
    return QDialog::eventFilter(watched, event);
}

bool canBeRanked(const Session& session, const std::string& column) {
    constexpr std::size_t fewest = 2, most = 50;
    const Column* found = session.table().find(column);
    return found && found->kind() == ColumnKind::factor && found->levels().size() >= fewest &&
           found->levels().size() <= most;
}

} // namespace oxgoad
