#include "estimate/formula/formula.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/learning_course.h"
#include "estimate/model_text.h"
#include "estimate/rows_judged.h"

#include <algorithm>
#include <array>
#include <cctype>
#include <cmath>

namespace oxgoad {

using Eigen::ArrayXd;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

constexpr std::array searched{
    Operation::add,         Operation::subtract, Operation::multiply, Operation::divide, Operation::logarithm,
    Operation::exponential, Operation::root,     Operation::square,   Operation::sine,   Operation::cosine};
constexpr int digitsShown = 4;

std::string nameInExpression(const std::string& name) {
    const bool plain = !name.empty() && !std::isdigit(static_cast<unsigned char>(name[0])) &&
                       std::all_of(name.begin(), name.end(), [](char c) {
                           return std::isalnum(static_cast<unsigned char>(c)) || c == '_';
                       });
    return plain ? name : "{" + name + "}";
}

/// A column for each number, and for each level of a factor but the first.
std::vector<std::string> namesOf(const Inputs& inputs) {
    std::vector<std::string> names;
    for (const Input& input : inputs) {
        if (!input.factor) names.push_back(nameInExpression(input.name));
        for (std::size_t k = 1; k < input.levels.size() && input.factor; ++k)
            names.push_back("(" + nameInExpression(input.name) + " = \"" + input.levels[k] + "\")");
    }
    return names;
}

/// Of the columns that formulas read; empty where no unit is known.
std::vector<Dimension> dimensionsOf(const Inputs& inputs, const std::map<std::string, std::string>& unitOf) {
    std::vector<Dimension> units;
    bool any = false;
    for (const Input& input : inputs) {
        const auto known = unitOf.find(input.name);
        if (input.factor) // levels are there or not
            for (std::size_t k = 1; k < input.levels.size(); ++k)
                units.push_back(Dimension{std::in_place});
        else if (known == unitOf.end())
            units.push_back(std::nullopt);
        else
            units.push_back(Dimension{{{known->second, 1.0}}});
        any = any || known != unitOf.end();
    }
    if (!any) units.clear();
    return units;
}

FormulaOptions formulaOptionsOf(const Settings& settings, const TrainingData& training) {
    FormulaOptions options;
    for (const std::string& name : settings.get<std::vector<std::string>>("operations")) {
        // As they are typed, too.
        const std::string_view means = name == "-"      ? "−"
                                       : name == "*"    ? "×"
                                       : name == "/"    ? "÷"
                                       : name == "sqrt" ? "√"
                                       : name == "^2"   ? "²"
                                                        : std::string_view(name);
        const auto known = std::find_if(searched.begin(), searched.end(),
                                        [&](Operation o) { return operationName(o) == means; });
        if (known == searched.end())
            throw Error(ErrorCode::badTerm, "\"" + name + "\" is no operation of formulas",
                        {.file = training.file}, "There are +, −, ×, ÷, ln, exp, √, ², sin and cos.");
        options.operations.push_back(*known);
    }
    if (options.operations.empty())
        throw Error(ErrorCode::badTerm, "no operation is given that formulas could be made with",
                    {.file = training.file}, "Give some of +, −, ×, ÷, ln, exp, √, ², sin and cos.");
    options.largest = static_cast<std::size_t>(settings.number("largest"));
    options.generations = static_cast<std::size_t>(settings.number("generations"));
    options.population = static_cast<std::size_t>(settings.number("population"));
    options.islands = static_cast<std::size_t>(settings.number("islands"));
    options.seed =
        static_cast<std::uint64_t>(settings.number("seed")) + 0x9E3779B97F4A7C15ULL * (training.seed - 1);
    return options;
}

struct FormulaRows {
    MatrixXd columns;
    std::vector<double> y, weights;
};

FormulaRows formulaRowsOf(const FormulaModel& model, const TrainingData& training) {
    FormulaRows out;
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < training.rows.size(); ++i) {
        const double w = training.weights.empty() ? 1 : training.weights[i];
        if (w == 0) continue; // teaches nothing
        rows.push_back(training.rows[i]);
        out.y.push_back(training.y[i]);
        if (!training.weights.empty()) out.weights.push_back(w);
    }
    MatrixXd plain(static_cast<Index>(rows.size()), static_cast<Index>(model.inputs.size()));
    training.inputs.fill(rows, plain);
    out.columns = model.columnsAt(plain);
    return out;
}

/// Errors of each formula over five folds, its constants fitted anew without the rows judged.
void judgeFront(std::vector<FoundFormula>& front, const FormulaRows& rows, std::uint64_t seed,
                const Progress& progress) {
    constexpr std::uint32_t folds = 5;
    const auto n = static_cast<std::uint32_t>(rows.y.size());
    RandomStream stream(seed, "folds of formulas");
    const std::vector<std::uint32_t> order = shuffled(n, stream);
    for (FoundFormula& each : front) {
        stopIfTold(progress);
        std::vector<double> means;
        double sum = 0, whole = 0;
        for (std::uint32_t k = 0; k < folds; ++k) {
            std::vector<Index> in, out;
            for (std::uint32_t i = 0; i < n; ++i)
                (i % folds == k ? out : in).push_back(static_cast<Index>(order[i]));
            if (out.empty() || in.empty()) continue;
            std::vector<double> y, weights;
            for (const Index i : in) {
                y.push_back(rows.y[static_cast<std::size_t>(i)]);
                if (!rows.weights.empty()) weights.push_back(rows.weights[static_cast<std::size_t>(i)]);
            }
            FormulaTree tree = each.tree;
            polish(tree, rows.columns(in, Eigen::all), y, weights, 10);
            const ArrayXd said = valuesOf(tree, rows.columns(out, Eigen::all));
            double own = 0, ownWhole = 0;
            for (std::size_t i = 0; i < out.size(); ++i) {
                const auto at = static_cast<std::size_t>(out[i]);
                const double e = rows.y[at] - said[static_cast<Index>(i)];
                const double w = rows.weights.empty() ? 1 : rows.weights[at];
                own += w * e * e;
                ownWhole += w;
            }
            means.push_back(own / ownWhole);
            sum += own;
            whole += ownWhole;
        }
        each.foldMse = sum / whole;
        if (!std::isfinite(each.foldMse)) each.foldMse = INFINITY;
        double mean = 0, squares = 0;
        for (const double m : means)
            mean += m / static_cast<double>(means.size());
        for (const double m : means)
            squares += (m - mean) * (m - mean);
        each.standardError = means.size() > 1 ? std::sqrt(squares / static_cast<double>(means.size() - 1) /
                                                          static_cast<double>(means.size()))
                                              : nan;
    }
}

/// The smallest within one standard error of the best.
std::size_t simplestGood(const std::vector<FoundFormula>& front) {
    const auto best = std::min_element(front.begin(), front.end(),
                                       [](const auto& a, const auto& b) { return a.foldMse < b.foldMse; });
    const double limit = best->foldMse + (std::isfinite(best->standardError) ? best->standardError : 0);
    for (std::size_t k = 0; k < front.size(); ++k)
        if (front[k].foldMse <= limit) return k;
    return static_cast<std::size_t>(best - front.begin());
}

std::shared_ptr<FormulaModel> searchedModel(const Settings& settings, const TrainingData& training,
                                            Progress& progress, FormulaRows& rows) {
    FormulaOptions options = formulaOptionsOf(settings, training);
    auto model = std::make_shared<FormulaModel>();
    model->inputs = training.inputs.inputs();
    model->names = namesOf(model->inputs);
    options.units = dimensionsOf(model->inputs, training.unitOf);
    rows = formulaRowsOf(*model, training);
    model->front = searchFormulas(rows.columns, rows.y, rows.weights, options, training.threads, progress);
    if (model->front.empty())
        throw Error(ErrorCode::noConvergence, "no formula was found that is defined at all rows",
                    {.file = training.file}, "Allow larger formulas, other operations, or more generations.");
    judgeFront(model->front, rows, options.seed, progress);
    model->taken = simplestGood(model->front);
    return model;
}

FitResult learnFormula(const Settings& settings, const TrainingData& training, Progress& progress) {
    const std::size_t n = training.rows.size();
    const auto [least, most] = std::minmax_element(training.y.begin(), training.y.end());
    if (n < 10 || !(*least < *most))
        throw Error(n < 10 ? ErrorCode::tooFewRows : ErrorCode::noSpread,
                    n < 10
                        ? plural(n, "learning row is", "learning rows are") + " too few to search formulas by"
                        : "the response has the same value in all learning rows",
                    {.file = training.file}, "Bring more rows, or choose another response.");
    FormulaRows rows;
    std::shared_ptr<FormulaModel> model;
    {
        ProgressStage searching(progress, 0, 0.4);
        model = searchedModel(settings, training, searching, rows);
    }
    // What goes along with each part of the formula.
    const FormulaTree& tree = model->tree();
    const ArrayXd said = valuesOf(tree, rows.columns), about = said - said.mean();
    const double variance = about.square().sum();
    for (const std::size_t part : partsOf(tree)) {
        const FormulaTree own(tree.begin() + static_cast<std::ptrdiff_t>(part),
                              tree.begin() + static_cast<std::ptrdiff_t>(endOf(tree, part)));
        const ArrayXd values = valuesOf(own, rows.columns);
        model->shares.push_back(variance > 0 ? std::fabs(((values - values.mean()) * about).sum()) / variance
                                             : 0);
    }
    LearningCourse& course = model->learning;
    course = {.steps = "size",
              .loss = "root mean squared error",
              .unseenRows = "five folds, constants fitted anew"};
    LearningCourse::Run run{.name = "best formula of a size"};
    for (const FoundFormula& each : model->front) {
        run.step.push_back(static_cast<double>(each.size()));
        run.learning.push_back(std::sqrt(each.mse));
        run.unseen.push_back(std::isfinite(each.foldMse) ? std::sqrt(each.foldMse) : nan);
    }
    course.runs = {std::move(run)};
    course.takenAt = static_cast<double>(tree.size());
    course.says = formulaText(tree, model->names, digitsShown) + " is the simplest of " +
                  plural(model->front.size(), "formula", "formulas") +
                  " on the front within one standard error of the best";
    FitResult result{.model = model, .outcome = {.converged = true}};
    result.rows.fitted = fittedBy(*model, training, progress);
    result.rows.residuals =
        Eigen::Map<const VectorXd>(training.y.data(), static_cast<Index>(n)) - result.rows.fitted;
    ProgressStage parts(progress, 0.4, 1);
    judgeByParts(training, 50, result.rows, parts, [&](const TrainingData& part, const TrainingData&) {
        StopOnly stops(progress);
        FormulaRows own;
        return searchedModel(settings, part, stops, own);
    });
    // A formula may not be defined at a row it did not see.
    for (std::size_t k = result.rows.unseen.size(); k-- > 0;)
        if (!std::isfinite(result.rows.unseen[k])) {
            result.rows.unseen.erase(result.rows.unseen.begin() + static_cast<std::ptrdiff_t>(k));
            result.rows.unseenRows.erase(result.rows.unseenRows.begin() + static_cast<std::ptrdiff_t>(k));
        }
    progress.checkpoint(1, "Searched formulas");
    return result;
}

json treeJson(const FormulaTree& tree) {
    json nodes = json::array();
    for (const FormulaNode& node : tree)
        nodes.push_back({static_cast<int>(node.operation), node.column, numberJson(node.constant)});
    return nodes;
}

FormulaTree treeFrom(const json& j, std::size_t columns) {
    FormulaTree tree;
    int open = 1;
    for (const json& each : j) {
        const int operation = each.at(0).get<int>();
        if (operation < 0 || operation > static_cast<int>(Operation::cosine) || open < 1)
            damaged("a formula that does not hang together");
        tree.push_back(
            {static_cast<Operation>(operation), each.at(1).get<std::uint32_t>(), numberFrom(each.at(2))});
        if (tree.back().operation == Operation::column && tree.back().column >= columns)
            damaged("a formula of a column that is not there");
        open += operandsOf(tree.back().operation) - 1;
    }
    if (open != 0) damaged("a formula without an end");
    return tree;
}

std::shared_ptr<const LearnedModel> readFormula(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        auto model = std::make_shared<FormulaModel>();
        model->inputs = inputsFrom(j.at("inputs"));
        for (const Input& input : model->inputs)
            if (input.factor && input.levels.empty()) damaged("a factor without levels");
        model->names = namesOf(model->inputs);
        for (const json& each : j.at("front"))
            model->front.push_back({treeFrom(each.at("tree"), model->names.size()),
                                    numberFrom(each.at("mse")), numberFrom(each.at("fold_mse")),
                                    numberFrom(each.at("standard_error"))});
        model->taken = j.at("taken").get<std::size_t>();
        model->shares = numbersFrom(j.at("shares"));
        model->learning = courseFrom(j.at("course"));
        if (model->taken >= model->front.size()) damaged("no formula");
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

ModelPart describeFormula(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const FormulaModel&>(learned);
    ModelPart part{.key = "formula"};
    json front = json::array();
    part.file = "formulas.csv";
    part.header = {"size", "learning_mse", "mean_of_fold_mse", "standard_error", "formula", "taken"};
    const auto plain = [](double value) { return std::isfinite(value) ? json(value) : json(nullptr); };
    for (std::size_t k = 0; k < model.front.size(); ++k) {
        const FoundFormula& each = model.front[k];
        const std::string expression = expressionText(each.tree, model.names);
        front.push_back({{"size", each.size()},
                         {"learning_mse", each.mse},
                         {"mean_of_fold_mse", plain(each.foldMse)},
                         {"standard_error", plain(each.standardError)},
                         {"formula", formulaText(each.tree, model.names, digitsShown)},
                         {"expression", expression},
                         {"taken", k == model.taken}});
        part.table.push_back({std::to_string(each.size()), exactText(each.mse), exactText(each.foldMse),
                              exactText(each.standardError), expression, k == model.taken ? "1" : ""});
    }
    json parts = json::array();
    const std::vector<std::size_t> places = partsOf(model.tree());
    for (std::size_t k = 0; k < places.size() && k < model.shares.size(); ++k) {
        const FormulaTree own(model.tree().begin() + static_cast<std::ptrdiff_t>(places[k]),
                              model.tree().begin() +
                                  static_cast<std::ptrdiff_t>(endOf(model.tree(), places[k])));
        parts.push_back(
            {{"part", formulaText(own, model.names, digitsShown)}, {"share_of_variance", model.shares[k]}});
    }
    json said{{"formula", formulaText(model.tree(), model.names, digitsShown)},
              {"expression", expressionText(model.tree(), model.names)},
              {"parts", parts},
              {"front", front}};
    part.json = said.dump(-1, ' ', false, json::error_handler_t::replace);
    part.text = model.learning.says + "\n";
    return part;
}

} // namespace

const std::string& FormulaModel::kind() const {
    static const std::string name = "formula";
    return name;
}

MatrixXd FormulaModel::columnsAt(const MatrixXd& rows) const {
    MatrixXd out(rows.rows(), static_cast<Index>(names.size()));
    Index at = 0;
    for (std::size_t j = 0; j < inputs.size(); ++j) {
        const auto own = rows.col(static_cast<Index>(j)).array();
        if (!inputs[j].factor) {
            out.col(at++) = own;
            continue;
        }
        for (std::size_t k = 1; k < inputs[j].levels.size(); ++k)
            out.col(at++) = own.isNaN().select(nan, (own == static_cast<double>(k)).cast<double>());
    }
    return out;
}

MatrixXd FormulaModel::predict(const MatrixXd& rows) const {
    MatrixXd said = valuesOf(tree(), columnsAt(rows)).matrix();
    for (Index i = 0; i < said.rows(); ++i)
        if (rows.row(i).hasNaN() || !std::isfinite(said(i, 0))) said(i, 0) = nan;
    return said;
}

std::vector<std::string> FormulaModel::problems(std::span<const double> row) const {
    const Eigen::Map<const MatrixXd> one(row.data(), 1, static_cast<Index>(row.size()));
    if (one.hasNaN() || !one.allFinite()) return {};
    const double said = valuesOf(tree(), columnsAt(one))[0];
    if (std::isfinite(said)) return {};
    return {"the formula is not defined at these values"};
}

std::vector<NamedNumber> FormulaModel::says() const {
    return {{"operations and operands", static_cast<double>(tree().size())},
            {"formulas on the front", static_cast<double>(front.size())}};
}

std::string FormulaModel::text() const {
    json all = json::array();
    for (const FoundFormula& each : front)
        all.push_back({{"tree", treeJson(each.tree)},
                       {"mse", numberJson(each.mse)},
                       {"fold_mse", numberJson(each.foldMse)},
                       {"standard_error", numberJson(each.standardError)}});
    return json{{"kind", "formula"}, {"inputs", inputsJson(inputs)},  {"front", all},
                {"taken", taken},    {"shares", numbersJson(shares)}, {"course", courseJson(learning)}}
        .dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind formulaKind() {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = IntervalSource::unseenErrors,
                           .iterates = false}};
    kind.name = "formula";
    kind.title = "Searched formula";
    Field operations;
    operations.key = "operations";
    operations.label = "Operations";
    operations.type = FieldType::texts;
    operations.fallback = std::vector<std::string>{"+", "−", "×", "÷", "ln"};
    kind.fields = {operations,
                   wholeField("largest", "Operations and operands at most", 25, 1, 200),
                   wholeField("generations", "Generations", 80, 1, 1e6),
                   wholeField("population", "Formulas of an island", 120, 10, 1e6),
                   wholeField("islands", "Islands", 4, 1, 100),
                   wholeField("seed", "Seed", 1, 0, 4294967295.0)};
    kind.offers = {{"Searched formula", {"formula"}}};
    kind.sentence = [](const Settings& settings) {
        return "a searched formula of up to " + shortText(settings.number("largest")) +
               " operations and operands";
    };
    kind.costly = true;
    kind.readsUnits = true;
    kind.learn = learnFormula;
    kind.describe = describeFormula;
    kind.read = readFormula;
    return kind;
}

} // namespace oxgoad
