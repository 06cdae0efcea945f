#include "estimate/average/average.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/model_text.h"
#include "estimate/rows_judged.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

std::vector<const ModelKind*> partsOf(const Settings& settings, const std::string& file) {
    std::vector<const ModelKind*> kinds;
    for (const std::string& name : settings.get<std::vector<std::string>>("models")) {
        const ModelKind* kind = findModelKind(name);
        if (!kind || kind->name == "average" || kind->can.ownLink || kind->quantile || kind->series ||
            kind->can.response != Capabilities::Response::number)
            throw Error(ErrorCode::badTerm,
                        "\"" + name + "\" is " +
                            (kind ? "a kind that cannot be averaged with others" : "no kind of model"),
                        {.file = file},
                        "Name kinds that say the mean: least squares, forest, boosted, network.");
        if (std::find(kinds.begin(), kinds.end(), kind) == kinds.end()) kinds.push_back(kind);
    }
    if (kinds.size() < 2)
        throw Error(ErrorCode::badTerm, "an average needs two kinds of model at least", {.file = file},
                    "Name another one.");
    return kinds;
}

/// With the kind's usual settings; what is to be found of a penalty is left to its own folds elsewhere, so
/// that here a mild one stands.
Settings usualOf(const ModelKind& kind) {
    Settings settings{kind.name, {}};
    if (kind.name == "penalised") settings.fields["penalty"] = 0.01;
    return settings;
}

FitResult learnAverage(const Settings& settings, const TrainingData& training, Progress& progress) {
    const auto kinds = partsOf(settings, training.file);
    const auto n = static_cast<std::uint32_t>(training.rows.size());
    constexpr std::uint32_t folds = 5;
    if (n < 20)
        throw Error(ErrorCode::tooFewRows,
                    plural(n, "learning row is", "learning rows are") + " too few to weigh kinds of model by",
                    {.file = training.file}, "Take one kind of model.");
    auto model = std::make_shared<AverageModel>();
    const auto count = static_cast<Index>(kinds.size());
    MatrixXd unseen(static_cast<Index>(n), count);
    const double steps = static_cast<double>(kinds.size()) * (folds + 1);
    double done = 0;
    for (Index k = 0; k < count; ++k) {
        const ModelKind& kind = *kinds[static_cast<std::size_t>(k)];
        const Settings own = usualOf(kind);
        const auto learned = [&](const TrainingData& rows) {
            FirmStage stage(progress, done / steps, (done + 1) / steps);
            ++done;
            return kind.learn(own, rows, stage).model;
        };
        forEachPart(
            training, folds, folds, "fifths of an average",
            [&](const TrainingData& others, const TrainingData& left, std::span<const std::uint32_t> places) {
                const VectorXd said = fittedBy(*learned(others), left, progress);
                for (std::size_t i = 0; i < places.size(); ++i)
                    unseen(static_cast<Index>(places[i]), k) = said[static_cast<Index>(i)];
            });
        TrainingData all = training;
        all.unseen = false;
        model->parts.push_back(learned(all));
    }
    VectorXd w(static_cast<Index>(n));
    for (Index i = 0; i < w.size(); ++i) {
        w[i] = training.weights.empty() ? 1 : training.weights[static_cast<std::size_t>(i)];
        if (!unseen.row(i).allFinite()) { // a level that some fold had not: says nothing of the weights
            unseen.row(i).setZero();
            w[i] = 0;
        }
    }
    const Eigen::Map<const VectorXd> y(training.y.data(), w.size());
    const VectorXd weights = nonNegativeLeastSquares(unseen.transpose() * w.asDiagonal() * unseen,
                                                     unseen.transpose() * (w.cwiseProduct(y)));
    model->weights.assign(weights.begin(), weights.end());
    FitResult result{.model = model, .outcome = {.converged = true}};
    result.rows.fitted = fittedBy(*model, training, progress);
    result.rows.residuals = y - result.rows.fitted;
    result.rows.unseenOf = IntervalsByErrors::Of::outOfFold;
    const VectorXd said = unseen * weights;
    for (std::uint32_t i = 0; i < n; ++i)
        if (w[static_cast<Index>(i)] > 0) {
            result.rows.unseenRows.push_back(i);
            result.rows.unseen.push_back(training.y[i] - said[static_cast<Index>(i)]);
        }
    progress.checkpoint(1, "Averaged");
    return result;
}

ModelPart describeAverage(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const AverageModel&>(learned);
    ModelPart part{.key = "average"};
    json parts = json::array();
    part.file = "average.csv";
    part.header = {"kind", "weight"};
    for (std::size_t k = 0; k < model.parts.size(); ++k) {
        parts.push_back({{"kind", model.parts[k]->kind()}, {"weight", model.weights[k]}});
        part.table.push_back({model.parts[k]->kind(), exactText(model.weights[k])});
        part.text += readableText(model.weights[k], 3) + " of " + model.parts[k]->kind() + "\n";
    }
    part.json = json{{"parts", parts}}.dump();
    return part;
}

} // namespace

VectorXd nonNegativeLeastSquares(const MatrixXd& gram, const VectorXd& cross) {
    VectorXd w = VectorXd::Zero(cross.size());
    constexpr int most = 100000;
    for (int round = 0; round < most; ++round) {
        double moved = 0;
        for (Index k = 0; k < w.size(); ++k) {
            if (!(gram(k, k) > 0)) continue;
            const double next = std::max(0.0, w[k] + (cross[k] - gram.row(k).dot(w)) / gram(k, k));
            moved = std::max(moved, std::fabs(next - w[k]));
            w[k] = next;
        }
        if (moved < 1e-13 * std::max(1.0, w.maxCoeff())) break;
    }
    return w;
}

const std::string& AverageModel::kind() const {
    static const std::string name = "average";
    return name;
}

MatrixXd AverageModel::predict(const MatrixXd& inputs) const {
    MatrixXd said = MatrixXd::Zero(inputs.rows(), 1);
    for (std::size_t k = 0; k < parts.size(); ++k)
        if (weights[k] > 0) said += weights[k] * parts[k]->predict(inputs);
    return said;
}

std::vector<std::string> AverageModel::problems(std::span<const double> inputs) const {
    std::vector<std::string> found;
    for (std::size_t k = 0; k < parts.size(); ++k)
        for (std::string& problem : parts[k]->problems(inputs))
            if (weights[k] > 0 && std::find(found.begin(), found.end(), problem) == found.end())
                found.push_back(std::move(problem));
    return found;
}

std::vector<NamedNumber> AverageModel::says() const {
    std::vector<NamedNumber> said;
    for (std::size_t k = 0; k < parts.size(); ++k)
        said.push_back({"weight of " + parts[k]->kind(), weights[k]});
    return said;
}

std::string AverageModel::text() const {
    json all = json::array();
    for (std::size_t k = 0; k < parts.size(); ++k)
        all.push_back({{"weight", numberJson(weights[k])}, {"model", json::parse(parts[k]->text())}});
    return json{{"kind", "average"}, {"parts", all}}.dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind averageKind() {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = IntervalSource::unseenErrors,
                           .iterates = false}};
    kind.can.terms = Capabilities::Terms::formula;
    kind.name = "average";
    kind.title = "Average of kinds";
    Field models;
    models.key = "models";
    models.label = "Kinds that are averaged";
    models.type = FieldType::texts;
    models.fallback = std::vector<std::string>{"least squares", "forest", "boosted"};
    kind.fields = {models};
    kind.offers = {{"Average of least squares, a forest and boosted trees", {"average"}}};
    kind.sentence = [](const Settings& settings) {
        const auto& names = settings.get<std::vector<std::string>>("models");
        return "an average of " + nameList(names);
    };
    kind.costly = true;
    kind.learn = learnAverage;
    kind.describe = describeAverage;
    kind.read = [](std::string_view text) {
        return guardedRead([&] {
            const json j = json::parse(text);
            auto model = std::make_shared<AverageModel>();
            for (const json& each : j.at("parts")) {
                model->weights.push_back(numberFrom(each.at("weight")));
                if (!(model->weights.back() >= 0) || !std::isfinite(model->weights.back()))
                    damaged("a weight below 0");
                if (each.at("model").at("kind") == "average") damaged("an average of averages");
                model->parts.push_back(readModel(each.at("model").dump()));
            }
            if (model->parts.empty()) damaged("nothing that is averaged");
            return std::shared_ptr<const LearnedModel>(std::move(model));
        });
    };
    return kind;
}

} // namespace oxgoad
