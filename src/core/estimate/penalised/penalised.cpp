#include "estimate/penalised/penalised.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "estimate/penalised/optimality.h"
#include "estimate/row_blocks.h"

#include <algorithm>
#include <charconv>
#include <cmath>
#include <tuple>
#include <utility>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

Field namesField(std::string key, std::string label) {
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::texts,
            .fallback = std::vector<std::string>{}};
}

std::string shareText(double share) {
    return share == 1   ? "the lasso"
           : share == 0 ? "ridge regression"
                        : "the elastic net with l1 share " + shortText(share);
}

std::string penalisedSentence(const Settings& settings) {
    const FieldValue& share = settings.get(std::string_view("l1_share"));
    const FieldValue& penalty = settings.get(std::string_view("penalty"));
    std::string text = std::holds_alternative<double>(share) ? shareText(std::get<double>(share))
                                                             : std::string("the elastic net");
    if (std::get<bool>(settings.get(std::string_view("adaptive")))) text += ", adaptive";
    if (std::get<bool>(settings.get(std::string_view("grouped")))) text += " of whole terms";
    if (const auto* rule = std::get_if<std::string>(&penalty))
        text +=
            ", penalty of the " + (*rule == smallestErrorRule ? std::string("smallest error over folds")
                                                              : "simplest model within one standard error");
    else
        text += ", penalty " + readableText(std::get<double>(penalty), 6);
    return text;
}

/// Columns of the design of each term that is named.
void eachColumnOf(const Design& design, const TrainingData& training, const std::string& name,
                  const std::string& asked, bool single, const std::function<void(Index)>& use) {
    std::size_t term = 0;
    while (term < training.terms.size() && termName(training.terms[term]) != name)
        ++term;
    if (term == training.terms.size())
        throw Error(ErrorCode::badTerm,
                    "\"" + asked + "\" of the estimator names \"" + name +
                        "\", which is no term of the model",
                    {.file = training.file}, "Name terms as the model has them.");
    std::vector<Index> own;
    for (std::size_t j = 0; j < design.columns().size(); ++j)
        if (design.columns()[j].term == term) own.push_back(static_cast<Index>(j));
    if (single && own.size() > 1)
        throw Error(ErrorCode::badTerm,
                    "\"" + name + "\" has " + std::to_string(own.size()) +
                        " columns, and only a term of one column can be told to rise or fall",
                    {.file = training.file}, "Take it out of \"" + asked + "\".");
    for (const Index j : own)
        use(j);
}

const std::vector<std::string>& namesOf(const Settings& settings, std::string_view key) {
    return std::get<std::vector<std::string>>(settings.get(key));
}

/// The fit as others read it: what leverages and distances need is the factor of the penalised products.
LeastSquaresFit fitOf(const PenalisedProblem& problem, const PenaltyOptions& options,
                      const PenalisedPoint& point, const TrainingData& training, double effective) {
    const Index p = problem.columns(), first = problem.intercept ? 1 : 0;
    const auto n = static_cast<double>(problem.rows);
    LeastSquaresFit fit;
    fit.rows = problem.rows;
    fit.columns = p;
    fit.intercept = problem.intercept;
    const KeptColumns kept = keptColumns(problem, options, point);
    fit.kept.assign(kept.columns.begin(), kept.columns.end());
    const auto k = static_cast<Index>(fit.kept.size());
    double weight = n, counted = n;
    if (!training.weights.empty()) {
        weight = counted = 0;
        for (const double w : training.weights) {
            weight += w;
            counted += w > 0 ? 1 : 0;
        }
    }
    MatrixXd factor = MatrixXd::Zero(k + first, k + first);
    if (first) factor(0, 0) = std::sqrt(weight);
    factor.bottomRightCorner(k, k) = std::sqrt(n) * MatrixXd(kept.solver.matrixU());
    MatrixXd inverse = factor.triangularView<Eigen::Upper>().solve(MatrixXd::Identity(k + first, k + first));
    fit.factor = TriangularFactor(std::move(factor), std::move(inverse));
    fit.conditionNumber = 1;
    if (k > 0) {
        const VectorXd diagonal = fit.factor.wholeTriangle().diagonal().tail(k);
        fit.conditionNumber = diagonal.maxCoeff() / diagonal.minCoeff();
    }
    fit.shift = problem.mean;
    fit.scale = problem.scale.cwiseInverse();
    fit.responseShift = problem.responseMean;
    fit.coefficients = VectorXd::Zero(p);
    fit.standardErrors = VectorXd::Constant(p, std::nan(""));
    fit.residualSumOfSquares = point.squares;
    fit.totalSumOfSquares = problem.squares * n;
    fit.degreesOfFreedom = std::max(0.0, counted - effective);
    fit.residualStandardDeviation =
        fit.degreesOfFreedom > 0 ? std::sqrt(point.squares / fit.degreesOfFreedom) : std::nan("");
    VectorXd shifted(k + first);
    if (first) shifted[0] = problem.responseMean;
    for (Index c = 0; c < k; ++c)
        shifted[first + c] = point.standardised[static_cast<Index>(fit.kept[static_cast<std::size_t>(c)])];
    // No errors as if nothing had been held back.
    fit.replaceCoefficients(
        shifted, MatrixXd::Constant(k + first, std::max<Index>(k + first, 1), std::nan("")), std::nan(""));
    fit.coefficients = point.coefficients;
    fit.constant = point.constant;
    fit.standardErrors.setConstant(std::nan(""));
    fit.constantError = std::nan("");
    return fit;
}

/// With Z'Wr/n of what it says.
std::pair<TrainingResults, VectorXd> rowsOf(const PenalisedProblem& problem, const PenalisedPoint& point,
                                            const PenalisedRows& x, const TrainingData& training,
                                            VectorXd leverages, Progress& progress) {
    TrainingResults rows;
    const Index n = x.rows.rows();
    const Eigen::Map<const VectorXd> y(training.y.data(), n);
    rows.fitted.resize(n);
    const VectorXd zero = VectorXd::Zero(problem.columns() + 1);
    VectorXd pulls = sumRowBlocks(
        x.rows, training.threads, progress, zero, [&](Index begin, const MatrixXd& raw) -> VectorXd {
            const Index count = raw.rows();
            rows.fitted.segment(begin, count) = (raw * point.coefficients).array() + point.constant;
            VectorXd r = y.segment(begin, count) - rows.fitted.segment(begin, count);
            if (!training.weights.empty())
                r.array() *= Eigen::Map<const VectorXd>(training.weights.data() + begin, count).array();
            VectorXd own(raw.cols() + 1);
            own << raw.transpose() * r, r.sum();
            own.head(raw.cols()) -= own[raw.cols()] * problem.mean;
            return own;
        });
    pulls.conservativeResize(problem.columns());
    pulls = pulls.cwiseQuotient(problem.scale) / static_cast<double>(n);
    rows.residuals = y - rows.fitted;
    for (Index i = 0; i < n; ++i)
        if (1 - leverages[i] > 1e-10) {
            rows.unseenRows.push_back(static_cast<std::uint32_t>(i));
            rows.unseen.push_back(rows.residuals[i] / (1 - leverages[i]));
        }
    rows.leverages = std::move(leverages);
    return {std::move(rows), std::move(pulls)};
}

void requireRows(const TrainingData& training) {
    if (training.rows.size() < 2)
        throw Error(ErrorCode::tooFewRows, "one learning row says nothing of a penalty",
                    {.file = training.file}, "Bring more rows.");
}

FitResult learnAtOnce(const Settings& settings, const TrainingData& training, Progress& progress) {
    requireRows(training);
    const PenalisedRows x(training);
    ProgressStage first(progress, 0, 0.5), second(progress, 0.5, 1);
    const PenalisedProblem problem = problemOf(
        x.rows, training.y, training.weights,
        penaltyOptions(settings, settings.number("l1_share"), x.design, training), training.threads, first);
    return learnPenalised(settings, training, x, problem, second);
}

} // namespace

FitResult learnPenalised(const Settings& settings, const TrainingData& training, const PenalisedRows& x,
                         const PenalisedProblem& problem, Progress& progress) {
    requireRows(training);
    const double l1Share = settings.number("l1_share");
    PenaltyOptions options = penaltyOptions(settings, l1Share, x.design, training);
    ProgressStage second(progress, 0, 0.6), third(progress, 0.6, 1);
    if (!(problem.squares > 1e-24 * problem.responseMean * problem.responseMean))
        throw Error(ErrorCode::noSpread,
                    "the response has the same value in all " +
                        plural(training.rows.size(), "learning row", "learning rows"),
                    {.file = training.file}, "Choose another response or other rows.");
    adaptFactors(settings, problem, options, second);
    const PenalisedPoint point = penalisedPoint(problem, options, settings.number("penalty"), second);
    if (point.kept == 0 && !training.intercept)
        throw Error(ErrorCode::badTerm, "the penalty keeps no term, and the model has no constant",
                    {.file = training.file}, "Lower the penalty, or give the model a constant.");
    LinearModel model;
    model.kindName = "penalised";
    model.design = x.design;
    model.quantileFit = std::nan("");
    const double effective = effectiveDegreesOfFreedom(problem, options, point);
    model.penalised = Penalised{point.penalty, l1Share, point.dualityGap, effective, point.kept};
    model.fit = fitOf(problem, options, point, training, effective);
    FitResult result{.outcome = {.converged = true}};
    VectorXd pulls;
    std::tie(result.rows, pulls) =
        rowsOf(problem, point, x, training,
               penalisedLeverages(problem, options, point, x.rows, training.weights, training.threads, third),
               third);
    model.fit.fromOrthogonal = fromOptimum(problem, options, point, pulls);
    model.averageLeverage = result.rows.leverages.mean();
    model.largestLeverage = result.rows.leverages.maxCoeff();
    result.model = std::make_shared<const LinearModel>(std::move(model));
    return result;
}

bool isSought(const Settings& settings) {
    return settings.kind == "penalised" &&
           (!std::holds_alternative<double>(settings.get(std::string_view("l1_share"))) ||
            !std::holds_alternative<double>(settings.get(std::string_view("penalty"))));
}

PenalisedRows::PenalisedRows(const TrainingData& training)
    : design(learnDesign(training)), bound(design, training.inputs),
      rows(bound, training.rows, training.threads) {
    requireOneMatrix(design, "a penalised fit", training.file);
}

PenaltyOptions penaltyOptions(const Settings& settings, double l1Share, const Design& design,
                              const TrainingData& training) {
    const std::size_t p = design.columns().size();
    PenaltyOptions options;
    options.l1Share = l1Share;
    options.standardise = settings.get<bool>("standardise");
    options.intercept = training.intercept;
    if (settings.get<bool>("grouped")) {
        if (settings.get<bool>("adaptive"))
            throw Error(ErrorCode::badTerm, "whole terms cannot be held back adaptively",
                        {.file = training.file}, "Switch one of the two off.");
        for (const DesignColumn& column : design.columns())
            options.groups.push_back(column.term);
    }
    const auto factors = [&]() -> std::vector<double>& {
        if (options.factors.empty()) options.factors.assign(p, 1);
        return options.factors;
    };
    for (const auto& [name, text] : settings.get<TextPairs>("factors")) {
        double factor = -1;
        const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), factor);
        if (error != std::errc() || end != text.data() + text.size() || !(factor >= 0) ||
            !std::isfinite(factor))
            throw Error(ErrorCode::badTerm, "the penalty factor of \"" + name + "\" is \"" + text + "\"",
                        {.file = training.file}, "It is a number of 0 or more, such as 0.5.");
        eachColumnOf(design, training, name, "factors", false,
                     [&](Index j) { factors()[static_cast<std::size_t>(j)] = factor; });
    }
    for (const std::string& name : namesOf(settings, "unpenalised"))
        eachColumnOf(design, training, name, "unpenalised", false,
                     [&](Index j) { factors()[static_cast<std::size_t>(j)] = 0; });
    const auto sign = [&](std::string_view key, int way) {
        for (const std::string& name : namesOf(settings, key))
            eachColumnOf(design, training, name, std::string(key), true, [&](Index j) {
                if (options.signs.empty()) options.signs.assign(p, 0);
                int& own = options.signs[static_cast<std::size_t>(j)];
                if (own == -way)
                    throw Error(ErrorCode::badTerm,
                                "\"" + name + "\" may neither rise nor fall: it is named in both lists",
                                {.file = training.file}, "Take it out of one of them.");
                own = way;
            });
    };
    sign("rising", 1);
    sign("falling", -1);
    return options;
}

void adaptFactors(const Settings& settings, const PenalisedProblem& problem, PenaltyOptions& options,
                  Progress& progress) {
    if (!settings.get<bool>("adaptive")) return;
    PenaltyOptions start = options;
    start.l1Share = 0;
    start.factors.clear();
    const bool holds = problem.rows > problem.columns() + 1;
    // Hardly held back where the rows do not hold least squares.
    const std::vector<double> one{holds ? 0 : 1e-3 * largestPenalty(problem, start)};
    const PenalisedPoint point = penalisedPath(problem, start, one, progress).front();
    if (options.factors.empty()) options.factors.assign(static_cast<std::size_t>(problem.columns()), 1);
    for (Index j = 0; j < problem.columns(); ++j) {
        const double size = std::fabs(point.standardised[j]);
        options.factors[static_cast<std::size_t>(j)] *= size > 0 ? 1 / size : 1e12;
    }
}

ModelKind penalisedKind() {
    ModelKind kind{.can = {.weights = WeightUse::asCopies,
                           .intervals = IntervalSource::unseenErrors,
                           .iterates = false,
                           .terms = Capabilities::Terms::formula}};
    kind.name = "penalised";
    kind.title = "Penalised least squares";
    kind.fields = {soughtField("l1_share", "Share of the l1 penalty (1 the lasso, 0 ridge)", 1.0, 0, 1, {}),
                   soughtField("penalty", "Penalty", std::string(smallestErrorRule), 0, 1e300,
                               {smallestErrorRule, oneStandardErrorRule}),
                   {.key = "penalties",
                    .label = "Penalties to try (none: as usual)",
                    .type = FieldType::numbers,
                    .fallback = std::vector<double>{}},
                   flagField("standardise", "Columns in units of their standard deviation", true),
                   flagField("adaptive", "Adaptive: hold back less what is large at first", false),
                   flagField("grouped", "Columns of a term come in together", false),
                   namesField("unpenalised", "Terms not penalised"),
                   namesField("rising", "Terms that may only rise"),
                   namesField("falling", "Terms that may only fall"),
                   {.key = "factors",
                    .label = "Penalty factors of terms",
                    .type = FieldType::pairs,
                    .fallback = TextPairs{}}};
    kind.offers = {{"Lasso: few terms, penalty by folds", {"penalised"}},
                   {"Lasso: the simplest within one standard error",
                    {"penalised", {{"penalty", std::string(oneStandardErrorRule)}}}},
                   {"Group lasso: whole terms, penalty by folds", {"penalised", {{"grouped", true}}}},
                   {"Ridge: all terms, held back", {"penalised", {{"l1_share", 0.0}}}},
                   {"Elastic net: between the two",
                    {"penalised", {{"l1_share", std::vector<double>{0.1, 0.5, 0.9, 1}}}}}};
    kind.sentence = penalisedSentence;
    kind.learn = learnAtOnce;
    kind.read = readLinearModel;
    return kind;
}

} // namespace oxgoad
