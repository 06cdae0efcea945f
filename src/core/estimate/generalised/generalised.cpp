#include "estimate/generalised/generalised.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/linear/linear_kinds.h"
#include "estimate/linear/linear_model.h"
#include "estimate/linear/orthonormal_rows.h"

#include <Eigen/Cholesky>
#include <boost/math/tools/minima.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr int mostSteps = 60, mostHalvings = 40, mostLastSteps = 6;
const std::string byLikelihood = "likelihood";

bool hasLogLink(const Settings& settings) {
    return settings.text("link") == "log";
}

/// What the rows are learned as; references outlive it.
struct MeanProblem {
    const TrainingData& training;
    const RowSource& x;
    PowerFamily family;
    bool log = true;

    std::size_t n() const { return training.rows.size(); }
    double weight(std::size_t i) const { return training.weights.empty() ? 1 : training.weights[i]; }
    double offset(std::size_t i) const { return training.offsets.empty() ? 0 : training.offsets[i]; }
    double mean(double said) const { return log ? std::exp(said) : said; }
    double deviance(const VectorXd& said) const {
        long double sum = 0;
        for (std::size_t i = 0; i < n(); ++i) {
            if (weight(i) == 0) continue;
            const double mu = mean(said[static_cast<Index>(i)]);
            if (!(mu > 0) || !std::isfinite(mu)) return std::numeric_limits<double>::infinity();
            sum += static_cast<long double>(weight(i)) * family.unitDeviance(training.y[i], mu);
        }
        return static_cast<double>(sum);
    }
    /// Weights and responses of the next least squares at what is said now (with the offset), and the
    /// response without it.
    void working(const VectorXd& said, VectorXd& weights, VectorXd& off) const {
        for (std::size_t i = 0; i < n(); ++i) {
            const auto at = static_cast<Index>(i);
            const double mu = mean(said[at]), slope = log ? mu : 1;
            weights[at] = weight(i) * slope * slope / family.variance(mu);
            off[at] = (training.y[i] - mu) / slope;
        }
    }
};

[[noreturn]] void refuseMeans(const MeanProblem& problem) {
    throw Error(ErrorCode::badTerm,
                problem.log ? "the means of some rows run to 0 or beyond all bounds"
                            : "the terms lead to means of 0 or below, which the distribution cannot have",
                {.file = problem.training.file},
                problem.log
                    ? "Look for terms that hold rows whose response is 0 throughout, and leave them out."
                    : "Take the log link, or leave out the terms that lead there.");
}

/// A level whose rows are all 0 has no finite coefficient with a log link.
void refuseLevelsOfZeros(const MeanProblem& problem) {
    if (!problem.log || problem.family.power >= 2) return;
    const TrainingData& training = problem.training;
    const Inputs& inputs = training.inputs.inputs();
    for (std::size_t j = 0; j < inputs.size(); ++j) {
        const bool alone = std::any_of(training.terms.begin(), training.terms.end(), [&](const Term& term) {
            return term.parts.size() == 1 && term.parts[0].column == inputs[j].name;
        });
        if (!inputs[j].factor || !alone) continue;
        std::vector<std::uint8_t> there(inputs[j].levels.size(), 0), above(there.size(), 0);
        for (std::size_t i = 0; i < training.rows.size(); ++i) {
            const double level = training.inputs.value(j, training.rows[i]);
            if (!std::isfinite(level) || problem.weight(i) == 0) continue;
            there[static_cast<std::size_t>(level)] = 1;
            if (training.y[i] > 0) above[static_cast<std::size_t>(level)] = 1;
        }
        for (std::size_t k = 0; k < there.size(); ++k)
            if (there[k] && !above[k])
                throw Error(ErrorCode::badTerm,
                            "all rows with " + inputs[j].name + " = " + inputs[j].levels[k] +
                                " are 0, so that its coefficient has no finite estimate",
                            {.file = training.file, .column = inputs[j].name},
                            "Put the level together with another by a step, or leave its rows out.");
    }
}

void requireProblem(const MeanProblem& problem) {
    const TrainingData& training = problem.training;
    double most = 0;
    for (std::size_t i = 0; i < training.y.size(); ++i) {
        if (problem.weight(i) > 0) most = std::max(most, training.y[i]);
        if (!std::isfinite(problem.offset(i)))
            throw Error(
                ErrorCode::badTerm,
                "the offset in row " + countText(training.rows[i] + 1) + " is " +
                    shortText(problem.offset(i)),
                {.file = training.file},
                "It is the logarithm of what is exposed, which must be above 0: correct it or leave the "
                "row out.");
    }
    if (!(most > 0))
        throw Error(ErrorCode::noSpread, "all values of the response are 0", {.file = training.file},
                    "There is no mean to be modelled; choose another response.");
    refuseLevelsOfZeros(problem);
}

/// Of a constant alone with the offset.
double nullDeviance(const MeanProblem& problem) {
    const TrainingData& training = problem.training;
    if (!training.intercept) return nan;
    double constant = 0;
    {
        double sum = 0, weights = 0;
        for (std::size_t i = 0; i < problem.n(); ++i) {
            const double exposed = problem.log ? std::exp(problem.offset(i)) : 1;
            sum += problem.weight(i) * (problem.log ? training.y[i] : training.y[i] - problem.offset(i));
            weights += problem.weight(i) * exposed;
        }
        constant = problem.log ? std::log(sum / weights) : sum / weights;
    }
    VectorXd said(static_cast<Index>(problem.n())), weights = said, off = said;
    const auto put = [&](double b) {
        for (std::size_t i = 0; i < problem.n(); ++i)
            said[static_cast<Index>(i)] = b + problem.offset(i);
    };
    put(constant);
    double best = problem.deviance(said);
    if (training.offsets.empty()) return best;
    for (int step = 0; step < mostSteps; ++step) {
        problem.working(said, weights, off);
        const double move = weights.dot(off) / weights.sum();
        put(constant + move);
        const double now = problem.deviance(said);
        if (!(now < best)) return best;
        constant += move;
        best = now;
    }
    return best;
}

/// What was found of the rows.
struct MeanFit {
    LeastSquaresFit fit;
    VectorXd said, workingWeights;
    double deviance = 0;
    int steps = 0;
    bool converged = false;
    std::vector<double> history;
};

class MeanSolver {
public:
    /// Until what is said moves by no more than `enough`.
    MeanSolver(const MeanProblem& problem, double enough, Progress& progress)
        : m_p(problem), m_progress(progress), m_enough(enough) {}

    /// From least squares of the linked response, or from what another power led to.
    MeanFit solve(const LeastSquaresFit& start, const OrthonormalRows& rows, const VectorXd* from) {
        const auto n = static_cast<Index>(m_p.n());
        MeanFit out;
        m_offset.resize(n);
        for (Index i = 0; i < n; ++i)
            m_offset[i] = m_p.offset(static_cast<std::size_t>(i));
        const VectorXd base = m_offset.array() + start.responseShift;
        VectorXd solution = from ? *from : VectorXd(start.projections / start.responseScale);
        VectorXd linear(n);
        rows.apply(solution, linear);
        out.said = linear + base;
        out.deviance = m_p.deviance(out.said);
        if (!std::isfinite(out.deviance)) refuseMeans(m_p);
        VectorXd weights(n), off(n);
        for (; out.steps < mostSteps && !out.converged; ++out.steps) {
            m_progress.checkpoint(1 - std::exp(-out.steps / 6.0),
                                  "Fitting the mean, step " + std::to_string(out.steps + 1));
            m_p.working(out.said, weights, off);
            const VectorXd move =
                moveFrom(rows, out.said, weights, rows.crossProduct(weights.cwiseProduct(off)));
            out.converged = step(rows, base, solution, move, out);
            out.history.push_back(out.deviance);
        }
        m_solution = solution;
        return out;
    }

    /// Where the last solution stands, to begin another power with.
    const VectorXd& solution() const { return m_solution; }

    /// Least squares of the working response: the coefficients' last digits and their covariance.
    void finish(MeanFit& out) {
        const auto n = static_cast<Index>(m_p.n());
        VectorXd off(n);
        out.workingWeights.resize(n);
        double movedBefore = std::numeric_limits<double>::infinity();
        for (int k = 0; k < mostLastSteps; ++k) {
            m_progress.checkpoint(0.5, "Least squares of the last step");
            m_p.working(out.said, out.workingWeights, off);
            if (!(out.workingWeights.maxCoeff() < std::numeric_limits<double>::infinity())) refuseMeans(m_p);
            const VectorXd response = out.said - m_offset + off;
            StopOnly quiet(m_progress);
            out.fit =
                fitLeastSquares(m_p.x, std::span<const double>(response.data(), m_p.n()),
                                {.intercept = m_p.training.intercept,
                                 .threads = m_p.training.threads,
                                 .weights = std::span<const double>(out.workingWeights.data(), m_p.n())},
                                quiet);
            const VectorXd said = out.fit.fitted + m_offset;
            const double moved = (said - out.said).cwiseAbs().maxCoeff();
            const double deviance = m_p.deviance(said);
            if (!std::isfinite(deviance)) refuseMeans(m_p);
            out.said = said;
            out.deviance = deviance;
            const double size = m_p.log ? 1 : std::max(1e-300, said.cwiseAbs().maxCoeff());
            if (moved <= 1e-11 * size || (moved <= 1e-8 * size && moved >= movedBefore)) {
                out.converged = true;
                break;
            }
            out.converged = false;
            movedBefore = moved;
        }
    }

private:
    /// Newton's move where the deviance is curved upwards, otherwise that of the expected curvature.
    VectorXd moveFrom(const OrthonormalRows& rows, const VectorXd& said, const VectorXd& expected,
                      const VectorXd& slope) const {
        const double p = m_p.family.power;
        VectorXd up(said.size()), down(said.size());
        for (std::size_t i = 0; i < m_p.n(); ++i) {
            const auto at = static_cast<Index>(i);
            const double mu = m_p.mean(said[at]), y = m_p.training.y[i];
            const double curve = m_p.weight(i) * (m_p.log ? std::pow(mu, 1 - p) * ((2 - p) * mu + (p - 1) * y)
                                                          : std::pow(mu, -p - 1) * ((1 - p) * mu + p * y));
            up[at] = std::max(curve, 0.0);
            down[at] = std::max(-curve, 0.0);
        }
        if (up.allFinite()) {
            MatrixXd observed = rows.product(up);
            if (down.maxCoeff() > 0) observed -= rows.product(down);
            const Eigen::LLT<MatrixXd> factor(observed);
            if (factor.info() == Eigen::Success) return factor.solve(slope);
        }
        return rows.product(expected).ldlt().solve(slope);
    }

    /// Goes as far along the move as the deviance falls; whether there was nothing more to gain.
    bool step(const OrthonormalRows& rows, const VectorXd& base, VectorXd& solution, const VectorXd& move,
              MeanFit& out) {
        VectorXd linear(out.said.size());
        double share = 1;
        for (int h = 0; h < mostHalvings; ++h, share /= 2) {
            const VectorXd next = solution + share * move;
            rows.apply(next, linear);
            VectorXd said = linear + base;
            const double deviance = m_p.deviance(said);
            if (!std::isfinite(deviance) || deviance > out.deviance * (1 + 1e-13)) continue;
            solution = next;
            // Of a logarithm, or over the size of the means.
            const double moved = (said - out.said).cwiseAbs().maxCoeff();
            const double size = m_p.log ? 1 : said.cwiseAbs().maxCoeff();
            out.said.swap(said);
            out.deviance = deviance;
            return moved <= m_enough * size;
        }
        return true;
    }

    const MeanProblem& m_p;
    Progress& m_progress;
    double m_enough;
    VectorXd m_offset, m_solution;
};

/// Sum of weights·… over rows that weigh: likelihood at a dispersion.
double logLikelihood(const MeanProblem& problem, const VectorXd& said, double dispersion) {
    if (problem.family.power == 1 || !(dispersion > 0)) return nan;
    std::vector<double> parts((problem.n() + 4095) / 4096, 0);
    parallelFor(parts.size(), problem.training.threads, [&](std::size_t b) {
        long double sum = 0;
        for (std::size_t i = b * 4096; i < std::min(problem.n(), (b + 1) * 4096); ++i)
            if (problem.weight(i) > 0)
                sum += problem.family.logDensity(problem.training.y[i],
                                                 problem.mean(said[static_cast<Index>(i)]),
                                                 dispersion / problem.weight(i));
        parts[b] = static_cast<double>(sum);
    });
    double sum = 0;
    for (const double part : parts)
        sum += part;
    return sum;
}

/// Largest of a function with one peak (Brent 1973, "Algorithms for minimization without derivatives", ch.
/// 5).
template <class F> std::pair<double, double> largestOf(double low, double high, int bits, F f) {
    std::uintmax_t most = 60;
    const auto [at, least] =
        boost::math::tools::brent_find_minima([&](double x) { return -f(x); }, low, high, bits, most);
    return {at, -least};
}

/// The largest likelihood over dispersions, looked for in their logarithm near where it was before.
double profileAt(const MeanProblem& problem, const MeanFit& fit, std::optional<double>& before) {
    const double usual =
        before.value_or(std::log(std::max(fit.deviance, 1e-300) / static_cast<double>(problem.n())));
    const double reach = before ? 1 : 2;
    constexpr int bits = 14; // of a flat top: an error of 0.001 is one of 0.0005 a thousand rows
    // About 0, so that the precision is one of the distance from the usual.
    const auto best = largestOf(-reach, reach, bits, [&](double by) {
        return logLikelihood(problem, fit.said, std::exp(usual + by));
    });
    before = usual + best.first;
    return best.second;
}

FitResult learnMean(const std::string& name, std::optional<double> power, const Settings& settings,
                    const TrainingData& training, Progress& progress) {
    const bool log = hasLogLink(settings);
    LinearModel model;
    model.kindName = name;
    model.quantileFit = nan;
    const double first = power.value_or(1.5);
    // The linked response, with zeros moved towards the mean, as a start.
    double mean = 0, whole = 0;
    for (std::size_t i = 0; i < training.y.size(); ++i) {
        const double w = training.weights.empty() ? 1 : training.weights[i];
        mean += w * training.y[i], whole += w;
    }
    mean /= whole;
    std::vector<double> start(training.y.size());
    for (std::size_t i = 0; i < start.size(); ++i) {
        const double y = first >= 2 ? training.y[i] : (training.y[i] + mean) / 2;
        start[i] = (log ? std::log(y) : y) - (training.offsets.empty() ? 0 : training.offsets[i]);
    }
    {
        // What cannot be is said before anything is fitted.
        model.design = learnDesign(training);
        const DesignRows x(BoundDesign(model.design, training.inputs), training.rows);
        requireProblem({training, x, {first}, log});
    }
    TrainingData starting = training;
    starting.y = start;
    ProgressStage beginning(progress, 0, 0.3);
    LinearFit made;
    try {
        made = fitLinearTogether(starting, "a model of the mean", beginning);
    } catch (const Error& error) {
        if (error.code() != ErrorCode::noSpread) throw;
        throw Error(error.code(), "the response is the same in all rows", {.file = training.file},
                    "There is nothing to be modelled.");
    }
    model.design = std::move(made.design);
    const DesignRows x(BoundDesign(model.design, training.inputs), training.rows);
    ProgressStage fitting(progress, 0.3, 0.8);
    const OrthonormalRows rows(made.fit, x, training.threads, fitting);
    MeanProblem problem{training, x, {first}, log};
    std::optional<VectorXd> from;
    bool found = false;
    if (!power) {
        // Dunn and Smyth: the likelihood over the power, each with its own means and dispersion.
        std::optional<double> dispersion;
        constexpr int bits = 12;
        const auto best = largestOf(1.02, 1.98, bits, [&](double p) {
            problem.family.power = p;
            MeanSolver solver(problem, 1e-4, fitting);
            const MeanFit fit = solver.solve(made.fit, rows, from ? &*from : nullptr);
            from = solver.solution();
            return profileAt(problem, fit, dispersion);
        });
        problem.family.power = best.first;
        found = true;
    }
    MeanSolver solver(problem, 1e-12, fitting);
    MeanFit fit = solver.solve(made.fit, rows, from ? &*from : nullptr);
    ProgressStage last(progress, 0.8, 1);
    solver.finish(fit);
    Generalised said{.power = problem.family.power, .log = log, .powerFound = found};
    said.deviance = fit.deviance;
    said.nullDeviance = nullDeviance(problem);
    said.dispersion = fit.fit.residualStandardDeviation * fit.fit.residualStandardDeviation;
    said.logLikelihood = logLikelihood(problem, fit.said, said.dispersion);
    replaceErrors(model, fit.fit, training, std::span<const double>(fit.workingWeights.data(), problem.n()),
                  x, last);
    model.generalised = said;
    fit.fit.exact = fit.fit.fitsExactly = false;
    fit.fit.fitted = fit.said;
    for (std::size_t i = 0; i < problem.n(); ++i) {
        const auto at = static_cast<Index>(i);
        fit.fit.fitted[at] -= problem.offset(i);
        fit.fit.residuals[at] = problem.family.devianceResidual(training.y[i], problem.mean(fit.said[at]));
    }
    Iterated iterated{.iterations = fit.steps, .converged = fit.converged};
    FitResult result = finishedLinear(std::move(model), std::move(fit.fit), std::move(iterated));
    if (found) result.found["power"] = said.power;
    result.outcome.historyOf = "deviance";
    result.outcome.history = std::move(fit.history);
    result.link =
        Link{.kind = log ? Link::Kind::logOfMean : Link::Kind::identity, .family = PowerFamily{said.power}};
    return result;
}

ModelKind meanKind(const std::string& name, const std::string& title, Capabilities::Response response) {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = IntervalSource::theory,
                           .iterates = true,
                           .terms = Capabilities::Terms::formula,
                           .response = response,
                           .logResponse = false,
                           .ownLink = true}};
    kind.name = name;
    kind.title = title;
    kind.choosesErrors = true;
    kind.fields = {choiceField("link", "Terms say", {"log", "identity"})};
    kind.sentence = [name](const Settings& settings) {
        return name + " regression with " + (hasLogLink(settings) ? "a log link" : "the mean as it is");
    };
    kind.read = readLinearModel;
    return kind;
}

ModelKind withPower(ModelKind kind, double power) {
    kind.learn = [name = kind.name, power](const Settings& settings, const TrainingData& training,
                                           Progress& progress) {
        return learnMean(name, power, settings, training, progress);
    };
    return kind;
}

} // namespace

ModelKind gammaKind() {
    ModelKind kind = withPower(meanKind("gamma", "Gamma regression", Capabilities::Response::positive), 2);
    kind.offers = {{"Gamma: spread in proportion to the mean (log link)", {"gamma"}}};
    return kind;
}

ModelKind inverseGaussianKind() {
    ModelKind kind = withPower(
        meanKind("inverse Gaussian", "Inverse Gaussian regression", Capabilities::Response::positive), 3);
    kind.offers = {{"Inverse Gaussian: spread grows faster than the mean (log link)", {"inverse Gaussian"}}};
    return kind;
}

ModelKind countsKind() {
    ModelKind kind =
        withPower(meanKind("counts", "Regression of counts", Capabilities::Response::notNegative), 1);
    kind.offers = {{"Counts: variance in proportion to the mean (log link)", {"counts"}}};
    return kind;
}

ModelKind tweedieKind() {
    ModelKind kind = meanKind("tweedie", "Tweedie regression", Capabilities::Response::notNegative);
    kind.findsItself = true;
    kind.fields.push_back(soughtField("power", "Variance as a power of the mean, between 1 and 2", 1.5,
                                      1.0 + 1e-6, 2.0 - 1e-6, {byLikelihood.c_str()}));
    kind.offers = {{"Tweedie: many zeros, then positive amounts (log link)",
                    {"tweedie", {{"power", std::string(byLikelihood)}}}}};
    kind.learn = [](const Settings& settings, const TrainingData& training, Progress& progress) {
        const auto* power = std::get_if<double>(&settings.get(std::string_view("power")));
        return learnMean("tweedie", power ? std::optional(*power) : std::nullopt, settings, training,
                         progress);
    };
    kind.sentence = [](const Settings& settings) {
        const auto* power = std::get_if<double>(&settings.get(std::string_view("power")));
        return "Tweedie regression with " +
               std::string(hasLogLink(settings) ? "a log link" : "the mean as it is") + " and " +
               (power ? "the power " + shortText(*power) : std::string("its power found by likelihood"));
    };
    return kind;
}

} // namespace oxgoad
