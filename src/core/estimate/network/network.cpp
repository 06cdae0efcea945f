#include "estimate/network/network.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/learning_course.h"
#include "estimate/model_text.h"
#include "estimate/rows_judged.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

const std::vector<std::string> activationNames{"tanh", "rectifier", "logistic", "softplus"};

bool isNetworkQuantile(const std::string& kind) {
    return kind == "network of a quantile";
}

std::size_t columnsOf(const Input& input) {
    return input.factor ? input.levels.size() - 1 : 1;
}

std::string layersText(const std::vector<double>& layers) {
    if (layers.empty()) return "no hidden layer";
    std::string text;
    for (const double units : layers)
        text += (text.empty() ? "" : " and ") + shortText(units);
    return text + " hidden units";
}

const std::vector<double>& layersOf(const Settings& settings) {
    return settings.get<std::vector<double>>("layers");
}

NetworkShape shapeOf(const Settings& settings, const Inputs& inputs) {
    NetworkShape shape;
    std::size_t columns = 0;
    for (const Input& input : inputs)
        columns += columnsOf(input);
    shape.sizes.push_back(static_cast<std::ptrdiff_t>(columns));
    for (const double units : layersOf(settings))
        shape.sizes.push_back(static_cast<std::ptrdiff_t>(units));
    shape.sizes.push_back(1);
    shape.activation = static_cast<Activation>(
        std::find(activationNames.begin(), activationNames.end(), settings.text("activation")) -
        activationNames.begin());
    if (isNetworkQuantile(settings.kind)) {
        shape.loss = NetworkShape::Loss::quantile;
        shape.share = settings.number("quantile");
    } else if (settings.text("loss") == "absolute") {
        shape.loss = NetworkShape::Loss::absolute;
    }
    return shape;
}

void requireNetwork(const Settings& settings, const TrainingData& training) {
    const auto& layers = layersOf(settings);
    if (layers.size() > 3 || std::any_of(layers.begin(), layers.end(), [](double units) {
            return !(units >= 1 && units <= 10000 && units == std::floor(units));
        }))
        throw Error(ErrorCode::badTerm, "a network has up to three hidden layers of 1 to 10,000 units each",
                    {.file = training.file}, "Give at most three whole numbers; [] is a straight model.");
    if (training.rows.size() < 5)
        throw Error(ErrorCode::tooFewRows,
                    plural(training.rows.size(), "learning row is", "learning rows are") +
                        " too few for a network",
                    {.file = training.file}, "Bring more rows, or take least squares.");
    const auto [least, most] = std::minmax_element(training.y.begin(), training.y.end());
    if (!(*least < *most))
        throw Error(ErrorCode::noSpread,
                    "the response has the same value in all " +
                        plural(training.rows.size(), "learning row", "learning rows"),
                    {.file = training.file}, "Choose another response or other rows.");
}

double weightIn(const TrainingData& training, std::size_t i) {
    return training.weights.empty() ? 1 : training.weights[i];
}

/// Centres and scales of the columns and of the response, by learning rows.
void standardise(NetworkModel& model, const TrainingData& training) {
    const auto columns = model.shape.sizes.front();
    model.center = VectorXd::Zero(columns);
    model.scale = VectorXd::Ones(columns);
    const MatrixXd plain = [&] {
        MatrixXd rows(static_cast<Index>(training.rows.size()), static_cast<Index>(model.inputs.size()));
        training.inputs.fill(training.rows, rows);
        return model.standardised(rows);
    }();
    const auto spreadOf = [&](auto&& at, double& center, double& scale) {
        long double sum = 0, squares = 0, whole = 0;
        for (std::size_t i = 0; i < training.rows.size(); ++i) {
            sum += static_cast<long double>(weightIn(training, i)) * at(i);
            whole += weightIn(training, i);
        }
        const long double mean = sum / whole;
        for (std::size_t i = 0; i < training.rows.size(); ++i) {
            const long double d = at(i) - mean;
            squares += weightIn(training, i) * d * d;
        }
        center = static_cast<double>(mean);
        scale = static_cast<double>(std::sqrt(squares / whole));
        if (!(scale > 1e-12 * std::fabs(center))) scale = 1;
    };
    for (Index j = 0; j < columns; ++j)
        spreadOf([&](std::size_t i) { return plain(j, static_cast<Index>(i)); }, model.center[j],
                 model.scale[j]);
    spreadOf([&](std::size_t i) { return training.y[i]; }, model.yCenter, model.yScale);
}

NetworkRows rowsFor(const NetworkModel& model, const TrainingData& training,
                    std::span<const std::uint32_t> places) {
    std::vector<std::uint32_t> rows;
    NetworkRows out;
    for (const auto place : places) {
        if (weightIn(training, place) == 0) continue; // teaches nothing
        rows.push_back(training.rows[place]);
        out.y.push_back((training.y[place] - model.yCenter) / model.yScale);
        if (!training.weights.empty()) out.weights.push_back(training.weights[place]);
    }
    MatrixXd plain(static_cast<Index>(rows.size()), static_cast<Index>(model.inputs.size()));
    training.inputs.fill(rows, plain);
    out.x = model.standardised(plain);
    return out;
}

/// Without hidden layers and with squared loss there is a solution: least squares of the rows and of the
/// penalty's (Golub and Van Loan 2013, §6.1.4).
std::vector<double> solved(const NetworkRows& rows, double penalty) {
    const Index n = rows.x.cols(), p = rows.x.rows();
    const bool held = penalty > 0;
    double whole = 0;
    for (Index i = 0; i < n; ++i)
        whole += rows.weights.empty() ? 1 : rows.weights[static_cast<std::size_t>(i)];
    MatrixXd a = MatrixXd::Zero(n + (held ? p : 0), p + 1);
    VectorXd b = VectorXd::Zero(a.rows());
    for (Index i = 0; i < n; ++i) {
        const double w = std::sqrt(rows.weights.empty() ? 1 : rows.weights[static_cast<std::size_t>(i)]);
        a.row(i).head(p) = w * rows.x.col(i).transpose();
        a(i, p) = w;
        b[i] = w * rows.y[static_cast<std::size_t>(i)];
    }
    for (Index j = 0; j < p && held; ++j)
        a(n + j, j) = std::sqrt(penalty * whole);
    const VectorXd solution = a.completeOrthogonalDecomposition().solve(b);
    return {solution.begin(), solution.end()};
}

/// A loss of the standardised response in the response's own unit; of squared loss its root.
double lossInUnits(const NetworkModel& model, double loss) {
    return model.yScale * (model.shape.loss == NetworkShape::Loss::squared ? std::sqrt(loss) : loss);
}

NetworkOptions networkOptionsOf(const Settings& settings, const TrainingData& training) {
    NetworkOptions options;
    options.weightPenalty = settings.number("weight_penalty");
    options.passes = static_cast<std::size_t>(settings.number("passes"));
    options.batch = static_cast<std::size_t>(settings.number("batch"));
    options.rate = settings.number("rate");
    options.decay = settings.number("decay");
    options.dropout = settings.number("dropout");
    options.patience = static_cast<std::size_t>(settings.number("patience"));
    options.seed =
        static_cast<std::uint64_t>(settings.number("seed")) + 0x9E3779B97F4A7C15ULL * (training.seed - 1);
    return options;
}

std::string networkSays(const NetworkModel& model, const TrainedNetwork& best, std::size_t rows,
                        const NetworkOptions& options) {
    const auto& run = best.run;
    std::string text;
    if (!best.ended.empty()) text = best.ended + "; the best before is kept. ";
    const bool watched = !run.unseen.empty() && !std::isnan(run.unseen.back());
    const auto& loss = watched ? run.unseen : run.learning;
    if (loss.size() > 2) {
        // Single passes go up and down: by the least so far, and by the mean of the last tenth.
        std::vector<double> least(loss.size());
        double smallest = INFINITY, last = 0;
        for (std::size_t k = 0; k < loss.size(); ++k)
            least[k] = smallest = std::min(smallest, loss[k]);
        const std::size_t tenth = std::max<std::size_t>(1, loss.size() / 10);
        for (std::size_t k = loss.size() - tenth; k < loss.size(); ++k)
            last += loss[k] / static_cast<double>(tenth);
        std::size_t flat = 0;
        while (least[flat] > 1.01 * least.back())
            ++flat;
        const std::string of = watched ? "the loss of unseen rows" : "the loss of learning rows";
        if (watched && last > 1.05 * least.back())
            text += of + " was smallest after pass " + std::to_string(best.bestPass) +
                    " and rises since; that pass is taken";
        else if (flat + tenth < loss.size())
            text += of + " hardly falls after pass " + shortText(run.step[flat]);
        else
            text += of + " still falls after pass " + shortText(run.step.back()) + ": more passes would help";
    }
    if (model.restarts.size() > 1) {
        const auto [least, most] = std::minmax_element(model.restarts.begin(), model.restarts.end());
        text += "; the best of " + countText(model.restarts.size()) + " starts, whose losses lie between " +
                readableText(lossInUnits(model, *least), 4) + " and " +
                readableText(lossInUnits(model, *most), 4);
    }
    for (std::size_t l = 0; l < model.dead.size(); ++l)
        if (model.dead[l] > 0)
            text += "; " + plural(model.dead[l], "unit", "units") + " of hidden layer " +
                    std::to_string(l + 1) + (model.dead[l] == 1 ? " says" : " say") +
                    " the same of all rows: fewer would do";
    if (model.parameters.size() > rows)
        text += "; it has " + plural(model.parameters.size(), "weight", "weights") + " for " +
                plural(rows, "row", "rows") + ", held by the penalty of " +
                readableText(options.weightPenalty, 3) + " and by ending early alone: fewer units are safer";
    return text;
}

/// Units of each hidden layer that say the same of all rows.
std::vector<std::size_t> deadUnits(const NetworkModel& model, const MatrixXd& x) {
    std::vector<std::size_t> dead;
    MatrixXd now = x;
    std::size_t at = 0;
    for (std::size_t l = 0; l + 2 < model.shape.sizes.size(); ++l) {
        const Index in = model.shape.sizes[l], out = model.shape.sizes[l + 1];
        const Eigen::Map<const MatrixXd> weights(model.parameters.data() + at, out, in);
        const Eigen::Map<const VectorXd> constants(model.parameters.data() + at + out * in, out);
        MatrixXd next = (weights * now).colwise() + constants;
        for (double& v : next.reshaped())
            switch (model.shape.activation) {
            case Activation::tanh:
                v = std::tanh(v);
                break;
            case Activation::rectifier:
                v = std::max(0.0, v);
                break;
            case Activation::logistic:
                v = 1 / (1 + std::exp(-v));
                break;
            case Activation::softplus:
                v = std::max(0.0, v) + std::log1p(std::exp(-std::fabs(v)));
                break;
            }
        std::size_t count = 0;
        for (Index k = 0; k < out; ++k)
            count += next.row(k).maxCoeff() - next.row(k).minCoeff() < 1e-6;
        dead.push_back(count);
        at += static_cast<std::size_t>(out * (in + 1));
        now = std::move(next);
    }
    return dead;
}

/// Whether a network of half the units is as good at the rows watched, within a standard error of the
/// difference.
std::string smallerSays(const NetworkModel& model, NetworkOptions options, const NetworkRows& rows,
                        const NetworkRows& watched, Threads threads, Progress& progress) {
    NetworkShape smaller = model.shape;
    std::string units;
    for (std::size_t l = 1; l + 1 < smaller.sizes.size(); ++l) {
        smaller.sizes[l] = std::max<std::ptrdiff_t>(1, smaller.sizes[l] / 2);
        units += (units.empty() ? "" : " and ") + std::to_string(smaller.sizes[l]);
    }
    if (smaller.sizes == model.shape.sizes) return {};
    options.name = "half the units";
    StopOnly quiet(progress);
    const TrainedNetwork other = train(smaller, options, rows, watched, model.yScale, threads, quiet);
    const VectorXd one = model.shape.says(model.parameters, watched.x),
                   two = smaller.says(other.parameters, watched.x);
    const auto lossAt = [&](const VectorXd& said, Index i) {
        const double e = watched.y[static_cast<std::size_t>(i)] - said[i];
        return model.shape.loss == NetworkShape::Loss::squared ? e * e : std::fabs(e);
    };
    double sum = 0, squares = 0;
    const auto n = static_cast<double>(one.size());
    for (Index i = 0; i < one.size(); ++i)
        sum += lossAt(two, i) - lossAt(one, i);
    for (Index i = 0; i < one.size(); ++i)
        squares += std::pow(lossAt(two, i) - lossAt(one, i) - sum / n, 2);
    if (!(sum / n <= std::sqrt(squares / (n - 1) / n))) return {};
    return "; one of " + units + " units is as good within a standard error: take that";
}

std::shared_ptr<NetworkModel> startedNetwork(const Settings& settings, const TrainingData& training) {
    auto model = std::make_shared<NetworkModel>();
    model->kindName = settings.kind;
    model->inputs = training.inputs.inputs();
    model->shape = shapeOf(settings, model->inputs);
    standardise(*model, training);
    return model;
}

/// Of all rows given, so many passes; for what judges rows that it did not see.
std::shared_ptr<const NetworkModel> plainNetwork(const Settings& settings, const TrainingData& training,
                                                 std::size_t passes, Progress& progress) {
    auto model = startedNetwork(settings, training);
    std::vector<std::uint32_t> all(training.rows.size());
    std::iota(all.begin(), all.end(), 0U);
    const NetworkRows rows = rowsFor(*model, training, all);
    NetworkOptions options = networkOptionsOf(settings, training);
    if (layersOf(settings).empty() && model->shape.loss == NetworkShape::Loss::squared) {
        model->parameters = solved(rows, options.weightPenalty);
        return model;
    }
    options.passes = std::max<std::size_t>(1, passes);
    options.patience = 0;
    model->parameters = train(model->shape, options, rows, {}, 1, training.threads, progress).parameters;
    return model;
}

FitResult learnNetwork(const Settings& settings, const TrainingData& training, Progress& progress) {
    requireNetwork(settings, training);
    auto model = startedNetwork(settings, training);
    const NetworkOptions options = networkOptionsOf(settings, training);
    const auto n = static_cast<std::uint32_t>(training.rows.size());
    const bool closed = layersOf(settings).empty() && model->shape.loss == NetworkShape::Loss::squared;
    const bool watches = !closed && options.patience > 0 && n >= 50;
    RandomStream stream(options.seed, "rows that a network is watched by");
    std::vector<std::uint32_t> order = shuffled(n, stream), learning, unseen;
    for (std::uint32_t i = 0; i < n; ++i)
        (watches && i % 5 == 0 ? unseen : learning).push_back(order[i]);
    std::sort(learning.begin(), learning.end());
    std::sort(unseen.begin(), unseen.end());
    const NetworkRows rows = rowsFor(*model, training, learning), watched = rowsFor(*model, training, unseen);
    LearningCourse& course = model->learning;
    course = {.steps = "passes",
              .loss = model->shape.loss == NetworkShape::Loss::squared    ? "root mean squared error"
                      : model->shape.loss == NetworkShape::Loss::absolute ? "mean absolute error"
                                                                          : "mean check loss",
              .unseenRows = watches ? "a fifth of the learning rows, which only say when to end" : ""};
    FitResult result{.outcome = {.converged = true}};
    std::size_t passes = 0;
    if (closed) {
        model->parameters = solved(rows, options.weightPenalty);
        course.says = "without hidden layers it is least squares, solved at once";
    } else {
        const auto restarts = static_cast<std::size_t>(settings.number("restarts"));
        std::vector<TrainedNetwork> trained(restarts);
        for (std::size_t k = 0; k < restarts; ++k) {
            ProgressStage stage(progress, 0.55 * static_cast<double>(k) / static_cast<double>(restarts),
                                0.55 * static_cast<double>(k + 1) / static_cast<double>(restarts));
            NetworkOptions own = options;
            own.seed = options.seed + k;
            own.name = "start " + std::to_string(k + 1);
            trained[k] = train(model->shape, own, rows, watched, model->yScale, training.threads, stage);
            const bool stopped = trained[k].ended.starts_with("stopped");
            if (stopped) trained.resize(k + 1);
            if (stopped) break;
        }
        const auto lossOf = [&](const TrainedNetwork& t) { return watches ? t.unseenLoss : t.learningLoss; };
        const auto best = std::min_element(trained.begin(), trained.end(), [&](const auto& a, const auto& b) {
            return lossOf(a) < lossOf(b);
        });
        if (!std::isfinite(lossOf(*best)))
            throw Error(ErrorCode::noConvergence,
                        "the network's loss was no number from the start: " + best->ended,
                        {.file = training.file}, "Take a smaller rate, or a larger penalty.");
        model->parameters = best->parameters;
        passes = best->bestPass;
        course.taken = static_cast<std::size_t>(best - trained.begin());
        course.takenAt = static_cast<double>(best->bestPass);
        course.spreads = best->spreads;
        for (const TrainedNetwork& each : trained) {
            course.runs.push_back(each.run);
            model->restarts.push_back(lossOf(each));
        }
        model->dead = deadUnits(*model, rows.x);
        course.says = networkSays(*model, *best, n, options);
        if (watches && training.unseen && best->ended.empty()) {
            ProgressStage stage(progress, 0.55, 0.6);
            course.says += smallerSays(*model, options, rows, watched, training.threads, stage);
        }
        result.outcome.converged = best->ended.empty();
        result.outcome.why = best->ended;
    }
    result.rows.fitted = fittedBy(*model, training, progress);
    result.rows.residuals =
        Eigen::Map<const VectorXd>(training.y.data(), result.rows.fitted.size()) - result.rows.fitted;
    ProgressStage parts(progress, 0.6, 1);
    judgeByParts(training, 10, result.rows, parts, [&](const TrainingData& part, const TrainingData&) {
        StopOnly stops(progress);
        return plainNetwork(settings, part, passes, stops);
    });
    result.model = model;
    progress.checkpoint(1, "Trained the network");
    return result;
}

ModelPart describeNetwork(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const NetworkModel&>(learned);
    ModelPart part{.key = "network"};
    json layers = json::array();
    std::size_t at = 0;
    for (std::size_t l = 0; l + 1 < model.shape.sizes.size(); ++l) {
        const auto in = model.shape.sizes[l], out = model.shape.sizes[l + 1];
        json layer{{"inputs", in}, {"units", out}, {"weights", in * out}};
        if (l < model.dead.size()) layer["dead_units"] = model.dead[l];
        layers.push_back(layer);
        at += static_cast<std::size_t>(out * (in + 1));
    }
    std::vector<double> losses;
    for (const double loss : model.restarts)
        losses.push_back(lossInUnits(model, loss));
    json said{{"layers", layers},
              {"activation", activationNames[static_cast<std::size_t>(model.shape.activation)]},
              {"parameters", at},
              {"losses_of_restarts", losses}};
    putCourse(model.learning, said, part);
    part.json = said.dump(-1, ' ', false, json::error_handler_t::replace);
    return part;
}

std::shared_ptr<const LearnedModel> readNetwork(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        auto model = std::make_shared<NetworkModel>();
        model->kindName = j.at("kind").get<std::string>();
        model->inputs = inputsFrom(j.at("inputs"));
        std::size_t columns = 0;
        for (const Input& input : model->inputs) {
            if (input.factor && input.levels.empty()) damaged("a factor without levels");
            columns += columnsOf(input);
        }
        model->shape.sizes = j.at("sizes").get<std::vector<std::ptrdiff_t>>();
        const auto& sizes = model->shape.sizes;
        if (sizes.size() < 2 || sizes.size() > 5 || sizes.back() != 1 ||
            sizes.front() != static_cast<std::ptrdiff_t>(columns) ||
            std::any_of(sizes.begin(), sizes.end(), [](auto size) { return size < 1 || size > 1000000; }))
            damaged("layers that do not follow each other");
        const auto activation = j.at("activation").get<std::size_t>(), loss = j.at("loss").get<std::size_t>();
        if (activation >= activationNames.size() || loss > 2) damaged("an activation that is not known");
        model->shape.activation = static_cast<Activation>(activation);
        model->shape.loss = static_cast<NetworkShape::Loss>(loss);
        model->shape.share = numberFrom(j.at("share"));
        model->parameters = numbersFrom(j.at("parameters"));
        model->center = vectorFrom(j.at("center"));
        model->scale = vectorFrom(j.at("scale"));
        model->yCenter = numberFrom(j.at("y_center"));
        model->yScale = numberFrom(j.at("y_scale"));
        model->learning = courseFrom(j.at("course"));
        model->restarts = numbersFrom(j.at("restarts"));
        model->dead = j.at("dead").get<std::vector<std::size_t>>();
        const auto finite = [](const auto& values) {
            return std::all_of(values.begin(), values.end(), [](double v) { return std::isfinite(v); });
        };
        if (model->parameters.size() != model->shape.parameters() || !finite(model->parameters) ||
            model->center.size() != sizes.front() || model->scale.size() != sizes.front() ||
            !finite(model->center) || !finite(model->scale) || !std::isfinite(model->yCenter) ||
            !std::isfinite(model->yScale))
            damaged("other weights than its layers have");
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

ModelKind networkOf(const std::string& name, const std::string& title, bool quantile) {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = quantile ? IntervalSource::none : IntervalSource::unseenErrors,
                           .iterates = true}};
    kind.name = name;
    kind.title = title;
    Field layers;
    layers.key = "layers";
    layers.label = "Units of the hidden layers";
    layers.type = FieldType::numbers;
    layers.fallback = std::vector<double>{20};
    layers.low = 1;
    layers.high = 10000;
    kind.fields = {layers,
                   choiceField("activation", "Units say", activationNames),
                   numberField("weight_penalty", "Penalty on squared weights", 1e-4, 0, 1e6),
                   wholeField("passes", "Passes over the rows at most", 1000, 1, 1e7),
                   wholeField("patience", "End when so many passes bring nothing (0: never)", 100, 0, 1e7),
                   wholeField("restarts", "Starts from other weights", 5, 1, 1000),
                   wholeField("batch", "Rows of a step (0: the usual)", 0, 0, 1e9),
                   numberField("rate", "Rate of learning", 0.01, 1e-9, 10),
                   numberField("decay", "The rate falls by (a pass)", 0.001, 0, 10),
                   numberField("dropout", "Share of units left out at a step", 0, 0, 0.9),
                   wholeField("seed", "Seed", 1, 0, 4294967295.0)};
    if (quantile)
        kind.fields.push_back(numberField("quantile", "Quantile", 0.5, 0.001, 0.999));
    else
        kind.fields.push_back(choiceField("loss", "Loss", {"squared", "absolute"}));
    kind.quantile = quantile;
    kind.offers = {{title, {name}}};
    kind.sentence = [name](const Settings& settings) {
        return (name == "network" ? "a network" : "a network of a quantile") + std::string(" of ") +
               layersText(layersOf(settings));
    };
    kind.costly = true;
    kind.learn = learnNetwork;
    kind.describe = describeNetwork;
    kind.read = readNetwork;
    return kind;
}

} // namespace

MatrixXd NetworkModel::standardised(const MatrixXd& rows) const {
    MatrixXd x(shape.sizes.front(), rows.rows());
    for (Index i = 0; i < rows.rows(); ++i) {
        Index at = 0;
        for (std::size_t j = 0; j < inputs.size(); ++j) {
            const double value = rows(i, static_cast<Index>(j));
            const auto count = static_cast<Index>(columnsOf(inputs[j]));
            for (Index k = 0; k < count; ++k, ++at) {
                const double own = !inputs[j].factor ? value
                                   : std::isfinite(value)
                                       ? static_cast<double>(value == static_cast<double>(k + 1))
                                       : nan;
                x(at, i) = (own - center[at]) / scale[at];
            }
        }
    }
    return x;
}

MatrixXd NetworkModel::predict(const MatrixXd& rows) const {
    const MatrixXd x = standardised(rows);
    VectorXd said = yCenter + yScale * shape.says(parameters, x).array();
    for (Index i = 0; i < said.size(); ++i)
        if (rows.row(i).hasNaN()) said[i] = nan;
    return said;
}

std::vector<NamedNumber> NetworkModel::says() const {
    std::vector<NamedNumber> said{{"weights", static_cast<double>(parameters.size())}};
    for (std::size_t l = 1; l + 1 < shape.sizes.size(); ++l)
        said.push_back({"units of hidden layer " + std::to_string(l), static_cast<double>(shape.sizes[l])});
    if (learning.takenAt > 0) said.push_back({"passes", learning.takenAt});
    return said;
}

std::string NetworkModel::text() const {
    return json{{"kind", kindName},
                {"inputs", inputsJson(inputs)},
                {"sizes", shape.sizes},
                {"activation", static_cast<int>(shape.activation)},
                {"loss", static_cast<int>(shape.loss)},
                {"share", numberJson(shape.share)},
                {"parameters", numbersJson(parameters)},
                {"center", numbersJson({center.begin(), center.end()})},
                {"scale", numbersJson({scale.begin(), scale.end()})},
                {"y_center", numberJson(yCenter)},
                {"y_scale", numberJson(yScale)},
                {"course", courseJson(learning)},
                {"restarts", numbersJson(restarts)},
                {"dead", dead}}
        .dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind networkKind() {
    return networkOf("network", "Small network", false);
}

ModelKind networkQuantileKind() {
    return networkOf("network of a quantile", "Small network of a quantile", true);
}

} // namespace oxgoad
