#include "study/choose_terms.h"

#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "study/rows_used.h"
#include "study/study.h"

#include <Eigen/QR>
#include <nlohmann/json.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr double worst = std::numeric_limits<double>::infinity();
constexpr std::size_t mostForSubsets = 30;

/// Terms in the model, as places among the candidates, ascending.
using Set = std::vector<std::size_t>;

/// The candidates as groups of columns of a triangular factor [constant, columns, y].
struct Candidates {
    std::vector<Term> terms;
    std::vector<std::vector<Index>> columns;
    Index first = 1;

    /// True when every part of a product in the set is in the set, as far as it is a candidate.
    bool keepsHierarchy(const Set& set) const {
        return std::all_of(set.begin(), set.end(), [&](std::size_t t) {
            for (std::size_t parent = 0; parent < terms.size(); ++parent)
                if (isParent(terms[parent], terms[t]) &&
                    std::find(set.begin(), set.end(), parent) == set.end())
                    return false;
            return true;
        });
    }
};

MatrixXd stacked(const std::vector<const MatrixXd*>& parts) {
    Index rows = 0;
    for (const MatrixXd* part : parts)
        rows += part->rows();
    MatrixXd work(rows, parts[0]->cols());
    Index at = 0;
    for (const MatrixXd* part : parts) {
        work.middleRows(at, part->rows()) = *part;
        at += part->rows();
    }
    MatrixXd r = MatrixXd::Zero(work.cols(), work.cols());
    const Index m = std::min(work.rows(), work.cols());
    r.topRows(m) =
        Eigen::HouseholderQR<MatrixXd>(work).matrixQR().topRows(m).template triangularView<Eigen::Upper>();
    return r;
}

/// One choice on the factors of some folds.
class Chooser {
public:
    Chooser(const Candidates& candidates, std::vector<const MatrixXd*> folds, double rows,
            const ChooseRequest& request, Threads threads, Progress& progress)
        : m_candidates(candidates), m_folds(std::move(folds)), m_rows(rows), m_request(request),
          m_threads(threads), m_progress(progress), m_whole(stacked(m_folds)) {
        for (std::size_t f = 0; f < m_folds.size(); ++f) {
            auto others = m_folds;
            others.erase(others.begin() + static_cast<std::ptrdiff_t>(f));
            m_without.push_back(stacked(others));
        }
    }

    Set choose(std::vector<ChooseStep>* steps, const std::function<void(const ChooseStep&)>& soFar) {
        m_steps = steps;
        m_soFar = &soFar;
        if (m_request.by == ChooseBy::bestSubsets) return subsets();
        Set set;
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
    VectorXd solve(const MatrixXd& factor, const Set& set) const {
        const MatrixXd x = columnsOf(factor, set);
        return x.cols() == 0 ? VectorXd()
                             : VectorXd(x.colPivHouseholderQr().solve(factor.col(factor.cols() - 1)));
    }
    double squaredError(const MatrixXd& factor, const Set& set, const VectorXd& b) const {
        VectorXd e = factor.col(factor.cols() - 1);
        if (b.size() > 0) e -= columnsOf(factor, set) * b;
        return e.squaredNorm();
    }
    /// Mean squared error over the folds, each predicted by the others.
    double crossValidated(const Set& set) const {
        double sum = 0;
        for (std::size_t f = 0; f < m_folds.size(); ++f)
            sum += squaredError(*m_folds[f], set, solve(m_without[f], set));
        return sum / m_rows;
    }
    double residual(const Set& set) const { return squaredError(m_whole, set, solve(m_whole, set)); }
    double degreesOfFreedom(const Set& set) const {
        double columns = static_cast<double>(m_candidates.first);
        for (const std::size_t t : set)
            columns += static_cast<double>(m_candidates.columns[t].size());
        return m_rows - columns;
    }
    /// p of what `large` has more than `small`.
    double pOf(const Set& small, const Set& large) const {
        const double df = degreesOfFreedom(large), more = degreesOfFreedom(small) - df;
        const double rss = residual(large);
        if (!(df > 0) || !(more > 0)) return std::nan("");
        return fisherUpper((residual(small) - rss) / more / (rss / df), more, df);
    }
    const MatrixXd& whole() const { return m_whole; }

    /// Less is better; adjusted R² as the residual variance it falls with.
    double criterion(const Set& set) const {
        const double df = degreesOfFreedom(set);
        if (!(df > 0)) return worst;
        return m_request.criterion == ChooseCriterion::crossValidated ? crossValidated(set)
                                                                      : byResidual(residual(set), df);
    }
    double byResidual(double rss, double df) const {
        const double k = m_rows - df + 1; // the spread counts
        switch (m_request.criterion) {
        case ChooseCriterion::aicc:
            return m_rows - k - 1 > 0
                       ? m_rows * std::log(rss / m_rows) + 2 * k + 2 * k * (k + 1) / (m_rows - k - 1)
                       : worst;
        case ChooseCriterion::bic:
            return m_rows * std::log(rss / m_rows) + k * std::log(m_rows);
        default:
            return rss / df;
        }
    }

private:
    MatrixXd columnsOf(const MatrixXd& factor, const Set& set) const {
        Index count = m_candidates.first;
        for (const std::size_t t : set)
            count += static_cast<Index>(m_candidates.columns[t].size());
        MatrixXd x(factor.rows(), count);
        x.leftCols(m_candidates.first) = factor.leftCols(m_candidates.first);
        Index at = m_candidates.first;
        for (const std::size_t t : set)
            for (const Index j : m_candidates.columns[t])
                x.col(at++) = factor.col(j);
        return x;
    }

    bool byP() const { return m_request.criterion == ChooseCriterion::pValue; }

    static Set with(Set set, std::size_t t) {
        set.insert(std::lower_bound(set.begin(), set.end(), t), t);
        return set;
    }
    static Set without(Set set, std::size_t t) {
        std::erase(set, t);
        return set;
    }

    /// Values of one-term changes; the best one's place, or none.
    template <class Value>
    std::optional<std::pair<std::size_t, double>> best(const std::vector<std::size_t>& tried, bool largest,
                                                       Value&& value) {
        std::vector<double> values(tried.size());
        parallelFor(tried.size(), m_threads, [&](std::size_t i) {
            if (m_progress.stopRequested()) throw Stopped{};
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

    bool add(Set& set, double& now) {
        std::vector<std::size_t> tried;
        for (std::size_t t = 0; t < m_candidates.terms.size(); ++t)
            if (std::find(set.begin(), set.end(), t) == set.end() &&
                (!m_request.hierarchy || m_candidates.keepsHierarchy(with(set, t))) &&
                degreesOfFreedom(with(set, t)) > 0)
                tried.push_back(t);
        const auto found = best(tried, false, [&](std::size_t t) {
            return byP() ? pOf(set, with(set, t)) : criterion(with(set, t));
        });
        if (!found || !(found->second < (byP() ? m_request.enter : now))) return false;
        set = with(set, found->first);
        now = found->second;
        tell(found->first, true, now, set.size());
        return true;
    }

    bool remove(Set& set, double& now) {
        std::vector<std::size_t> tried;
        for (const std::size_t t : set)
            if (!m_request.hierarchy || m_candidates.keepsHierarchy(without(set, t))) tried.push_back(t);
        const auto found = best(tried, byP(), [&](std::size_t t) {
            return byP() ? pOf(without(set, t), set) : criterion(without(set, t));
        });
        if (!found || !(byP() ? found->second > m_request.leave : found->second < now)) return false;
        set = without(set, found->first);
        now = found->second;
        tell(found->first, false, now, set.size());
        return true;
    }

    Set subsets() {
        const std::function<bool(const Set&)> valid = [&](const Set& set) {
            return (!m_request.hierarchy || m_candidates.keepsHierarchy(set)) &&
                   (m_request.mostSteps <= 0 || set.size() <= static_cast<std::size_t>(m_request.mostSteps));
        };
        const auto found = bestSubsets(m_whole, m_candidates.first, m_candidates.columns, valid, m_progress);
        m_start = criterion({});
        Set chosen;
        m_end = worst;
        for (const Subset& subset : found) {
            if (!subset.found || !(degreesOfFreedom(subset.groups) > 0)) continue;
            const double value = criterion(subset.groups);
            if (value < m_end) {
                m_end = value;
                chosen = subset.groups;
            }
        }
        // Told in the order of their worth: each time the term whose leaving costs least goes last.
        Set left = chosen;
        std::vector<std::size_t> order;
        while (!left.empty()) {
            std::size_t least = left[0];
            double cost = worst;
            for (const std::size_t t : left) {
                if (m_request.hierarchy && !m_candidates.keepsHierarchy(without(left, t))) continue;
                if (const double rss = residual(without(left, t)); rss < cost) {
                    cost = rss;
                    least = t;
                }
            }
            order.push_back(least);
            left = without(left, least);
        }
        std::reverse(order.begin(), order.end());
        Set so;
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
    std::vector<const MatrixXd*> m_folds;
    double m_rows;
    const ChooseRequest& m_request;
    Threads m_threads;
    Progress& m_progress;
    MatrixXd m_whole;
    std::vector<MatrixXd> m_without;
    std::vector<ChooseStep>* m_steps = nullptr;
    const std::function<void(const ChooseStep&)>* m_soFar = nullptr;
    double m_start = 0, m_end = 0;
};

constexpr std::array<std::pair<ChooseBy, std::string_view>, 4> byNames{
    {{ChooseBy::forward, "forward"},
     {ChooseBy::backward, "backward"},
     {ChooseBy::bothWays, "both ways"},
     {ChooseBy::bestSubsets, "best subsets"}}};
constexpr std::array<std::pair<ChooseCriterion, std::string_view>, 5> criterionNames{
    {{ChooseCriterion::crossValidated, "cross-validated error"},
     {ChooseCriterion::adjustedRSquared, "adjusted R²"},
     {ChooseCriterion::aicc, "AICc"},
     {ChooseCriterion::bic, "BIC"},
     {ChooseCriterion::pValue, "p"}}};

std::vector<Term> candidatesOf(const Recipe& recipe, const PreparedRows& prepared,
                               const ChooseRequest& request) {
    if (!request.from.empty()) return request.from;
    std::vector<Term> terms = recipe.terms;
    const auto used = inputNames(recipe.terms);
    for (const Column& column : prepared.table.columns())
        if (column.name() != recipe.response && column.kind() != ColumnKind::text &&
            isOffered(recipe, column.name()) &&
            std::find(used.begin(), used.end(), column.name()) == used.end())
            terms.push_back(plainTerm(column.name()));
    return terms;
}

void requireSensible(const ChooseRequest& request, const std::vector<Term>& terms) {
    const auto refuse = [](const std::string& what, const std::string& remedy) {
        throw Error(ErrorCode::badTerm, what, {}, remedy);
    };
    if (terms.empty())
        refuse("there is no term to choose from", "Bring a column, or give one the role of a predictor.");
    if (request.folds < 2 || request.folds > 20)
        refuse("the rows cannot be dealt into " + std::to_string(request.folds) + " folds",
               "Use from 2 to 20.");
    if (request.by == ChooseBy::bestSubsets && terms.size() > mostForSubsets)
        refuse("best subsets of " + std::to_string(terms.size()) + " terms cannot be searched",
               "Choose from at most 30, or go forward or both ways.");
    if (request.criterion == ChooseCriterion::pValue) {
        if (request.by == ChooseBy::bestSubsets)
            refuse("best subsets cannot be compared by p", "Use an error or an information criterion.");
        if (!(request.enter > 0 && request.leave < 1 && request.enter <= request.leave))
            refuse("a term would come in below p " + shortText(request.enter) + " and go out above p " +
                       shortText(request.leave) + ", which could go round for ever",
                   "The first must be above 0 and at most the second, the second below 1.");
    }
}

/// Columns of every offered candidate over rows that have them all.
std::vector<std::uint32_t> commonRows(const Recipe& recipe, const PreparedRows& prepared,
                                      const std::vector<Term>& terms) {
    Recipe all = recipe;
    all.terms = terms;
    std::vector<const Column*> columns;
    for (const std::string& name : columnsInUse(all))
        columns.push_back(&prepared.table.at(name, {}));
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < prepared.table.rows(); ++i)
        if (prepared.teaches(i) &&
            std::none_of(columns.begin(), columns.end(), [&](const Column* c) { return c->isMissing(i); }))
            rows.push_back(static_cast<std::uint32_t>(i));
    return rows;
}

/// Factors with one level, numbers with one value and terms that cannot be made are passed over.
std::vector<Term> usable(const Recipe& recipe, const PreparedRows& prepared, const std::vector<Term>& terms,
                         std::span<const std::uint32_t> rows, std::vector<std::string>& passedOver) {
    std::vector<Term> kept;
    for (const Term& term : terms) {
        try {
            const Design design = Design::learn(prepared.table, rows, {term}, recipe.reference, {});
            const BoundDesign bound(design, prepared.table, {});
            const bool defined =
                design.guards().empty() ||
                std::all_of(rows.begin(), rows.end(), [&](auto row) { return bound.complete(row); });
            // A factor of more levels than a tenth of the rows would be chosen for its size.
            if (defined && design.columns().size() * 10 <= rows.size()) {
                kept.push_back(term);
                continue;
            }
        } catch (const Error& error) {
            if (error.code() != ErrorCode::badTerm) throw;
        }
        passedOver.push_back(termName(term));
    }
    return kept;
}

std::vector<std::size_t> foldOf(const Recipe& recipe, const PreparedRows& prepared,
                                std::span<const std::uint32_t> rows, const ChooseRequest& request) {
    const auto folds = static_cast<std::size_t>(request.folds);
    std::vector<std::uint32_t> unit(rows.size());
    std::uint32_t units = 0;
    const std::string group = columnWith(recipe, Role::group);
    if (const Column* column = group.empty() ? nullptr : prepared.table.find(group);
        column && column->kind() != ColumnKind::text) {
        std::vector<double> values;
        for (const auto row : rows)
            values.push_back(column->isMissing(row)                 ? std::numeric_limits<double>::infinity()
                             : column->kind() == ColumnKind::factor ? column->codes()[row]
                                                                    : column->asNumber(row));
        std::vector<double> distinct = values;
        std::sort(distinct.begin(), distinct.end());
        distinct.erase(std::unique(distinct.begin(), distinct.end()), distinct.end());
        if (distinct.size() >= folds) {
            units = static_cast<std::uint32_t>(distinct.size());
            for (std::size_t i = 0; i < rows.size(); ++i)
                unit[i] = static_cast<std::uint32_t>(
                    std::lower_bound(distinct.begin(), distinct.end(), values[i]) - distinct.begin());
        }
    }
    if (units == 0) {
        std::iota(unit.begin(), unit.end(), 0U);
        units = static_cast<std::uint32_t>(rows.size());
    }
    RandomStream random(request.seed, "folds of the choice of terms");
    const auto order = shuffled(units, random);
    std::vector<std::size_t> foldOfUnit(units);
    for (std::size_t i = 0; i < order.size(); ++i)
        foldOfUnit[order[i]] = i % folds;
    std::vector<std::size_t> fold;
    for (const auto u : unit)
        fold.push_back(foldOfUnit[u]);
    return fold;
}

/// From the criterion's inner scale to what people read.
double told(ChooseCriterion criterion, double value, double unit, double totalVariance, double rows) {
    switch (criterion) {
    case ChooseCriterion::crossValidated:
        return std::sqrt(value) / unit;
    case ChooseCriterion::adjustedRSquared:
        return 1 - value / totalVariance;
    case ChooseCriterion::aicc:
    case ChooseCriterion::bic:
        return value + rows * (std::log(2 * M_PI / (unit * unit)) + 1);
    case ChooseCriterion::pValue:
        break;
    }
    return value;
}

} // namespace

std::string_view chooseByName(ChooseBy by) {
    return byNames[static_cast<std::size_t>(by)].second;
}

std::string_view criterionName(ChooseCriterion criterion) {
    return criterionNames[static_cast<std::size_t>(criterion)].second;
}

std::optional<ChooseBy> chooseByNamed(std::string_view name) {
    for (const auto& [by, known] : byNames)
        if (known == name) return by;
    return std::nullopt;
}

std::optional<ChooseCriterion> criterionNamed(std::string_view name) {
    if (name == "adjusted R2") return ChooseCriterion::adjustedRSquared;
    for (const auto& [criterion, known] : criterionNames)
        if (known == name) return criterion;
    return std::nullopt;
}

Choice chooseTerms(const Recipe& recipe, const PreparedRows& prepared, const ChooseRequest& request,
                   Threads threads, Progress& progress, const std::function<void(const ChooseStep&)>& soFar) {
    Choice choice;
    std::vector<Term> terms = candidatesOf(recipe, prepared, request);
    if (recipe.response.empty())
        throw Error(ErrorCode::badTerm, "there is no response to explain", {}, "Choose one.");
    requireSensible(request, terms);
    // A column that most rows lack would take the rows from all others.
    std::erase_if(terms, [&](const Term& term) {
        const auto columns = columnsOf(term);
        const bool lacking = std::any_of(columns.begin(), columns.end(), [&](const std::string& name) {
            return 2 * prepared.table.at(name, {}).missingCount() > prepared.table.rows();
        });
        if (lacking) choice.passedOver.push_back(termName(term));
        return lacking;
    });
    const auto rows = commonRows(recipe, prepared, terms);
    if (rows.empty())
        throw Error(ErrorCode::tooFewRows, "no learning row has values in all columns to choose from", {},
                    "Give columns that are mostly missing the role \"set aside\", or fill them in a step.");
    terms = usable(recipe, prepared, terms, rows, choice.passedOver);
    requireSensible(request, terms);
    choice.rows = rows.size();
    choice.folds = request.folds;

    // One fit of everything tells which columns can be told apart, and gives shifts and scales.
    Recipe everything = recipe;
    everything.terms = terms;
    everything.estimator = Settings{};
    everything.errors = {};
    everything.forecast.reset();
    ProgressStage first(progress, 0, 0.3);
    const std::shared_ptr<const Study> study =
        learn(everything, prepared.table, prepared.steps, {}, rows, threads, first);
    const LinearModel& model = *study->linear();
    LeastSquaresFit fit = model.fit;
    const WorkingResponse response(everything, prepared.table, {});
    const BoundDesign bound(model.design, prepared.table, {});
    Candidates candidates;
    candidates.first = recipe.intercept ? 1 : 0;
    for (std::size_t t = 0; t < terms.size(); ++t) {
        std::vector<Index> columns;
        for (const std::size_t j : model.fit.kept)
            if (model.design.columns()[j].term == t)
                columns.push_back(candidates.first + static_cast<Index>(j));
        if (columns.empty()) {
            choice.passedOver.push_back(termName(terms[t]));
            continue;
        }
        candidates.terms.push_back(terms[t]);
        candidates.columns.push_back(std::move(columns));
    }

    const auto fold = foldOf(recipe, prepared, rows, request);
    std::vector<MatrixXd> factors;
    std::vector<double> counts;
    for (std::size_t f = 0; f < static_cast<std::size_t>(request.folds); ++f) {
        ProgressStage stage(progress, 0.3 + 0.3 * static_cast<double>(f) / request.folds,
                            0.3 + 0.3 * static_cast<double>(f + 1) / request.folds);
        std::vector<std::uint32_t> own;
        std::vector<double> y, weights;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            if (fold[i] != f) continue;
            own.push_back(rows[i]);
            y.push_back(response.at(rows[i]));
            if (!study->weights.empty()) weights.push_back(study->weights[i]);
        }
        if (own.empty())
            throw Error(ErrorCode::tooFewRows,
                        plural(rows.size(), "row", "rows") + " cannot be dealt into " +
                            std::to_string(request.folds) + " folds",
                        {}, "Use fewer folds, or bring more rows.");
        factors.push_back(reduceRows(fit, DesignRows(bound, own), y, weights, threads, stage));
        counts.push_back(static_cast<double>(own.size()));
    }
    const auto chooserWithout = [&](std::size_t out, Progress& stage) {
        std::vector<const MatrixXd*> parts;
        double n = 0;
        for (std::size_t f = 0; f < factors.size(); ++f)
            if (f != out) {
                parts.push_back(&factors[f]);
                n += counts[f];
            }
        return Chooser(candidates, parts, n, request, threads, stage);
    };

    ProgressStage choosing(progress, 0.6, 0.75);
    Chooser chooser = chooserWithout(factors.size(), choosing);
    const double unit = model.fit.responseScale;
    const double n = static_cast<double>(rows.size());
    const double totalVariance = model.fit.totalSumOfSquares * unit * unit / (n - (recipe.intercept ? 1 : 0));
    const auto tellStep = [&](const ChooseStep& step) {
        if (!soFar) return;
        ChooseStep shown = step;
        shown.criterion = told(request.criterion, step.criterion, unit, totalVariance, n);
        soFar(shown);
    };
    const Set chosen = chooser.choose(&choice.steps, tellStep);
    for (ChooseStep& step : choice.steps)
        step.criterion = told(request.criterion, step.criterion, unit, totalVariance, n);
    choice.startCriterion = told(request.criterion, chooser.start(), unit, totalVariance, n);
    choice.endCriterion = told(request.criterion, chooser.end(), unit, totalVariance, n);
    choice.seenError = std::sqrt(chooser.crossValidated(chosen)) / unit;

    // The same choice without each fold: how stable it is, and what it really predicts.
    std::vector<double> times(candidates.terms.size(), 0);
    double squares = 0;
    for (std::size_t f = 0; f < factors.size(); ++f) {
        const double from = 0.75 + 0.25 * static_cast<double>(f) / request.folds;
        ProgressStage stage(progress, from, from + 0.25 / request.folds);
        Chooser again = chooserWithout(f, stage);
        const Set set = again.choose(nullptr, {});
        for (const std::size_t t : set)
            times[t] += 1.0 / request.folds;
        squares += again.squaredError(factors[f], set, again.solve(again.whole(), set));
    }
    choice.honestError = std::sqrt(squares / n) / unit;
    for (std::size_t t = 0; t < candidates.terms.size(); ++t) {
        const bool in = std::find(chosen.begin(), chosen.end(), t) != chosen.end();
        Set other = chosen;
        if (in)
            std::erase(other, t);
        else
            other.insert(std::lower_bound(other.begin(), other.end(), t), t);
        choice.candidates.push_back({candidates.terms[t], in, std::min(1.0, times[t]),
                                     in ? chooser.pOf(other, chosen) : chooser.pOf(chosen, other)});
        if (in) choice.terms.push_back(candidates.terms[t]);
    }
    choice.how =
        std::string(chooseByName(request.by)) + " by " + std::string(criterionName(request.criterion));
    if (request.criterion == ChooseCriterion::pValue)
        choice.how += " in below " + shortText(request.enter) + ", out above " + shortText(request.leave);
    if (request.mostSteps > 0)
        choice.how += ", at most " + plural(static_cast<std::size_t>(request.mostSteps),
                                            request.by == ChooseBy::bestSubsets ? "term" : "step",
                                            request.by == ChooseBy::bestSubsets ? "terms" : "steps");
    return choice;
}

Recipe withChoice(const Recipe& recipe, const Choice& choice) {
    Recipe next = recipe;
    next.terms = choice.terms;
    ChosenTerms record;
    record.how = choice.how;
    record.tried = choice.candidates.size();
    for (const ChosenTerm& candidate : choice.candidates) {
        if (candidate.chosen) record.shares.emplace_back(termName(candidate.term), candidate.share);
        if (!candidate.chosen && candidate.p < 0.05)
            record.passedOver.emplace_back(termName(candidate.term), candidate.p);
    }
    next.chosen = std::move(record);
    return next;
}

std::vector<Recipe> pathOf(const Recipe& recipe, const Choice& choice) {
    std::vector<Recipe> path;
    Recipe next = recipe;
    next.chosen.reset();
    next.terms.clear();
    if (!choice.steps.empty() && !choice.steps[0].in) // downwards it starts with everything
        for (const ChosenTerm& candidate : choice.candidates)
            next.terms.push_back(candidate.term);
    for (const ChooseStep& step : choice.steps) {
        if (step.in)
            next.terms.push_back(step.term);
        else
            std::erase(next.terms, step.term);
        path.push_back(next);
    }
    const Recipe last = withChoice(recipe, choice);
    if (path.empty())
        path.push_back(last);
    else {
        path.back().chosen = last.chosen;
        path.back().terms = last.terms;
    }
    return path;
}

std::string choiceJson(const Choice& choice) {
    nlohmann::ordered_json out;
    out["how"] = choice.how;
    out["rows"] = choice.rows;
    out["folds"] = choice.folds;
    out["start"] = choice.startCriterion;
    out["end"] = choice.endCriterion;
    out["steps"] = nlohmann::ordered_json::array();
    for (const ChooseStep& step : choice.steps)
        out["steps"].push_back({{"term", termName(step.term)},
                                {"in", step.in},
                                {"criterion", step.criterion},
                                {"terms", step.terms}});
    out["candidates"] = nlohmann::ordered_json::array();
    for (const ChosenTerm& candidate : choice.candidates)
        out["candidates"].push_back({{"term", termName(candidate.term)},
                                     {"chosen", candidate.chosen},
                                     {"share_of_folds", candidate.share},
                                     {"p", candidate.p}});
    out["passed_over"] = choice.passedOver;
    out["seen_error"] = choice.seenError;
    out["honest_error"] = choice.honestError;
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
