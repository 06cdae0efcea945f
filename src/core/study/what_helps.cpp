#include "study/what_helps.h"

#include "check/leaks.h"
#include "design/design.h"
#include "estimate/linear/screen.h"
#include "look/ranking.h"
#include "study/judge.h"
#include "study/look_at.h"
#include "study/rows_used.h"
#include "study/study.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>
#include <optional>
#include <set>
#include <unordered_map>

namespace oxgoad {

namespace {

constexpr std::size_t mostColumns = 120;  // of one pair
constexpr std::size_t batchColumns = 256; // screened at a time
constexpr std::size_t mostLeftOut = 24;   // helps whose rows are left out one by one
constexpr std::size_t mostPaired = 316;   // columns of which all pairs are tried, some 50,000

bool has(const std::vector<Term>& terms, const Term& term) {
    return std::any_of(terms.begin(), terms.end(), [&](const Term& t) { return sameTerm(t, term); });
}

class Helper {
public:
    Helper(const Recipe& recipe, const PreparedRows& prepared, Threads threads, Progress& progress,
           const HelpsSoFar& soFar)
        : m_recipe(recipe), m_prepared(prepared), m_table(prepared.table), m_threads(threads),
          m_progress(progress), m_soFar(soFar) {}

    WhatHelps run() {
        findRows();
        describeColumns();
        listColumns();
        if (m_columns.size() <= mostPaired) {
            for (std::size_t k = 0; k < m_columns.size(); ++k)
                m_paired.push_back(k);
            listPairs();
            screenFrom(0, 0, 0.9);
        } else { // pairs are too many: of those that are in the model, or say most
            screenFrom(0, 0, 0.3);
            choosePaired();
            m_found.pairsAmong = m_paired.size();
            const std::size_t first = m_found.helps.size();
            listPairs();
            screenFrom(first, 0.3, 0.9);
        }
        m_found.tried = m_found.helps.size();
        std::vector<double> p;
        for (const Help& help : m_found.helps)
            p.push_back(help.p);
        const auto adjusted = holmAdjusted(p);
        for (std::size_t h = 0; h < adjusted.size(); ++h)
            m_found.helps[h].pAdjusted = adjusted[h];
        // Nothing can be said of these: their columns repeat others, or too few rows are left.
        m_found.notSelected +=
            std::erase_if(m_found.helps, [](const Help& help) { return std::isnan(help.p); });
        sort(m_found.helps);
        ProgressStage last(m_progress, 0.9, 1);
        leaveOut(last);
        return std::move(m_found);
    }

private:
    struct Known {
        ColumnKind kind = ColumnKind::number;
        std::size_t levels = 0;
        bool lacksRows = false;
        bool positive = true;
        /// More than two values.
        bool bends = true;
        bool varies = true;
    };
    struct Fitted {
        std::vector<std::uint32_t> rows;
        std::unique_ptr<Design> design;
        std::unique_ptr<BoundDesign> bound;
        std::vector<double> y;
        std::vector<double> weights;
        LeastSquaresFit fit;
    };

    void findRows() {
        const ModelResponse y(m_recipe, m_table, m_recipe.rows.file);
        std::vector<const Column*> inputs;
        for (const std::string& name : columnsInUse(m_recipe))
            inputs.push_back(&m_table.at(name, m_recipe.rows.file));
        for (std::size_t i = 0; i < m_table.rows(); ++i) {
            if (i % 4096 == 0) stopIfTold(m_progress);
            if (!m_prepared.teaches(i) || !std::isfinite(y.at(i))) continue;
            if (std::none_of(inputs.begin(), inputs.end(), [i](const Column* c) { return c->isMissing(i); }))
                m_rows.push_back(static_cast<std::uint32_t>(i));
        }
    }

    void describeColumns() {
        const auto hold = columnsThatHold(
            m_table, m_recipe.response, m_rows,
            [&](const std::string& column) { return !isOffered(m_recipe, column); }, m_progress);
        const Table* coming = m_prepared.forecast ? &m_prepared.forecast->table : nullptr;
        const auto used = inputNames(m_recipe.terms);
        for (const std::string& name : lookColumns(m_recipe, m_table)) {
            stopIfTold(m_progress);
            const Column& column = m_table.at(name, {});
            if (std::find(used.begin(), used.end(), name) == used.end()) {
                if (const auto leak = hold.find(name); leak != hold.end()) {
                    m_found.notOffered.push_back(*leak);
                    continue;
                }
                if (knownOnlyAfterwards(coming, name)) {
                    m_found.notOffered.emplace_back(name, name + " is missing in all rows to be forecast");
                    continue;
                }
            }
            Known known;
            known.kind = column.kind();
            std::set<double> few;
            std::vector<char> seen(column.kind() == ColumnKind::factor ? column.levels().size() : 0, 0);
            for (const auto row : m_rows) {
                if (column.isMissing(row)) {
                    known.lacksRows = true;
                    continue;
                }
                if (known.kind == ColumnKind::factor) {
                    seen[static_cast<std::size_t>(column.codes()[row])] = 1;
                } else {
                    const double value = column.asNumber(row);
                    if (!std::isfinite(value)) known.lacksRows = true;
                    known.positive = known.positive && value > 0;
                    if (few.size() < 3) few.insert(value);
                }
            }
            known.levels = static_cast<std::size_t>(std::count(seen.begin(), seen.end(), 1));
            known.varies = known.kind == ColumnKind::factor ? known.levels >= 2 : few.size() >= 2;
            known.bends = known.kind == ColumnKind::number && few.size() >= 3;
            if (!known.varies) {
                ++m_found.notSelected;
                continue;
            }
            m_placeOf.emplace(name, m_columns.size());
            m_columns.emplace_back(name, known);
        }
    }

    /// Model columns of a plain term.
    static std::size_t widthOf(const Known& known) {
        return known.kind == ColumnKind::factor ? known.levels - 1 : 1;
    }

    void add(Help::Kind kind, Term term, std::vector<Term> parents) {
        if (has(m_recipe.terms, term)) return;
        std::erase_if(parents, [&](const Term& parent) { return has(m_recipe.terms, parent); });
        m_found.helps.push_back({kind, std::move(term), std::move(parents)});
    }

    void listColumns() {
        for (const auto& [name, known] : m_columns) {
            if (widthOf(known) <= mostColumns)
                add(Help::Kind::column, plainTerm(name), {});
            else
                ++m_found.notSelected;
            if (!known.bends) continue;
            add(Help::Kind::bend, Term{{TermPart{name, 2}}}, {plainTerm(name)});
            if (known.positive) add(Help::Kind::bend, Term{{TermPart{name, 1, true}}}, {plainTerm(name)});
        }
    }

    /// Columns of the model, then those that add most beside it, alone or bent; in the order they stand.
    void choosePaired() {
        std::vector<double> p(m_columns.size(), 2);
        for (const std::string& name : inputNames(m_recipe.terms))
            if (const auto at = m_placeOf.find(name); at != m_placeOf.end()) p[at->second] = -1;
        for (const Help& help : m_found.helps) {
            double& least = p[m_placeOf.at(help.term.parts[0].column)];
            if (!std::isnan(help.p)) least = std::min(least, help.p);
        }
        std::vector<std::size_t> order(m_columns.size());
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return p[a] < p[b]; });
        order.resize(mostPaired);
        std::sort(order.begin(), order.end());
        m_paired = std::move(order);
    }

    void listPairs() {
        for (std::size_t i = 0; i < m_paired.size(); ++i)
            for (std::size_t j = i + 1; j < m_paired.size(); ++j) {
                const auto& [first, known] = m_columns[m_paired[i]];
                const auto& [second, other] = m_columns[m_paired[j]];
                const std::size_t width = widthOf(known) * widthOf(other);
                if (width + widthOf(known) + widthOf(other) > mostColumns) {
                    ++m_found.notSelected;
                    continue;
                }
                // A slope by levels reads from its number.
                const bool turned = known.kind == ColumnKind::factor && other.kind != ColumnKind::factor;
                const std::string& a1 = turned ? second : first;
                const std::string& b1 = turned ? first : second;
                add(Help::Kind::pair, Term{{TermPart{a1}, TermPart{b1}}}, {plainTerm(a1), plainTerm(b1)});
            }
    }

    /// Measures the helps from this one on. Candidates whose columns lack the same rows share a fit.
    void screenFrom(std::size_t first, double from, double to) {
        std::map<std::vector<std::string>, std::vector<std::size_t>> bySet;
        for (std::size_t h = first; h < m_found.helps.size(); ++h)
            bySet[lacking(m_found.helps[h])].push_back(h);
        const auto all = static_cast<double>(m_found.helps.size() - first);
        m_found.tried = m_found.helps.size();
        std::size_t done = 0;
        for (const auto& [columns, helps] : bySet) {
            ProgressStage stage(m_progress, from + (to - from) * static_cast<double>(done) / all,
                                from + (to - from) * static_cast<double>(done + helps.size()) / all);
            screen(columns, helps, stage);
            done += helps.size();
        }
    }

    std::vector<std::string> lacking(const Help& help) const {
        std::vector<std::string> names;
        for (const TermPart& part : help.term.parts)
            if (const auto at = m_placeOf.find(part.column);
                at != m_placeOf.end() && m_columns[at->second].second.lacksRows)
                names.push_back(part.column);
        std::sort(names.begin(), names.end());
        return names;
    }

    Fitted fitFor(const std::vector<std::string>& columns, Progress& progress) const {
        Fitted fitted;
        for (const auto row : m_rows) {
            if (row % 4096 == 0) stopIfTold(progress);
            const bool all = std::all_of(columns.begin(), columns.end(), [&](const std::string& name) {
                const Column& column = m_table.at(name, {});
                return !column.isMissing(row) &&
                       (column.kind() != ColumnKind::number || std::isfinite(column.asNumber(row)));
            });
            if (all) fitted.rows.push_back(row);
        }
        const std::string& file = m_recipe.rows.file;
        stopIfTold(progress);
        fitted.design = std::make_unique<Design>(Design::learn(
            m_table, fitted.rows, m_recipe.terms, referencesIn(m_recipe.terms), file, m_progress));
        fitted.bound = std::make_unique<BoundDesign>(*fitted.design, m_table, file);
        std::erase_if(fitted.rows, [&](std::uint32_t row) { return !fitted.bound->complete(row); });
        stopIfTold(progress);
        const ModelResponse y(m_recipe, m_table, file);
        for (const auto row : fitted.rows)
            fitted.y.push_back(y.at(row));
        LeastSquaresOptions options;
        options.intercept = m_recipe.intercept;
        options.threads = m_threads;
        options.precision = LeastSquaresOptions::Precision::plain;
        fitted.weights = weightsOf(m_recipe, m_table, file, fitted.rows);
        options.weights = fitted.weights;
        fitted.fit = fitLeastSquares(DesignRows(*fitted.bound, fitted.rows), fitted.y, options, progress);
        if (fitted.fit.factor.levels() > 0) m_levelsApart = true;
        return fitted;
    }

    std::map<std::string, std::string> referencesIn(const std::vector<Term>& terms) const {
        const auto names = inputNames(terms);
        std::map<std::string, std::string> references;
        for (const auto& [column, level] : m_recipe.reference)
            if (std::find(names.begin(), names.end(), column) != names.end()) references[column] = level;
        return references;
    }

    /// A design of several helps with their parents, and where each one's columns are.
    struct Batch {
        Design design;
        std::vector<ScreenBlock> blocks;
    };
    /// The term made of numbers less their means. Beside its parents and a constant it adds what the term
    /// adds, and columns far off 0 keep their digits.
    Term centredForm(const Term& term) const {
        if (!m_recipe.intercept) return term;
        Term centred;
        for (const TermPart& part : term.parts) {
            const bool number = m_table.at(part.column, {}).kind() == ColumnKind::number;
            const bool bends = part.power == 2 && term.parts.size() == 1;
            if (!number || part.logarithm || (part.power != 1 && !bends) ||
                (term.parts.size() == 1 && !bends)) {
                centred.parts.push_back(part);
                continue;
            }
            TermPart own{part.column};
            own.form = Form::centred;
            centred.parts.push_back(own);
            if (!bends) continue;
            own.form = Form::standardised; // the same but for its unit: no part may stand twice
            centred.parts.push_back(own);
        }
        return centred;
    }
    Batch batchOf(const std::vector<std::size_t>& helps, std::span<const std::uint32_t> rows) const {
        std::vector<Term> terms;
        const auto place = [&](const Term& term) {
            const auto found = std::find(terms.begin(), terms.end(), term);
            if (found != terms.end()) return static_cast<std::size_t>(found - terms.begin());
            terms.push_back(term);
            return terms.size() - 1;
        };
        std::vector<std::vector<std::size_t>> places;
        for (const std::size_t h : helps) {
            std::vector<std::size_t> of;
            for (const Term& parent : m_found.helps[h].parents)
                of.push_back(place(parent));
            of.push_back(place(centredForm(m_found.helps[h].term)));
            places.push_back(std::move(of));
        }
        Batch batch{Design::learn(m_table, rows, terms, {}, m_recipe.rows.file, m_progress), {}};
        std::vector<std::vector<std::size_t>> columnsOf(terms.size());
        for (std::size_t c = 0; c < batch.design.columns().size(); ++c)
            columnsOf[batch.design.columns()[c].term].push_back(c);
        for (const auto& of : places) {
            ScreenBlock block;
            for (const std::size_t term : of) {
                if (term == of.back()) block.parents = block.columns.size();
                block.columns.insert(block.columns.end(), columnsOf[term].begin(), columnsOf[term].end());
            }
            batch.blocks.push_back(std::move(block));
        }
        return batch;
    }

    std::size_t widthOf(const Help& help) const {
        std::size_t width = 1, parents = 0;
        for (const TermPart& part : help.term.parts)
            if (const auto at = m_placeOf.find(part.column); at != m_placeOf.end()) {
                width *= widthOf(m_columns[at->second].second);
                parents += widthOf(m_columns[at->second].second);
            }
        return width + (help.parents.empty() ? 0 : parents);
    }

    void screen(const std::vector<std::string>& columns, const std::vector<std::size_t>& helps,
                Progress& progress) {
        Fitted fitted;
        try {
            ProgressStage fitting(progress, 0, 0.1);
            fitted = fitFor(columns, fitting);
        } catch (const Error&) {
            if (columns.empty()) throw; // the model itself cannot be fitted
            for (const std::size_t h : helps)
                m_found.helps[h].p = std::nan("");
            return;
        }
        const DesignRows x(*fitted.bound, fitted.rows);
        for (std::size_t begin = 0; begin < helps.size();) {
            std::vector<std::size_t> some;
            for (std::size_t width = 0; begin < helps.size() && (some.empty() || width < batchColumns);
                 ++begin) {
                width += widthOf(m_found.helps[helps[begin]]);
                some.push_back(helps[begin]);
            }
            ProgressStage stage(progress,
                                0.1 + 0.9 * static_cast<double>(begin - some.size()) /
                                          static_cast<double>(helps.size()),
                                0.1 + 0.9 * static_cast<double>(begin) / static_cast<double>(helps.size()));
            try {
                stopIfTold(m_progress);
                const Batch batch = batchOf(some, fitted.rows);
                const BoundDesign bound(batch.design, m_table, m_recipe.rows.file);
                const auto additions = screenBlocks(fitted.fit, x, DesignRows(bound, fitted.rows),
                                                    batch.blocks, fitted.weights, m_threads, stage);
                for (std::size_t k = 0; k < some.size(); ++k) {
                    Help& help = m_found.helps[some[k]];
                    const Addition& a = additions[k];
                    help.rows = fitted.rows.size();
                    help.share = a.share;
                    help.f = a.f;
                    help.numeratorDf = a.numeratorDf;
                    help.denominatorDf = a.denominatorDf;
                    help.p = a.p;
                    help.errorBefore = help.errorWith = std::nan("");
                }
            } catch (const Error&) { // a factor with one level where other columns have values
                for (const std::size_t h : some)
                    m_found.helps[h].p = std::nan("");
                // The others of the batch are measured one by one.
                if (some.size() > 1)
                    for (const std::size_t h : some)
                        screen(columns, {h}, stage);
                continue;
            }
            m_screened.insert(m_screened.end(), some.begin(), some.end());
            // Told less often as more is there: what is told takes as long as it is large.
            if (m_soFar && 10 * m_screened.size() >= 11 * m_told) {
                tell();
                m_told = m_screened.size();
            }
        }
    }

    void tell() const {
        WhatHelps now;
        now.tried = m_found.tried;
        now.notSelected = m_found.notSelected;
        now.notOffered = m_found.notOffered;
        now.pairsAmong = m_found.pairsAmong;
        for (const std::size_t h : m_screened)
            if (!std::isnan(m_found.helps[h].p)) {
                now.helps.push_back(m_found.helps[h]);
                now.helps.back().pAdjusted = std::nan("");
            }
        sort(now.helps);
        m_soFar(now);
    }

    static void sort(std::vector<Help>& helps) {
        std::stable_sort(helps.begin(), helps.end(),
                         [](const Help& a, const Help& b) { return a.p < b.p || (a.p == b.p && a.f > b.f); });
    }

    /// The recipe's folds, dealt once over all rows, so that every candidate is judged by the same.
    void dealFolds() {
        constexpr std::size_t mostCells = 64;
        m_found.judgedBy = foldPlanText({.kind = FoldKind::leaveOneOut});
        if (!m_recipe.judge || m_recipe.judge->kind == FoldKind::leaveOneOut ||
            m_recipe.judge->kind == FoldKind::bootstrap)
            return;
        FoldPlan plan = *m_recipe.judge;
        plan.repeats = 1;
        Dealing dealing =
            dealRows(plan, m_table, rowsToDeal(m_recipe, m_prepared, m_recipe.rows.file), m_recipe.rows.file);
        if (dealing.cells() > mostCells) return;
        m_cellOfRow.assign(m_table.rows(), static_cast<std::uint32_t>(dealing.cells() + 1));
        for (std::size_t i = 0; i < dealing.rows().size(); ++i)
            m_cellOfRow[dealing.rows()[i]] = dealing.cellOf(0)[i];
        m_dealing = std::move(dealing);
        m_found.byFolds = true;
        m_found.judgedBy = foldPlanText(plan);
    }

    ScreenFolds foldsOver(std::span<const std::uint32_t> rows) const {
        ScreenFolds folds;
        if (!m_dealing) return folds;
        for (const auto row : rows)
            folds.cellOf.push_back(m_cellOfRow[row]);
        // Rows without a value of the folds' column are a cell that is never judged.
        const std::size_t cells = m_dealing->cells();
        folds.cells = cells + 1;
        for (std::size_t f = 0; f < m_dealing->foldsPerRepeat(); ++f) {
            ScreenFolds::Fold fold;
            for (std::size_t c = 0; c < cells; ++c) {
                if (m_dealing->learns(f, c)) fold.learns.push_back(c);
                if (m_dealing->judges(f, c)) fold.judges.push_back(c);
            }
            if (m_recipe.judge->kind != FoldKind::rollingOrigin) fold.learns.push_back(cells);
            folds.folds.push_back(std::move(fold));
        }
        return folds;
    }

    static double judgedRows(const ScreenFolds& folds) {
        std::vector<char> judged(folds.cells, 0);
        for (const auto& fold : folds.folds)
            for (const std::size_t c : fold.judges)
                judged[c] = 1;
        return static_cast<double>(std::count_if(folds.cellOf.begin(), folds.cellOf.end(), [&](auto cell) {
            return cell < folds.cells && judged[cell] != 0;
        }));
    }

    void leaveOut(Progress& progress) {
        if (!m_levelsApart) dealFolds(); // folds would need the square of the levels
        const std::size_t count = std::min(mostLeftOut, m_found.helps.size());
        std::map<std::vector<std::string>, std::vector<std::size_t>> bySet;
        for (std::size_t h = 0; h < count; ++h)
            bySet[lacking(m_found.helps[h])].push_back(h);
        std::size_t done = 0;
        for (const auto& [columns, helps] : bySet) {
            ProgressStage stage(progress, static_cast<double>(done) / static_cast<double>(count),
                                static_cast<double>(done + helps.size()) / static_cast<double>(count));
            done += helps.size();
            const Fitted fitted = fitFor(columns, stage);
            stopIfTold(m_progress);
            const Batch batch = batchOf(helps, fitted.rows);
            const BoundDesign bound(batch.design, m_table, m_recipe.rows.file);
            const DesignRows x(*fitted.bound, fitted.rows), candidates(bound, fitted.rows);
            // Each twice: with the terms it needs alone, and with it beside them.
            std::vector<ScreenBlock> blocks = batch.blocks;
            for (const ScreenBlock& block : batch.blocks) {
                ScreenBlock needed = block;
                needed.columns.resize(block.parents);
                blocks.push_back(std::move(needed));
            }
            const ScreenFolds folds = foldsOver(fitted.rows);
            const auto squares = m_found.byFolds ? foldSquaresWith(fitted.fit, x, candidates, blocks, folds,
                                                                   fitted.weights, m_threads, stage)
                                                 : leaveOneOutWith(fitted.fit, x, candidates, blocks,
                                                                   fitted.weights, m_threads, stage);
            const auto n = m_found.byFolds ? judgedRows(folds) : static_cast<double>(fitted.rows.size());
            for (std::size_t k = 0; k < helps.size(); ++k) {
                m_found.helps[helps[k]].errorBefore = std::sqrt(squares[helps.size() + k] / n);
                m_found.helps[helps[k]].errorWith = std::sqrt(squares[k] / n);
            }
        }
        std::stable_sort(m_found.helps.begin(), m_found.helps.begin() + static_cast<std::ptrdiff_t>(count),
                         [](const Help& a, const Help& b) { return gainOf(a) > gainOf(b); });
    }

    /// Share of the error it takes away.
    static double gainOf(const Help& help) {
        const double gain = 1 - help.errorWith / help.errorBefore;
        return std::isnan(gain) ? -1 : gain;
    }

    const Recipe& m_recipe;
    const PreparedRows& m_prepared;
    const Table& m_table;
    Threads m_threads;
    Progress& m_progress;
    const HelpsSoFar& m_soFar;
    /// Learning rows the model can use.
    std::vector<std::uint32_t> m_rows;
    std::vector<std::pair<std::string, Known>> m_columns;
    std::unordered_map<std::string, std::size_t> m_placeOf;
    /// Places of those of which pairs are tried.
    std::vector<std::size_t> m_paired;
    WhatHelps m_found;
    mutable bool m_levelsApart = false;
    std::vector<std::size_t> m_screened;
    std::size_t m_told = 0;
    std::optional<Dealing> m_dealing;
    std::vector<std::uint32_t> m_cellOfRow;
};

} // namespace

std::string_view helpKindName(Help::Kind kind) {
    return kind == Help::Kind::column ? "column" : kind == Help::Kind::bend ? "bend" : "pair";
}

WhatHelps whatHelps(const Recipe& recipe, const PreparedRows& prepared, Threads threads, Progress& progress,
                    const HelpsSoFar& soFar) {
    return Helper(recipe, prepared, threads, progress, soFar).run();
}

Recipe withHelp(const Recipe& recipe, const Help& help) {
    Recipe next = recipe;
    for (const Term& parent : help.parents)
        if (!has(next.terms, parent)) next.terms.push_back(parent);
    if (!has(next.terms, help.term)) next.terms.push_back(help.term);
    return next;
}

std::string helpsJson(const WhatHelps& helps, const Recipe& recipe) {
    nlohmann::ordered_json out;
    out["what_helps"] = 1;
    out["response"] = recipe.response;
    out["tried"] = helps.tried;
    out["passed_over"] = helps.notSelected;
    for (const auto& [column, why] : helps.notOffered)
        out["not_offered"].push_back({{"column", column}, {"because", why}});
    if (helps.pairsAmong > 0) out["pairs_among"] = helps.pairsAmong;
    if (helps.byFolds) out["judged_by"] = helps.judgedBy;
    out["helps"] = nlohmann::ordered_json::array();
    for (const Help& h : helps.helps) {
        nlohmann::ordered_json one{{"kind", helpKindName(h.kind)}, {"term", termName(h.term)}};
        one["with"] = nlohmann::ordered_json::array();
        for (const Term& parent : h.parents)
            one["with"].push_back(termName(parent));
        one.update(
            {{"rows", h.rows},
             {"share_of_what_is_left", h.share},
             {"f", h.f},
             {"degrees_of_freedom", {h.numeratorDf, h.denominatorDf}},
             {"p", h.p},
             {"p_adjusted", h.pAdjusted},
             {helps.byFolds ? "error_over_folds_before" : "error_leaving_rows_out_before", h.errorBefore},
             {helps.byFolds ? "error_over_folds_with" : "error_leaving_rows_out_with", h.errorWith}});
        out["helps"].push_back(std::move(one));
    }
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
