#include "app/look/look_station.h"

#include "app/parts.h"
#include "base/text.h"
#include "look/look.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QVBoxLayout>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t mostGroups = 12;

} // namespace

LookStation::LookStation(Session& session, QWidget* parent) : Station(session, "look", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(20, 12, 20, 10);
    auto* head = new QHBoxLayout;
    m_predictor = plainBox(tr("Predictor"), "predictor", this);
    m_group = plainBox(tr("Lines by"), "group", this);
    head->addWidget(plainLabel(tr("Against")));
    head->addWidget(m_predictor);
    head->addSpacing(12);
    head->addWidget(plainLabel(tr("a line for each")));
    head->addWidget(m_group);
    head->addStretch(1);
    auto* add = linkButton(tr("add to the terms"), this);
    m_add = add;
    head->addWidget(add);
    layout->addLayout(head);
    m_plot = new PlotFrame(tr("Response against a predictor"), this);
    m_plot->setObjectName("lookPlot");
    layout->addWidget(m_plot, 1);
    m_lines = plainLabel({}, "hint");
    m_lines->setWordWrap(true);
    layout->addWidget(m_lines);

    for (QComboBox* box : {m_predictor, m_group})
        connect(box, &QComboBox::currentTextChanged, this, [this] {
            m_session.view()["look.predictor"] = ss(m_predictor->currentText());
            m_session.view()["look.group"] =
                m_group->currentIndex() > 0 ? ss(m_group->currentText()) : std::string();
            draw();
        });
    connect(m_plot, &PlotFrame::rowClicked, this, [this](std::size_t row) { m_session.selectRow(row); });
    connect(&session, &Session::selectionChanged, this,
            [this] { m_plot->setSelectedRow(m_session.selectedRow()); });
    connect(add, &QPushButton::clicked, this, [this] {
        Recipe recipe = withTerm(m_session.recipe(), plainTerm(ss(m_predictor->currentText())));
        if (m_group->currentIndex() > 0) {
            const std::string group = ss(m_group->currentText());
            recipe = withTerm(recipe, plainTerm(group));
            recipe = withTerm(recipe, Term{{TermPart{ss(m_predictor->currentText())}, TermPart{group}}});
        }
        m_session.change(recipe);
    });
}

void LookStation::showColumn(const QString& column) {
    if (m_predictor->findText(column) >= 0) m_predictor->setCurrentText(column);
}

void LookStation::refresh() {
    if (!m_session.hasRows()) {
        m_plot->clear(tr("Open rows to see the response against each column."));
        return;
    }
    QStringList predictors;
    QStringList groups{tr("(all rows)")};
    for (const LedgerLine& line : m_session.ledger().columns) {
        const ColumnSummary& column = line.summary;
        if (!isOffered(m_session.recipe(), column.name)) continue;
        if (column.name != m_session.recipe().response && column.kind != ColumnKind::text)
            predictors << qs(column.name);
        if (column.kind == ColumnKind::factor && column.distinct <= mostGroups) groups << qs(column.name);
    }
    const auto& view = m_session.view();
    auto wanted = [&](const char* key) { return view.contains(key) ? qs(view.at(key)) : QString(); };
    fillBox(*m_predictor, predictors,
            predictors.contains(wanted("look.predictor")) ? wanted("look.predictor") : predictors.value(0));
    fillBox(*m_group, groups, groups.contains(wanted("look.group")) ? wanted("look.group") : groups[0]);
    draw();
}

void LookStation::draw() {
    const Column* x = m_session.table().find(ss(m_predictor->currentText()));
    const Column* y = m_session.table().find(m_session.recipe().response);
    if (!x || !y) {
        m_plot->clear(tr("Choose a response in the brief and a predictor here."));
        return;
    }
    const Column* group =
        m_group->currentIndex() > 0 ? m_session.table().find(ss(m_group->currentText())) : nullptr;
    if (group == x) group = nullptr;
    const bool factor = x->kind() == ColumnKind::factor;
    PlotFrame::Content content;
    content.xTitle = m_session.titled(x->name());
    content.yTitle = m_session.titled(y->name());
    content.xIsDate = x->kind() == ColumnKind::date;
    // Levels side by side, rows spread a little so that they do not hide each other.
    content.marks = marksByPart(
        [x, factor](std::size_t i) {
            return x->asNumber(i) +
                   (factor ? 0.5 * (static_cast<double>((i * 2654435761U) % 1000) / 1000 - 0.5) : 0);
        },
        [y](std::size_t i) { return y->asNumber(i); });
    QStringList said;
    if (factor) {
        for (const auto& level : x->levels())
            content.xLevels << qs(level);
    } else {
        std::vector<char> leftOut;
        if (const auto& evidence = m_session.evidence())
            for (const RowState state : evidence->rows.state)
                leftOut.push_back(state == RowState::leftOut);
        const auto lines = linesByGroup(*x, *y, group, leftOut);
        static constexpr std::array styles{Qt::SolidLine, Qt::DashLine, Qt::DotLine, Qt::DashDotLine,
                                           Qt::DashDotDotLine};
        int index = 0;
        for (const GroupLine& line : lines) {
            content.lines.push_back(
                {{},
                 {line.low, line.high},
                 {line.intercept + line.slope * line.low, line.intercept + line.slope * line.high},
                 theme::groupColour(index),
                 styles[static_cast<std::size_t>(index) % styles.size()],
                 qs(line.group),
                 2});
            said << (line.group.empty() ? QString() : qs(line.group) + ": ") +
                        tr("slope %1 ± %2, R² %3, %4")
                            .arg(supportedText(line.slope, line.slopeError),
                                 qs(readableText(line.slopeError, 2)), qs(readableText(line.rSquared, 2)),
                                 qs(plural(line.rows, "row", "rows")));
            ++index;
        }
        if (content.xIsDate)
            for (QString& text : said)
                text.replace("slope", "slope a day");
    }
    content.summary = tr("%1 against %2. ").arg(content.yTitle, content.xTitle) + said.join("; ");
    m_lines->setText(said.join("     "));
    m_plot->setDescription(rowDescription());
    m_plot->show(std::move(content));
    m_plot->setSelectedRow(m_session.selectedRow());
    qobject_cast<QPushButton*>(m_add)->setText(
        group ? tr("add %1 × %2 to the terms").arg(qs(x->name()), qs(group->name())).replace('&', "&&")
              : tr("add %1 to the terms").arg(qs(x->name())).replace('&', "&&"));
    const Recipe& recipe = m_session.recipe();
    const Term term = group ? Term{{TermPart{x->name()}, TermPart{group->name()}}} : plainTerm(x->name());
    m_add->setEnabled(std::find(recipe.terms.begin(), recipe.terms.end(), term) == recipe.terms.end());
}

} // namespace oxgoad
