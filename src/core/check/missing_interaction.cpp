#include "base/not_a_number.h"
#include "base/parallel.h"
#include "base/text.h"
#include "check/check_tools.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

/// Above it pairs are first tried on evenly spaced rows.
constexpr double mostWork = 4e8;
constexpr std::size_t fewRows = 4096, kept = 24;
/// Of one pair, and of a batch.
constexpr std::size_t widest = 40, batch = 192;

/// An input as the pairs see it: one column, or one a level but the first.
struct Side {
    std::string name;
    bool plainInModel = false;
    /// Columns it has.
    std::size_t width = 0;
    std::vector<Eigen::VectorXd> columns{};
};

/// Of some learning rows; columns only of the inputs wanted, all when `wanted` is empty.
std::vector<Side> sidesOf(const CheckContext& context, std::span<const std::uint32_t> rows,
                          const std::vector<std::uint8_t>& wanted) {
    const auto& inputs = context.inputs.inputs();
    std::vector<Side> sides(inputs.size());
    parallelFor(inputs.size(), context.threads, [&](std::size_t i) {
        if (context.progress->stopRequested()) throw Stopped{};
        Side& side = sides[i];
        side.name = inputs[i].name;
        side.plainInModel = std::find(context.terms.begin(), context.terms.end(),
                                      plainTerm(inputs[i].name)) != context.terms.end();
        side.width = !inputs[i].factor                   ? 1
                     : inputs[i].levels.size() <= widest ? inputs[i].levels.size() - 1
                                                         : 0;
        if ((!wanted.empty() && wanted[i] == 0) || side.width == 0) return;
        Eigen::VectorXd values(static_cast<Eigen::Index>(rows.size()));
        context.inputs.fillOne(i, rows, values.data());
        if (!inputs[i].factor)
            side.columns.push_back(standardised(values));
        else
            for (std::size_t level = 1; level < inputs[i].levels.size(); ++level)
                side.columns.push_back(
                    (values.array() == static_cast<double>(level)).cast<double>().matrix());
    });
    return sides;
}

struct Pair {
    std::size_t a = 0, b = 0;
    Addition added;
};

bool inModel(const std::vector<Term>& terms, const std::string& a, const std::string& b) {
    return std::any_of(terms.begin(), terms.end(), [&](const Term& term) {
        const auto names = columnsOf(term);
        return std::find(names.begin(), names.end(), a) != names.end() &&
               std::find(names.begin(), names.end(), b) != names.end();
    });
}

/// The answers of pairs on all learning rows of a context.
void tryPairs(const CheckContext& context, const std::vector<Side>& sides, std::vector<Pair>& pairs) {
    ColumnsBeside beside(context);
    std::size_t begin = 0;
    const auto flush = [&](std::size_t end) {
        const auto answers = beside.answers();
        for (std::size_t k = begin; k < end; ++k)
            pairs[k].added = answers[k - begin];
        begin = end;
    };
    for (std::size_t k = 0; k < pairs.size(); ++k) {
        const Side &a = sides[pairs[k].a], &b = sides[pairs[k].b];
        ScreenBlock block;
        for (const Side* side : {&a, &b})
            if (!side->plainInModel)
                for (const Eigen::VectorXd& column : side->columns)
                    block.columns.push_back(beside.add(column));
        block.parents = block.columns.size();
        for (const Eigen::VectorXd& first : a.columns)
            for (const Eigen::VectorXd& second : b.columns)
                block.columns.push_back(beside.add(first.cwiseProduct(second)));
        beside.ask(std::move(block));
        if (beside.width() >= batch) flush(k + 1);
    }
    if (!beside.empty()) flush(pairs.size());
}

/// The most promising pairs by evenly spaced rows, with a fit of their own.
void keepPromising(const CheckContext& context, std::vector<Pair>& pairs) {
    const auto n = context.learningRows.size();
    std::vector<std::uint32_t> places, rows;
    for (std::size_t k = 0; k < fewRows; ++k)
        places.push_back(static_cast<std::uint32_t>(k * n / fewRows));
    std::vector<double> y, weights;
    for (const auto place : places) {
        rows.push_back(context.learningRows[place]);
        y.push_back(context.working[place]);
        if (!context.weights.empty()) weights.push_back(context.weights[place]);
    }
    const std::vector<Side> thin = sidesOf(context, rows, {});
    LeastSquaresOptions options;
    options.intercept = context.recipe.intercept;
    options.threads = context.threads;
    options.weights = weights;
    options.precision = LeastSquaresOptions::Precision::plain;
    const LeastSquaresFit fit =
        fitLeastSquares(DesignRows(context.linear->design, rows), y, options, *context.progress);
    const CheckedLinear linear{context.linear->model,
                               context.linear->design,
                               fit,
                               fit.residuals,
                               context.linear->terms,
                               context.linear->effects,
                               {},
                               {},
                               {},
                               {}};
    CheckContext few = context;
    few.linear = &linear;
    few.learningRows = rows;
    few.working = y;
    few.weights = weights;
    tryPairs(few, thin, pairs);
    std::stable_sort(pairs.begin(), pairs.end(), [](const Pair& a, const Pair& b) {
        return (std::isnan(a.added.p) ? 2 : a.added.p) < (std::isnan(b.added.p) ? 2 : b.added.p);
    });
    pairs.resize(std::min(pairs.size(), kept));
}

} // namespace

void checkMissingInteraction(const CheckContext& context, Findings& findings) {
    const std::string name = "missing interaction";
    const std::vector<std::uint8_t> none(context.inputs.inputs().size(), 0);
    std::vector<Side> sides = sidesOf(context, {}, none); // names and widths
    std::vector<Pair> pairs;
    std::size_t columns = 0;
    for (std::size_t a = 0; a < sides.size(); ++a)
        for (std::size_t b = a + 1; b < sides.size(); ++b) {
            const std::size_t width = sides[a].width * sides[b].width;
            if (width == 0 || width > widest || inModel(context.terms, sides[a].name, sides[b].name))
                continue;
            pairs.push_back({a, b, {}});
            columns += width;
        }
    const std::size_t tried = pairs.size();
    if (tried == 0) {
        findings.readings.push_back(noReading(name, "no two columns of the model are without their product"));
        return;
    }
    const auto n = static_cast<double>(context.learningRows.size());
    const auto rank = static_cast<double>(context.linear->fit.rank());
    const bool many = n * rank * static_cast<double>(columns) > mostWork &&
                      context.learningRows.size() > 2 * fewRows && tried > kept;
    if (many) keepPromising(context, pairs);
    std::vector<std::uint8_t> wanted = none;
    for (const Pair& pair : pairs)
        wanted[pair.a] = wanted[pair.b] = 1;
    sides = sidesOf(context, context.learningRows, wanted);
    tryPairs(context, sides, pairs);
    const Pair* best = nullptr;
    for (const Pair& pair : pairs)
        if (pair.added.numeratorDf > 0 && pair.added.denominatorDf > 0 && std::isfinite(pair.added.f) &&
            (!best || pair.added.p < best->added.p ||
             (pair.added.p == best->added.p && pair.added.f > best->added.f)))
            best = &pair;
    if (!best) {
        findings.readings.push_back(noReading(name, "no product has a column of its own"));
        return;
    }
    const double p = std::min(1.0, best->added.p * static_cast<double>(tried));
    const double limit = context.limitOf(name, pLimit);
    const std::string first = sides[best->a].name, second = sides[best->b].name;
    const std::string pair = first + " × " + second;
    std::string says = pair + ": " +
                       fText(best->added.f, best->added.numeratorDf, best->added.denominatorDf) + ", p for " +
                       plural(tried, "pair", "pairs") + " tried";
    if (many)
        says += " (the " + std::to_string(kept) + " most promising of " + countText(fewRows) +
                " evenly spaced rows on all rows)";
    const std::string source = "F test of added columns, Bonferroni";
    findings.readings.push_back(madeReading(name, best->added.f, limit, p, says, source));
    if (!(p < limit)) return;
    Goad goad;
    goad.key = "missing interaction: " + pair;
    goad.check = name;
    goad.title = "The effect of " + first + " hangs on " + second;
    goad.reading = says + ": p " + probabilityText(p);
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "fit";
    goad.column = first;
    goad.cost = errorTaken(best->added);
    goad.costSays = "the share of the typical error that the product takes away";
    goad.size = best->added.f;
    // A slope by levels reads from its number.
    const bool turned = context.inputs.inputs()[*findInput(context.inputs.inputs(), first)].factor;
    const Term term{{TermPart{turned ? second : first}, TermPart{turned ? first : second}}};
    goad.moves.push_back({.label = "add the pair", .edit = [term](Recipe& recipe, const std::string&) {
                              recipe = withTerm(recipe, term);
                          }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
