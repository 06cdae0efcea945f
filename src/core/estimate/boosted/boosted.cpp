#include "estimate/boosted/boosted.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/learning_course.h"
#include "estimate/model_text.h"
#include "estimate/rows_judged.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

bool isBoostedQuantile(const std::string& kind) {
    return kind == "boosted quantile";
}

BoostOptions boostOptionsOf(const Settings& settings, const TrainingData& training) {
    BoostOptions options;
    options.loss = BoostOptions::Loss::quantile;
    if (isBoostedQuantile(settings.kind)) {
        options.share = settings.number("quantile");
    } else if (const std::string& loss = settings.text("loss"); loss == "squared") {
        options.loss = BoostOptions::Loss::squared;
    } else {
        options.loss = loss == "absolute" ? BoostOptions::Loss::absolute : BoostOptions::Loss::huber;
    }
    const auto* rounds = std::get_if<double>(&settings.get("rounds"));
    options.rounds = static_cast<std::size_t>(rounds ? *rounds : settings.number("most_rounds"));
    options.leaves = static_cast<std::size_t>(settings.number("leaves"));
    options.deepest = static_cast<std::size_t>(settings.number("deepest"));
    options.smallestLeaf = static_cast<std::size_t>(settings.number("smallest_leaf"));
    options.rate = settings.number("rate");
    options.leafPenalty = settings.number("leaf_penalty");
    options.rowShare = settings.number("row_share");
    options.columnShare = settings.number("column_share");
    options.seed =
        static_cast<std::uint64_t>(settings.number("seed")) + 0x9E3779B97F4A7C15ULL * (training.seed - 1);
    const Inputs& inputs = training.inputs.inputs();
    options.direction.assign(inputs.size(), 0);
    for (const auto& [key, way] : {std::pair("rising", 1), std::pair("falling", -1)})
        for (const std::string& name : settings.get<std::vector<std::string>>(key)) {
            const auto at = findInput(inputs, name);
            if (!at || inputs[*at].factor)
                throw Error(ErrorCode::badTerm,
                            at ? "is a factor, whose levels neither rise nor fall"
                               : "is no column of the model, which can be held to rise or fall",
                            {.file = training.file, .column = name},
                            "Take it out of \"" + std::string(key) + "\".");
            if (options.direction[*at] == -way)
                throw Error(ErrorCode::badTerm, "is to rise and to fall",
                            {.file = training.file, .column = name}, "Take it out of one of the two.");
            options.direction[*at] = way;
        }
    return options;
}

std::string lossNameOf(const BoostOptions& options) {
    switch (options.loss) {
    case BoostOptions::Loss::squared:
        return "root mean squared error";
    case BoostOptions::Loss::quantile:
        return "mean check loss";
    default:
        return "mean absolute error";
    }
}

double lossOf(const BoostOptions& options, double e) {
    switch (options.loss) {
    case BoostOptions::Loss::squared:
        return e * e;
    case BoostOptions::Loss::quantile:
        return e > 0 ? options.share * e : (options.share - 1) * e;
    default:
        return std::fabs(e);
    }
}

/// Loss of rows by rounds, summed over models of parts.
struct CourseSums {
    std::vector<double> loss, weight;
    void add(const Boosted& model, const BoostOptions& options, const TrainingData& left,
             const Progress& progress) {
        const std::size_t rounds = options.rounds, inputs = left.inputs.inputs().size();
        loss.resize(rounds, 0);
        constexpr std::size_t block = 4096;
        const std::size_t n = left.rows.size(), blocks = (n + block - 1) / block;
        std::vector<std::vector<double>> sums(blocks, std::vector<double>(rounds, 0));
        double whole = 0;
        for (std::size_t i = 0; i < n; ++i)
            whole += left.weights.empty() ? 1 : left.weights[i];
        parallelFor(blocks, left.threads, [&](std::size_t b) {
            stopIfTold(progress);
            const std::size_t begin = b * block, count = std::min(block, n - begin);
            MatrixXd values(static_cast<Index>(count), static_cast<Index>(inputs));
            left.inputs.fill(left.rows.subspan(begin, count), values);
            std::vector<double> row(inputs);
            for (std::size_t i = 0; i < count; ++i) {
                for (std::size_t j = 0; j < inputs; ++j)
                    row[j] = values(static_cast<Index>(i), static_cast<Index>(j));
                const double y = left.y[begin + i], w = left.weights.empty() ? 1 : left.weights[begin + i];
                double said = model.start;
                for (std::size_t t = 0; t < rounds; ++t) {
                    if (t < model.trees.trees())
                        said += model.trees.nodes()[model.trees.leafOf(t, row.data())].value;
                    sums[b][t] += w * lossOf(options, y - said);
                }
            }
        });
        for (std::size_t t = 0; t < rounds; ++t)
            for (std::size_t b = 0; b < blocks; ++b)
                loss[t] += sums[b][t];
        weight.push_back(whole);
    }
};

std::string courseSays(const LearningCourse::Run& run) {
    const std::size_t n = run.step.size();
    if (n == 0 || std::isnan(run.unseen.back())) return {};
    const auto least =
        static_cast<std::size_t>(std::min_element(run.unseen.begin(), run.unseen.end()) - run.unseen.begin());
    const double smallest = run.unseen[least], last = run.unseen.back();
    if (last <= 1.002 * smallest) {
        const std::size_t tenth = n - 1 - n / 10;
        return run.unseen[tenth] > 1.005 * last
                   ? "the error of unseen rows still falls after " + plural(n, "round", "rounds") +
                         ": more would help"
                   : "the error of unseen rows is flat at the end of " + plural(n, "round", "rounds");
    }
    return "the error of unseen rows was smallest after " + plural(least + 1, "round", "rounds") +
           " and is " + readableText(100 * (last / smallest - 1), 2) + " % larger after " + countText(n) +
           ": fewer rounds would do";
}

} // namespace

double shownLoss(const BoostOptions& options, double loss) {
    return options.loss == BoostOptions::Loss::squared ? std::sqrt(loss) : loss;
}

namespace {

FitResult learnBoosted(const Settings& settings, const TrainingData& training, Progress& progress) {
    const BoostOptions options = boostOptionsOf(settings, training);
    requireTreeRows(training, options.smallestLeaf);
    auto model = std::make_shared<BoostedModel>();
    model->kindName = settings.kind;
    {
        ProgressStage growing(progress, 0, 0.4);
        model->said =
            boost(treeRowsOf(training), training.inputs.inputs(), options, training.threads, growing);
    }
    FitResult result{.model = model, .outcome = {.converged = true}};
    result.rows.fitted = fittedBy(*model, training, progress);
    result.rows.residuals =
        Eigen::Map<const VectorXd>(training.y.data(), result.rows.fitted.size()) - result.rows.fitted;
    CourseSums unseen;
    ProgressStage parts(progress, 0.4, 1);
    judgeByParts(training, (5 * options.smallestLeaf + 1) / 2, result.rows, parts,
                 [&](const TrainingData& part, const TrainingData& left) {
                     StopOnly stops(progress);
                     auto other = std::make_shared<BoostedModel>();
                     other->said =
                         boost(treeRowsOf(part), training.inputs.inputs(), options, training.threads, stops);
                     unseen.add(other->said, options, left, progress);
                     return other;
                 });
    double whole = 0;
    for (const double w : unseen.weight)
        whole += w;
    LearningCourse& course = model->learning;
    course = {.steps = "rounds", .loss = lossNameOf(options)};
    if (whole > 0)
        course.unseenRows = unseen.weight.size() > 1
                                ? "each fifth of the learning rows by a model of the others"
                                : "a fifth of the learning rows by a model of the others";
    LearningCourse::Run run{.name = "boosted"};
    for (std::size_t t = 0; t < model->said.loss.size(); ++t) {
        run.step.push_back(static_cast<double>(t + 1));
        const double lost = model->said.loss[t], missed = whole > 0 ? unseen.loss[t] / whole : nan;
        run.learning.push_back(shownLoss(options, lost));
        run.unseen.push_back(shownLoss(options, missed));
    }
    course.says = courseSays(run);
    course.takenAt = static_cast<double>(run.step.size());
    course.runs = {std::move(run)};
    progress.checkpoint(1, "Boosted");
    return result;
}

/// From few rounds to many, each some 15 % more than the one before.
std::vector<double> candidateRounds(const Settings& settings, std::string_view,
                                    const TrainingData& training) {
    requireTreeRows(training, static_cast<std::size_t>(settings.number("smallest_leaf")));
    const double most = settings.number("most_rounds");
    std::vector<double> values;
    for (double at = 1; at < most; at = std::max(at + 1, std::round(1.15 * at)))
        values.push_back(at);
    values.push_back(most);
    return values;
}

MatrixXd predictEachRound(const Settings& settings, std::string_view, std::span<const double> values,
                          const TrainingData& training, const MatrixXd& inputs, Progress& progress) {
    BoostOptions options = boostOptionsOf(settings, training);
    options.rounds = static_cast<std::size_t>(*std::max_element(values.begin(), values.end()));
    BoostedModel model;
    model.said = boost(treeRowsOf(training), training.inputs.inputs(), options, training.threads, progress);
    return model.predictEach(inputs, values);
}

ModelPart describeBoosted(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const BoostedModel&>(learned);
    ModelPart part{.key = "boosted"};
    json said{{"rounds", model.said.trees.trees()},
              {"leaves", model.said.trees.leaves()},
              {"start", model.said.start}};
    putCourse(model.learning, said, part);
    part.json = said.dump(-1, ' ', false, json::error_handler_t::replace);
    return part;
}

std::shared_ptr<const LearnedModel> readBoosted(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        auto model = std::make_shared<BoostedModel>();
        model->kindName = j.at("kind").get<std::string>();
        model->said.start = numberFrom(j.at("start"));
        model->said.loss = numbersFrom(j.at("loss"));
        if (j.at("trees").at("begin").empty()) // the start says all
            model->said.trees = TreeSet(inputsFrom(j.at("trees").at("inputs")));
        else
            model->said.trees = TreeSet::from(j.at("trees"));
        model->learning = courseFrom(j.at("course"));
        if (!std::isfinite(model->said.start)) damaged("a start that is no number");
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

Field columnsField(std::string key, std::string label) {
    Field field;
    field.key = std::move(key);
    field.label = std::move(label);
    field.type = FieldType::columns;
    field.fallback = std::vector<std::string>{};
    field.kinds = {ColumnKind::number};
    return field;
}

ModelKind boostedOf(const std::string& name, const std::string& title, bool quantile) {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = quantile ? IntervalSource::none : IntervalSource::unseenErrors,
                           .iterates = false,
                           .missingInputs = true}};
    kind.name = name;
    kind.title = title;
    Field rounds = soughtField(
        "rounds", "Rounds", 300.0, 1, 100000,
        {smallestErrorRule, oneStandardErrorRule, std::string(smallestErrorRule) + onHeldOutRows});
    rounds.whole = true;
    kind.fields = {rounds,
                   wholeField("most_rounds", "Rounds that folds try at most", 500, 1, 100000),
                   wholeField("leaves", "Leaves of a tree at most", 31, 2, 65536),
                   wholeField("deepest", "Questions below each other at most", 100, 1, 1000),
                   wholeField("smallest_leaf", "Rows of a leaf at least", 20, 1, 1e9),
                   numberField("rate", "What is taken of each tree", 0.05, 1e-6, 1),
                   numberField("leaf_penalty", "Penalty on what leaves say", 0, 0, 1e300),
                   numberField("row_share", "Share of the rows drawn for a tree", 1, 0.01, 1),
                   numberField("column_share", "Share of the columns drawn for a tree", 1, 0.01, 1),
                   columnsField("rising", "Columns with which it may only rise"),
                   columnsField("falling", "Columns with which it may only fall"),
                   wholeField("seed", "Seed", 1, 0, 4294967295.0)};
    if (quantile)
        kind.fields.push_back(numberField("quantile", "Quantile", 0.5, 0.001, 0.999));
    else
        kind.fields.push_back(choiceField("loss", "Loss", {"squared", "absolute", "Huber"}));
    kind.quantile = quantile;
    kind.offers = {{title + ", rounds by folds", {name, {{"rounds", std::string(smallestErrorRule)}}}},
                   {title + ", 300 rounds", {name}}};
    kind.sentence = [name](const Settings& settings) {
        const auto* given = std::get_if<double>(&settings.get("rounds"));
        const std::string what = name == "boosted" ? "boosted trees" : "boosted trees of a quantile";
        return what + " of " + shortText(settings.number("leaves")) + " leaves, " +
               (given ? shortText(*given) + " rounds"
                      : "rounds of the smallest error up to " + shortText(settings.number("most_rounds")));
    };
    kind.learn = learnBoosted;
    kind.candidates = candidateRounds;
    kind.predictEach = predictEachRound;
    kind.describe = describeBoosted;
    kind.read = readBoosted;
    return kind;
}

} // namespace

MatrixXd BoostedModel::predict(const MatrixXd& inputs) const {
    const auto all = static_cast<double>(said.trees.trees());
    return predictEach(inputs, std::span(&all, 1));
}

MatrixXd BoostedModel::predictEach(const MatrixXd& inputs, std::span<const double> rounds) const {
    MatrixXd out(inputs.rows(), static_cast<Index>(rounds.size()));
    std::vector<double> row(static_cast<std::size_t>(inputs.cols()));
    std::vector<std::size_t> order(rounds.size());
    for (std::size_t k = 0; k < order.size(); ++k)
        order[k] = k;
    std::sort(order.begin(), order.end(), [&](auto a, auto b) { return rounds[a] < rounds[b]; });
    for (Index i = 0; i < inputs.rows(); ++i) {
        for (Index j = 0; j < inputs.cols(); ++j)
            row[static_cast<std::size_t>(j)] = inputs(i, j);
        double sum = said.start;
        std::size_t t = 0;
        for (const std::size_t k : order) {
            for (; t < said.trees.trees() && static_cast<double>(t) < rounds[k]; ++t)
                sum += said.trees.nodes()[said.trees.leafOf(t, row.data())].value;
            out(i, static_cast<Index>(k)) = sum;
        }
    }
    return out;
}

std::vector<NamedNumber> BoostedModel::says() const {
    return {{"rounds", static_cast<double>(said.trees.trees())},
            {"leaves", static_cast<double>(said.trees.leaves())}};
}

std::string BoostedModel::text() const {
    return json{{"kind", kindName},
                {"start", numberJson(said.start)},
                {"loss", numbersJson(said.loss)},
                {"trees", said.trees.json()},
                {"course", courseJson(learning)}}
        .dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind boostedKind() {
    return boostedOf("boosted", "Boosted trees", false);
}

ModelKind boostedQuantileKind() {
    return boostedOf("boosted quantile", "Boosted trees of a quantile", true);
}

} // namespace oxgoad
