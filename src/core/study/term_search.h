#pragma once
// The search of a choice of terms: over triangular factors of folds, whatever they were made of.
#include "base/parallel.h"
#include "base/progress.h"
#include "estimate/decompositions.h"
#include "estimate/distributions.h"
#include "study/choose_terms.h"
#include "study/departures.h"
#include "study/remainders.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <functional>
#include <limits>
#include <optional>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

/// Terms in the model, as places among the candidates, ascending.
using TermSet = std::vector<std::size_t>;

/// The candidates as groups of columns of a triangular factor [constant, columns, y].
struct Candidates {
    std::vector<Term> terms;
    std::vector<std::vector<Eigen::Index>> columns;
    Eigen::Index first = 1;
};

inline Eigen::MatrixXd stacked(const std::vector<const Eigen::MatrixXd*>& parts, bool reduced) {
    Eigen::Index rows = 0;
    for (const Eigen::MatrixXd* part : parts)
        rows += part->rows();
    Eigen::MatrixXd work(rows, parts[0]->cols());
    Eigen::Index at = 0;
    for (const Eigen::MatrixXd* part : parts) {
        work.middleRows(at, part->rows()) = *part;
        at += part->rows();
    }
    if (!reduced) return work;
    Eigen::MatrixXd r = Eigen::MatrixXd::Zero(work.cols(), work.cols());
    const Eigen::Index m = std::min(work.rows(), work.cols());
    r.topRows(m) = upperTriangle(work);
    return r;
}

/// Rows in cells, each as they are or as a triangular factor, and folds made of whole cells.
struct CellFactors {
    struct Fold {
        std::vector<std::size_t> learns, judges;
    };
    std::vector<Eigen::MatrixXd> factors;
    /// False where they are the rows themselves, which for wide tables are fewer than a factor's work.
    bool reduced = true;
    /// Rows of each cell, and of all.
    std::vector<double> counts;
    double rows = 0;
    std::vector<Fold> folds;
};

/// One choice on such factors.
class Chooser {
public:
    Chooser(const Candidates& candidates, const CellFactors& cells, const ChooseRequest& request,
            Threads threads, Progress& progress)
        : m_candidates(candidates), m_cells(cells), m_rows(cells.rows), m_request(request),
          m_threads(threads), m_progress(progress), m_parents(candidates.terms.size()) {
        for (std::size_t t = 0; t < m_parents.size(); ++t)
            if (candidates.terms[t].parts.size() > 1)
                for (std::size_t parent = 0; parent < m_parents.size(); ++parent)
                    if (isParent(candidates.terms[parent], candidates.terms[t]))
                        m_parents[t].push_back(parent);
        std::vector<const Eigen::MatrixXd*> all;
        for (const Eigen::MatrixXd& factor : cells.factors)
            all.push_back(&factor);
        m_whole = all.size() == 1 ? *all[0] : stacked(all, cells.reduced);
        for (const CellFactors::Fold& fold : cells.folds) {
            std::vector<const Eigen::MatrixXd*> learns;
            for (const std::size_t c : fold.learns)
                learns.push_back(&cells.factors[c]);
            m_learned.push_back(stacked(learns, cells.reduced));
            for (const std::size_t c : fold.judges)
                m_judged += cells.counts[c];
        }
    }

    TermSet choose(std::vector<ChooseStep>* steps, const std::function<void(const ChooseStep&)>& soFar) {
        m_steps = steps;
        m_soFar = &soFar;
        if (m_request.by == ChooseBy::bestSubsets) return subsets();
        TermSet set;
        if (m_request.by == ChooseBy::backward)
            for (std::size_t t = 0; t < m_candidates.terms.size(); ++t)
                set.push_back(t);
        double now = criterion(set);
        m_start = now;
        const int most = m_request.mostSteps > 0 ? m_request.mostSteps : 100000;
        for (int step = 0; step < most; ++step) {
            m_progress.checkpoint(1 - std::exp(-step / 20.0),
                                  "Choosing terms, step " + std::to_string(step + 1));
            bool moved = false;
            if (m_request.by != ChooseBy::backward) moved = add(set, now);
            if (m_request.by == ChooseBy::backward ||
                (m_request.by == ChooseBy::bothWays && (moved || step == 0)))
                moved = remove(set, now) || moved;
            if (!moved) break;
        }
        m_end = now;
        return set;
    }

    double start() const { return m_start; }
    double end() const { return m_end; }

    /// Coefficients of a set on a factor; zeros where others are.
    Eigen::VectorXd solve(const Eigen::MatrixXd& factor, const TermSet& set) const {
        const Eigen::MatrixXd x = columnsOf(factor, set);
        return x.cols() == 0 ? Eigen::VectorXd()
                             : Eigen::VectorXd(x.colPivHouseholderQr().solve(factor.col(factor.cols() - 1)));
    }
    double squaredError(const Eigen::MatrixXd& factor, const TermSet& set, const Eigen::VectorXd& b) const {
        Eigen::VectorXd e = factor.col(factor.cols() - 1);
        if (b.size() > 0) e -= columnsOf(factor, set) * b;
        return e.squaredNorm();
    }
    /// Mean squared error over the folds, each predicted by the others.
    double crossValidated(const TermSet& set) const {
        double sum = 0;
        for (std::size_t f = 0; f < m_learned.size(); ++f) {
            const Eigen::VectorXd b = solve(m_learned[f], set);
            for (const std::size_t c : m_cells.folds[f].judges)
                sum += squaredError(m_cells.factors[c], set, b);
        }
        return sum / m_judged;
    }
    double residual(const TermSet& set) const { return squaredError(m_whole, set, solve(m_whole, set)); }
    double degreesOfFreedom(const TermSet& set) const {
        double columns = static_cast<double>(m_candidates.first);
        for (const std::size_t t : set)
            columns += static_cast<double>(m_candidates.columns[t].size());
        return m_rows - columns;
    }
    /// p of what `large` has more than `small`.
    double pOf(const TermSet& small, const TermSet& large) const {
        const double df = degreesOfFreedom(large), more = degreesOfFreedom(small) - df;
        const double rss = residual(large);
        if (!(df > 0) || !(more > 0)) return std::nan("");
        return fisherUpper((residual(small) - rss) / more / (rss / df), more, df);
    }

    /// p of each term that is not in a set when it is added to it; NaN for those that are.
    std::vector<double> pOfAdding(const TermSet& set) const {
        std::vector<double> p(m_candidates.terms.size(), std::nan(""));
        const std::vector<ColumnEntries> remainders = remaindersOf(set, false);
        const double before = remainders[0].with({}).first;
        parallelFor(p.size(), m_threads, [&](std::size_t t) {
            stopIfTold(m_progress);
            const double more = static_cast<double>(m_candidates.columns[t].size());
            const double df = degreesOfFreedom(set) - more;
            if (std::binary_search(set.begin(), set.end(), t) || !(df > 0)) return;
            const double rss = remainders[0].with(m_candidates.columns[t]).first;
            p[t] = fisherUpper((before - rss) / more / (rss / df), more, df);
        });
        return p;
    }

    /// p of each term of a set beside the others; NaN for those that are not in it.
    std::vector<double> pOfLeaving(const TermSet& set) const {
        std::vector<double> p(m_candidates.terms.size(), std::nan(""));
        const std::vector<ColumnRemovals> departures = departuresOf(set, false);
        parallelFor(set.size(), m_threads, [&](std::size_t i) {
            stopIfTold(m_progress);
            const std::size_t t = set[i];
            p[t] = departures.empty() ? pOf(without(set, t), set) : pWithout(departures, set, t);
        });
        return p;
    }

    /// Less is better; adjusted R² as the residual variance it falls with.
    double criterion(const TermSet& set) const {
        const double df = degreesOfFreedom(set);
        if (!(df > 0)) return std::numeric_limits<double>::infinity();
        return m_request.criterion == ChooseCriterion::crossValidated ? crossValidated(set)
                                                                      : byResidual(residual(set), df);
    }
    double byResidual(double rss, double df) const {
        const double k = m_rows - df + 1; // the spread counts
        switch (m_request.criterion) {
        case ChooseCriterion::aicc:
            return m_rows - k - 1 > 0
                       ? m_rows * std::log(rss / m_rows) + 2 * k + 2 * k * (k + 1) / (m_rows - k - 1)
                       : std::numeric_limits<double>::infinity();
        case ChooseCriterion::bic:
            return m_rows * std::log(rss / m_rows) + k * std::log(m_rows);
        default:
            return rss / df;
        }
    }

private:
    Eigen::MatrixXd columnsOf(const Eigen::MatrixXd& factor, const TermSet& set) const {
        Eigen::Index count = m_candidates.first;
        for (const std::size_t t : set)
            count += static_cast<Eigen::Index>(m_candidates.columns[t].size());
        Eigen::MatrixXd x(factor.rows(), count);
        x.leftCols(m_candidates.first) = factor.leftCols(m_candidates.first);
        Eigen::Index at = m_candidates.first;
        for (const std::size_t t : set)
            for (const Eigen::Index j : m_candidates.columns[t])
                x.col(at++) = factor.col(j);
        return x;
    }

    /// True when every part of a product in the set is in the set, as far as it is a candidate.
    bool keepsHierarchy(const TermSet& set) const {
        return std::all_of(set.begin(), set.end(), [&](std::size_t t) { return hasParents(set, t); });
    }
    bool hasParents(const TermSet& set, std::size_t t) const {
        return std::all_of(m_parents[t].begin(), m_parents[t].end(), [&](std::size_t parent) {
            return std::binary_search(set.begin(), set.end(), parent);
        });
    }

    bool byP() const { return m_request.criterion == ChooseCriterion::pValue; }

    static TermSet with(TermSet set, std::size_t t) {
        set.insert(std::lower_bound(set.begin(), set.end(), t), t);
        return set;
    }
    static TermSet without(TermSet set, std::size_t t) {
        std::erase(set, t);
        return set;
    }

    /// Values of one-term changes; the best one's place, or none.
    template <class Value>
    std::optional<std::pair<std::size_t, double>> best(const std::vector<std::size_t>& tried, bool largest,
                                                       Value&& value) {
        std::vector<double> values(tried.size());
        parallelFor(tried.size(), m_threads, [&](std::size_t i) {
            stopIfTold(m_progress);
            values[i] = value(tried[i]);
        });
        std::optional<std::pair<std::size_t, double>> found;
        for (std::size_t i = 0; i < tried.size(); ++i) {
            if (std::isnan(values[i])) continue;
            if (!found || (largest ? values[i] > found->second : values[i] < found->second))
                found = {tried[i], values[i]};
        }
        return found;
    }

    /// What the set leaves: of all rows, or of each fold where it is judged by folds.
    std::vector<ColumnEntries> remaindersOf(const TermSet& set, bool folds) const {
        std::vector<ColumnEntries> made;
        if (folds)
            for (std::size_t f = 0; f < m_learned.size(); ++f) {
                std::vector<Eigen::MatrixXd> judged;
                for (const std::size_t c : m_cells.folds[f].judges)
                    judged.push_back(m_cells.factors[c]);
                made.emplace_back(m_learned[f], std::move(judged));
            }
        else
            made.emplace_back(m_whole, std::vector<Eigen::MatrixXd>{});
        for (Eigen::Index j = 0; j < m_candidates.first; ++j)
            for (ColumnEntries& each : made)
                each.enter(j, m_threads);
        for (const std::size_t t : set)
            takeIn(made, t);
        return made;
    }
    void takeIn(std::vector<ColumnEntries>& remainders, std::size_t t) const {
        for (ColumnEntries& each : remainders)
            for (const Eigen::Index j : m_candidates.columns[t]) {
                stopIfTold(m_progress);
                each.enter(j, m_threads);
            }
    }
    /// Criterion of the set and a term, from what the set leaves.
    double criterionWith(const std::vector<ColumnEntries>& remainders, const TermSet& set,
                         std::size_t t) const {
        const double more = static_cast<double>(m_candidates.columns[t].size());
        const double df = degreesOfFreedom(set) - more;
        if (!(df > 0)) return std::numeric_limits<double>::infinity();
        const auto& columns = m_candidates.columns[t];
        if (m_request.criterion == ChooseCriterion::crossValidated) {
            double sum = 0;
            for (const ColumnEntries& each : remainders)
                sum += each.with(columns).second;
            return sum / m_judged;
        }
        const double rss = remainders[0].with(columns).first;
        if (!byP()) return byResidual(rss, df);
        return more > 0 ? fisherUpper((remainders[0].with({}).first - rss) / more / (rss / df), more, df)
                        : std::nan("");
    }

    /// What leaving would do to the set: of all rows, or of each fold. None where columns nearly depend on
    /// each other in one of them.
    std::vector<ColumnRemovals> departuresOf(const TermSet& set, bool folds) const {
        std::vector<Eigen::Index> columns;
        for (Eigen::Index j = 0; j < m_candidates.first; ++j)
            columns.push_back(j);
        for (const std::size_t t : set)
            columns.insert(columns.end(), m_candidates.columns[t].begin(), m_candidates.columns[t].end());
        std::vector<ColumnRemovals> made;
        const auto add = [&](const Eigen::MatrixXd& learned,
                             const std::vector<const Eigen::MatrixXd*>& judged) {
            stopIfTold(m_progress);
            made.emplace_back(learned, columns, judged);
            return made.back().sound();
        };
        if (!folds) {
            if (!add(m_whole, {})) made.clear();
            return made;
        }
        for (std::size_t f = 0; f < m_learned.size(); ++f) {
            std::vector<const Eigen::MatrixXd*> judged;
            for (const std::size_t c : m_cells.folds[f].judges)
                judged.push_back(&m_cells.factors[c]);
            if (!add(m_learned[f], judged)) return {};
        }
        return made;
    }
    double pWithout(const std::vector<ColumnRemovals>& departures, const TermSet& set, std::size_t t) const {
        const double df = degreesOfFreedom(set), more = static_cast<double>(m_candidates.columns[t].size());
        if (!(df > 0) || !(more > 0)) return std::nan("");
        const double rss = departures[0].squares();
        return fisherUpper((departures[0].without(m_candidates.columns[t]).first - rss) / more / (rss / df),
                           more, df);
    }
    /// Criterion of the set without a term.
    double criterionWithout(const std::vector<ColumnRemovals>& departures, const TermSet& set,
                            std::size_t t) const {
        if (byP()) return pWithout(departures, set, t);
        const auto& columns = m_candidates.columns[t];
        const double df = degreesOfFreedom(set) + static_cast<double>(columns.size());
        if (!(df > 0)) return std::numeric_limits<double>::infinity();
        if (m_request.criterion != ChooseCriterion::crossValidated)
            return byResidual(departures[0].without(columns).first, df);
        double sum = 0;
        for (const ColumnRemovals& each : departures)
            sum += each.without(columns).second;
        return sum / m_judged;
    }

    bool add(TermSet& set, double& now) {
        std::vector<std::size_t> tried;
        for (std::size_t t = 0; t < m_candidates.terms.size(); ++t)
            if (!std::binary_search(set.begin(), set.end(), t) &&
                (!m_request.hierarchy || hasParents(set, t)) &&
                degreesOfFreedom(set) > static_cast<double>(m_candidates.columns[t].size()))
                tried.push_back(t);
        if (!m_remainders || m_remaindersOf != set) {
            m_remainders = remaindersOf(set, m_request.criterion == ChooseCriterion::crossValidated);
            m_remaindersOf = set;
        }
        const auto found =
            best(tried, false, [&](std::size_t t) { return criterionWith(*m_remainders, set, t); });
        if (!found || !(found->second < (byP() ? m_request.enter : now))) return false;
        set = with(set, found->first);
        takeIn(*m_remainders, found->first);
        m_remaindersOf = set;
        now = found->second;
        tell(found->first, true, now, set.size());
        return true;
    }

    bool remove(TermSet& set, double& now) {
        std::vector<std::size_t> tried;
        for (const std::size_t t : set)
            if (!m_request.hierarchy || keepsHierarchy(without(set, t))) tried.push_back(t);
        if (m_departuresOf != set || !m_departures) {
            m_departures = departuresOf(set, m_request.criterion == ChooseCriterion::crossValidated);
            m_departuresOf = set;
        }
        const auto found = best(tried, byP(), [&](std::size_t t) {
            if (!m_departures->empty()) return criterionWithout(*m_departures, set, t);
            return byP() ? pOf(without(set, t), set) : criterion(without(set, t));
        });
        if (!found || !(byP() ? found->second > m_request.leave : found->second < now)) return false;
        set = without(set, found->first);
        for (ColumnRemovals& each : *m_departures)
            each.leave(m_candidates.columns[found->first], m_threads, m_progress);
        m_departuresOf = set;
        if (m_departures->empty()) m_departures.reset(); // it may be told again
        now = found->second;
        tell(found->first, false, now, set.size());
        return true;
    }

    TermSet subsets() {
        const std::function<bool(const TermSet&)> valid = [&](const TermSet& set) {
            return (!m_request.hierarchy || keepsHierarchy(set)) &&
                   (m_request.mostSteps <= 0 || set.size() <= static_cast<std::size_t>(m_request.mostSteps));
        };
        const auto found = bestSubsets(m_whole, m_candidates.first, m_candidates.columns, valid, m_progress);
        m_start = criterion({});
        TermSet chosen;
        m_end = std::numeric_limits<double>::infinity();
        for (const Subset& subset : found) {
            if (!subset.found || !(degreesOfFreedom(subset.groups) > 0)) continue;
            const double value = criterion(subset.groups);
            if (value < m_end) {
                m_end = value;
                chosen = subset.groups;
            }
        }
        // Told in the order of their worth: each time the term whose leaving costs least goes last.
        TermSet left = chosen;
        std::vector<std::size_t> order;
        while (!left.empty()) {
            std::size_t least = left[0];
            double cost = std::numeric_limits<double>::infinity();
            for (const std::size_t t : left) {
                if (m_request.hierarchy && !keepsHierarchy(without(left, t))) continue;
                if (const double rss = residual(without(left, t)); rss < cost) {
                    cost = rss;
                    least = t;
                }
            }
            order.push_back(least);
            left = without(left, least);
        }
        std::reverse(order.begin(), order.end());
        TermSet so;
        for (const std::size_t t : order) {
            so = with(so, t);
            tell(t, true, criterion(so), so.size());
        }
        return chosen;
    }

    void tell(std::size_t t, bool in, double value, std::size_t terms) {
        if (!m_steps) return;
        m_steps->push_back({m_candidates.terms[t], in, value, terms});
        if (m_soFar && *m_soFar) (*m_soFar)(m_steps->back());
    }

    const Candidates& m_candidates;
    const CellFactors& m_cells;
    double m_rows, m_judged = 0;
    const ChooseRequest& m_request;
    Threads m_threads;
    Progress& m_progress;
    Eigen::MatrixXd m_whole;
    /// Of each fold, what its model learns from.
    std::vector<Eigen::MatrixXd> m_learned;
    /// Of each term its parts that are candidates.
    std::vector<TermSet> m_parents;
    std::optional<std::vector<ColumnEntries>> m_remainders;
    TermSet m_remaindersOf;
    std::optional<std::vector<ColumnRemovals>> m_departures;
    TermSet m_departuresOf;
    std::vector<ChooseStep>* m_steps = nullptr;
    const std::function<void(const ChooseStep&)>* m_soFar = nullptr;
    double m_start = 0, m_end = 0;
};

} // namespace oxgoad
