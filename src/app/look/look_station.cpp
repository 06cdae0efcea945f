// One station: its controls, what they ask for and what comes of it; apart they would be read together
// anyway.
#include "app/look/look_station.h"

#include "app/look/look_parts.h"
#include "app/look/ranked_columns.h"

#include "app/look/plot_panels.h"
#include "app/parts.h"
#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/look_grids.h"
#include "workspace/text.h"

#include <QButtonGroup>
#include <QHBoxLayout>
#include <QHeaderView>
#include <QSlider>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>

#include <iterator>

namespace oxgoad {

namespace {

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

const QStringList scaleNames() {
    return {QObject::tr("plain scales"), QObject::tr("ln across"), QObject::tr("ln up"),
            QObject::tr("ln both")};
}

/// The chosen one of some words.
void underline(const QButtonGroup& group) {
    for (auto* button : group.buttons())
        button->setStyleSheet(
            button->isChecked() ? "font-weight: 600; color: #1F2A2C; text-decoration: underline;" : "");
}

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
    splitter->setSizes({434, 526});
    layout->addWidget(splitter);
    link(*m_plot);
    connect(&session, &Session::lookedAtChanged, this, [this] {
        if (isVisible()) refresh();
    });
}

void LookStation::buildRanking(QWidget* side) {
    auto* layout = new QVBoxLayout(side);
    layout->setContentsMargins(0, 0, 8, 0);
    auto* head = new QHBoxLayout;
    head->addWidget(plainLabel(tr("What explains the")));
    m_against = new QButtonGroup(side);
    for (const Against against : {Against::response, Against::predicted, Against::residual}) {
        auto* button = linkButton(qs(againstName(against)), side);
        button->setCheckable(true);
        button->setProperty("against", qs(againstName(against)));
        button->setToolTip(against == Against::response    ? tr("The response itself")
                           : against == Against::predicted ? tr("What the chosen fit predicts")
                                                           : tr("What the chosen fit leaves over"));
        m_against->addButton(button, static_cast<int>(against));
        head->addWidget(button);
    }
    head->addStretch(1);
    m_find = new FindField(tr("find a column"), tr("Find a ranked column by its name"), "findRanked");
    m_find->setToolTip(tr("By name (Ctrl+F)"));
    m_find->setFixedWidth(110);
    connect(m_find, &QLineEdit::textChanged, this, &LookStation::showRanking);
    connect(m_find, &QLineEdit::returnPressed, this, [this] { m_ranking->goTo(); });
    findWith(*m_find);
    head->addWidget(m_find);
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
    connect(m_against, &QButtonGroup::idClicked, this, [this](int id) {
        m_session.view()["look.against"] = againstName(static_cast<Against>(id));
        m_up.clear();
        rank();
        draw();
        underline(*m_against);
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
    auto* choices = new QWidget(side);
    QSizePolicy policy(QSizePolicy::Expanding, QSizePolicy::Preferred);
    policy.setHeightForWidth(true);
    choices->setSizePolicy(policy);
    choices->setStyleSheet("QComboBox { font-size: 12px; padding: 1px 4px; }");
    buildChoices(choices, new FlowLayout(choices, 8, 4));
    layout->addWidget(choices);
    m_stack = new QStackedWidget(side);
    m_plot = new PlotFrame(tr("What is looked at"), m_stack);
    m_plot->setObjectName("lookPlot");
    m_plot->clear(tr("Drawing…"));
    m_panels = new PlotPanels(m_stack);
    m_pairs = new GridView(tr("Pairs of columns"), m_stack);
    m_pairs->setObjectName("pairs");
    m_pairs->setModel(&m_pairsModel);
    m_stack->addWidget(m_plot);
    m_stack->addWidget(m_panels);
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
    auto* moves = new QWidget(side);
    moves->setSizePolicy(policy);
    m_moves = new FlowLayout(moves, 14, 0);
    layout->addWidget(moves);
    const auto open = [this](const QModelIndex& index) {
        if (!m_pairsFound) return;
        if (m_pairsAs->currentIndex() == 1) {
            openPair(index.siblingAtColumn(1).data().toString(), index.siblingAtColumn(2).data().toString());
            return;
        }
        const auto& order = m_pairsFound->order;
        const auto line = static_cast<std::size_t>(index.row()),
                   across = static_cast<std::size_t>(index.column() - 2);
        if (index.column() >= 2 && line != across)
            openPair(qs(m_pairsFound->columns[order[line]]), qs(m_pairsFound->columns[order[across]]));
    };
    connect(m_pairs, &GridView::opened, this, open);
    connect(m_pairs, &QTableView::clicked, this, open);
}

QComboBox* LookStation::choice(const QString& accessibleName, const char* name, const QStringList& items,
                               QLayout* layout) {
    auto* box = plainBox(accessibleName, name, layout->parentWidget());
    box->setMinimumWidth(60);
    box->addItems(items);
    layout->addWidget(box);
    connect(box, &QComboBox::currentIndexChanged, this, [this, name = std::string(name), box] {
        m_session.view()["look." + name] = std::to_string(box->currentIndex());
        draw();
    });
    return box;
}

void LookStation::buildChoices(QWidget* side, QLayout* layout) {
    m_predictor = plainBox(tr("Column"), "predictor", side);
    m_group = plainBox(tr("Lines and colours by"), "group", side);
    m_panelsBy = plainBox(tr("Plots by"), "panelsBy", side);
    for (QComboBox* box : {m_predictor, m_group, m_panelsBy}) {
        box->setMinimumWidth(60);
        layout->addWidget(box);
    }
    m_group->setToolTip(tr("A line and a colour for each level of a factor"));
    m_panelsBy->setToolTip(tr("A plot for each level of a factor, on the same scales"));
    m_shape = choice(tr("What is drawn through the rows"), "shape",
                     {tr("lines"), tr("curves"), tr("means of bands")}, layout);
    m_scales = choice(tr("Scales"), "scales", scaleNames(), layout);
    m_scales->setToolTip(tr("On a logarithmic scale lines, curves and slopes are those of logarithms"));
    m_spread = choice(tr("How the distribution is shown"), "spread",
                      {tr("counts"), tr("against normal"), tr("powers")}, layout);
    m_summing = choice(tr("Of a period"), "summing", {tr("mean"), tr("total")}, layout);
    m_over = choice(tr("How time is shown"), "over",
                    {tr("on one scale"), tr("each on its own scale"), tr("against itself")}, layout);
    m_pairsAs = choice(tr("Pairs as"), "pairsAs", {tr("as a matrix"), tr("as a list")}, layout);
    m_drag = choice(tr("What dragging does"), "drag",
                    {tr("drag: move"), tr("drag: mark a box"), tr("drag: mark freely")}, layout);
    m_drag->setToolTip(
        tr("Shift always marks a box, Ctrl what you draw a line round; M marks what is in view"));
    m_opacity = new QSlider(Qt::Horizontal, side);
    m_opacity->setObjectName("opacity");
    m_opacity->setAccessibleName(tr("How strong marks are drawn, in per cent"));
    m_opacity->setToolTip(m_opacity->accessibleName());
    m_opacity->setRange(5, 100);
    m_opacity->setValue(100);
    m_opacity->setFixedSize(52, 22);
    layout->addWidget(m_opacity);
    connect(m_opacity, &QSlider::valueChanged, this, [this](int value) {
        auto frames = m_panels->frames();
        frames.push_back(m_plot);
        for (PlotFrame* frame : frames) {
            frame->setMarkOpacity(value / 100.0);
            frame->redraw();
        }
    });
    connect(m_predictor, &QComboBox::currentTextChanged, this, [this] {
        const bool time = m_view == "over time" || m_view == "season";
        m_session.view()[time ? "look.course" : "look.predictor"] = ss(m_predictor->currentText());
        m_up.clear();
        draw();
    });
    const auto factorChosen = [this](QComboBox* box, const char* key) {
        connect(box, &QComboBox::currentTextChanged, this, [this, box, key] {
            m_session.view()[key] = ss(box->currentData().toString());
            draw();
        });
    };
    factorChosen(m_group, "look.group");
    factorChosen(m_panelsBy, "look.panelsBy");
}

void LookStation::openPair(const QString& a, const QString& b) {
    const Column* first = m_session.table().find(ss(a));
    const Column* second = m_session.table().find(ss(b));
    if (!first || !second) return;
    // A factor lies along the plot, a number stands up it.
    const bool turned = first->kind() == ColumnKind::number && second->kind() == ColumnKind::factor;
    showView("against");
    showColumn(turned ? b : a);
    m_up = ss(turned ? a : b);
    draw();
}

void LookStation::prepare(PlotFrame& frame) {
    link(frame);
    frame.setMarkOpacity(m_opacity->value() / 100.0);
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
    for (auto* button : m_views->buttons())
        button->setChecked(button->property("view") == view);
    underline(*m_views);
    const bool against = view == "against", spread = view == "spread out", time = view == "over time",
               season = view == "season", pairs = view == "pairs";
    fillColumns();
    m_predictor->setVisible(against || spread || time || season);
    m_group->setVisible(against || time);
    m_panelsBy->setVisible(against);
    m_shape->setVisible(against);
    m_scales->setVisible(against);
    m_spread->setVisible(spread);
    m_summing->setVisible(time || season);
    m_over->setVisible(time);
    m_pairsAs->setVisible(pairs);
    m_drag->setVisible(against || view == "map" || spread);
    m_opacity->setVisible(against || view == "map");
    if (pairs) m_stack->setCurrentWidget(m_pairs);
    draw();
}

void LookStation::fillColumns() {
    const bool time = m_view == "over time" || m_view == "season";
    const std::string& response = m_session.recipe().response;
    QStringList columns;
    if ((time || m_view == "spread out") && !response.empty()) columns << qs(response);
    for (const LedgerLine& line : m_session.ledger().columns) {
        const ColumnSummary& column = line.summary;
        if (!isOffered(m_session.recipe(), column.name) || column.name == response ||
            column.kind == ColumnKind::text || (time && column.kind != ColumnKind::number))
            continue;
        columns << qs(column.name);
    }
    const auto& view = m_session.view();
    const auto wanted = view.find(time ? "look.course" : "look.predictor");
    const QString name = wanted == view.end() ? QString() : qs(wanted->second);
    const QSignalBlocker blocker(m_predictor);
    fillBox(*m_predictor, columns, columns.value(0));
    m_predictor->setCurrentText(columns.contains(name) ? name : columns.value(0));
}

Against LookStation::against() const {
    return static_cast<Against>(std::max(0, m_against->checkedId()));
}

LookRequest LookStation::request() const {
    LookRequest request;
    request.prepared = m_session.prepared();
    request.evidence = m_session.evidence();
    request.recipe = m_session.recipe();
    request.against = against();
    request.view = m_view;
    request.column = ss(m_predictor->currentText());
    request.group = ss(m_group->currentData().toString());
    request.panels = ss(m_panelsBy->currentData().toString());
    request.up = m_up;
    if ((m_view == "over time" || m_view == "season") && m_predictor->currentIndex() > 0)
        request.up = request.column;
    request.only = m_session.lookedAtRows();
    request.scales = {m_scales->currentIndex() % 2 == 1, m_scales->currentIndex() >= 2};
    request.shape = static_cast<LookRequest::Shape>(m_shape->currentIndex());
    request.spread = static_cast<LookRequest::Spread>(m_spread->currentIndex());
    request.over = static_cast<LookRequest::Over>(m_over->currentIndex());
    request.summing = m_summing->currentIndex() == 1 ? Summing::total : Summing::mean;
    return request;
}

void LookStation::refresh() {
    if (!m_session.hasRows()) {
        take({});
        m_plot->clear(tr("Open rows to see the response against each column."));
        return;
    }
    if (m_pairsWanted.prepared !=
        m_session.prepared()) { // pairs of thousands of columns are not kept for nothing
        m_pairsFound.reset();
        m_pairsModel.setContent({});
        m_pairsWanted = {};
    }
    QStringList factors, groups{tr("one line")}, panels{tr("one plot")};
    for (const LedgerLine& line : m_session.ledger().columns)
        if (line.summary.kind == ColumnKind::factor && line.summary.distinct <= mostGroups &&
            isOffered(m_session.recipe(), line.summary.name)) {
            factors << qs(line.summary.name);
            groups << tr("lines by %1").arg(factors.back());
            panels << tr("plots by %1").arg(factors.back());
        }
    const auto& view = m_session.view();
    const auto wanted = [&](const std::string& key) {
        return view.contains(key) ? qs(view.at(key)) : QString();
    };
    const auto keep = [&](QComboBox* box, const QStringList& items, const char* key) {
        const QSignalBlocker blocker(box);
        fillBox(*box, items, items[0]);
        for (int k = 0; k < factors.size(); ++k)
            box->setItemData(k + 1, factors[k]);
        box->setCurrentIndex(std::max(0, box->findData(wanted(key))));
    };
    keep(m_group, groups, "look.group");
    keep(m_panelsBy, panels, "look.panelsBy");
    for (QComboBox* box : {m_shape, m_scales, m_spread, m_summing, m_over, m_pairsAs, m_drag}) {
        const QSignalBlocker blocker(box);
        const int index = wanted("look." + ss(box->objectName())).toInt();
        box->setCurrentIndex(index >= 0 && index < box->count() ? index : 0);
    }
    const auto against = againstNamed(ss(wanted("look.against"))).value_or(Against::response);
    for (auto* button : m_against->buttons())
        button->setEnabled(m_session.evidence() || m_against->id(button) == 0);
    m_against->button(m_session.evidence() ? static_cast<int>(against) : 0)->setChecked(true);
    underline(*m_against);
    rank();
    bool known = false;
    for (const View& v : views)
        known = known || wanted("look.view") == v.name;
    showView(known ? wanted("look.view") : m_view);
}

void LookStation::rank() {
    m_ranked.clear();
    const int ranking = ++m_rankingsBegun;
    const LookRequest what = request();
    if (!what.prepared) return;
    const auto arrived = std::make_shared<RankedColumns>();
    m_session.rankJobs().start(tr("Ranking columns"), [=, this](Progress& progress) -> Jobs::Finish {
        try {
            LookScope scope = lookScope(what.recipe, *what.prepared, what.evidence.get(), what.against);
            if (what.only) keepOnly(scope, *what.only);
            const Table& table = what.prepared->table;
            // Lines appear as they are worked out, those that come close together at once.
            auto one = [this, ranking, arrived](std::size_t, const RankedColumn& ranked) {
                if (!arrived->add(ranked)) return;
                QMetaObject::invokeMethod(this, [this, ranking, arrived] {
                    std::vector<RankedColumn> lines = arrived->take();
                    if (ranking != m_rankingsBegun) return;
                    std::move(lines.begin(), lines.end(), std::back_inserter(m_ranked));
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
    auto ranking = std::make_shared<std::vector<RankedColumn>>();
    const QString wanted = m_find->text().trimmed();
    std::copy_if(m_ranked.begin(), m_ranked.end(), std::back_inserter(*ranking),
                 [&](const RankedColumn& column) {
                     return wanted.isEmpty() || qs(column.name).contains(wanted, Qt::CaseInsensitive);
                 });
    sortRanking(*ranking, m_sortColumn, m_descending);
    const bool first = m_rankingModel.rowCount() == 0;
    const QSignalBlocker blocker(m_ranking->selectionModel());
    m_rankingModel.setContent(rankingGrid(ranking));
    if (first || ranking->size() < 60) m_ranking->fitColumns(136);
}

void LookStation::draw() {
    const LookRequest what = request();
    if (!what.prepared) return;
    m_plot->setDrag(static_cast<PlotFrame::Drag>(m_drag->currentIndex()));
    for (PlotFrame* frame : m_panels->frames())
        frame->setDrag(static_cast<PlotFrame::Drag>(m_drag->currentIndex()));
    if (what.view == "pairs") {
        drawPairs();
        return;
    }
    const int drawing = ++m_drawing;
    m_session.lookJobs().start(tr("Drawing"), [this, what, drawing](Progress& progress) -> Jobs::Finish {
        if (auto rows = lookRows(what)) { // of a million rows first the rows, then what is read off them
            auto first = std::make_shared<LookPicture>(std::move(*rows));
            QMetaObject::invokeMethod(this, [this, first, drawing] {
                if (drawing == m_drawing) take(std::move(*first));
            });
        }
        auto picture = std::make_shared<LookPicture>(lookPicture(what, progress));
        return [this, picture] { take(std::move(*picture)); };
    });
}

void LookStation::drawPairs() {
    const LookRequest what = request();
    ++m_drawing;
    take({});
    const PairsWanted wanted{what.prepared, what.only, lookColumns(what.recipe, what.prepared->table)};
    if (m_pairsFound && m_pairsWanted == wanted) {
        showPairs();
        return;
    }
    m_said->setText(tr("Comparing columns over the learning rows…"));
    m_session.lookJobs().start(
        tr("Comparing columns"), [this, what, wanted](Progress& progress) -> Jobs::Finish {
            std::vector<std::uint8_t> used;
            for (std::size_t i = 0; i < what.prepared->parts.size(); ++i)
                used.push_back(what.prepared->teaches(i) && (!what.only || (*what.only)[i] != 0));
            auto pairs = std::make_shared<const Pairs>(
                pairsOf(what.prepared->table, used, wanted.columns, {}, progress));
            return [this, pairs, wanted] {
                m_pairsFound = pairs;
                m_pairsWanted = wanted;
                showPairs();
            };
        });
}

void LookStation::showPairs() {
    const bool list = m_pairsAs->currentIndex() == 1;
    m_pairsModel.setContent(list ? pairsGrid(m_pairsFound) : pairMatrix(m_pairsFound));
    m_pairs->setSelectionBehavior(list ? QAbstractItemView::SelectRows : QAbstractItemView::SelectItems);
    if (list)
        m_pairs->fitColumns(200);
    else
        m_pairs->setWidths({24, m_pairs->neededWidth(1, 200)}, 44);
    m_said->setText(
        tr("%1 of %2: correlation of numbers, correlation ratio of a number and a factor, Cramér's V "
           "of factors. Brackets hold columns that go together by more than 0.7. A click or Return "
           "draws a pair.")
            .arg((list && m_pairsFound->strongest.size() > mostPairsListed
                      ? tr("The %1 strongest of ").arg(qs(countText(mostPairsListed)))
                      : QString()) +
                     qs(plural(m_pairsFound->strongest.size(), "pair", "pairs")),
                 qs(plural(m_pairsFound->columns.size(), "column", "columns"))));
}

void LookStation::take(LookPicture picture) {
    while (QLayoutItem* item = m_moves->takeAt(0)) {
        if (item->widget()) item->widget()->deleteLater();
        delete item;
    }
    for (const auto& [group, text] : picture.groups) {
        auto* button = linkButton(text, this);
        m_moves->addWidget(button);
        connect(button, &QPushButton::clicked, this,
                [this, name = group] { m_group->setCurrentIndex(m_group->findData(name)); });
    }
    for (const LookMove& move : picture.moves) {
        auto* button = linkButton(move.label, this);
        m_moves->addWidget(button);
        if (move.note)
            connect(button, &QPushButton::clicked, this,
                    [this, note = *move.note] { m_session.note(note.column, note.says); });
        else
            connect(button, &QPushButton::clicked, this, [this, base = picture.madeOf, recipe = move.recipe] {
                m_session.changeFrom(base, recipe);
            });
    }
    m_slopes->setVisible(picture.slopes.has_value());
    if (picture.slopes) {
        m_slopesModel.setContent(*picture.slopes);
        m_slopes->fitColumns(320);
    }
    m_said->setText(picture.sentences.join(' '));
    if (m_view == "pairs") return;
    const auto describe = rowDescription();
    m_plot->setDescription(describe);
    if (!picture.panels.empty()) {
        m_stack->setCurrentWidget(m_panels);
        m_plot->clear(picture.content.summary);
        m_panels->show(std::move(picture.panels), picture.panelsAcross, picture.key,
                       [this](PlotFrame& frame) { prepare(frame); });
        for (PlotFrame* frame : m_panels->frames()) {
            frame->setDescription(describe);
            frame->setDrag(static_cast<PlotFrame::Drag>(m_drag->currentIndex()));
            showSelectionIn(*frame);
        }
        return;
    }
    m_stack->setCurrentWidget(m_plot);
    m_plot->show(std::move(picture.content));
    showSelectionIn(*m_plot);
}

} // namespace oxgoad
