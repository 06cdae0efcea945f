#include "app/data/join_dialog.h"

#include "app/parts.h"
#include "base/text.h"
#include "read/stack_join.h"
#include "workspace/text.h"

#include <QComboBox>
#include <QDialogButtonBox>
#include <QGridLayout>
#include <QPushButton>

namespace oxgoad {

namespace {

constexpr int mostKeys = 3;

} // namespace

JoinDialog::JoinDialog(const Table& rows, const Table& second, const QString& secondName, QWidget* parent)
    : QDialog(parent), m_rows(rows), m_second(second), m_jobs(this) {
    setObjectName("joinDialog");
    setWindowTitle(tr("Join %1").arg(secondName));
    auto* grid = new QGridLayout(this);
    grid->addWidget(plainLabel(tr("Column of the rows"), "hint"), 0, 0);
    grid->addWidget(plainLabel(tr("Column of %1").arg(secondName), "hint"), 0, 2);
    for (int k = 0; k < mostKeys; ++k) {
        auto box = [&](const Table& table, const QString& name) {
            auto* b = new QComboBox(this);
            b->setObjectName(name + QString::number(k));
            b->addItem(k == 0 ? tr("choose") : tr("(no more)"), QString());
            for (const Column& column : table.columns())
                b->addItem(qs(column.name()), qs(column.name()));
            connect(b, &QComboBox::currentIndexChanged, this, &JoinDialog::changed);
            return b;
        };
        auto* left = box(m_rows, "left");
        auto* right = box(m_second, "right");
        m_pairs.emplace_back(left, right);
        grid->addWidget(left, k + 1, 0);
        grid->addWidget(plainLabel("=", "hint"), k + 1, 1);
        grid->addWidget(right, k + 1, 2);
    }
    // The first column of the same name in both is the likely key.
    for (const Column& column : m_second.columns())
        if (m_rows.find(column.name()) && column.kind() != ColumnKind::number) {
            m_pairs[0].first->setCurrentIndex(m_pairs[0].first->findData(qs(column.name())));
            m_pairs[0].second->setCurrentIndex(m_pairs[0].second->findData(qs(column.name())));
            break;
        }
    m_said = plainLabel({}, "hint");
    m_said->setObjectName("joinSaid");
    m_said->setWordWrap(true);
    m_said->setMinimumWidth(460);
    grid->addWidget(m_said, mostKeys + 1, 0, 1, 3);
    auto* buttons = new QDialogButtonBox(QDialogButtonBox::Ok | QDialogButtonBox::Cancel, this);
    m_ok = buttons->button(QDialogButtonBox::Ok);
    m_ok->setText(tr("Join"));
    grid->addWidget(buttons, mostKeys + 2, 0, 1, 3);
    connect(buttons, &QDialogButtonBox::accepted, this, &QDialog::accept);
    connect(buttons, &QDialogButtonBox::rejected, this, &QDialog::reject);
    changed();
}

std::vector<std::pair<std::string, std::string>> JoinDialog::keys() const {
    std::vector<std::pair<std::string, std::string>> keys;
    for (const auto& [left, right] : m_pairs)
        if (!left->currentData().toString().isEmpty() && !right->currentData().toString().isEmpty())
            keys.emplace_back(ss(left->currentData().toString()), ss(right->currentData().toString()));
    return keys;
}

void JoinDialog::changed() {
    if (!m_ok) return; // while the fields are being made
    m_ok->setEnabled(false);
    if (keys().empty()) {
        m_jobs.stop();
        m_said->setText(tr("Choose the column of each table that says which rows belong together."));
        m_said->setStyleSheet({});
        return;
    }
    m_said->setText(tr("Counting matches…"));
    m_said->setStyleSheet({});
    // The join itself, off the interface thread: with a million rows it takes most of a second.
    m_jobs.start(
        tr("Counting matches"),
        [this, rows = m_rows, second = m_second, wanted = keys()](Progress& progress) -> Jobs::Finish {
            QString said;
            bool good = false;
            try {
                said =
                    qs(joinRows({rows, {}}, {second, {}}, "it", wanted, {}, progress).report.notes.front());
                good = true;
            } catch (const Error& error) {
                said = qs(error.what());
            }
            return [this, said, good] {
                m_said->setText(said);
                m_said->setStyleSheet(good ? QString() : "color: #A33B2C;");
                m_ok->setEnabled(good);
            };
        });
}

} // namespace oxgoad
