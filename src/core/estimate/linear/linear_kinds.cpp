#include "estimate/linear/linear_kinds.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "estimate/linear/robust_errors.h"
#include "estimate/linear/robust_fit.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::VectorXd;

void replaceErrors(LinearModel& model, LeastSquaresFit& fit, const TrainingData& training,
                   std::span<const double> weights, const RowSource& x, Progress& progress) {
    if (training.errors == CovarianceKind::homoskedastic || !(fit.degreesOfFreedom > 0)) return;
    progress.checkpoint(0.9, "Errors of the coefficients");
    RobustErrors found;
    try {
        found = robustErrors(fit, x, weights, training.errors, training.units, training.lags,
                             training.threads, progress);
    } catch (const Error& error) {
        throw Error(error.code(), error.message(), {.file = training.file, .column = training.unitsName},
                    error.remedy());
    }
    model.errorLags = training.errors == CovarianceKind::autocorrelated ? training.lags : 0;
    model.errorUnits = found.units;
    fit.rowsFixed = found.rowsFixed;
    fit.unseen = std::move(found.unseen);
    fit.undefinedThere = found.undefinedThere;
    fit.fewGroups = std::move(found.fewGroups);
    fit.replaceCovariance(std::move(found.covarianceRoot), found.degreesOfFreedom, progress);
}

namespace {

void dropRows(LeastSquaresFit& fit) {
    for (VectorXd* rows : {&fit.fitted, &fit.residuals, &fit.leverages})
        rows->resize(0);
    fit.orthonormal.reset();
}

} // namespace

FitResult finishedLinear(LinearModel model, LeastSquaresFit fit, std::optional<Iterated> iterated) {
    FitResult result{.outcome = {.converged = !iterated || iterated->converged}};
    model.averageLeverage = static_cast<double>(fit.rank()) / static_cast<double>(fit.rows);
    model.largestLeverage = fit.leverages.maxCoeff();
    result.rows.fitted = std::move(fit.fitted);
    result.rows.residuals = std::move(fit.residuals);
    result.rows.leverages = std::move(fit.leverages);
    if (iterated) {
        result.rows.robustWeights = std::exchange(iterated->rowWeights, {});
        if (!iterated->converged)
            result.outcome.why = "after " + std::to_string(iterated->iterations) +
                                 " iterations the estimates still moved; those of the last one are kept";
    }
    dropRows(fit);
    model.fit = std::move(fit);
    model.iterated = std::move(iterated);
    result.model = std::make_shared<const LinearModel>(std::move(model));
    return result;
}

namespace {

FitResult learnLeastSquares(const Settings&, const TrainingData& training, Progress& progress) {
    LinearModel model;
    LeastSquaresFit fit;
    {
        ProgressStage stage(progress, 0, 0.9);
        LinearFit made = fitLinear(training, training.errors != CovarianceKind::homoskedastic, stage);
        model.design = std::move(made.design);
        fit = std::move(made.fit);
    }
    ProgressStage stage(progress, 0.9, 1);
    model.quantileFit = std::nan("");
    replaceErrors(model, fit, training, training.weights,
                  DesignRows(BoundDesign(model.design, training.inputs), training.rows), stage);
    return finishedLinear(std::move(model), std::move(fit), {});
}

Influence influenceOf(const Settings& settings) {
    return settings.text("function") == "bisquare" ? Influence::bisquare : Influence::huber;
}

FitResult learnRobust(const Settings& settings, const TrainingData& training, Progress& progress) {
    ProgressStage first(progress, 0, 0.3);
    LinearFit made = fitLinearTogether(training, "a robust fit", first);
    LinearModel model;
    model.kindName = "robust";
    model.design = std::move(made.design);
    model.quantileFit = std::nan("");
    ProgressStage stage(progress, 0.3, 1);
    Iterated iterated =
        fitRobust(made.fit, DesignRows(BoundDesign(model.design, training.inputs), training.rows), training.y,
                  {.influence = influenceOf(settings),
                   .tuning = settings.number("tuning"),
                   .weights = training.weights,
                   .threads = training.threads},
                  stage);
    return finishedLinear(std::move(model), std::move(made.fit), std::move(iterated));
}

double weightAt(const TrainingData& training, std::size_t i) {
    return training.weights.empty() ? 1 : training.weights[i];
}

/// The quantile of the learning rows alone, to compare the check loss with.
double lossOfConstant(const TrainingData& training, double share) {
    std::vector<std::pair<double, double>> sorted;
    double whole = 0;
    for (std::size_t i = 0; i < training.y.size(); ++i) {
        sorted.emplace_back(training.y[i], weightAt(training, i));
        whole += weightAt(training, i);
    }
    std::sort(sorted.begin(), sorted.end());
    double passed = 0;
    double at = sorted.back().first;
    for (const auto& [value, weight] : sorted) {
        passed += weight;
        if (passed >= share * whole) {
            at = value;
            break;
        }
    }
    long double loss = 0;
    for (const auto& [value, weight] : sorted)
        loss += weight * (value - at) * (share - (value < at ? 1 : 0));
    return static_cast<double>(loss);
}

FitResult learnQuantile(const Settings& settings, const TrainingData& training, Progress& progress) {
    ProgressStage first(progress, 0, 0.3);
    LinearFit made = fitLinearTogether(training, "a quantile fit", first);
    LinearModel model;
    model.kindName = "quantile";
    model.design = std::move(made.design);
    model.share = settings.number("share");
    ProgressStage stage(progress, 0.3, 1);
    const DesignRows x(BoundDesign(model.design, training.inputs), training.rows);
    const LeastSquaresFit start = made.fit;
    const auto at = [&](LeastSquaresFit& fit, double share) {
        return fitQuantile(fit, x, training.y, share, training.weights, training.threads, stage);
    };
    Iterated iterated = at(made.fit, model.share);
    VectorXd weighted = made.fit.residuals;
    for (std::size_t i = 0; i < training.rows.size(); ++i)
        weighted[static_cast<Index>(i)] *= weightAt(training, i);
    model.quantileFit = 1 - checkLoss(weighted, model.share) / lossOfConstant(training, model.share);
    if (training.intervalLevel) {
        const auto bound = [&](double share) {
            auto fit = std::make_shared<LeastSquaresFit>(start);
            at(*fit, share);
            dropRows(*fit);
            return fit;
        };
        model.boundsLevel = *training.intervalLevel;
        model.lower = bound((1 - model.boundsLevel) / 2);
        model.upper = bound((1 + model.boundsLevel) / 2);
    }
    return finishedLinear(std::move(model), std::move(made.fit), std::move(iterated));
}

std::string robustSentence(const Settings& settings) {
    const double tuning = settings.number("tuning");
    return (influenceOf(settings) == Influence::huber ? "Huber's robust regression"
                                                      : "robust regression with the bisquare") +
           (tuning > 0 ? " with constant " + shortText(tuning) : std::string());
}

std::string quantileSentence(const Settings& settings) {
    const double share = settings.number("share");
    return share == 0.5 ? "median regression" : percentText(share) + " quantile regression";
}

Field shareField() {
    // The ends themselves are no quantiles.
    return numberField("share", "Share of the values below", 0.5, 1e-9, 1 - 1e-9);
}

} // namespace

ModelKind leastSquaresKind() {
    ModelKind kind{.can = {.weights = WeightUse::asCopies,
                           .intervals = IntervalSource::theory,
                           .iterates = false,
                           .terms = Capabilities::Terms::formula}};
    kind.name = "least squares";
    kind.title = "Least squares";
    kind.leastSquares = true;
    kind.choosesErrors = true;
    kind.offers = {{"Least squares", {"least squares"}}};
    kind.sentence = [](const Settings&) { return std::string("least squares"); };
    kind.learn = learnLeastSquares;
    kind.read = readLinearModel;
    return kind;
}

ModelKind robustKind() {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = IntervalSource::theory,
                           .iterates = true,
                           .terms = Capabilities::Terms::formula}};
    kind.name = "robust";
    kind.title = "Robust regression";
    kind.fields = {choiceField("function", "Weight function", {"Huber", "bisquare"}),
                   numberField("tuning", "Where outliers begin, in scales of the residuals (0: as usual)", 0,
                               1e-9, 1000)};
    kind.offers = {
        {"Robust: outliers pull no harder (Huber)", {"robust", {{"function", std::string("Huber")}}}},
        {"Robust: far outliers do not pull (bisquare)", {"robust", {{"function", std::string("bisquare")}}}}};
    kind.standsOutliers = true;
    kind.sentence = robustSentence;
    kind.learn = learnRobust;
    kind.read = readLinearModel;
    return kind;
}

ModelKind quantileKind() {
    ModelKind kind{.can = {.weights = WeightUse::asCopies,
                           .intervals = IntervalSource::quantiles,
                           .iterates = true,
                           .terms = Capabilities::Terms::formula}};
    kind.name = "quantile";
    kind.title = "Quantile regression";
    kind.fields = {shareField()};
    for (const double share : {0.05, 0.1, 0.25, 0.5, 0.75, 0.9, 0.95})
        kind.offers.push_back({share == 0.5 ? std::string("Median") : percentText(share) + " quantile",
                               {"quantile", {{"share", share}}}});
    kind.standsOutliers = true;
    kind.quantile = true;
    kind.sentence = quantileSentence;
    kind.learn = learnQuantile;
    kind.read = readLinearModel;
    return kind;
}

} // namespace oxgoad
