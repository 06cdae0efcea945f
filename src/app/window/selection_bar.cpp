#include "app/window/selection_bar.h"

#include "app/parts.h"
#include "base/text.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QLineEdit>

namespace oxgoad {

SelectionBar::SelectionBar(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    setObjectName("selectionBar");
    setAttribute(Qt::WA_StyledBackground);
    setStyleSheet("#selectionBar { background: #FFFFFF; border-top: 1px solid #D3D9D5; }");
    auto* layout = new QHBoxLayout(this);
    layout->setContentsMargins(12, 3, 12, 3);
    layout->setSpacing(14);
    m_said = plainLabel({}, "markedSaid", this);
    layout->addWidget(m_said);
    m_reason = new QLineEdit(this);
    m_reason->setObjectName("markedReason");
    m_reason->setPlaceholderText(tr("reason to leave them out"));
    m_reason->setAccessibleName(tr("Reason to leave the marked rows out"));
    m_reason->setFixedWidth(190);
    layout->addWidget(m_reason);
    const auto add = [&](const QString& text, const QString& tip) {
        auto* button = linkButton(text, this);
        button->setToolTip(tip);
        layout->addWidget(button);
        return button;
    };
    m_leaveOut = add(tr("leave them out"), tr("Fit without the marked rows, for the reason given"));
    m_only = add(tr("look at only these"), tr("Takes the looks at the marked rows only"));
    m_all = add(tr("look at all rows again"), {});
    m_rows = add(tr("show the rows"), tr("The marked rows among the rows in Data"));
    m_unmark = add(tr("unmark"), tr("Esc in a plot does the same"));
    layout->addStretch(1);
    const auto leaveOut = [this] {
        const QString reason = m_reason->text().trimmed();
        if (reason.isEmpty()) {
            m_reason->setFocus();
            return;
        }
        m_reason->clear();
        m_session.leaveOutMarked(ss(reason));
    };
    connect(m_leaveOut, &QPushButton::clicked, this, leaveOut);
    connect(m_reason, &QLineEdit::returnPressed, this, leaveOut);
    connect(m_only, &QPushButton::clicked, this, [this] { m_session.lookAtOnlyMarked(); });
    connect(m_all, &QPushButton::clicked, this, [this] { m_session.lookAtAllRows(); });
    connect(m_rows, &QPushButton::clicked, this, &SelectionBar::rowsWanted);
    connect(m_unmark, &QPushButton::clicked, this, [this] { m_session.markRows({}, false); });
    connect(&session, &Session::selectionChanged, this, &SelectionBar::refresh);
    connect(&session, &Session::lookedAtChanged, this, &SelectionBar::refresh);
    connect(&session, &Session::rowsChanged, this, &SelectionBar::refresh);
    refresh();
}

void SelectionBar::refresh() {
    const bool marked = m_session.markedRows() != nullptr;
    const bool only = m_session.lookedAtRows() != nullptr;
    m_said->setText(marked ? tr("%1 marked").arg(qs(plural(m_session.markedCount(), "row", "rows")))
                           : tr("Looks are taken at some rows only"));
    for (QWidget* widget : std::initializer_list<QWidget*>{m_reason, m_leaveOut, m_rows, m_unmark})
        widget->setVisible(marked);
    m_only->setVisible(marked && m_session.markedRows() != m_session.lookedAtRows());
    m_all->setVisible(only);
    setVisible(marked || only);
}

} // namespace oxgoad
