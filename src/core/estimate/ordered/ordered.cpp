#include "estimate/ordered/ordered.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_kinds.h"
#include "estimate/linear/orthonormal_rows.h"
#include "estimate/model_text.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numbers>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;
using Form = OrderedModel::Form;

constexpr std::size_t mostLevels = 50;
constexpr int mostNewtonSteps = 60, mostNewtonHalvings = 40;
constexpr double unbounded = std::numeric_limits<double>::infinity();

Form formOf(const std::string& name) {
    return name == "probit" ? Form::probit : name == "logit" ? Form::logit : Form::complementaryLogLog;
}
std::string formName(Form form) {
    return form == Form::probit ? "probit" : form == Form::logit ? "logit" : "complementary log-log";
}

/// F, 1 − F, the density and its slope.
struct At {
    double below, above, density, slope;
};
At cumulative(Form form, double t) {
    if (t == unbounded) return {1, 0, 0, 0};
    if (t == -unbounded) return {0, 1, 0, 0};
    switch (form) {
    case Form::logit: {
        const double e = std::exp(-std::fabs(t));
        const double small = e / (1 + e), large = 1 / (1 + e);
        const double below = t >= 0 ? large : small, above = t >= 0 ? small : large;
        return {below, above, below * above, below * above * (above - below)};
    }
    case Form::probit: {
        const double density = std::exp(-t * t / 2) / std::sqrt(2 * std::numbers::pi);
        return {0.5 * std::erfc(-t / std::numbers::sqrt2), 0.5 * std::erfc(t / std::numbers::sqrt2), density,
                -t * density};
    }
    case Form::complementaryLogLog: {
        const double e = std::exp(std::min(t, 700.0));
        const double above = std::exp(-e), density = e * above;
        return {-std::expm1(-e), above, density, density * (1 - e)};
    }
    }
    return {};
}

/// ln(F(a) − F(b)) and its derivatives by a and b.
struct Piece {
    double log, a, b, aa, bb, ab;
};
Piece pieceOf(Form form, double upper, double lower) {
    const At u = cumulative(form, upper), l = cumulative(form, lower);
    const double chance = lower > 0 ? l.above - u.above : u.below - l.below;
    const double p = std::max(chance, 1e-300);
    const double a = u.density / p, b = -l.density / p;
    return {std::log(p), a, b, u.slope / p - a * a, -l.slope / p - b * b, -a * b};
}

class OrderedSolver {
public:
    OrderedSolver(Form form, const OrthonormalRows& rows, const std::vector<std::uint32_t>& rank,
                  std::size_t levels, std::span<const double> weights, Progress& progress)
        : m_form(form), m_rows(rows), m_rank(rank), m_levels(levels), m_weights(weights),
          m_progress(progress), m_n(static_cast<Index>(rank.size())), m_slopes(rows.rank() - 1) {}

    /// Cuts first, then the slopes in the basis (without its first, constant direction).
    VectorXd solve(VectorXd start, bool& converged, int& steps) {
        VectorXd at = std::move(start);
        double value = likelihood(at);
        for (steps = 0; steps < mostNewtonSteps; ++steps) {
            m_progress.checkpoint(1 - std::exp(-steps / 6.0), "Fitting, step " + std::to_string(steps + 1));
            const auto [gradient, information] = derivatives(at);
            const VectorXd move = information.ldlt().solve(gradient);
            const double gain = gradient.dot(move);
            double share = 1;
            bool moved = false;
            for (int h = 0; h < mostNewtonHalvings && !moved; ++h, share /= 2) {
                const VectorXd next = at + share * move;
                const double then = likelihood(next);
                if (!(then >= value - 1e-13 * std::fabs(value))) continue;
                at = next;
                value = then;
                moved = true;
            }
            if (!moved || gain <= 1e-16 * (1 + std::fabs(value))) {
                converged = gain < 1e-8 * (1 + std::fabs(value));
                break;
            }
        }
        m_value = value;
        return at;
    }

    double value() const { return m_value; }

    double likelihood(const VectorXd& at) {
        const VectorXd said = saidBy(at);
        for (Index k = 1; k < cuts(); ++k)
            if (!(at[k] > at[k - 1])) return -unbounded;
        std::vector<double> parts(static_cast<std::size_t>((m_n + 4095) / 4096), 0);
        m_rows.blocks([&](Index begin, Index count, std::size_t b) {
            long double sum = 0;
            for (Index i = begin; i < begin + count; ++i)
                if (const double w = weight(i); w > 0) sum += w * pieceAt(at, said, i).log;
            parts[b] = static_cast<double>(sum);
        });
        double sum = 0;
        for (const double part : parts)
            sum += part;
        return sum;
    }

    /// Gradient, and the negative of the matrix of second derivatives.
    std::pair<VectorXd, MatrixXd> derivatives(const VectorXd& at) {
        const VectorXd said = saidBy(at);
        const Index k = cuts(), all = k + m_slopes;
        VectorXd slope(m_n), curve(m_n);
        struct Part {
            VectorXd gradient;
            MatrixXd cuts, crossed;
        };
        std::vector<Part> parts(static_cast<std::size_t>((m_n + 4095) / 4096));
        m_rows.blocks([&](Index begin, Index count, std::size_t b) {
            Part& part = parts[b];
            part.gradient = VectorXd::Zero(k);
            part.cuts = MatrixXd::Zero(k, k);
            part.crossed = MatrixXd::Zero(k, m_slopes);
            for (Index i = begin; i < begin + count; ++i) {
                const double w = weight(i);
                slope[i] = curve[i] = 0;
                if (!(w > 0)) continue;
                const Piece p = pieceAt(at, said, i);
                const auto upper = static_cast<Index>(m_rank[static_cast<std::size_t>(i)]), lower = upper - 1;
                slope[i] = -w * (p.a + p.b);
                curve[i] = -w * (p.aa + 2 * p.ab + p.bb);
                const auto row = m_rows.matrix().row(i).tail(m_slopes);
                if (upper < k) {
                    part.gradient[upper] += w * p.a;
                    part.cuts(upper, upper) -= w * p.aa;
                    part.crossed.row(upper) += w * (p.aa + p.ab) * row;
                }
                if (lower >= 0) {
                    part.gradient[lower] += w * p.b;
                    part.cuts(lower, lower) -= w * p.bb;
                    part.crossed.row(lower) += w * (p.bb + p.ab) * row;
                }
                if (upper < k && lower >= 0) {
                    part.cuts(upper, lower) -= w * p.ab;
                    part.cuts(lower, upper) -= w * p.ab;
                }
            }
        });
        VectorXd gradient = VectorXd::Zero(all);
        MatrixXd information = MatrixXd::Zero(all, all);
        for (const Part& part : parts) {
            gradient.head(k) += part.gradient;
            information.topLeftCorner(k, k) += part.cuts;
            information.topRightCorner(k, m_slopes) += part.crossed;
        }
        information.bottomLeftCorner(m_slopes, k) = information.topRightCorner(k, m_slopes).transpose();
        if (m_slopes > 0) {
            gradient.tail(m_slopes) = m_rows.crossProduct(slope).tail(m_slopes);
            information.bottomRightCorner(m_slopes, m_slopes) =
                m_rows.product(curve.cwiseMax(0.0)).bottomRightCorner(m_slopes, m_slopes);
        }
        return {gradient, information};
    }

    VectorXd saidBy(const VectorXd& at) const {
        VectorXd whole = VectorXd::Zero(m_rows.rank()), said(m_n);
        whole.tail(m_slopes) = at.tail(m_slopes);
        m_rows.apply(whole, said);
        return said;
    }

private:
    Index cuts() const { return static_cast<Index>(m_levels) - 1; }
    double weight(Index i) const { return m_weights.empty() ? 1 : m_weights[static_cast<std::size_t>(i)]; }
    Piece pieceAt(const VectorXd& at, const VectorXd& said, Index i) const {
        const auto rank = static_cast<Index>(m_rank[static_cast<std::size_t>(i)]);
        const double upper = rank < cuts() ? at[rank] - said[i] : unbounded;
        const double lower = rank > 0 ? at[rank - 1] - said[i] : -unbounded;
        return pieceOf(m_form, upper, lower);
    }

    Form m_form;
    const OrthonormalRows& m_rows;
    const std::vector<std::uint32_t>& m_rank;
    std::size_t m_levels;
    std::span<const double> m_weights;
    Progress& m_progress;
    Index m_n, m_slopes;
    double m_value = 0;
};

/// Where each level would be cut without any column.
VectorXd plainCuts(Form form, const std::vector<std::uint32_t>& rank, std::size_t levels,
                   std::span<const double> weights) {
    std::vector<double> counts(levels, 0);
    double whole = 0;
    for (std::size_t i = 0; i < rank.size(); ++i) {
        const double w = weights.empty() ? 1 : weights[i];
        counts[rank[i]] += w;
        whole += w;
    }
    VectorXd cuts(static_cast<Index>(levels) - 1);
    double below = 0;
    for (std::size_t k = 0; k + 1 < levels; ++k) {
        below += counts[k];
        const double p = below / whole;
        cuts[static_cast<Index>(k)] = form == Form::logit    ? std::log(p / (1 - p))
                                      : form == Form::probit ? normalQuantile(p)
                                                             : std::log(-std::log1p(-p));
    }
    return cuts;
}

/// Brant's test: a logit of its own at each cut, and whether their slopes differ.
void testParallel(OrderedModel& model, const OrthonormalRows& rows, const std::vector<std::uint32_t>& rank,
                  std::span<const double> weights, Progress& progress) {
    const std::size_t levels = model.values.size();
    const Index p = rows.rank() - 1, cuts = static_cast<Index>(levels) - 1;
    model.brant = model.brantDf = model.brantP = nan;
    if (model.form != Form::logit || cuts < 2 || p < 1) {
        model.brantWhy = model.form != Form::logit ? "the test is of the logit"
                         : p < 1                   ? "there is no column"
                                                   : "there are two levels only";
        return;
    }
    if (!weights.empty() || p * cuts > 400) {
        model.brantWhy = weights.empty() ? "there are too many coefficients" : "rows weigh differently";
        return;
    }
    const Index n = rows.rows(), all = p + 1;
    MatrixXd slopes(p, cuts), chances(n, cuts);
    std::vector<MatrixXd> inverses;
    for (Index k = 0; k < cuts; ++k) {
        std::vector<std::uint32_t> above(rank.size());
        for (std::size_t i = 0; i < rank.size(); ++i)
            above[i] = rank[i] > static_cast<std::uint32_t>(k) ? 1 : 0;
        OrderedSolver solver(Form::logit, rows, above, 2, {}, progress);
        VectorXd start = VectorXd::Zero(all);
        start[0] = plainCuts(Form::logit, above, 2, {})[0];
        bool converged = false;
        int steps = 0;
        const VectorXd at = solver.solve(start, converged, steps);
        const VectorXd said = solver.saidBy(at);
        if (!converged || said.cwiseAbs().maxCoeff() > 30) {
            model.brantWhy = "a level is parted from the others without an exception";
            return;
        }
        slopes.col(k) = at.tail(p);
        VectorXd w(n);
        for (Index i = 0; i < n; ++i) {
            chances(i, k) = cumulative(Form::logit, said[i] - at[0]).below;
            w[i] = chances(i, k) * (1 - chances(i, k));
        }
        inverses.push_back(rows.product(w).ldlt().solve(MatrixXd::Identity(all, all)));
    }
    // Differences from the first cut's slopes.
    const Index q = p * (cuts - 1);
    MatrixXd variance(p * cuts, p * cuts);
    for (Index a = 0; a < cuts; ++a)
        for (Index b = a; b < cuts; ++b) {
            const VectorXd w = chances.col(b).array() - chances.col(a).array() * chances.col(b).array();
            const MatrixXd crossed = inverses[static_cast<std::size_t>(a)] * rows.product(w.cwiseMax(0.0)) *
                                     inverses[static_cast<std::size_t>(b)];
            variance.block(a * p, b * p, p, p) = crossed.bottomRightCorner(p, p);
            variance.block(b * p, a * p, p, p) = crossed.bottomRightCorner(p, p).transpose();
        }
    MatrixXd apart = MatrixXd::Zero(q, p * cuts);
    VectorXd differences(q);
    for (Index k = 1; k < cuts; ++k) {
        apart.block((k - 1) * p, 0, p, p).setIdentity();
        apart.block((k - 1) * p, k * p, p, p) = -MatrixXd::Identity(p, p);
        differences.segment((k - 1) * p, p) = slopes.col(0) - slopes.col(k);
    }
    const MatrixXd v = apart * variance * apart.transpose();
    model.brant = differences.dot(v.ldlt().solve(differences));
    model.brantDf = static_cast<double>(q);
    model.brantP = chiSquaredUpper(model.brant, model.brantDf);
}

[[noreturn]] void refuseParted(const OrderedModel& model, const TrainingData& training) {
    // The column along which what is said runs furthest.
    const LeastSquaresFit& fit = model.slopes.fit;
    std::string name;
    double most = -1;
    for (const auto j : fit.kept) {
        const double size = std::fabs(fit.coefficients[static_cast<Index>(j)]) /
                            std::max(fit.scale[static_cast<Index>(j)], 1e-300);
        if (size > most) most = size, name = model.slopes.design.columns()[j].name;
    }
    throw Error(ErrorCode::badTerm,
                "the columns part levels of the response without an exception, most of all " + name +
                    ": coefficients have no finite estimate",
                {.file = training.file, .column = name},
                "Leave the term out, put levels together, or bring rows that are no such exception.");
}

FitResult learnOrdered(const Settings& settings, const TrainingData& training, Progress& progress) {
    if (training.terms.empty() && !training.intercept)
        throw Error(ErrorCode::badTerm, "the model has neither a term nor a constant",
                    {.file = training.file}, "Add a term.");
    auto model = std::make_shared<OrderedModel>();
    model->form = formOf(settings.text("link"));
    std::vector<double> values(training.y.begin(), training.y.end());
    if (!training.weights.empty())
        for (std::size_t i = values.size(); i-- > 0;)
            if (training.weights[i] == 0) values.erase(values.begin() + static_cast<std::ptrdiff_t>(i));
    std::sort(values.begin(), values.end());
    values.erase(std::unique(values.begin(), values.end()), values.end());
    if (values.size() < 2)
        throw Error(ErrorCode::noSpread, "the response has one level only", {.file = training.file},
                    "There is no order to be modelled; choose another response.");
    if (values.size() > mostLevels)
        throw Error(ErrorCode::badTerm,
                    "the response has " + countText(values.size()) +
                        " different values, which are more than " + countText(mostLevels) + " ranks",
                    {.file = training.file},
                    "Choose a kind of model for numbers, or put values together by a step.");
    model->values = values;
    const auto& order = std::get<std::vector<std::string>>(settings.get(std::string_view("order")));
    for (const double value : values) {
        const auto at = static_cast<std::size_t>(value - 1);
        model->names.push_back(order.empty() || value < 1 || at >= order.size() ? exactText(value)
                                                                                : order[at]);
    }
    std::vector<std::uint32_t> rank(training.y.size());
    for (std::size_t i = 0; i < rank.size(); ++i) {
        const auto at = std::lower_bound(values.begin(), values.end(), training.y[i]);
        rank[i] = static_cast<std::uint32_t>(
            std::min<std::ptrdiff_t>(at - values.begin(), static_cast<std::ptrdiff_t>(values.size()) - 1));
    }
    TrainingData start = training;
    start.intercept = true; // whose place the cuts take
    ProgressStage beginning(progress, 0, 0.3);
    LinearFit made = fitLinearTogether(start, "a model of ranks", beginning);
    ProgressStage fitting(progress, 0.3, 1);
    LinearModel& slopes = model->slopes;
    slopes.kindName = "ordered";
    slopes.quantileFit = nan;
    slopes.design = std::move(made.design);
    LeastSquaresFit& fit = made.fit;
    const DesignRows x(BoundDesign(slopes.design, training.inputs), training.rows);
    const OrthonormalRows rows(fit, x, training.threads, fitting);
    OrderedSolver solver(model->form, rows, rank, values.size(), training.weights, fitting);
    const Index cuts = static_cast<Index>(values.size()) - 1, p = fit.rank() - 1;
    VectorXd at = VectorXd::Zero(cuts + p);
    at.head(cuts) = plainCuts(model->form, rank, values.size(), training.weights);
    model->nullLogLikelihood = solver.likelihood(at);
    bool converged = false;
    int steps = 0;
    at = solver.solve(at, converged, steps);
    model->logLikelihood = solver.value();
    const VectorXd said = solver.saidBy(at);
    const MatrixXd information = solver.derivatives(at).second;
    const MatrixXd covariance = information.ldlt().solve(MatrixXd::Identity(cuts + p, cuts + p));
    // Slopes in the basis: a first, constant direction of 0.
    VectorXd whole = VectorXd::Zero(p + 1);
    whole.tail(p) = at.tail(p);
    MatrixXd root = MatrixXd::Zero(p + 1, p); // a row of the root a column
    if (p > 0) {
        const MatrixXd own = covariance.bottomRightCorner(p, p);
        root.bottomRows(p) = own.llt().matrixL();
    }
    const VectorXd leverages = fit.leverages;
    const double averageLeverage = static_cast<double>(fit.rank()) / static_cast<double>(fit.rows);
    fit.replaceCoefficients(fit.factor.byInverse(whole), root, unbounded);
    // x'b has no constant: what the basis says beside it moves the cuts.
    const double moved = fit.constant;
    VectorXd movedBy(p);
    for (Index j = 0; j < p; ++j) {
        LeastSquaresFit unit = fit;
        VectorXd one = VectorXd::Zero(p + 1);
        one[j + 1] = 1;
        unit.replaceCoefficients(unit.factor.byInverse(one), root, unbounded);
        movedBy[j] = unit.constant;
    }
    for (Index k = 0; k < cuts; ++k) {
        model->cuts.push_back(at[k] - moved);
        double variance = covariance(k, k);
        if (p > 0)
            variance += movedBy.dot(covariance.bottomRightCorner(p, p) * movedBy) -
                        2 * covariance.row(k).tail(p).dot(movedBy);
        model->cutErrors.push_back(std::sqrt(std::max(0.0, variance)));
    }
    slopes.averageLeverage = averageLeverage;
    slopes.largestLeverage = leverages.maxCoeff();
    if (!converged || said.maxCoeff() - said.minCoeff() > 60) {
        slopes.fit = fit;
        refuseParted(*model, training);
    }
    testParallel(*model, rows, rank, training.weights, fitting);
    FitResult result{.outcome = {.converged = converged}};
    const auto n = static_cast<Index>(training.y.size());
    result.rows.fitted.resize(n);
    result.rows.residuals.resize(n);
    double right = 0, score = 0, absolute = 0, weights = 0;
    for (Index i = 0; i < n; ++i) {
        const auto own = rank[static_cast<std::size_t>(i)];
        double before = 0, mean = 0, likeliest = -1;
        std::size_t best = 0;
        const double w = training.weights.empty() ? 1 : training.weights[static_cast<std::size_t>(i)];
        for (std::size_t k = 0; k < values.size(); ++k) {
            const double below = k + 1 < values.size()
                                     ? cumulative(model->form, at[static_cast<Index>(k)] - said[i]).below
                                     : 1;
            const double chance = below - before;
            if (chance > likeliest) likeliest = chance, best = k;
            mean += chance * values[k];
            if (k + 1 < values.size()) score += w * std::pow(below - (own <= k ? 1 : 0), 2);
            before = below;
        }
        right += w * (best == own ? 1 : 0);
        weights += w;
        result.rows.fitted[i] = mean;
        result.rows.residuals[i] = training.y[static_cast<std::size_t>(i)] - mean;
        absolute += w * std::fabs(result.rows.residuals[i]);
    }
    model->shareRight = right / weights;
    model->rankedProbabilityScore = score / weights;
    model->meanAbsoluteError = absolute / weights;
    for (VectorXd* ofRows : {&fit.fitted, &fit.residuals, &fit.leverages})
        ofRows->resize(0);
    fit.orthonormal.reset();
    slopes.fit = std::move(fit);
    slopes.iterated = Iterated{.iterations = steps, .converged = converged};
    result.link = Link{.kind = Link::Kind::chances, .values = values};
    result.model = std::move(model);
    return result;
}

ModelPart describeOrdered(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const OrderedModel&>(learned);
    const LeastSquaresFit& fit = model.slopes.fit;
    const auto number = [](double value) { return std::isfinite(value) ? json(value) : json(nullptr); };
    ModelPart part{.key = "ordered"};
    json ordered{{"link", formName(model.form)},
                 {"levels", model.names},
                 {"cut_points", json::array()},
                 {"null_log_likelihood", number(model.nullLogLikelihood)},
                 {"share_right", number(model.shareRight)},
                 {"ranked_probability_score", number(model.rankedProbabilityScore)},
                 {"mean_absolute_error", number(model.meanAbsoluteError)},
                 {"parallel_slopes",
                  {{"chi_squared", number(model.brant)},
                   {"degrees_of_freedom", number(model.brantDf)},
                   {"p", number(model.brantP)},
                   {"source", "Brant 1990"}}}};
    if (!model.brantWhy.empty()) ordered["parallel_slopes"]["why"] = model.brantWhy;
    part.header = {"below", "above", "estimate", "standard_error"};
    part.file = "cut_points.csv";
    std::string text = "P(y <= level) = " + formName(model.form) + "⁻¹(cut − x'b)\n";
    for (std::size_t k = 0; k < model.cuts.size(); ++k) {
        ordered["cut_points"].push_back({{"below", model.names[k]},
                                         {"above", model.names[k + 1]},
                                         {"estimate", number(model.cuts[k])},
                                         {"standard_error", number(model.cutErrors[k])}});
        part.table.push_back(
            {model.names[k], model.names[k + 1], exactText(model.cuts[k]), exactText(model.cutErrors[k])});
        text += "cut between " + model.names[k] + " and " + model.names[k + 1] + ": " +
                readableText(model.cuts[k], 5) + " ± " + readableText(model.cutErrors[k], 3) + "\n";
    }
    json whole{{"coefficients", json::array()}, {"log_likelihood", number(model.logLikelihood)}};
    const auto& columns = model.slopes.design.columns();
    for (std::size_t j = 0; j < columns.size(); ++j) {
        const auto at = static_cast<Index>(j);
        const double b = fit.coefficients[at], error = fit.standardErrors[at];
        if (std::isnan(b)) continue;
        const double z = b / error, reach = studentQuantile(0.95, unbounded) * error;
        whole["coefficients"].push_back({{"name", columns[j].name},
                                         {"term", columns[j].term},
                                         {"estimate", number(b)},
                                         {"standard_error", number(error)},
                                         {"z", number(z)},
                                         {"p", number(normalTwoSided(z))},
                                         {"lower", number(b - reach)},
                                         {"upper", number(b + reach)}});
        text += columns[j].name + ": " + readableText(b, 5) + " ± " + readableText(error, 3) + ", p " +
                readableText(normalTwoSided(z), 2) + "\n";
    }
    if (std::isfinite(model.brant))
        text += "Slopes alike at all cuts (Brant 1990): χ² " + readableText(model.brant, 4) + " on " +
                readableText(model.brantDf, 4) + " degrees of freedom, p " + readableText(model.brantP, 2) +
                "\n";
    text += percentText(model.shareRight) + " of the rows learned from have the level that is likeliest\n";
    part.json = ordered.dump(-1, ' ', false, json::error_handler_t::replace);
    part.fit = whole.dump(-1, ' ', false, json::error_handler_t::replace);
    part.text = text;
    return part;
}

std::shared_ptr<const LearnedModel> readOrdered(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        auto model = std::make_shared<OrderedModel>();
        model->form = formOf(j.at("link").get<std::string>());
        if (formName(model->form) != j.at("link").get<std::string>()) damaged("a link that is not known");
        const auto slopes = readLinearModel(j.at("slopes").dump());
        model->slopes = *slopes->linear();
        model->cuts = numbersFrom(j.at("cuts"));
        model->cutErrors = numbersFrom(j.at("cut_errors"));
        model->values = numbersFrom(j.at("values"));
        model->names = j.at("names").get<std::vector<std::string>>();
        if (model->values.size() < 2 || model->values.size() > mostLevels ||
            model->cuts.size() + 1 != model->values.size() || model->cutErrors.size() != model->cuts.size() ||
            model->names.size() != model->values.size() ||
            !std::is_sorted(model->cuts.begin(), model->cuts.end()))
            damaged("other cuts than levels");
        model->logLikelihood = numberFrom(j.at("log_likelihood"));
        model->nullLogLikelihood = numberFrom(j.at("null_log_likelihood"));
        model->shareRight = numberFrom(j.at("share_right"));
        model->rankedProbabilityScore = numberFrom(j.at("ranked_probability_score"));
        model->meanAbsoluteError = numberFrom(j.at("mean_absolute_error"));
        model->brant = numberFrom(j.at("brant"));
        model->brantDf = numberFrom(j.at("brant_df"));
        model->brantP = numberFrom(j.at("brant_p"));
        model->brantWhy = j.at("brant_why").get<std::string>();
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

} // namespace

const std::string& OrderedModel::kind() const {
    static const std::string name = "ordered";
    return name;
}

MatrixXd OrderedModel::predict(const MatrixXd& inputs) const {
    VectorXd said = slopes.predict(inputs);
    said.array() -= slopes.fit.constant;
    MatrixXd chances(inputs.rows(), outputs());
    for (Index i = 0; i < inputs.rows(); ++i) {
        double before = 0;
        for (Index k = 0; k < outputs(); ++k) {
            const double below =
                k + 1 < outputs() ? cumulative(form, cuts[static_cast<std::size_t>(k)] - said[i]).below : 1;
            chances(i, k) = std::isnan(said[i]) ? nan : below - before;
            before = below;
        }
    }
    return chances;
}

MatrixXd OrderedModel::quantiles(const MatrixXd& inputs, std::span<const double> shares) const {
    const auto count = static_cast<Index>(shares.size());
    if (inputs.rows() == 0) return MatrixXd(0, count);
    const MatrixXd chances = predict(inputs);
    MatrixXd out(inputs.rows(), count);
    for (Index i = 0; i < inputs.rows(); ++i)
        for (Index s = 0; s < count; ++s) {
            double below = 0;
            Index k = 0;
            for (; k + 1 < outputs(); ++k) {
                below += chances(i, k);
                if (below >= shares[static_cast<std::size_t>(s)]) break;
            }
            out(i, s) = std::isnan(chances(i, 0)) ? nan : values[static_cast<std::size_t>(k)];
        }
    return out;
}

std::vector<NamedNumber> OrderedModel::says() const {
    return {{"coefficients", static_cast<double>(slopes.fit.kept.size())},
            {"cut points", static_cast<double>(cuts.size())},
            {"log likelihood", logLikelihood}};
}

std::string OrderedModel::text() const {
    return json{{"kind", "ordered"},
                {"link", formName(form)},
                {"slopes", json::parse(slopes.text())},
                {"cuts", numbersJson(cuts)},
                {"cut_errors", numbersJson(cutErrors)},
                {"values", numbersJson(values)},
                {"names", names},
                {"log_likelihood", numberJson(logLikelihood)},
                {"null_log_likelihood", numberJson(nullLogLikelihood)},
                {"share_right", numberJson(shareRight)},
                {"ranked_probability_score", numberJson(rankedProbabilityScore)},
                {"mean_absolute_error", numberJson(meanAbsoluteError)},
                {"brant", numberJson(brant)},
                {"brant_df", numberJson(brantDf)},
                {"brant_p", numberJson(brantP)},
                {"brant_why", brantWhy}}
        .dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind orderedKind() {
    ModelKind kind{.can = {.weights = WeightUse::asCopies,
                           .intervals = IntervalSource::distribution,
                           .iterates = true,
                           .terms = Capabilities::Terms::formula,
                           .offset = false,
                           .response = Capabilities::Response::ordered,
                           .logResponse = false,
                           .ownLink = true}};
    kind.name = "ordered";
    kind.title = "Ordered response";
    kind.fields = {choiceField("link", "Cumulative chances by", {"logit", "probit", "complementary log-log"}),
                   {.key = "order",
                    .label = "Levels of the response from low to high (empty: its numbers are ranks)",
                    .type = FieldType::texts,
                    .fallback = FieldValue(std::vector<std::string>())}};
    kind.offers = {{"Ordered levels: proportional odds", {"ordered"}}};
    kind.sentence = [](const Settings& settings) {
        const std::string link = settings.text("link");
        return link == "logit" ? std::string("proportional odds of ranks") : "ranks by the " + link;
    };
    kind.learn = learnOrdered;
    kind.describe = describeOrdered;
    kind.read = readOrdered;
    return kind;
}

} // namespace oxgoad
