#include "estimate/tree/tree.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/model_text.h"
#include "estimate/rows_judged.h"
#include "estimate/tree/tree_gain.h"
#include "table/fields.h"

#include <algorithm>
#include <cmath>
#include <sstream>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

const std::string treeOfSmallestError = smallestErrorRule, treeWithinOneError = oneStandardErrorRule,
                  treeByHeldOut = treeOfSmallestError + onHeldOutRows;

TreeOptions treeOptionsOf(const Settings& settings) {
    return {.smallestLeaf = static_cast<std::size_t>(settings.number("smallest_leaf")),
            .smallestSplit = static_cast<std::size_t>(settings.number("smallest_split")),
            .deepest = static_cast<std::size_t>(settings.number("deepest")),
            .leastGain = settings.number("least_gain")};
}

} // namespace

void requireTreeRows(const TrainingData& training, std::size_t leaf) {
    const auto [least, most] = std::minmax_element(training.y.begin(), training.y.end());
    if (training.rows.size() < 2 || !(*least < *most))
        throw Error(training.rows.size() < 2 ? ErrorCode::tooFewRows : ErrorCode::noSpread,
                    training.rows.size() < 2
                        ? "one learning row grows no tree"
                        : "the response has the same value in all " +
                              plural(training.rows.size(), "learning row", "learning rows"),
                    {.file = training.file}, "Choose another response or other rows.");
    if (training.rows.size() < 2 * leaf)
        throw Error(ErrorCode::tooFewRows,
                    plural(training.rows.size(), "learning row is", "learning rows are") +
                        " too few for two leaves of " + countText(leaf),
                    {.file = training.file}, "Ask for smaller leaves, or bring more rows.");
}

TreeRows treeRowsOf(const TrainingData& training) {
    TreeRows rows;
    const Inputs& inputs = training.inputs.inputs();
    rows.columns.resize(inputs.size());
    for (std::size_t j = 0; j < inputs.size(); ++j) {
        rows.columns[j].resize(training.rows.size());
        training.inputs.fillOne(j, training.rows, rows.columns[j].data());
        rows.levels.push_back(inputs[j].factor ? inputs[j].levels.size() + 1 : 0);
        if (inputs[j].factor) // "missing" is a level after the last
            for (double& code : rows.columns[j])
                if (std::isnan(code)) code = static_cast<double>(inputs[j].levels.size());
    }
    rows.y.assign(training.y.begin(), training.y.end());
    rows.weights.assign(training.weights.begin(), training.weights.end());
    return rows;
}

namespace {

/// The complexity of the largest tree of the sequence with so many leaves at most.
double complexityOfLeaves(const std::vector<TreeNode>& nodes, std::size_t leaves) {
    const std::vector<TreeStep> steps = weakestLinks(nodes);
    for (const TreeStep& step : steps)
        if (step.leaves <= leaves) return step.complexity;
    return steps.back().complexity;
}

double complexityFor(const Settings& settings, const std::vector<TreeNode>& nodes) {
    const double leaves = settings.number("leaves");
    return leaves > 0 ? complexityOfLeaves(nodes, static_cast<std::size_t>(leaves))
                      : settings.number("complexity");
}

TreeModel grownTree(const Settings& settings, const TrainingData& training, const Progress& progress) {
    std::vector<TreeNode> nodes =
        growTree(treeRowsOf(training), treeOptionsOf(settings), training.threads, progress);
    const double complexity = complexityFor(settings, nodes);
    return {training.inputs.inputs(), std::move(nodes), complexity};
}

FitResult learnTree(const Settings& settings, const TrainingData& training, Progress& progress) {
    progress.checkpoint(0.05, "Growing the tree");
    requireTreeRows(training, static_cast<std::size_t>(settings.number("smallest_leaf")));
    auto model = std::make_shared<const TreeModel>(grownTree(settings, training, progress));
    FitResult result{.model = model, .outcome = {.converged = true}};
    const auto n = static_cast<Index>(training.rows.size());
    result.rows.fitted = fittedBy(*model, training, progress);
    result.rows.residuals = Eigen::Map<const VectorXd>(training.y.data(), n) - result.rows.fitted;
    judgeByParts(training, 4 * treeOptionsOf(settings).smallestLeaf, result.rows, progress,
                 [&](const TrainingData& part, const TrainingData&) {
                     return std::make_shared<const TreeModel>(grownTree(settings, part, progress));
                 });
    progress.checkpoint(1, "Grew the tree");
    return result;
}

/// Between the steps of the full tree's sequence (Breiman and others 1984, §3.4.2), from the root's; where
/// there are many steps, thinner among large trees.
std::vector<double> candidateComplexities(const Settings& settings, std::string_view,
                                          const TrainingData& training) {
    requireTreeRows(training, static_cast<std::size_t>(settings.number("smallest_leaf")));
    Progress quiet;
    const std::vector<TreeNode> nodes =
        growTree(treeRowsOf(training), treeOptionsOf(settings), training.threads, quiet);
    const std::vector<TreeStep> steps = weakestLinks(nodes);
    std::vector<double> values{steps.size() > 1 ? nodes[0].mse : 0};
    constexpr std::size_t most = 150;
    std::size_t last = SIZE_MAX;
    for (std::size_t k = steps.size() - 1; k-- > 0;) {
        const double thinned = 1 + 0.02 * static_cast<double>(steps[k].leaves) / 60;
        const bool kept = steps.size() <= most || steps[k].leaves <= 60 || k == 0 || last == SIZE_MAX ||
                          static_cast<double>(steps[k].leaves) >= thinned * static_cast<double>(last);
        if (!kept) continue;
        last = steps[k].leaves;
        values.push_back(k == 0 ? 0.5 * steps[1].complexity
                                : std::sqrt(steps[k].complexity * steps[k + 1].complexity));
    }
    return values;
}

MatrixXd predictEachComplexity(const Settings& settings, std::string_view, std::span<const double> values,
                               const TrainingData& training, const MatrixXd& inputs, Progress& progress) {
    const TreeModel model(training.inputs.inputs(),
                          growTree(treeRowsOf(training), treeOptionsOf(settings), training.threads, progress),
                          0);
    return model.predictEach(inputs, values);
}

std::string treeSentence(const Settings& settings) {
    if (const auto* rule = std::get_if<std::string>(&settings.get(std::string_view("complexity"))))
        return "a regression tree cut back to " +
               std::string(rule->starts_with(treeOfSmallestError)
                               ? "the smallest error "
                               : "within one standard error of the smallest ") +
               (rule->ends_with(onHeldOutRows) ? "on held-out rows" : "over folds");
    if (settings.number("leaves") > 0)
        return "a regression tree cut back to " +
               plural(static_cast<std::size_t>(settings.number("leaves")), "leaf", "leaves");
    return settings.number("complexity") > 0 ? "a regression tree cut back" : "a regression tree";
}

NamedNumber leavesAt(const LearnedModel& learned, std::string_view, double complexity) {
    std::size_t leaves = 1;
    for (const TreeStep& step : dynamic_cast<const TreeModel&>(learned).sequence())
        if (step.complexity <= complexity) leaves = step.leaves;
    return {"leaves", static_cast<double>(leaves)};
}

/// The tree as indented questions.
std::string treeText(const TreeModel& model, const std::vector<TreeNode>& nodes) {
    std::ostringstream out;
    std::vector<std::size_t> depth(nodes.size());
    for (std::size_t t = 0; t < nodes.size(); ++t) {
        const TreeNode& node = nodes[t];
        std::string way = "all rows";
        if (node.parent != TreeNode::none) {
            const auto above = static_cast<std::size_t>(node.parent);
            depth[t] = depth[above] + 1;
            way = model.question(nodes[above], nodes[above].left == static_cast<std::int32_t>(t));
        }
        out << std::string(2 * depth[t], ' ') << way << ": " << groupedText(std::round(node.mean * 1e6) / 1e6)
            << " from " << plural(node.rows, "row", "rows") << "\n";
    }
    return out.str();
}

} // namespace

TreeModel::TreeModel(Inputs inputs, std::vector<TreeNode> nodes, double complexity)
    : m_inputs(std::move(inputs)), m_nodes(std::move(nodes)), m_complexity(complexity) {
    if (m_nodes.empty())
        throw Error(ErrorCode::tooFewRows, "no row of a weight above 0 grows a tree", {}, "Bring more rows.");
}

const std::string& TreeModel::kind() const {
    static const std::string name = "tree";
    return name;
}

bool TreeModel::goesLeft(const TreeNode& node, const double* inputs) const {
    return goesLeft(m_nodes, node, inputs);
}

bool TreeModel::goesLeft(const std::vector<TreeNode>& nodes, const TreeNode& node,
                         const double* inputs) const {
    const double value = inputs[node.input];
    const Input& input = m_inputs[static_cast<std::size_t>(node.input)];
    if (!input.factor) return std::isnan(value) ? node.missingLeft : value < node.below;
    if (std::isinf(value))
        return nodes[static_cast<std::size_t>(node.left)].rows >
               nodes[static_cast<std::size_t>(node.right)].rows;
    const double code = std::isnan(value) ? static_cast<double>(input.levels.size()) : value;
    return std::binary_search(node.levels.begin(), node.levels.end(), static_cast<std::int32_t>(code));
}

std::size_t TreeModel::leafOf(const double* inputs, double complexity) const {
    std::size_t at = 0;
    while (m_nodes[at].asks() && m_nodes[at].cutAt > complexity) {
        const TreeNode& node = m_nodes[at];
        at = static_cast<std::size_t>(goesLeft(node, inputs) ? node.left : node.right);
    }
    return at;
}

MatrixXd TreeModel::predict(const MatrixXd& inputs) const {
    const std::array one{m_complexity};
    return predictEach(inputs, one);
}

MatrixXd TreeModel::predictEach(const MatrixXd& inputs, std::span<const double> complexities) const {
    MatrixXd said = MatrixXd::Constant(inputs.rows(), static_cast<Index>(complexities.size()), std::nan(""));
    std::vector<double> row(static_cast<std::size_t>(inputs.cols()));
    for (Index i = 0; i < inputs.rows(); ++i) {
        for (Index j = 0; j < inputs.cols(); ++j)
            row[static_cast<std::size_t>(j)] = inputs(i, j);
        for (std::size_t k = 0; k < complexities.size(); ++k)
            said(i, static_cast<Index>(k)) = m_nodes[leafOf(row.data(), complexities[k])].mean;
    }
    return said;
}

namespace {

/// A column on the way to a leaf: the share of weight that goes on where it is not known, and whether the row
/// goes on where it is.
struct OnTheWay {
    std::size_t input;
    double share;
    bool follows;
};

/// What the columns on the way add by one leaf of value 1: over all sets of the others, by their number,
/// Σ |S|! (d − |S| − 1)! / d! of the products of what is known.
void addLeaf(const std::vector<OnTheWay>& way, double value, std::vector<double>& amounts) {
    const std::size_t d = way.size();
    std::vector<double> sets(d);
    for (std::size_t j = 0; j < d; ++j) {
        std::fill(sets.begin(), sets.end(), 0.0);
        sets[0] = 1;
        for (std::size_t i = 0, known = 0; i < d; ++i) {
            if (i == j) continue;
            ++known;
            for (std::size_t k = known + 1; k-- > 0;)
                sets[k] = sets[k] * way[i].share + (k > 0 && way[i].follows ? sets[k - 1] : 0);
        }
        // 1 / (d · C(d − 1, k))
        double weight = 1 / static_cast<double>(d), sum = 0;
        for (std::size_t k = 0; k < d; ++k) {
            sum += weight * sets[k];
            weight *= static_cast<double>(k + 1) / static_cast<double>(std::max<std::size_t>(1, d - 1 - k));
        }
        amounts[way[j].input] += value * ((way[j].follows ? 1 : 0) - way[j].share) * sum;
    }
}

} // namespace

Contributions TreeModel::contributions(std::span<const double> inputs) const {
    Contributions out{m_nodes[0].mean, std::vector<double>(m_inputs.size(), 0)};
    struct Open {
        std::size_t at;
        std::vector<OnTheWay> way;
    };
    std::vector<Open> open{{0, {}}};
    while (!open.empty()) {
        const Open here = std::move(open.back());
        open.pop_back();
        const TreeNode& node = m_nodes[here.at];
        if (!node.asks() || !(node.cutAt > m_complexity)) {
            // About the mean of all, so that no digits are lost in what cancels.
            addLeaf(here.way, node.mean - out.start, out.amounts);
            continue;
        }
        const bool left = goesLeft(node, inputs.data());
        for (const bool side : {false, true}) {
            Open next{static_cast<std::size_t>(side ? node.left : node.right), here.way};
            const double share = m_nodes[next.at].weight / node.weight;
            const auto input = static_cast<std::size_t>(node.input);
            const auto known = std::find_if(next.way.begin(), next.way.end(),
                                            [&](const OnTheWay& each) { return each.input == input; });
            if (known == next.way.end()) {
                next.way.push_back({input, share, side == left});
            } else {
                known->share *= share;
                known->follows = known->follows && side == left;
            }
            open.push_back(std::move(next));
        }
    }
    return out;
}

std::vector<TreeNode> TreeModel::cutBack() const {
    std::vector<TreeNode> out;
    std::vector<std::pair<std::size_t, std::int32_t>> open{{0, TreeNode::none}};
    while (!open.empty()) {
        const auto [from, parent] = open.back();
        open.pop_back();
        TreeNode node = m_nodes[from];
        const bool asks = node.asks() && node.cutAt > m_complexity;
        const auto left = node.left, right = node.right;
        node.parent = parent;
        node.left = node.right = TreeNode::none;
        if (!asks) {
            node.input = TreeNode::none;
            node.levels.clear();
            node.below = node.gain = node.cutAt = 0;
        }
        const auto at = static_cast<std::int32_t>(out.size());
        if (parent != TreeNode::none) {
            TreeNode& above = out[static_cast<std::size_t>(parent)];
            (above.left == TreeNode::none ? above.left : above.right) = at;
        }
        out.push_back(std::move(node));
        if (asks) {
            open.emplace_back(static_cast<std::size_t>(right), at);
            open.emplace_back(static_cast<std::size_t>(left), at);
        }
    }
    return out;
}

std::string TreeModel::question(const TreeNode& node, bool left) const {
    const Input& input = m_inputs[static_cast<std::size_t>(node.input)];
    if (!input.factor) return input.name + (left ? " below " : " from ") + input.valueText(node.below);
    std::vector<std::string> names;
    for (std::size_t code = 0; code < input.levels.size(); ++code)
        if (std::binary_search(node.levels.begin(), node.levels.end(), static_cast<std::int32_t>(code)) ==
            left)
            names.push_back(input.levels[code]);
    if (names.empty()) return input.name + " is missing";
    std::string text = input.name + " ";
    constexpr std::size_t most = 4;
    for (std::size_t k = 0; k < std::min(most, names.size()); ++k)
        text += (k == 0 ? "" : k + 1 == names.size() ? " or " : ", ") + names[k];
    if (names.size() > most) text += " or " + countText(names.size() - most) + " more";
    return text;
}

std::vector<NamedNumber> TreeModel::says() const {
    std::size_t leaves = 0;
    for (const TreeNode& node : cutBack())
        leaves += !node.asks();
    std::size_t full = 0;
    for (const TreeNode& node : m_nodes)
        full += !node.asks();
    return {{"leaves", static_cast<double>(leaves)}, {"leaves of the full tree", static_cast<double>(full)}};
}

std::string TreeModel::text() const {
    json nodes = json::array();
    for (const TreeNode& node : m_nodes)
        nodes.push_back({node.parent, node.left, node.right, node.input, numberJson(node.below), node.levels,
                         node.rows, numberJson(node.weight), numberJson(node.mean), numberJson(node.mse),
                         numberJson(node.gain), numberJson(node.cutAt), node.missingLeft});
    return json{{"kind", "tree"},
                {"inputs", inputsJson(m_inputs)},
                {"complexity", numberJson(m_complexity)},
                {"nodes", nodes}}
        .dump(-1, ' ', false, json::error_handler_t::replace);
}

std::shared_ptr<const LearnedModel> readTree(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        Inputs inputs = inputsFrom(j.at("inputs"));
        std::vector<TreeNode> nodes;
        const json& all = j.at("nodes");
        const auto count = static_cast<std::int32_t>(all.size());
        for (const json& each : all) {
            TreeNode node;
            node.parent = each.at(0).get<std::int32_t>();
            node.left = each.at(1).get<std::int32_t>();
            node.right = each.at(2).get<std::int32_t>();
            node.input = each.at(3).get<std::int32_t>();
            node.below = numberFrom(each.at(4));
            node.levels = each.at(5).get<std::vector<std::int32_t>>();
            node.rows = each.at(6).get<std::size_t>();
            node.weight = numberFrom(each.at(7));
            node.mean = numberFrom(each.at(8));
            node.mse = numberFrom(each.at(9));
            node.gain = numberFrom(each.at(10));
            node.cutAt = numberFrom(each.at(11));
            node.missingLeft = each.size() > 12 && each.at(12).get<bool>();
            const auto at = static_cast<std::int32_t>(nodes.size());
            const bool asks = node.asks();
            if (at > 0 ? !(node.parent >= 0 && node.parent < at) : node.parent != TreeNode::none)
                damaged("a place that hangs nowhere");
            if (asks ? !(node.left == at + 1 && node.right > node.left && node.right < count)
                     : node.left != TreeNode::none || node.right != TreeNode::none)
                damaged("a question without two answers");
            if (asks && !(node.input >= 0 && static_cast<std::size_t>(node.input) < inputs.size()))
                damaged("a question about no column");
            const std::size_t known = asks && inputs[static_cast<std::size_t>(node.input)].factor
                                          ? inputs[static_cast<std::size_t>(node.input)].levels.size() + 1
                                          : 0;
            for (const auto code : node.levels)
                if (code < 0 || static_cast<std::size_t>(code) >= known) damaged("a level that is not there");
            if (!std::is_sorted(node.levels.begin(), node.levels.end()) || !std::isfinite(node.mean) ||
                !(node.cutAt >= 0) || !(node.weight > 0) || !std::isfinite(node.below))
                damaged("a place that is not sound");
            nodes.push_back(std::move(node));
        }
        for (std::int32_t t = 0; t < count; ++t) {
            const TreeNode& node = nodes[static_cast<std::size_t>(t)];
            if (node.asks() && (nodes[static_cast<std::size_t>(node.left)].parent != t ||
                                nodes[static_cast<std::size_t>(node.right)].parent != t))
                damaged("a place that hangs elsewhere");
            if (t > 0 && !nodes[static_cast<std::size_t>(node.parent)].asks())
                damaged("a place under a leaf");
        }
        if (nodes.empty()) damaged("no place");
        const double complexity = numberFrom(j.at("complexity"));
        if (!(complexity >= 0)) damaged("a complexity below 0");
        return std::shared_ptr<const LearnedModel>(
            std::make_shared<const TreeModel>(std::move(inputs), std::move(nodes), complexity));
    });
}

namespace {

ModelPart describeTree(const LearnedModel& learned, std::span<const TunedValue> tuned) {
    const auto& model = dynamic_cast<const TreeModel&>(learned);
    const std::vector<TreeNode> nodes = model.cutBack();
    const Inputs& inputs = model.inputs();
    ModelPart part{.key = "tree"};
    json tree{{"complexity", model.complexity()}, {"nodes", json::array()}, {"sequence", json::array()}};
    for (std::size_t t = 0; t < nodes.size(); ++t) {
        const TreeNode& node = nodes[t];
        json each{{"node", t + 1},     {"parent", nullptr}, {"column", nullptr},
                  {"rows", node.rows}, {"mean", node.mean}, {"mse", node.mse}};
        if (node.parent != TreeNode::none) each["parent"] = node.parent + 1;
        std::vector<std::string> levels;
        if (node.asks()) {
            const Input& input = inputs[static_cast<std::size_t>(node.input)];
            each["column"] = input.name;
            each["gain"] = node.gain;
            if (input.factor) {
                const auto known = static_cast<std::int32_t>(input.levels.size());
                for (const auto code : node.levels)
                    if (code < known) levels.push_back(input.levels[static_cast<std::size_t>(code)]);
                each["levels"] = levels;
            } else {
                each["below"] = node.below;
            }
            std::vector<double> lacking(inputs.size(), nan);
            each["missing_goes"] = model.goesLeft(nodes, node, lacking.data()) ? "left" : "right";
        }
        tree["nodes"].push_back(each);
        part.table.push_back(
            {std::to_string(t + 1), node.parent == TreeNode::none ? "" : std::to_string(node.parent + 1),
             node.asks() ? inputs[static_cast<std::size_t>(node.input)].name : "",
             node.asks() && levels.empty() ? exactText(node.below) : "", nameList(levels, levels.size()),
             std::to_string(node.rows), exactText(node.mean), exactText(node.mse)});
    }
    const std::vector<TreeStep> steps = model.sequence();
    for (std::size_t k = 0; k < steps.size(); ++k) {
        json line{{"complexity", steps[k].complexity},
                  {"leaves", steps[k].leaves},
                  {"learning_mse", steps[k].learningMse},
                  {"mean_of_fold_mse", nullptr},
                  {"standard_error", nullptr},
                  {"held_out_mse", nullptr},
                  {"test_mse", nullptr}};
        const double end = k + 1 < steps.size() ? steps[k + 1].complexity : INFINITY;
        for (const TunedValue& value : tuned)
            if (value.value >= steps[k].complexity && value.value < end &&
                std::isfinite(value.meanOfFoldMse)) {
                line["mean_of_fold_mse"] = value.meanOfFoldMse;
                line["standard_error"] = value.standardError;
                if (std::isfinite(value.heldOutMse)) line["held_out_mse"] = value.heldOutMse;
                if (std::isfinite(value.testMse)) line["test_mse"] = value.testMse;
            }
        tree["sequence"].push_back(line);
    }
    part.file = "nodes.csv";
    part.header = {"node", "parent", "column", "below", "levels", "rows", "mean", "mse"};
    part.text = treeText(model, nodes);
    tree["gain"] = json::array();
    for (const auto& [column, share] : gainShares(model))
        tree["gain"].push_back({{"column", column}, {"share", share}});
    part.json = tree.dump(-1, ' ', false, json::error_handler_t::replace);
    if (const std::string gain = gainText(model); !gain.empty())
        part.text += gain + " (columns with many values are favoured)\n";
    return part;
}

} // namespace

std::vector<std::pair<std::string, double>> gainShares(const TreeModel& model) {
    const std::vector<TreeNode> nodes = model.cutBack();
    const double root = nodes[0].mse * nodes[0].weight;
    std::vector<std::pair<std::string, double>> shares;
    for (const Input& input : model.inputs())
        shares.emplace_back(input.name, 0.0);
    for (const TreeNode& node : nodes)
        if (node.asks()) shares[static_cast<std::size_t>(node.input)].second += node.gain / root;
    std::erase_if(shares, [](const auto& each) { return !(each.second > 0); });
    std::stable_sort(shares.begin(), shares.end(),
                     [](const auto& a, const auto& b) { return a.second > b.second; });
    return shares;
}

std::string gainText(const TreeModel& model) {
    std::string text;
    for (const auto& [column, share] : gainShares(model))
        text += (text.empty() ? "error taken away by " : ", ") + column + " " + readableText(100 * share, 2) +
                " %";
    return text;
}

ModelKind treeKind() {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = IntervalSource::unseenErrors,
                           .iterates = false,
                           .missingInputs = true}};
    kind.name = "tree";
    kind.title = "Regression tree";
    Field complexity = soughtField(
        "complexity", "Complexity (mean squared error a leaf)", 0.0, 0, 1e300,
        {treeOfSmallestError, treeWithinOneError, treeByHeldOut, treeWithinOneError + onHeldOutRows});
    Field leaves = wholeField("leaves", "Cut back to so many leaves (0: as the complexity says)", 0, 0, 1e6);
    complexity.within = leaves.within = "cut_back";
    kind.fields = {wholeField("smallest_leaf", "Rows of a leaf at least", 5, 1, 1e9),
                   wholeField("smallest_split", "Rows of a place that is parted at least", 10, 2, 1e9),
                   wholeField("deepest", "Questions below each other at most", 30, 0, 100),
                   numberField("least_gain",
                               "Least gain of a question, as a share of the root's squared error", 0, 0, 1),
                   complexity,
                   leaves};
    kind.offers = {
        {"Tree, cut back to the smallest error over folds", {"tree", {{"complexity", treeOfSmallestError}}}},
        {"Tree, cut back within one standard error", {"tree", {{"complexity", treeWithinOneError}}}},
        {"Tree, cut back by the held-out rows", {"tree", {{"complexity", treeByHeldOut}}}},
        {"Tree, full", {"tree"}}};
    kind.sentence = treeSentence;
    kind.learn = learnTree;
    kind.candidates = candidateComplexities;
    kind.predictEach = predictEachComplexity;
    kind.read = readTree;
    kind.sizeAt = leavesAt;
    kind.describe = describeTree;
    return kind;
}

} // namespace oxgoad
