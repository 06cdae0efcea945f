#include "app/check/row_pane.h"

#include "app/parts.h"
#include "workspace/row_grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QLabel>
#include <QPushButton>
#include <QVBoxLayout>

namespace oxgoad {

RowPane::RowPane(Session& session, QWidget* parent) : QWidget(parent), m_session(session) {
    setObjectName("rowPane");
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(0, 0, 0, 0);
    layout->setSpacing(2);
    m_headline = plainLabel({}, {}, this);
    m_headline->setWordWrap(true);
    m_headline->setProperty("rowHeadline", true);
    layout->addWidget(m_headline);
    auto* choice = new QHBoxLayout;
    for (const auto& [name, text] : {std::pair{"ladder", tr("how it is predicted")},
                                     {"places", tr("where it lies")},
                                     {"nearest", tr("rows like it")},
                                     {"without", tr("the fit without it")}}) {
        auto* button = linkButton(text, this);
        button->setProperty("rowPart", name);
        button->setCheckable(true);
        choice->addWidget(button);
        m_parts.push_back(button);
        connect(button, &QPushButton::clicked, this, [this, part = QString(name)] { showPart(part); });
    }
    m_note = plainLabel({}, "hint", this);
    choice->addWidget(m_note, 1);
    layout->addLayout(choice);
    m_view = new GridView(tr("This row"), this);
    m_view->setObjectName("rowTable");
    m_view->setModel(&m_model);
    layout->addWidget(m_view, 1);
    connect(m_view, &GridView::opened, this, [this](const QModelIndex& index) {
        if (m_part == "nearest") m_session.openRow(index.data(DataRowRole).toULongLong());
    });
    connect(&m_jobs, &Jobs::failed, &session, &Session::failed);
    show({});
}

void RowPane::refresh() {
    const auto row = m_session.selectedRow();
    const auto evidence = m_session.evidence();
    const auto prepared = m_session.prepared();
    m_jobs.drop();
    if (!row || !evidence || !prepared || *row >= evidence->rows.state.size()) {
        show({});
        return;
    }
    m_jobs.start(tr("Reading the row"),
                 [this, evidence, prepared, recipe = m_session.recipe(), rows = m_session.rows(),
                  at = static_cast<std::uint32_t>(*row)](Progress& progress) -> Jobs::Finish {
                     const Table* forecast = prepared->forecast ? &prepared->forecast->table : nullptr;
                     auto story = std::make_shared<const RowStory>(
                         rowStory(*evidence, recipe, prepared->table, forecast, rows->learning.report.file,
                                  at, {}, progress));
                     return [this, story] { show(story); };
                 });
}

void RowPane::show(std::shared_ptr<const RowStory> story) {
    m_story = std::move(story);
    m_headline->setText(
        m_story ? rowHeadline(m_session, *m_story)
                : tr("Click a mark or a line to choose a row; Return or a double click opens it here "
                     "from any plot or table."));
    showPart(m_part);
}

void RowPane::showPart(const QString& part) {
    m_part = part;
    for (QPushButton* button : m_parts) {
        const bool shown = button->property("rowPart").toString() == part;
        button->setChecked(shown);
        button->setStyleSheet(shown ? "font-weight: 600; color: #1F2A2C;" : "");
        button->setEnabled(m_story != nullptr);
    }
    m_view->setVisible(m_story != nullptr);
    m_note->setText({});
    if (!m_story) return;
    m_model.setContent(part == "ladder"    ? ladderGrid(m_session, m_story)
                       : part == "places"  ? placesGrid(m_story)
                       : part == "nearest" ? nearestGrid(m_session, m_story)
                                           : withoutRowGrid(m_story));
    if (part == "without")
        m_note->setText(m_story->coefficients.empty()
                            ? tr("Only learning rows of least squares can be left out in closed form.")
                            : totalWithoutText(m_session, *m_story));
    if (part == "ladder" && m_session.evidence() && !m_session.evidence()->linear)
        m_note->setText(
            tr("Columns are moved one after the other from their usual values to those of the row."));
    m_view->fitColumns(420);
}

} // namespace oxgoad
