#include "app/data/parts_pane.h"

#include "app/data/parts_dialog.h"
#include "app/parts.h"
#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QVBoxLayout>

namespace oxgoad {

void askParts(Session& session, QWidget* parent) {
    auto* dialog = new PartsDialog(session, parent);
    dialog->setAttribute(Qt::WA_DeleteOnClose);
    QObject::connect(dialog, &QDialog::accepted, &session, [dialog, &session] {
        Recipe recipe = session.draft();
        recipe.setAside = dialog->setAside();
        recipe.judge = dialog->folds();
        session.change(recipe);
    });
    dialog->open();
}

PartsPane::PartsPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    auto* bar = new QHBoxLayout;
    bar->setContentsMargins(8, 0, 8, 0);
    m_sentence = plainLabel({}, "hint");
    bar->addWidget(m_sentence, 1);
    m_look = linkButton(tr("look at the test rows"), this);
    m_look->setProperty("lookAtTest", true);
    connect(m_look, &QPushButton::clicked, this, [this] { m_session.lookAtTest(); });
    bar->addWidget(m_look);
    m_change = new QPushButton(tr("How it is judged…"), this);
    m_change->setProperty("setAside", true);
    connect(m_change, &QPushButton::clicked, this, [this] { askParts(m_session, this); });
    bar->addWidget(m_change);
    layout->addLayout(bar);
    m_view = new GridView(tr("Parts of the rows"), this);
    m_view->setObjectName("parts");
    m_view->setModel(&m_model);
    layout->addWidget(m_view, 1);
}

void PartsPane::refresh() {
    m_model.setContent(partsGrid(m_session));
    m_view->fitColumns(300);
    const auto& aside = m_session.recipe().setAside;
    const std::size_t looks = m_session.trail().testLooks().size();
    QString text = aside ? qs(setAsideText(*aside)) : tr("No rows are set aside.");
    if (const auto& judge = m_session.recipe().judge)
        text += tr(" · learning rows judged by %1").arg(qs(foldPlanText(*judge)));
    if (looks > 0)
        text += tr(" · test rows looked at %1").arg(looks == 1 ? tr("once") : tr("%1 times").arg(looks));
    m_sentence->setText(text);
    m_change->setEnabled(m_session.hasRows());
    const auto& evidence = m_session.evidence();
    m_look->setVisible(evidence && evidence->rowsTest > 0 && !evidence->test);
    m_look->setToolTip(
        tr("Scores the locked rows by fit %1. A test is fair once; every look is counted on the trail.")
            .arg(m_session.current()));
}

} // namespace oxgoad
