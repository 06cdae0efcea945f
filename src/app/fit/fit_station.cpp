#include "app/fit/fit_station.h"

#include "app/parts.h"
#include "base/text.h"
#include "workspace/grids.h"
#include "workspace/helps_grid.h"
#include "workspace/text.h"

#include <QHBoxLayout>
#include <QHeaderView>
#include <QMenu>
#include <QScrollArea>
#include <QSplitter>
#include <QStackedWidget>
#include <QVBoxLayout>
#include <chrono>
#include <cmath>
#include <set>

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
    layout->addLayout(head);

    auto* splitter = new QSplitter(Qt::Vertical, this);
    splitter->setHandleWidth(1);
    m_terms = new GridView(tr("Terms"), splitter);
    m_terms->setObjectName("terms");
    m_terms->setModel(&m_model);
    m_terms->setContextMenuPolicy(Qt::CustomContextMenu);
    splitter->addWidget(m_terms);

    auto* lower = new QSplitter(Qt::Horizontal, splitter);
    lower->setHandleWidth(1);
    m_effect = new PlotFrame(tr("Effect of the chosen term"), lower);
    m_effect->setObjectName("effectPlot");
    auto* beside = new QWidget(lower);
    auto* besideLayout = new QVBoxLayout(beside);
    besideLayout->setContentsMargins(14, 6, 0, 0);
    besideLayout->setSpacing(4);
    auto* choice = new QHBoxLayout;
    const auto side = [&](const QString& text, bool helps) {
        auto* button = linkButton(text, beside);
        button->setCheckable(true);
        choice->addWidget(button);
        connect(button, &QPushButton::clicked, this, [this, helps] {
            m_session.view()["fit.side"] = helps ? "helps" : "words";
            showSide(helps);
        });
        return button;
    };
    m_showWords = side(tr("in words"), false);
    m_showHelps = side(tr("what would help"), true);
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
    m_words->setWordWrap(true);
    wordsLayout->addWidget(m_words);
    wordsLayout->addWidget(plainLabel(tr("Equation"), "heading"));
    m_equation = plainLabel({});
    m_equation->setWordWrap(true);
    m_equation->setProperty("equation", true);
    wordsLayout->addWidget(m_equation);
    wordsLayout->addStretch(1);
    scroll->setWidget(words);
    m_side->addWidget(scroll);
    auto* helps = new QWidget(m_side);
    auto* helpsLayout = new QVBoxLayout(helps);
    helpsLayout->setContentsMargins(0, 0, 0, 0);
    m_helps = new GridView(tr("What would help"), helps);
    m_helps->setObjectName("helps");
    m_helps->setModel(&m_helpsModel);
    helpsLayout->addWidget(m_helps, 1);
    m_helpsSaid = plainLabel({}, "hint");
    m_helpsSaid->setObjectName("helpsSaid");
    m_helpsSaid->setWordWrap(true);
    helpsLayout->addWidget(m_helpsSaid);
    m_side->addWidget(helps);
    lower->addWidget(m_effect);
    lower->addWidget(beside);
    lower->setSizes({400, 500});
    splitter->addWidget(lower);
    splitter->setSizes({350, 220});
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
        Recipe recipe = m_session.recipe();
        for (const TermPart& part : term->parts)
            recipe = withTerm(recipe, Term{{part}});
        m_session.change(withTerm(recipe, *term));
    });
}

void FitStation::showSide(bool helps) {
    m_showWords->setChecked(!helps);
    m_showHelps->setChecked(helps);
    for (auto* button : {m_showWords, m_showHelps})
        button->setStyleSheet(
            button->isChecked() ? "font-weight: 600; color: #1F2A2C; text-decoration: underline;" : "");
    m_side->setCurrentIndex(helps ? 1 : 0);
    if (helps) findHelps();
}

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
    m_helpsModel.setContent({});
    m_helpsSaid->setText(tr("Measuring every column, bend and pair that is not in the model…"));
    m_session.helpJobs().start(
        tr("What would help"),
        [this, evidence, prepared, recipe = m_session.recipe()](Progress& progress) -> Jobs::Finish {
            auto last = std::chrono::steady_clock::now();
            const auto soFar = [&](const WhatHelps& now) { // fills in, but not more often than eyes follow
                const auto time = std::chrono::steady_clock::now();
                if (time - last < std::chrono::milliseconds(300)) return;
                last = time;
                auto shown = std::make_shared<const WhatHelps>(now);
                QMetaObject::invokeMethod(this, [this, evidence, shown] {
                    if (m_helped == evidence && m_session.helpJobs().busy()) showHelps(shown);
                });
            };
            try {
                auto helps =
                    std::make_shared<const WhatHelps>(whatHelps(recipe, *prepared, {}, progress, soFar));
                return [this, evidence, helps] {
                    if (m_helped == evidence) showHelps(helps);
                };
            } catch (const Error& error) {
                return [this, why = qs(error.what())] { m_helpsSaid->setText(why); };
            }
        });
}

void FitStation::showHelps(std::shared_ptr<const WhatHelps> helps) {
    m_helpsModel.setContent(helpsGrid(helps, m_session));
    m_helps->fitColumns(160);
    const QString passed =
        helps->passedOver > 0 ? tr(" %1 passed over: one value, or too many levels.")
                                    .arg(qs(plural(helps->passedOver, "column or pair", "columns and pairs")))
                              : QString();
    m_helpsSaid->setText(helps->helps.empty()
                             ? tr("Nothing is left that could be added.") + passed
                             : tr("%1 tried, each on the learning rows that have it. A tick adds one.%2")
                                   .arg(qs(plural(helps->tried, "thing", "things")), passed));
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
    m_model.setContent(termsGrid(m_session));
    if (columns != m_model.columnCount() || lines != m_model.rowCount()) m_terms->fitColumns(160);
    m_equation->setText(equationText(m_session));
    if (!m_terms->currentIndex().isValid() ||
        m_terms->currentIndex().row() == 0) { // the constant has nothing to show
        const auto shown = termLines(m_session);
        const auto first = std::find_if(shown.begin(), shown.end(),
                                        [](const TermLine& l) { return l.kind == TermLine::Kind::term; });
        if (first != shown.end())
            m_terms->setCurrentIndex(m_model.index(static_cast<int>(first - shown.begin()), 0));
    }
    showLine();
    const auto& view = m_session.view();
    const auto wanted = view.find("fit.side");
    showSide(wanted != view.end() && wanted->second == "helps");
}

void FitStation::showColumn(const QString& column) {
    for (int row = 0; row < m_model.rowCount(); ++row)
        if (m_model.index(row, 0).data().toString().trimmed() == column) {
            m_terms->setCurrentIndex(m_model.index(row, 0));
            return;
        }
}

void FitStation::showLine() {
    QStringList words = fitSummary(m_session);
    const auto& evidence = m_session.evidence();
    const auto lines = termLines(m_session);
    int row = m_terms->currentIndex().row();
    if (row < 0 || row >= static_cast<int>(lines.size()))
        row = evidence && !evidence->terms.empty() ? (evidence->intercept ? 1 : 0) : -1;
    if (!evidence || row < 0 || row >= static_cast<int>(lines.size())) {
        m_words->setText(words.join("\n"));
        m_effect->clear(m_session.recipe().terms.empty()
                            ? lines.empty() ? tr("There is no other column to explain the response with.")
                                            : tr("Tick a column above to fit the first model.")
                            : tr("Fitting…"));
        return;
    }
    const TermLine& line = lines[static_cast<std::size_t>(row)];
    const QString unit = m_session.unit(evidence->response);
    if (line.coefficient >= 0) {
        const CoefficientEvidence& c = evidence->coefficients[static_cast<std::size_t>(line.coefficient)];
        const QString what =
            c.dependent ? tr("%1 repeats other columns and has no coefficient of its own.").arg(qs(c.name))
            : c.term < 0
                ? tr("Where all columns are 0 and factors at their reference level the model says %1 ± %2%3.")
                      .arg(supportedText(c.estimate, c.standardError), qs(readableText(c.standardError, 2)),
                           unit.isEmpty() ? QString() : " " + unit)
            : c.name.find(" = ") != std::string::npos
                ? tr("%1 goes with %2 ± %3%4 against the reference level, the other terms held.")
                      .arg(qs(c.name), supportedText(c.estimate, c.standardError),
                           qs(readableText(c.standardError, 2)), unit.isEmpty() ? QString() : " " + unit)
                : tr("One unit more of %1 goes with %2 ± %3%4 of %5, the other terms held.")
                      .arg(qs(c.name), supportedText(c.estimate, c.standardError),
                           qs(readableText(c.standardError, 2)), unit.isEmpty() ? QString() : " " + unit,
                           qs(evidence->response));
        words.prepend(what + "\n");
    }
    m_words->setText(words.join("\n"));
    if (line.kind == TermLine::Kind::candidate) {
        m_effect->clear(tr("%1 is not in the model.").arg(qs(line.column)));
        return;
    }
    if (line.term < 0) {
        m_effect->clear(tr("The constant has no effect to draw."));
        return;
    }
    const TermEvidence& term = evidence->terms[static_cast<std::size_t>(line.term)];
    if (term.shape.empty()) {
        m_effect->clear(tr("Choose %1's columns to see their effects; the lines per level are in Look.")
                            .arg(qs(term.name)));
        return;
    }
    PlotFrame::Content content;
    content.legend = false;
    content.zeroLine = true;
    content.xTitle = m_session.titled(line.column);
    content.yTitle =
        tr("effect on %1%2").arg(qs(evidence->response), unit.isEmpty() ? QString() : ", " + unit);
    const Recipe& recipe = m_session.recipe();
    const Column* column =
        m_session.table().find(recipe.terms[static_cast<std::size_t>(line.term)].parts[0].column);
    if (column->kind() == ColumnKind::factor) {
        PlotFrame::Marks marks{{}, theme::Mark::plain, {}, {}, {}};
        std::set<std::string> seen;
        std::size_t next = 0;
        for (const auto& level : column->levels()) { // levels in the order the shape has them
            const std::string name = term.name + " = " + level;
            const bool known = std::any_of(evidence->coefficients.begin(), evidence->coefficients.end(),
                                           [&](const CoefficientEvidence& c) { return c.name == name; }) ||
                               term.entersAs == "levels, from " + level;
            if (!known || next >= term.shape.size()) continue;
            marks.x.push_back(static_cast<double>(next));
            marks.y.push_back(term.shape[next]);
            content.xLevels << qs(level);
            ++next;
        }
        content.marks.push_back(std::move(marks));
    } else {
        content.xIsDate = column->kind() == ColumnKind::date;
        PlotFrame::Line drawn;
        const auto n = static_cast<double>(term.shape.size() - 1);
        for (std::size_t i = 0; i < term.shape.size(); ++i) {
            drawn.x.push_back(term.lowest + (term.highest - term.lowest) * static_cast<double>(i) / n);
            drawn.y.push_back(term.shape[i]);
        }
        drawn.colour = theme::learning;
        drawn.width = 2.2;
        content.lines.push_back(std::move(drawn));
    }
    content.summary = tr("Effect of %1 from %2 to %3, 0 in the middle of its range")
                          .arg(qs(term.name), qs(readableText(term.lowest)), qs(readableText(term.highest)));
    m_effect->show(std::move(content));
}

std::optional<Term> FitStation::pairOfSelection() const {
    const auto lines = termLines(m_session);
    std::vector<std::string> columns;
    for (const QModelIndex& index : m_terms->selectionModel()->selectedRows()) {
        const TermLine& line = lines[static_cast<std::size_t>(index.row())];
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
    if (!index.isValid()) return;
    const auto lines = termLines(m_session);
    const TermLine line = lines[static_cast<std::size_t>(index.row())];
    if (line.column.empty()) return;
    const Column* column = m_session.table().find(line.column);
    if (!column) return;
    auto* menu = new QMenu(this);
    menu->setObjectName("termMenu");
    menu->setAttribute(Qt::WA_DeleteOnClose);
    auto offer = [&](const QString& text, const Term& term) {
        auto* action = menu->addAction(QString(text).replace('&', "&&"));
        const auto& terms = m_session.recipe().terms;
        action->setEnabled(std::find(terms.begin(), terms.end(), term) == terms.end());
        connect(action, &QAction::triggered, this,
                [this, term] { m_session.change(withTerm(m_session.recipe(), term)); });
    };
    const QString name = qs(line.column);
    if (line.kind == TermLine::Kind::candidate)
        offer(tr("Put %1 in as it is").arg(name), plainTerm(line.column));
    if (column->kind() == ColumnKind::number) {
        offer(tr("Put ln(%1) in").arg(name), Term{{TermPart{line.column, 1, true}}});
        offer(tr("Put %1² in").arg(name), Term{{TermPart{line.column, 2}}});
        offer(tr("Put %1³ in").arg(name), Term{{TermPart{line.column, 3}}});
        if (line.kind == TermLine::Kind::term) {
            const Term now = m_session.recipe().terms[static_cast<std::size_t>(line.term)];
            if (now.parts.size() == 1) {
                const Term other{{TermPart{line.column, 1, !now.parts[0].logarithm}}};
                auto* action = menu->addAction(
                    (now.parts[0].logarithm ? tr("Enter as it is instead") : tr("Enter as ln instead")));
                connect(action, &QAction::triggered, this, [this, other, at = line.term] {
                    Recipe recipe = m_session.recipe();
                    recipe.terms[static_cast<std::size_t>(at)] = other;
                    m_session.change(recipe);
                });
            }
        }
    } else if (column->kind() == ColumnKind::factor && line.kind == TermLine::Kind::term) {
        const TermEvidence* shown = m_session.evidence()
                                        ? &m_session.evidence()->terms[static_cast<std::size_t>(line.term)]
                                        : nullptr;
        if (shown && shown->name == line.column) {
            const bool open =
                showsLevels(m_session, shown->name, static_cast<std::size_t>(shown->degreesOfFreedom));
            connect(
                menu->addAction(open ? tr("Show the factor on one line") : tr("Show a line for each level")),
                &QAction::triggered, this, [this, open, key = "levels of " + shown->name] {
                    m_session.view()[key] = open ? "closed" : "open";
                    refresh();
                });
        }
        auto* levels = menu->addMenu(tr("Reference level"));
        for (const auto& level : column->levels()) {
            if (levels->actions().size() >= 60) break;
            auto* action = levels->addAction(qs(level).replace('&', "&&"));
            connect(action, &QAction::triggered, this, [this, factor = line.column, level] {
                Recipe recipe = m_session.recipe();
                recipe.reference[factor] = level;
                m_session.change(recipe);
            });
        }
    }
    if (line.kind == TermLine::Kind::term) {
        menu->addSeparator();
        const std::string term = termName(m_session.recipe().terms[static_cast<std::size_t>(line.term)]);
        connect(menu->addAction(tr("Take %1 out").arg(qs(term)).replace('&', "&&")), &QAction::triggered,
                this, [this, term] { m_session.change(withoutTerm(m_session.recipe(), term)); });
    }
    menu->popup(m_terms->viewport()->mapToGlobal(m_terms->visualRect(index.siblingAtColumn(0)).bottomLeft()));
}

} // namespace oxgoad
