#include "app/fit/tree_pane.h"

#include "app/fit/tree_picture.h"
#include "app/parts.h"
#include "base/text.h"
#include "estimate/tree/tree_gain.h"
#include "study/tune.h"
#include "workspace/text.h"

#include <QApplication>
#include <QClipboard>
#include <QHBoxLayout>
#include <QVBoxLayout>

namespace oxgoad {

TreePane::TreePane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    auto* head = new QHBoxLayout;
    m_said = plainLabel({}, "hint");
    m_said->setObjectName("treeSaid");
    m_said->setWordWrap(true);
    head->addWidget(m_said, 1);
    const auto link = [&](const QString& text, const char* name, const QString& tip, auto act) {
        auto* button = linkButton(text, this);
        button->setObjectName(name);
        button->setToolTip(tip);
        connect(button, &QPushButton::clicked, this, act);
        head->addWidget(button);
    };
    link(tr("full tree"), "treeFull", tr("Nothing is cut back"), [this] { cutBack(0.0); });
    link(tr("smallest error"), "treeSmallest", tr("As far as folds say, with the smallest error"),
         [this] { cutBack(std::string(smallestErrorRule)); });
    link(tr("simpler, within one standard error"), "treeSimpler",
         tr("The smallest tree whose error over folds is as good but for one standard error"),
         [this] { cutBack(std::string(oneStandardErrorRule)); });
    link(tr("copy as text"), "treeCopy", tr("The tree as indented questions"), [this] { copyText(); });
    layout->addLayout(head);
    m_picture = new TreePicture(this);
    layout->addWidget(m_picture, 1);
    connect(m_picture, &TreePicture::moved, this, [this](std::size_t step, bool rests) {
        const auto view = treeView(m_session);
        if (!rests || !view || step >= view->sequence.size()) return;
        // In the middle between two steps, so that the same tree comes of it again.
        const double here = view->sequence[step].complexity;
        cutBack(step + 1 < view->sequence.size() ? (here + view->sequence[step + 1].complexity) / 2
                                                 : 2 * here + 1e-300);
    });
    connect(&session, &Session::selectionChanged, this, [this] {
        if (isVisible()) refresh();
    });
}

void TreePane::cutBack(const FieldValue& complexity) {
    Recipe recipe = m_session.draft();
    if (recipe.estimator.kind != "tree") return;
    recipe.estimator.fields.erase("leaves");
    recipe.estimator.fields["complexity"] = complexity;
    m_session.change(recipe);
}

void TreePane::copyText() {
    const auto evidence = m_session.evidence();
    if (evidence && evidence->study) QApplication::clipboard()->setText(qs(partOf(*evidence->study).text));
}

void TreePane::refresh() {
    const auto view = treeView(m_session);
    if (!view) {
        m_picture->clear(tr("Only a regression tree has a drawing."));
        m_said->clear();
        return;
    }
    m_picture->show(view);
    const auto evidence = m_session.evidence();
    QString said = qs(plural(m_picture->leaves(), "leaf", "leaves")) +
                   tr(" of %1").arg(qs(countText(view->sequence.front().leaves)));
    if (evidence->study->tuning) said += tr(", cut back by %1").arg(qs(evidence->study->tuning->judgedBy));
    if (const std::string gain = gainText(*view->model); !gain.empty()) said += "; " + qs(gain);
    m_said->setText(said);
    m_said->setToolTip(tr(
        "By the tree's own questions, which favours columns with many values; what it loses when a column is "
        "shuffled stands in the table."));
}

} // namespace oxgoad
