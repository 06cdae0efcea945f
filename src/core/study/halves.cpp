#include "study/halves.h"

#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/decompositions.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "estimate/penalised/penalised.h"
#include "write/csv.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <atomic>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

/// Rows of one half of a split.
struct Half {
    std::vector<std::uint32_t> rows;
    std::vector<double> y, weights;
    DesignRows x;
    Half(const TrainingData& training, const BoundDesign& bound, std::span<const std::uint32_t> places)
        : rows(at(training.rows, places)), y(at(training.y, places)), weights(at(training.weights, places)),
          x(bound, rows) {}

    bool weighs() const { return weights.empty() || *std::max_element(weights.begin(), weights.end()) > 0; }

private:
    template <class T>
    static std::vector<std::remove_const_t<T>> at(std::span<T> values,
                                                  std::span<const std::uint32_t> places) {
        std::vector<std::remove_const_t<T>> some;
        if (values.empty()) return some;
        some.reserve(places.size());
        for (const auto place : places)
            some.push_back(values[place]);
        return some;
    }
};

/// What one split says: the terms kept by its halves, and the p of the terms that the first chose.
struct Split {
    std::vector<std::uint8_t> kept[2];
    std::vector<double> p;
    bool there = false;
};

class HalvesStudy {
public:
    HalvesStudy(const Recipe& recipe, const TrainingData& training, const Study& study,
                const HalvesRequest& request)
        : m_recipe(recipe), m_data(training), m_study(study), m_request(request), m_x(training),
          m_plain(penaltyOptions(study.settings, study.linear()->penalised->l1Share, m_x.design, training)),
          m_penalty(study.linear()->penalised->penalty) {
        for (const DesignColumn& column : m_x.design.columns())
            m_terms.push_back(column.term);
    }

    StabilitySelection run(Threads threads, Progress& progress) {
        const std::size_t n = m_data.rows.size(), terms = m_recipe.terms.size();
        if (n < 8)
            throw Error(ErrorCode::tooFewRows, "halves of " + plural(n, "row", "rows") + " choose nothing",
                        {.file = m_data.file}, "Bring more rows.");
        std::vector<Split> splits(static_cast<std::size_t>(m_request.splits));
        std::atomic<int> done{0};
        try {
            parallelFor(splits.size(), threads, [&](std::size_t k) {
                stopIfTold(progress);
                progress.report(static_cast<double>(done) / m_request.splits, "Choosing by halves, split " +
                                                                                  countText(k + 1) + " of " +
                                                                                  countText(splits.size()));
                splits[k] = split(k, terms, progress);
                ++done;
            });
        } catch (const Stopped&) { // what is there is kept
            if (done == 0) throw;
        }
        return tally(splits, terms);
    }

private:
    Split split(std::size_t number, std::size_t terms, Progress& progress) const {
        std::vector<std::uint32_t> places(m_data.rows.size());
        std::iota(places.begin(), places.end(), 0U);
        RandomStream random(m_request.seed + number, "halves of the learning rows");
        for (std::size_t i = places.size() - 1; i > 0; --i)
            std::swap(places[i], places[random.below(i + 1)]);
        const std::size_t middle = places.size() / 2;
        Split out;
        out.p.assign(terms, 1);
        std::vector<Index> chosen;
        for (int side = 0; side < 2; ++side) {
            std::vector<std::uint32_t> own(side == 0 ? places.begin() : places.begin() + middle,
                                           side == 0 ? places.begin() + middle : places.end());
            std::sort(own.begin(), own.end());
            const Half half(m_data, m_x.bound, own);
            out.kept[side].assign(terms, 0);
            if (!half.weighs()) continue;
            const PenalisedProblem problem =
                problemOf(half.x, half.y, half.weights, m_plain, Threads{1}, progress);
            if (side == 0) {
                chosen = keep(problem, out.kept[0], progress);
            } else {
                keep(problem, out.kept[1], progress);
                test(half, problem, chosen, out.p);
            }
        }
        out.there = true;
        return out;
    }

    /// Marks the terms kept on the way to the model's penalty; the columns kept there are returned.
    std::vector<Index> keep(const PenalisedProblem& problem, std::vector<std::uint8_t>& kept,
                            Progress& progress) const {
        PenaltyOptions options = m_plain;
        adaptFactors(m_study.settings, problem, options, progress);
        std::vector<double> way;
        const double largest = largestPenalty(problem, options);
        constexpr int steps = 20;
        for (int k = 1; k < steps && m_penalty > 0 && m_penalty < largest; ++k)
            way.push_back(largest * std::pow(m_penalty / largest, static_cast<double>(k) / steps));
        way.push_back(m_penalty);
        std::vector<Index> last;
        for (const PenalisedPoint& point : penalisedPath(problem, options, way, progress, PathDigits::few)) {
            last.clear();
            for (Index j = 0; j < point.standardised.size(); ++j)
                if (point.standardised[j] != 0) {
                    kept[m_terms[static_cast<std::size_t>(j)]] = 1;
                    last.push_back(j);
                }
        }
        return last;
    }

    /// Least squares of the columns chosen by the other half: p of each of their terms, times their number.
    void test(const Half& half, const PenalisedProblem& problem, const std::vector<Index>& chosen,
              std::vector<double>& p) const {
        const auto k = static_cast<Index>(chosen.size());
        Index rows = problem.rows;
        if (!half.weights.empty())
            rows = std::count_if(half.weights.begin(), half.weights.end(), [](double w) { return w > 0; });
        const Index free = rows - k - (problem.intercept ? 1 : 0);
        if (k == 0 || free < 1) return;
        // Columns that this half does not tell apart are left out, the later ones first.
        const MatrixXd root = orthogonalRoot(half.x, half.y, half.weights, problem, chosen);
        std::vector<Index> columns;
        for (Index c = 0; c < k; ++c) {
            const bool own = std::fabs(root(c, c)) > 1e-7 * root.col(c).norm() &&
                             !problem.constant[static_cast<std::size_t>(chosen[static_cast<std::size_t>(c)])];
            if (own) columns.push_back(c);
        }
        const auto rank = static_cast<Index>(columns.size());
        if (rank == 0) return;
        MatrixXd some(k + 1, rank + 1);
        for (Index c = 0; c < rank; ++c)
            some.col(c) = root.col(columns[static_cast<std::size_t>(c)]);
        some.col(rank) = root.col(k);
        const MatrixXd full = upperTriangle(some);
        const double left = full(rank, rank) * full(rank, rank);
        const auto degrees = static_cast<double>(rows - rank - (problem.intercept ? 1 : 0));
        const VectorXd b =
            full.topLeftCorner(rank, rank).triangularView<Eigen::Upper>().solve(full.col(rank).head(rank));
        const MatrixXd inverse = full.topLeftCorner(rank, rank)
                                     .triangularView<Eigen::Upper>()
                                     .solve(MatrixXd::Identity(rank, rank));
        const MatrixXd covariance = inverse * inverse.transpose();
        std::vector<std::size_t> inTerms;
        for (const Index c : columns)
            inTerms.push_back(m_terms[static_cast<std::size_t>(chosen[static_cast<std::size_t>(c)])]);
        std::vector<std::size_t> distinct = inTerms;
        distinct.erase(std::unique(distinct.begin(), distinct.end()), distinct.end());
        for (const std::size_t term : distinct) {
            std::vector<Index> own;
            for (Index c = 0; c < rank; ++c)
                if (inTerms[static_cast<std::size_t>(c)] == term) own.push_back(c);
            const auto d = static_cast<Index>(own.size());
            const MatrixXd block = covariance(own, own);
            const VectorXd part = b(own);
            const double f = part.dot(block.ldlt().solve(part)) * degrees / (static_cast<double>(d) * left);
            const double alone = left > 0 ? fisherUpper(f, static_cast<double>(d), degrees) : 0;
            p[term] = std::min(1.0, alone * static_cast<double>(distinct.size()));
        }
    }

    StabilitySelection tally(const std::vector<Split>& splits, std::size_t terms) const {
        StabilitySelection out;
        out.asked = m_request;
        out.penalty = m_penalty;
        out.l1Share = m_plain.l1Share;
        std::vector<double> times(terms, 0);
        std::vector<std::vector<double>> p(terms);
        double halves = 0;
        for (const Split& split : splits) {
            if (!split.there) continue;
            ++out.done;
            halves += 2;
            for (std::size_t t = 0; t < terms; ++t) {
                times[t] += split.kept[0][t] + split.kept[1][t];
                p[t].push_back(split.p[t]);
            }
        }
        std::vector<std::uint8_t> free(terms, 0);
        std::vector<std::size_t> columns(terms, 0);
        for (std::size_t j = 0; j < m_terms.size(); ++j) {
            ++columns[m_terms[j]];
            if (!m_plain.factors.empty() && m_plain.factors[j] == 0) free[m_terms[j]] = 1;
        }
        for (std::size_t t = 0; t < terms; ++t) {
            if (columns[t] == 0) continue;
            TermHalves term;
            term.term = termName(m_recipe.terms[t]);
            term.columns = columns[t];
            term.free = free[t] != 0;
            term.share = times[t] / halves;
            term.stable = !term.free && term.share >= m_request.threshold;
            term.p = pOverSplits(p[t]);
            if (!term.free) {
                ++out.terms;
                out.keptOnAverage += term.share;
            }
            out.each.push_back(std::move(term));
        }
        const auto m = static_cast<double>(out.terms);
        out.expectedFalse =
            m > 0 ? out.keptOnAverage * out.keptOnAverage / ((2 * m_request.threshold - 1) * m) : 0;
        const auto stable =
            std::count_if(out.each.begin(), out.each.end(), [](const TermHalves& t) { return t.stable; });
        out.says = countText(static_cast<std::size_t>(stable)) + " of " +
                   plural(out.terms, "penalised term", "penalised terms") + " kept in " +
                   percentText(m_request.threshold) + " of halves or more; a half keeps " +
                   readableText(out.keptOnAverage, 3) + " on average, so at most " +
                   readableText(out.expectedFalse, 2) + " terms that say nothing are expected among them";
        if (stable > 0 && out.expectedFalse >= static_cast<double>(stable))
            out.says += ": at this penalty halves keep so much that the number says little, a stronger "
                        "penalty would say more";
        if (out.done < m_request.splits)
            out.says += "; stopped after " + countText(static_cast<std::size_t>(out.done)) + " of " +
                        countText(static_cast<std::size_t>(m_request.splits)) + " splits";
        return out;
    }

    const Recipe& m_recipe;
    const TrainingData& m_data;
    const Study& m_study;
    const HalvesRequest& m_request;
    PenalisedRows m_x;
    PenaltyOptions m_plain;
    double m_penalty;
    std::vector<std::size_t> m_terms;
};

} // namespace

double pOverSplits(std::vector<double> p, double smallestShare) {
    if (p.empty()) return 1;
    std::sort(p.begin(), p.end());
    const auto n = static_cast<double>(p.size());
    // The quantile is a step function: over γ it is smallest where a step ends.
    double smallest = 1;
    for (std::size_t i = 0; i < p.size(); ++i) {
        const double share = static_cast<double>(i + 1) / n;
        if (share < smallestShare) continue;
        smallest = std::min(smallest, p[i] / share);
    }
    return std::min(1.0, (1 - std::log(smallestShare)) * smallest);
}

StabilitySelection halvesOf(const Recipe& recipe, const PreparedRows& prepared, const Study& study,
                            const HalvesRequest& request, Threads threads, Progress& progress) {
    const TrainingAgain again(recipe, prepared, study, threads);
    return HalvesStudy(recipe, again.data(), study, request).run(threads, progress);
}

std::string halvesCsv(const StabilitySelection& halves) {
    CsvWriter out;
    for (const auto* name : {"term", "columns", "share_of_halves", "stable", "p_after_selection"})
        out.text(name);
    out.endRow();
    for (const TermHalves& term : halves.each) {
        out.text(term.term);
        out.count(term.columns);
        out.number(term.share).text(term.stable ? "yes" : "no").number(term.p);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
