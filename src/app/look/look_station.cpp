#include "app/look/look_station.h"

#include "app/parts.h"
#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/look_grids.h"
#include "workspace/text.h"

#include <QButtonGroup>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>

namespace oxgoad {

namespace {

constexpr std::size_t mostGroups = 12;

struct View {
    const char* name;
    const char* text;
    const char* tip;
};
constexpr std::array views{
    View{"against", "against a column", "The rows against the chosen column, with lines, curve and boxes"},
    View{"spread out", "distribution", "How the chosen column is distributed"},
    View{"over time", "over time", "The mean of each period"},
    View{"season", "season", "The months of each year over each other"},
    View{"map", "map", "Means of places on the ground"},
    View{"pairs", "pairs", "How columns go together"}};

} // namespace

LookStation::LookStation(Session& session, QWidget* parent) : Station(session, "look", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(12, 10, 12, 6);
    auto* splitter = new QSplitter(Qt::Horizontal, this);
    splitter->setHandleWidth(1);
    auto* left = new QWidget(splitter);
    auto* right = new QWidget(splitter);
    buildRanking(left);
    buildPlot(right);
    splitter->addWidget(left);
    splitter->addWidget(right);
    splitter->setStretchFactor(1, 1);
    splitter->setSizes({400, 560});
    layout->addWidget(splitter);
    connect(m_plot, &PlotFrame::rowClicked, this, [this](std::size_t row) { m_session.selectRow(row); });
    connect(&session, &Session::selectionChanged, this,
            [this] { m_plot->setSelectedRow(m_session.selectedRow()); });
}

void LookStation::buildRanking(QWidget* side) {
    auto* layout = new QVBoxLayout(side);
    layout->setContentsMargins(0, 0, 8, 0);
    auto* head = new QHBoxLayout;
    head->addWidget(plainLabel(tr("What explains the")));
    m_against = plainBox(tr("What is looked at"), "against", side);
    m_against->addItems({tr("response"), tr("predicted"), tr("residual")});
    m_against->setMinimumWidth(90);
    m_against->setToolTip(tr("The response, or what the chosen fit predicts, or what it leaves over"));
    head->addWidget(m_against);
    head->addStretch(1);
    layout->addLayout(head);
    m_ranking = new GridView(tr("Columns ranked by what each explains alone"), side);
    m_ranking->setObjectName("ranking");
    m_ranking->setModel(&m_rankingModel);
    m_ranking->horizontalHeader()->setSectionsClickable(true);
    m_ranking->horizontalHeader()->setToolTip(tr("Click to sort, again to turn it round"));
    layout->addWidget(m_ranking, 1);
    connect(m_ranking->horizontalHeader(), &QHeaderView::sectionClicked, this, [this](int column) {
        m_descending = m_sortColumn == column ? !m_descending : column != 0 && column != 6;
        m_sortColumn = column;
        showRanking();
    });
    connect(m_ranking, &GridView::lineChosen, this, [this](const QModelIndex& index) {
        m_up.clear();
        if (m_view != "against" && m_view != "spread out") showView("against");
        showColumn(index.siblingAtColumn(0).data().toString());
    });
    connect(m_against, &QComboBox::currentTextChanged, this, [this] {
        m_session.view()["look.against"] = ss(m_against->currentText());
        m_up.clear();
        rank();
        draw();
    });
}

void LookStation::buildPlot(QWidget* side) {
    auto* layout = new QVBoxLayout(side);
    layout->setContentsMargins(10, 0, 0, 0);
    layout->setSpacing(4);
    auto* choice = new QHBoxLayout;
    m_views = new QButtonGroup(side);
    for (const View& view : views) {
        auto* button = linkButton(tr(view.text), side);
        button->setToolTip(tr(view.tip));
        button->setCheckable(true);
        button->setProperty("view", view.name);
        m_views->addButton(button);
        choice->addWidget(button);
        connect(button, &QPushButton::clicked, this, [this, name = QString(view.name)] { showView(name); });
    }
    choice->addStretch(1);
    layout->addLayout(choice);
    auto* head = new QHBoxLayout;
    m_predictor = plainBox(tr("Column"), "predictor", side);
    m_group = plainBox(tr("Lines by"), "group", side);
    m_by = plainLabel(tr("a line for each"));
    head->addWidget(m_predictor);
    head->addWidget(m_by);
    head->addWidget(m_group);
    head->addStretch(1);
    layout->addLayout(head);
    m_stack = new QStackedWidget(side);
    m_plot = new PlotFrame(tr("What is looked at"), m_stack);
    m_plot->setObjectName("lookPlot");
    m_pairs = new GridView(tr("Pairs of columns, strongest first"), m_stack);
    m_pairs->setObjectName("pairs");
    m_pairs->setModel(&m_pairsModel);
    m_pairs->setToolTip(tr("Return or a double click draws the two against each other"));
    m_stack->addWidget(m_plot);
    m_stack->addWidget(m_pairs);
    layout->addWidget(m_stack, 1);
    m_slopes = new GridView(tr("Slopes by group"), side);
    m_slopes->setObjectName("slopes");
    m_slopes->setModel(&m_slopesModel);
    m_slopes->setMaximumHeight(122);
    layout->addWidget(m_slopes);
    m_said = plainLabel({}, "hint");
    m_said->setObjectName("lookSaid");
    m_said->setStyleSheet("color: #5E6A6B; font-size: 11px;");
    m_said->setWordWrap(true);
    layout->addWidget(m_said);
    m_moves = new QHBoxLayout;
    m_moves->setSpacing(14);
    layout->addLayout(m_moves);
    connect(m_predictor, &QComboBox::currentTextChanged, this, [this] {
        m_session.view()["look.predictor"] = ss(m_predictor->currentText());
        m_up.clear();
        draw();
    });
    connect(m_group, &QComboBox::currentTextChanged, this, [this] {
        m_session.view()["look.group"] =
            m_group->currentIndex() > 0 ? ss(m_group->currentText()) : std::string();
        draw();
    });
    auto openPair = [this](const QModelIndex& index) {
        const QString a = index.siblingAtColumn(1).data().toString();
        const QString b = index.siblingAtColumn(2).data().toString();
        const Column* first = m_session.table().find(ss(a));
        // A factor lies along the plot, a number stands up it.
        const bool turned = first && first->kind() == ColumnKind::number &&
                            m_session.table().at(ss(b), {}).kind() == ColumnKind::factor;
        showView("against");
        showColumn(turned ? b : a);
        m_up = ss(turned ? a : b);
        draw();
    };
    connect(m_pairs, &GridView::opened, this, openPair);
}

QWidget* LookStation::focusTarget() {
    return m_ranking;
}

void LookStation::showColumn(const QString& column) {
    if (m_predictor->findText(column) >= 0) m_predictor->setCurrentText(column);
}

void LookStation::showView(const QString& view) {
    m_session.view()["look.view"] = ss(view);
    m_view = view;
    for (auto* button : m_views->buttons()) {
        const bool chosen = button->property("view") == view;
        button->setChecked(chosen);
        button->setStyleSheet(chosen ? "font-weight: 600; color: #1F2A2C; text-decoration: underline;" : "");
    }
    const bool columns = view == "against" || view == "spread out";
    m_predictor->setVisible(columns);
    m_by->setVisible(view == "against" || view == "over time");
    m_group->setVisible(view == "against" || view == "over time");
    m_stack->setCurrentWidget(view == "pairs" ? static_cast<QWidget*>(m_pairs) : m_plot);
    draw();
}

LookRequest LookStation::request() const {
    LookRequest request;
    request.prepared = m_session.prepared();
    request.evidence = m_session.evidence();
    request.recipe = m_session.recipe();
    request.against = againstNamed(ss(m_against->currentText())).value_or(Against::response);
    request.view = m_view;
    request.column = ss(m_predictor->currentText());
    if (m_group->currentIndex() > 0) request.group = ss(m_group->currentText());
    request.up = m_up;
    return request;
}

void LookStation::refresh() {
    if (!m_session.hasRows()) {
        take({});
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
    if (!m_session.evidence() && m_against->currentIndex() > 0) {
        const QSignalBlocker blocker(m_against);
        m_against->setCurrentIndex(0);
    }
    rank();
    bool known = false;
    for (const View& v : views)
        known = known || wanted("look.view") == v.name;
    showView(known ? wanted("look.view") : m_view);
}

void LookStation::rank() {
    m_ranked.clear();
    const LookRequest what = request();
    if (!what.prepared) return;
    m_session.rankJobs().start(tr("Ranking columns"), [this, what](Progress& progress) -> Jobs::Finish {
        try {
            const LookScope scope = lookScope(what.recipe, *what.prepared, what.evidence.get(), what.against);
            const Table& table = what.prepared->table;
            // Lines appear as they are worked out.
            auto one = [this, what](std::size_t, const RankedColumn& ranked) {
                QMetaObject::invokeMethod(this, [this, what, ranked] {
                    if (m_session.prepared() != what.prepared || m_session.evidence() != what.evidence ||
                        request().against != what.against)
                        return;
                    std::erase_if(m_ranked, [&](const RankedColumn& r) { return r.name == ranked.name; });
                    m_ranked.push_back(ranked);
                    showRanking();
                });
            };
            auto all = rankColumns(table, scope.target, scope.used, lookColumns(what.recipe, table), {},
                                   progress, one);
            return [this, all = std::move(all)] {
                m_ranked = all;
                showRanking();
            };
        } catch (const Error&) { // the plot says why
            return [this] {
                m_ranked.clear();
                showRanking();
            };
        }
    });
}

void LookStation::showRanking() {
    auto ranking = std::make_shared<std::vector<RankedColumn>>(m_ranked);
    sortRanking(*ranking, m_sortColumn, m_descending);
    const bool first = m_rankingModel.rowCount() == 0;
    const QSignalBlocker blocker(m_ranking->selectionModel());
    m_rankingModel.setContent(rankingGrid(ranking));
    if (first || ranking->size() < 60) m_ranking->fitColumns(136);
}

void LookStation::draw() {
    const LookRequest what = request();
    if (!what.prepared) return;
    if (what.view == "pairs") {
        drawPairs();
        return;
    }
    m_session.lookJobs().start(tr("Drawing"), [this, what](Progress& progress) -> Jobs::Finish {
        auto picture = std::make_shared<LookPicture>(lookPicture(what, progress));
        return [this, picture] { take(std::move(*picture)); };
    });
}

void LookStation::drawPairs() {
    const LookRequest what = request();
    take({});
    m_said->setText(tr("Comparing columns over the learning rows…"));
    m_session.lookJobs().start(tr("Comparing columns"), [this, what](Progress& progress) -> Jobs::Finish {
        std::vector<std::uint8_t> used;
        for (std::size_t i = 0; i < what.prepared->parts.size(); ++i)
            used.push_back(what.prepared->leftOut[i] == 0 && what.prepared->parts[i] == Part::learning);
        auto pairs = std::make_shared<const Pairs>(pairsOf(
            what.prepared->table, used, lookColumns(what.recipe, what.prepared->table), {}, progress));
        return [this, pairs] {
            m_pairsModel.setContent(pairsGrid(pairs));
            m_pairs->fitColumns(200);
            m_said->setText(
                tr("%1 of %2. Columns that go together by more than 0.7 share a group in brackets. "
                   "Return draws a pair.")
                    .arg(qs(plural(pairs->strongest.size(), "pair", "pairs")),
                         qs(plural(pairs->columns.size(), "column", "columns"))));
        };
    });
}

void LookStation::take(LookPicture picture) {
    while (QLayoutItem* item = m_moves->takeAt(0)) {
        if (item->widget()) item->widget()->deleteLater();
        delete item;
    }
    for (const auto& [group, text] : picture.groups) {
        auto* button = linkButton(text, this);
        m_moves->addWidget(button);
        connect(button, &QPushButton::clicked, this, [this, name = group] { m_group->setCurrentText(name); });
    }
    for (const LookMove& move : picture.moves) {
        auto* button = linkButton(move.label, this);
        m_moves->addWidget(button);
        connect(button, &QPushButton::clicked, this,
                [this, recipe = move.recipe] { m_session.change(recipe); });
    }
    m_moves->addStretch(1);
    m_slopes->setVisible(picture.slopes.has_value());
    if (picture.slopes) {
        m_slopesModel.setContent(*picture.slopes);
        m_slopes->fitColumns(320);
    }
    m_said->setText(picture.sentences.join(' '));
    if (m_view == "pairs") return;
    m_plot->setDescription(rowDescription());
    m_plot->show(std::move(picture.content));
    m_plot->setSelectedRow(m_session.selectedRow());
}

} // namespace oxgoad
