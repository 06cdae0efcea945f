#include "estimate/forest/forest.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/random.h"
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

/// Trees are grown so many at a time; after each the course is known.
constexpr std::size_t treesAtOnce = 10;
/// More trees help no more where these brought less than a thousandth of the squared error.
constexpr std::size_t lookBack = 50;
constexpr double helps = 0.0005;

struct GrownTree {
    TreeSet tree;
    std::vector<double> drawn;
    /// By learning row: what it says of it, and whether the row was drawn.
    std::vector<double> said;
    std::vector<std::uint8_t> in;
};

class Forester {
public:
    Forester(const Settings& settings, const TrainingData& training, bool quantiles, Progress& progress)
        : m_settings(settings), m_training(training), m_progress(progress), m_quantiles(quantiles),
          m_rows(treeRowsOf(training)), m_order(orderOf(m_rows, training.threads, progress)) {
        m_options.smallestLeaf = static_cast<std::size_t>(settings.number("smallest_leaf"));
        m_options.smallestSplit = 2 * m_options.smallestLeaf;
        m_options.deepest = static_cast<std::size_t>(settings.number("deepest"));
        m_options.columnsASplit = std::max<std::size_t>(
            1, static_cast<std::size_t>(std::lround(settings.number("columns_a_split") *
                                                    static_cast<double>(m_rows.columns.size()))));
        m_options.weakest = false;
    }

    FitResult learn() {
        const std::size_t n = m_training.rows.size();
        const auto asked = static_cast<std::size_t>(m_settings.number("trees"));
        auto model = std::make_shared<ForestModel>();
        model->kindName = m_settings.kind;
        model->trees = TreeSet(m_training.inputs.inputs());
        LearningCourse& course = model->learning;
        course = {.steps = "trees",
                  .loss = "root mean squared error",
                  .unseenRows = "each learning row by the trees it was not drawn for"};
        course.runs.resize(1);
        std::vector<double> sum(n, 0), count(n, 0), all(n, 0);
        bool enough = false;
        while (model->trees.trees() < asked && !enough) {
            const std::size_t done = model->trees.trees(), now = std::min(treesAtOnce, asked - done);
            m_progress.checkpoint(static_cast<double>(done) / static_cast<double>(asked),
                                  "Growing tree " + std::to_string(done + 1) + " of " +
                                      std::to_string(asked));
            std::vector<GrownTree> grown(now);
            parallelFor(now, m_training.threads, [&](std::size_t k) { grown[k] = grow(done + k); });
            for (const GrownTree& each : grown) {
                model->trees.add(each.tree);
                model->drawn.insert(model->drawn.end(), each.drawn.begin(), each.drawn.end());
                for (std::size_t i = 0; i < n; ++i) {
                    all[i] += each.said[i];
                    if (!each.in[i]) sum[i] += each.said[i], ++count[i];
                }
            }
            enough = note(course.runs[0], model->trees.trees(), sum, count, all);
        }
        course.takenAt = static_cast<double>(model->trees.trees());
        say(course, asked);
        FitResult result{.model = model, .outcome = {.converged = true}};
        result.rows.fitted = Eigen::Map<const VectorXd>(all.data(), static_cast<Index>(n)) /
                             static_cast<double>(model->trees.trees());
        result.rows.residuals =
            Eigen::Map<const VectorXd>(m_training.y.data(), static_cast<Index>(n)) - result.rows.fitted;
        result.rows.unseenOf = IntervalsByErrors::Of::outOfBag;
        for (std::uint32_t i = 0; i < n; ++i)
            if (count[i] > 0) {
                result.rows.unseenRows.push_back(i);
                result.rows.unseen.push_back(m_training.y[i] - sum[i] / count[i]);
            }
        m_progress.checkpoint(1, "Grew the forest");
        return result;
    }

private:
    double weightOf(std::size_t i) const { return m_training.weights.empty() ? 1 : m_training.weights[i]; }

    GrownTree grow(std::size_t tree) const {
        stopIfTold(m_progress);
        const std::size_t n = m_rows.y.size();
        const auto seed = static_cast<std::uint64_t>(m_settings.number("seed"));
        RandomStream stream(seed + 0x9E3779B97F4A7C15ULL * (m_training.seed - 1),
                            "tree " + std::to_string(tree) + " of a forest");
        std::vector<double> weights(n, 0);
        for (std::size_t i = 0; i < n; ++i)
            ++weights[stream.below(n)];
        for (std::size_t i = 0; i < n; ++i)
            weights[i] *= weightOf(i);
        TreeOptions options = m_options;
        options.seed = stream.next();
        const StopOnly stops(m_progress);
        GrownTree out{.tree = TreeSet(m_training.inputs.inputs())};
        const bool any = std::any_of(weights.begin(), weights.end(), [](double w) { return w > 0; });
        const std::vector<TreeNode> nodes =
            growTree(m_rows, m_order, any ? weights : m_rows.weights, options, stops);
        out.tree.add(nodes);
        out.said.resize(n);
        out.in.resize(n);
        std::vector<double> whole;
        if (m_quantiles) {
            out.drawn.assign(nodes.size(), 0);
            whole.assign(nodes.size(), 0);
        }
        std::vector<double> row(m_rows.columns.size());
        for (std::size_t i = 0; i < n; ++i) {
            for (std::size_t j = 0; j < row.size(); ++j)
                row[j] = m_rows.columns[j][i];
            const std::size_t leaf = out.tree.leafOf(0, row.data());
            out.said[i] = out.tree.nodes()[leaf].value;
            out.in[i] = weights[i] > 0;
            if (!m_quantiles || weights[i] == 0) continue;
            // One of the leaf's rows, by weight.
            whole[leaf] += weights[i];
            if (stream.uniform() * whole[leaf] < weights[i]) out.drawn[leaf] = m_rows.y[i];
        }
        return out;
    }

    /// Errors so far; true when more trees no longer help.
    bool note(LearningCourse::Run& run, std::size_t trees, const std::vector<double>& sum,
              const std::vector<double>& count, const std::vector<double>& all) {
        long double unseen = 0, unseenWeight = 0, learned = 0, whole = 0;
        for (std::size_t i = 0; i < all.size(); ++i) {
            const double w = weightOf(i), e = m_training.y[i] - all[i] / static_cast<double>(trees);
            learned += static_cast<long double>(w) * e * e;
            whole += w;
            if (!(count[i] > 0)) continue;
            const double u = m_training.y[i] - sum[i] / count[i];
            unseen += static_cast<long double>(w) * u * u;
            unseenWeight += w;
        }
        run.step.push_back(static_cast<double>(trees));
        run.learning.push_back(static_cast<double>(std::sqrt(learned / whole)));
        run.unseen.push_back(unseenWeight > 0 ? static_cast<double>(std::sqrt(unseen / unseenWeight)) : nan);
        m_progress.course("forest", run.step.back(), run.learning.back(), run.unseen.back());
        const std::size_t back = lookBack / treesAtOnce;
        if (!std::get<bool>(m_settings.get(std::string_view("stop_early"))) || run.step.size() <= 2 * back)
            return false;
        const double before = run.unseen[run.unseen.size() - 1 - back];
        return run.unseen.back() > (1 - helps) * before;
    }

    static void say(LearningCourse& course, std::size_t asked) {
        const auto& run = course.runs[0];
        const auto grown = static_cast<std::size_t>(course.takenAt);
        course.says = "after " + plural(grown, "tree", "trees") + " the error of rows not drawn is " +
                      readableText(run.unseen.back(), 4) + " (root mean squared)";
        if (grown < asked)
            course.says += "; the last " + std::to_string(lookBack) +
                           " trees changed it by less than 0.05 %, and no more were grown of the " +
                           countText(asked) + " asked for";
        const std::size_t back = lookBack / treesAtOnce;
        if (grown >= asked && run.unseen.size() > back &&
            run.unseen.back() < (1 - 5 * helps) * run.unseen[run.unseen.size() - 1 - back])
            course.says += "; it still falls: more trees would help";
    }

    const Settings& m_settings;
    const TrainingData& m_training;
    Progress& m_progress;
    bool m_quantiles;
    TreeRows m_rows;
    TreeOrder m_order;
    TreeOptions m_options;
};

FitResult learnForest(const Settings& settings, const TrainingData& training, bool quantiles,
                      Progress& progress) {
    const auto leaf = static_cast<std::size_t>(settings.number("smallest_leaf"));
    requireTreeRows(training, leaf);
    return Forester(settings, training, quantiles, progress).learn();
}

ModelPart describeForest(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const ForestModel&>(learned);
    ModelPart part{.key = "forest"};
    json said{{"trees", model.trees.trees()}, {"leaves", model.trees.leaves()}};
    putCourse(model.learning, said, part);
    part.json = said.dump(-1, ' ', false, json::error_handler_t::replace);
    return part;
}

std::shared_ptr<const LearnedModel> readForest(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        auto model = std::make_shared<ForestModel>();
        model->kindName = j.at("kind").get<std::string>();
        model->trees = TreeSet::from(j.at("trees"));
        model->learning = courseFrom(j.at("course"));
        model->drawn = numbersFrom(j.at("drawn"));
        const bool quantiles = model->kindName == "quantile forest";
        if (model->drawn.size() != (quantiles ? model->trees.places() : 0))
            damaged("other drawn rows than places");
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

ModelKind forestOf(const std::string& name, const std::string& title, bool quantiles) {
    ModelKind kind{
        .can = {.weights = WeightUse::accepted,
                .intervals = quantiles ? IntervalSource::distribution : IntervalSource::unseenErrors,
                .iterates = false,
                .offset = !quantiles,
                .missingInputs = true,
                .logResponse = !quantiles}};
    kind.name = name;
    kind.title = title;
    kind.fields = {wholeField("trees", "Trees at most", 200, 1, 10000),
                   numberField("columns_a_split", "Share of the columns tried at a question", 0.33, 0.01, 1),
                   wholeField("smallest_leaf", "Rows of a leaf at least", 5, 1, 1e9),
                   wholeField("deepest", "Questions below each other at most", 100, 1, 1000),
                   flagField("stop_early", "Stop when more trees no longer help", true),
                   wholeField("seed", "Seed", 1, 0, 4294967295.0)};
    kind.offers = {{title, {name}}};
    kind.sentence = [name](const Settings& settings) {
        return "a " + name + " of " + shortText(settings.number("trees")) + " trees at most";
    };
    kind.learn = [quantiles](const Settings& settings, const TrainingData& training, Progress& progress) {
        return learnForest(settings, training, quantiles, progress);
    };
    kind.describe = describeForest;
    kind.read = readForest;
    return kind;
}

} // namespace

MatrixXd ForestModel::predict(const MatrixXd& inputs) const {
    MatrixXd said(inputs.rows(), 1);
    std::vector<double> row(static_cast<std::size_t>(inputs.cols()));
    for (Index i = 0; i < inputs.rows(); ++i) {
        for (Index j = 0; j < inputs.cols(); ++j)
            row[static_cast<std::size_t>(j)] = inputs(i, j);
        said(i, 0) = trees.sum(row.data(), trees.trees()) / static_cast<double>(trees.trees());
    }
    return said;
}

MatrixXd ForestModel::quantiles(const MatrixXd& inputs, std::span<const double> shares) const {
    if (drawn.empty()) return {};
    MatrixXd out(inputs.rows(), static_cast<Index>(shares.size()));
    std::vector<double> row(static_cast<std::size_t>(inputs.cols())), values(trees.trees());
    for (Index i = 0; i < inputs.rows(); ++i) {
        for (Index j = 0; j < inputs.cols(); ++j)
            row[static_cast<std::size_t>(j)] = inputs(i, j);
        for (std::size_t t = 0; t < trees.trees(); ++t)
            values[t] = drawn[trees.leafOf(t, row.data())];
        std::sort(values.begin(), values.end());
        for (std::size_t s = 0; s < shares.size(); ++s) {
            const double at = shares[s] * static_cast<double>(values.size() + 1) - 1;
            const double low = std::clamp(std::floor(at), 0.0, static_cast<double>(values.size() - 1));
            const auto k = static_cast<std::size_t>(low);
            const double next = values[std::min(k + 1, values.size() - 1)];
            out(i, static_cast<Index>(s)) = values[k] + std::clamp(at - low, 0.0, 1.0) * (next - values[k]);
        }
    }
    return out;
}

std::vector<NamedNumber> ForestModel::says() const {
    return {{"trees", static_cast<double>(trees.trees())}, {"leaves", static_cast<double>(trees.leaves())}};
}

std::string ForestModel::text() const {
    return json{{"kind", kindName},
                {"trees", trees.json()},
                {"course", courseJson(learning)},
                {"drawn", numbersJson(drawn)}}
        .dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind forestKind() {
    return forestOf("forest", "Forest of trees", false);
}

ModelKind quantileForestKind() {
    return forestOf("quantile forest", "Forest of trees with quantiles of its leaves", true);
}

} // namespace oxgoad
