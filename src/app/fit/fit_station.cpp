#include "app/fit/fit_station.h"

#include "app/fit/choose_pane.h"
#include "app/fit/course_pane.h"
#include "app/fit/curve_pane.h"
#include "app/fit/effect_pane.h"
#include "app/fit/path_pane.h"
#include "app/fit/search_pane.h"
#include "app/fit/term_menu.h"
#include "app/fit/tree_pane.h"
#include "app/parts.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "recipe/recipe_edits.h"
#include "workspace/grids.h"
#include "workspace/helps_grid.h"
#include "workspace/reading.h"
#include "workspace/text.h"
#include "workspace/tree_view.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QMenu>
#include <QScrollArea>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>
#include <algorithm>
#include <chrono>
#include <cmath>
#include <set>
#include <utility>

namespace oxgoad {

FitStation::FitStation(Session& session, QWidget* parent) : Station(session, "fit", parent) {
    auto* layout = new QVBoxLayout(this);
    layout->setContentsMargins(12, 8, 12, 6);
    auto* head = new QHBoxLayout;
    head->setContentsMargins(8, 0, 8, 0);
    auto* hint = plainLabel(
        tr("Tick a column to put it in, untick it to take it out (Space). Return on a line: how it enters."),
        "hint");
    head->addWidget(hint, 1);
    m_pair = linkButton(tr("add the pair"), this);
    m_pair->setToolTip(tr("Choose two lines with Ctrl and add their product"));
    m_pair->setEnabled(false);
    head->addWidget(m_pair);
    m_scale = linkButton({}, this);
    m_scale->setObjectName("effectScale");
    m_scale->setToolTip(tr("What the drawn intervals are the effect of"));
    head->addWidget(m_scale);
    m_find = new FindField(tr("find a term"), tr("Find a term, a level or a column"), "findTerm");
    m_find->setToolTip(tr("Terms, their levels and columns not in the model, by name (Ctrl+F)"));
    connect(m_find, &QLineEdit::textChanged, this, &FitStation::find);
    connect(m_find, &QLineEdit::returnPressed, this, [this] { m_terms->goTo(); });
    findWith(*m_find);
    head->addWidget(m_find);
    layout->addLayout(head);

    m_whole = new QSplitter(Qt::Vertical, this);
    auto* splitter = m_whole;
    splitter->setHandleWidth(1);
    m_terms = new GridView(tr("Terms"), splitter);
    m_terms->setObjectName("terms");
    m_terms->setModel(&m_model);
    m_terms->setContextMenuPolicy(Qt::CustomContextMenu);
    m_terms->horizontalHeader()->setSectionsClickable(true);
    m_terms->horizontalHeader()->setToolTip(
        tr("A click puts the lines into the order of the model; while you tick they keep their places"));
    connect(m_terms->horizontalHeader(), &QHeaderView::sectionClicked, this, [this] {
        m_places.groups.clear();
        refresh();
    });
    splitter->addWidget(m_terms);

    auto* lower = new QSplitter(Qt::Horizontal, splitter);
    lower->setHandleWidth(1);
    m_effect = new EffectPane(session, lower);
    auto* beside = new QWidget(lower);
    auto* besideLayout = new QVBoxLayout(beside);
    besideLayout->setContentsMargins(14, 6, 0, 0);
    besideLayout->setSpacing(4);
    auto* choice = new QHBoxLayout;
    for (const auto& [key, text] :
         {std::pair{"words", tr("in words")}, std::pair{"helps", tr("what would help")},
          std::pair{"choose", tr("choose terms")}, std::pair{"curve", tr("more rows?")},
          std::pair{"path", tr("path")}, std::pair{"tree", tr("tree")}, std::pair{"course", tr("course")},
          std::pair{"search", tr("search")}}) {
        auto* button = linkButton(text, beside);
        button->setCheckable(true);
        choice->addWidget(button);
        connect(button, &QPushButton::clicked, this, [this, key = std::string(key)] {
            m_session.view()["fit.side"] = key;
            showSide(key);
        });
        m_sides.emplace_back(key, button);
    }
    choice->addStretch(1);
    besideLayout->addLayout(choice);
    m_side = new QStackedWidget(beside);
    besideLayout->addWidget(m_side, 1);
    auto* scroll = new QScrollArea(m_side);
    scroll->setWidgetResizable(true);
    scroll->setFrameShape(QFrame::NoFrame);
    auto* words = new QWidget(scroll);
    words->setObjectName("sheet");
    words->setAttribute(Qt::WA_StyledBackground);
    auto* wordsLayout = new QVBoxLayout(words);
    wordsLayout->setContentsMargins(2, 4, 12, 8);
    m_words = plainLabel({});
    m_words->setObjectName("inWords");
    m_words->setWordWrap(true);
    m_words->setTextInteractionFlags(Qt::TextSelectableByMouse | Qt::TextSelectableByKeyboard);
    wordsLayout->addWidget(m_words);
    wordsLayout->addWidget(plainLabel(tr("Equation"), "heading"));
    m_equation = plainLabel({});
    m_equation->setObjectName("equation");
    m_equation->setWordWrap(true);
    m_equation->setTextInteractionFlags(Qt::TextSelectableByMouse | Qt::TextSelectableByKeyboard);
    m_equation->setProperty("equation", true);
    wordsLayout->addWidget(m_equation);
    wordsLayout->addStretch(1);
    scroll->setWidget(words);
    m_side->addWidget(scroll);
    auto* helps = new QWidget(m_side);
    auto* helpsLayout = new QVBoxLayout(helps);
    helpsLayout->setContentsMargins(0, 0, 0, 0);
    m_findHelp = new FindField(tr("find a term"), tr("Find among what would help, by name"), "findHelp");
    connect(m_findHelp, &QLineEdit::textChanged, this, [this] {
        if (m_found) showHelps(m_found);
    });
    connect(m_findHelp, &QLineEdit::returnPressed, this, [this] { m_helps->goTo(); });
    m_helps = new GridView(tr("What would help"), helps);
    m_helps->setObjectName("helps");
    m_helps->setModel(&m_helpsModel);
    helpsLayout->addWidget(m_helps, 1);
    m_helpsSaid = plainLabel({}, "hint");
    m_helpsSaid->setObjectName("helpsSaid");
    m_helpsSaid->setWordWrap(true);
    auto* helpsFoot = new QHBoxLayout;
    helpsFoot->addWidget(m_helpsSaid, 1);
    helpsFoot->addWidget(m_findHelp, 0, Qt::AlignTop);
    helpsLayout->addLayout(helpsFoot);
    m_side->addWidget(helps);
    m_choose = new ChoosePane(session, m_side);
    m_side->addWidget(m_choose);
    m_curve = new CurvePane(session, m_side);
    m_side->addWidget(m_curve);
    m_path = new PathPane(session, m_side);
    m_path->setObjectName("pathPane");
    m_side->addWidget(m_path);
    m_tree = new TreePane(session, m_side);
    m_tree->setObjectName("treePane");
    m_side->addWidget(m_tree);
    m_course = new CoursePane(session, m_side);
    m_course->setObjectName("coursePane");
    m_side->addWidget(m_course);
    m_search = new SearchPane(session, m_side);
    m_search->setObjectName("searchPane");
    m_side->addWidget(m_search);
    lower->addWidget(m_effect);
    lower->addWidget(beside);
    lower->setSizes({440, 460});
    splitter->addWidget(lower);
    splitter->setSizes({290, 290});
    layout->addWidget(splitter, 1);

    connect(m_terms, &GridView::lineChosen, this, &FitStation::showLine);
    connect(m_terms, &GridView::opened, this, &FitStation::openLine);
    connect(m_terms, &QWidget::customContextMenuRequested, this,
            [this](const QPoint& at) { openLine(m_terms->indexAt(at)); });
    connect(m_terms->selectionModel(), &QItemSelectionModel::selectionChanged, this,
            [this] { m_pair->setEnabled(pairOfSelection().has_value()); });
    connect(m_pair, &QPushButton::clicked, this, [this] {
        const auto term = pairOfSelection();
        if (!term) return;
        m_session.change(withTerm(m_session.draft(), *term));
    });
    connect(m_scale, &QPushButton::clicked, this, [this] {
        m_session.view()["fit.scale"] =
            effectScale(m_session) == EffectScale::quartiles ? "deviation" : "quartiles";
        m_session.touch();
        refresh();
    });
    connect(&session, &Session::rowsChanged, m_choose, &ChoosePane::forget);
    // Ticks follow the hand before the fit does.
    connect(&session, &Session::draftChanged, this, [this] { m_model.ticksChanged(); });
    link(m_effect->plot());
}

void FitStation::showSide(const std::string& side) {
    int at = 0;
    for (std::size_t i = 0; i < m_sides.size(); ++i) {
        const bool shown = m_sides[i].first == side;
        if (shown) at = static_cast<int>(i);
        m_sides[i].second->setChecked(shown);
        m_sides[i].second->setStyleSheet(
            shown ? "font-weight: 600; color: #1F2A2C; text-decoration: underline;" : "");
    }
    m_side->setCurrentIndex(at);
    // These take the whole width: the effect of one term is beside the point there.
    const bool wide = side == "path" || side == "tree" || side == "course" || side == "search";
    m_effect->setVisible(!wide);
    if (wide && m_heights.isEmpty()) {
        m_heights = m_whole->sizes();
        const int all = m_heights[0] + m_heights[1];
        if (all > 0) m_whole->setSizes({all / 3, all - all / 3});
    } else if (!wide && !m_heights.isEmpty()) {
        m_whole->setSizes(m_heights);
        m_heights.clear();
    }
    if (side == "helps") findHelps();
    if (side == "curve") m_curve->refresh();
    if (side == "path") m_path->refresh();
    if (side == "tree") m_tree->refresh();
    if (side == "course") m_course->refresh();
}

namespace {

/// The recipe with the terms that are in the model, chosen no more: what is measured is what that model
/// lacks.
Recipe asItStands(Recipe recipe, const Evidence& evidence) {
    recipe.terms = evidence.study->terms();
    recipe.choose.reset();
    return recipe;
}

} // namespace

void FitStation::findHelps() {
    const auto evidence = m_session.evidence();
    const auto prepared = m_session.prepared();
    if (m_side->currentIndex() != 1 || !isVisible()) return;
    if (!evidence || !prepared) {
        m_helpsModel.setContent({});
        m_helpsSaid->setText(tr("There is no fit yet that could be helped."));
        return;
    }
    if (m_helped == evidence) return;
    m_helped = evidence;
    // Tens of thousands of helps are let go of by the work that comes, not by the window.
    const auto before = std::make_shared<std::shared_ptr<const ListedHelps>>(std::exchange(m_found, nullptr));
    m_helpsModel.setContent({});
    m_helpsSaid->setText(tr("Measuring every column, bend and pair that is not in the model…"));
    m_session.helpJobs().start(
        tr("What would help"),
        [this, evidence, prepared, before,
         recipe = asItStands(m_session.recipe(), *evidence)](Progress& progress) -> Jobs::Finish {
            before->reset();
            auto last = std::chrono::steady_clock::now();
            const auto soFar = [&](const WhatHelps& now) { // fills in, but not more often than eyes follow
                const auto time = std::chrono::steady_clock::now();
                if (time - last < std::chrono::milliseconds(300)) return;
                last = time;
                WhatHelps strongest = now;
                strongest.helps.resize(std::min(strongest.helps.size(), std::size_t{1000}));
                auto shown = std::make_shared<const ListedHelps>(std::move(strongest));
                QMetaObject::invokeMethod(this, [this, evidence, shown] {
                    if (m_helped == evidence && m_session.helpJobs().busy()) showHelps(shown);
                });
            };
            try {
                auto helps =
                    std::make_shared<const ListedHelps>(whatHelps(recipe, *prepared, {}, progress, soFar));
                return [this, evidence, helps] {
                    if (m_helped == evidence) showHelps(helps);
                };
            } catch (const Error& error) {
                return [this, why = qs(error.what())] { m_helpsSaid->setText(why); };
            }
        });
}

void FitStation::showHelps(std::shared_ptr<const ListedHelps> listed) {
    m_found = listed;
    const WhatHelps* helps = &listed->what;
    m_helpsModel.setContent(helpsGrid(listed, m_session, m_findHelp->text().trimmed()));
    m_helps->fitColumns(160);
    QString passed = helps->notSelected > 0
                         ? tr(" %1 passed over: one value, or too many levels.")
                               .arg(qs(plural(helps->notSelected, "column or pair", "columns and pairs")))
                         : QString();
    if (!helps->notOffered.empty()) {
        passed += tr(" Not offered: %1").arg(qs(helps->notOffered.front().second));
        passed += helps->notOffered.size() > 1
                      ? tr(", and %1 more.").arg(qs(countText(helps->notOffered.size() - 1)))
                      : QString(".");
    }
    const QString pairs = helps->pairsAmong > 0
                              ? tr(" Pairs among the %1 columns that are in the model or add most alone.")
                                    .arg(qs(countText(helps->pairsAmong)))
                              : QString();
    m_helpsSaid->setText(helps->helps.empty()
                             ? tr("Nothing is left that could be added.") + passed
                             : tr("%1 tried, each on the learning rows that have it. A tick adds one.%2")
                                       .arg(qs(plural(helps->tried, "thing", "things")), pairs + passed) +
                                   (helps->judgedBy.empty()
                                        ? QString()
                                        : tr(" Errors of the first by %1.").arg(qs(helps->judgedBy))) +
                                   (!kindOf(m_session.recipe().estimator).leastSquares ||
                                            !columnWith(m_session.recipe(), Role::weight).empty()
                                        ? tr(" Measured by least squares, rows counting alike.")
                                        : QString()));
}

void FitStation::hideEvent(QHideEvent* event) {
    m_places.groups.clear();
    refreshLater();
    Station::hideEvent(event);
}

QWidget* FitStation::focusTarget() {
    return m_terms;
}

void FitStation::refresh() {
    if (!m_session.hasRows()) {
        m_model.setContent({});
        m_effect->clear(tr("Open rows first."));
        m_words->setText({});
        m_equation->setText({});
        return;
    }
    const int columns = m_model.columnCount();
    const int lines = m_model.rowCount();
    // Another response is another list: no line of its own is left empty in it.
    if (m_places.response != m_session.recipe().response) {
        m_places.groups.clear();
        m_places.response = m_session.recipe().response;
    }
    m_lines = termLines(m_session, &m_places);
    m_model.setContent(termsGrid(m_session, m_lines));
    if (columns != m_model.columnCount() || lines != m_model.rowCount()) m_terms->fitColumns(160);
    m_scale->setVisible(!m_session.evidence() || m_session.evidence()->linear.has_value());
    m_scale->setText(effectScale(m_session) == EffectScale::quartiles
                         ? tr("effects: low to high quartile")
                         : tr("effects: one standard deviation"));
    if (!m_places.find.isEmpty()) { // the first that was found
        if (!m_terms->currentIndex().isValid() && !m_lines.empty())
            m_terms->setCurrentIndex(m_model.index(0, 0));
    } else if (!m_terms->currentIndex().isValid() ||
               m_terms->currentIndex().row() == 0) { // the constant has nothing to show
        const auto first = std::find_if(m_lines.begin(), m_lines.end(),
                                        [](const TermLine& l) { return l.kind == TermLine::Kind::term; });
        if (first != m_lines.end())
            m_terms->setCurrentIndex(m_model.index(static_cast<int>(first - m_lines.begin()), 0));
    }
    showLine();
    const auto& view = m_session.view();
    const auto wanted = view.find("fit.side");
    const bool known =
        wanted != view.end() &&
        std::any_of(m_sides.begin(), m_sides.end(), [&](const auto& s) { return s.first == wanted->second; });
    // Only a penalised model has a path.
    const auto& evidence = m_session.evidence();
    const LinearModel* model = evidence ? evidence->study->linear() : nullptr;
    const bool penalised = model && model->penalised;
    const bool tree = evidence && treeView(m_session);
    const bool course = CoursePane::has(m_session);
    std::string side = known ? wanted->second : "words";
    for (const auto& [only, there] : {std::pair{"path", penalised}, {"tree", tree}, {"course", course}}) {
        for (const auto& [key, button] : m_sides)
            if (key == only) button->setVisible(there);
        if (side == only && !there) side = "words";
    }
    showSide(side);
}

void FitStation::find(const QString& text) {
    m_places.find = text.trimmed();
    m_places.groups.clear();
    refresh();
}

void FitStation::showColumn(const QString& column) {
    m_find->clear();
    for (int row = 0; row < m_model.rowCount(); ++row)
        if (m_model.index(row, 0).data().toString().trimmed() == column) {
            m_terms->setCurrentIndex(m_model.index(row, 0));
            return;
        }
}

void FitStation::showLine() {
    const QStringList summary = fitSummary(m_session);
    const auto& evidence = m_session.evidence();
    if (evidence && m_lines.empty() && !m_places.find.isEmpty()) {
        m_words->setText(summary.join("\n"));
        m_equation->setText(equationFor(m_session, {}));
        m_effect->clear(tr("No term, level or column has \"%1\" in its name.").arg(m_places.find));
        return;
    }
    int row = m_terms->currentIndex().row();
    if (row < 0 || row >= static_cast<int>(m_lines.size()))
        row = evidence && !m_session.recipe().terms.empty()
                  ? (evidence->linear && evidence->intercept ? 1 : 0)
                  : -1;
    if (!evidence || row < 0 || row >= static_cast<int>(m_lines.size())) {
        m_words->setText(summary.join("\n"));
        m_equation->setText(equationFor(m_session, {}));
        m_effect->clear(m_session.recipe().terms.empty()
                            ? m_lines.empty() ? tr("There is no other column to explain the response with.")
                                              : tr("Tick a column above to fit the first model.")
                            : tr("Fitting…"));
        return;
    }
    const TermLine& line = m_lines[static_cast<std::size_t>(row)];
    QStringList words = readingOf(m_session, line);
    words << summary.join("\n");
    m_words->setText(words.join("\n\n"));
    if (line.term < 0) {
        m_equation->setText(equationFor(m_session, {}));
        m_effect->clear(line.kind == TermLine::Kind::candidate
                            ? tr("%1 is not in the model.").arg(qs(line.column))
                        : line.kind == TermLine::Kind::gone ? QString()
                                                            : tr("The constant has no effect to draw."));
        return;
    }
    if (!evidence->study->has(static_cast<std::size_t>(line.term))) {
        m_equation->setText(equationFor(m_session, {}));
        m_effect->clear(tr("%1 was not chosen.").arg(qs(line.column)));
        return;
    }
    // A column alone, or the two of a product: a number along, a factor's levels as lines.
    const Term& term = m_session.recipe().terms[static_cast<std::size_t>(line.term)];
    auto columns = columnsOf(term);
    const auto isFactor = [&](const std::string& name) {
        const Column* column = m_session.table().find(name);
        return column && column->kind() == ColumnKind::factor;
    };
    if (columns.size() > 1 && isFactor(columns[0]) && !isFactor(columns[1]))
        std::swap(columns[0], columns[1]);
    m_equation->setText(equationFor(m_session, columns.size() > 1 ? columns[1] : std::string()));
    m_effect->showEffect(columns[0], columns.size() > 1 ? columns[1] : std::string());
}

std::optional<Term> FitStation::pairOfSelection() {
    std::vector<std::string> columns;
    for (const QModelIndex& index : m_terms->selectionModel()->selectedRows()) {
        if (index.row() >= static_cast<int>(m_lines.size())) continue;
        const TermLine& line = m_lines[static_cast<std::size_t>(index.row())];
        if (line.column.empty()) continue;
        if (line.kind == TermLine::Kind::term &&
            m_session.recipe().terms[static_cast<std::size_t>(line.term)].parts.size() != 1)
            continue;
        columns.push_back(line.column);
    }
    if (columns.size() != 2 || columns[0] == columns[1]) return std::nullopt;
    const Term term{{TermPart{columns[0]}, TermPart{columns[1]}}};
    const auto& terms = m_session.recipe().terms;
    if (std::find(terms.begin(), terms.end(), term) != terms.end()) return std::nullopt;
    return term;
}

void FitStation::openLine(const QModelIndex& index) {
    if (!index.isValid() || index.row() >= static_cast<int>(m_lines.size())) return;
    const TermLine line = m_lines[static_cast<std::size_t>(index.row())];
    if (line.column.empty()) return;
    const Column* column = m_session.table().find(line.column);
    if (!column) return;
    auto* menu = new QMenu(this);
    menu->setObjectName("termMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    const auto& terms = m_session.recipe().terms;
    const bool single =
        line.kind == TermLine::Kind::term && terms[static_cast<std::size_t>(line.term)].parts.size() == 1;
    if (line.kind == TermLine::Kind::candidate) {
        addFormActions(*menu, m_session, line.column, column->kind(), std::nullopt);
    } else if (single) {
        auto* instead = menu->addMenu(tr("Enter it instead"));
        addFormActions(*instead, m_session, line.column, column->kind(), static_cast<std::size_t>(line.term));
        auto* beside = menu->addMenu(tr("Add beside it"));
        addFormActions(*beside, m_session, line.column, column->kind(), std::nullopt);
        auto* times = menu->addMenu(tr("Add its product with"));
        for (const std::string& other : inputNames(terms)) {
            if (other == line.column) continue;
            auto* action = times->addAction(qs(other).replace('&', "&&"));
            connect(action, &QAction::triggered, this, [this, at = line.term, other] {
                // The other column as it enters already.
                const Recipe& recipe = m_session.recipe();
                TermPart with{other};
                for (const Term& term : recipe.terms)
                    if (term.parts.size() == 1 && term.parts[0].column == other) {
                        with = term.parts[0];
                        break;
                    }
                m_session.changeFrom(
                    recipe,
                    withTerm(recipe, Term{{recipe.terms[static_cast<std::size_t>(at)].parts[0], with}}));
            });
        }
        times->setEnabled(!times->actions().isEmpty());
    } else if (line.kind == TermLine::Kind::term) {
        auto* times = menu->addMenu(tr("Add its product with"));
        const auto own = columnsOf(terms[static_cast<std::size_t>(line.term)]);
        for (const std::string& other : inputNames(terms)) {
            if (std::find(own.begin(), own.end(), other) != own.end()) continue;
            connect(times->addAction(qs(other).replace('&', "&&")), &QAction::triggered, this,
                    [this, at = line.term, other] {
                        Term product = m_session.recipe().terms[static_cast<std::size_t>(at)];
                        product.parts.push_back(TermPart{other});
                        m_session.change(withTerm(m_session.draft(), product));
                    });
        }
        times->setEnabled(!times->actions().isEmpty());
    }
    if (line.kind == TermLine::Kind::term && m_session.evidence() && m_session.evidence()->linear) {
        const TermEvidence& shown = m_session.evidence()->linear->terms[static_cast<std::size_t>(line.term)];
        const bool open = showsLevels(m_session, terms[static_cast<std::size_t>(line.term)],
                                      static_cast<std::size_t>(shown.degreesOfFreedom));
        if (shown.degreesOfFreedom > 1)
            connect(menu->addAction(open ? tr("Show the term on one line")
                                         : tr("Show a line for each coefficient")),
                    &QAction::triggered, this, [this, open, key = "levels of " + shown.name] {
                        m_session.view()[key] = open ? "closed" : "open";
                        refresh();
                    });
        if (shown.degreesOfFreedom > 1 && open)
            addOrderActions(*menu, m_session, terms[static_cast<std::size_t>(line.term)],
                            [this] { refresh(); });
    }
    if (column->kind() == ColumnKind::factor && single) {
        auto* levels = menu->addMenu(tr("Reference level"));
        for (const auto& level : column->levels()) {
            if (levels->actions().size() >= 60) break;
            auto* action = levels->addAction(qs(level).replace('&', "&&"));
            connect(action, &QAction::triggered, this, [this, factor = line.column, level] {
                Recipe recipe = m_session.draft();
                recipe.reference[factor] = level;
                m_session.change(recipe);
            });
        }
    }
    if (line.kind == TermLine::Kind::term) {
        menu->addSeparator();
        const std::string term = termName(m_session.recipe().terms[static_cast<std::size_t>(line.term)]);
        connect(menu->addAction(tr("Take %1 out").arg(qs(term)).replace('&', "&&")), &QAction::triggered,
                this, [this, term] { m_session.change(withoutTerm(m_session.draft(), term)); });
        const Term& own = terms[static_cast<std::size_t>(line.term)];
        if (std::any_of(terms.begin(), terms.end(), [&](const Term& t) { return isParent(own, t); }))
            connect(menu->addAction(tr("Take it out but keep its products")), &QAction::triggered, this,
                    [this, term] { m_session.change(withoutTerm(m_session.draft(), term, true)); });
    }
    menu->popup(m_terms->viewport()->mapToGlobal(m_terms->visualRect(index.siblingAtColumn(0)).bottomLeft()));
}

} // namespace oxgoad
