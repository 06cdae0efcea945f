#include "base/not_a_number.h"
#include "base/parallel.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/products.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <set>
#include <string_view>
#include <utility>

namespace oxgoad {

namespace {

/// Above it the promising pairs alone are tried.
constexpr double mostWork = 4e8;
constexpr std::size_t kept = 64;
/// Multiplications and values that telling which promise may take.
constexpr double promiseWork = 1e10, promiseValues = 1.6e7;
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
    std::set<std::string_view> plain;
    for (const Term& term : context.terms)
        if (term == plainTerm(term.parts[0].column)) plain.insert(term.parts[0].column);
    std::vector<Side> sides(inputs.size());
    parallelFor(inputs.size(), context.threads, [&](std::size_t i) {
        stopIfTold(*context.progress);
        Side& side = sides[i];
        side.name = inputs[i].name;
        side.plainInModel = plain.count(inputs[i].name) > 0;
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

/// Pairs of inputs that some term of the model names together.
std::set<std::pair<std::size_t, std::size_t>> pairsInModel(const CheckContext& context) {
    std::set<std::pair<std::size_t, std::size_t>> together;
    for (const Term& term : context.terms) {
        if (term.parts.size() < 2) continue;
        std::set<std::size_t> named;
        for (const std::string& column : columnsOf(term))
            if (const auto input = findInput(context.inputs.inputs(), column)) named.insert(*input);
        for (const std::size_t a : named)
            for (const std::size_t b : named)
                if (a < b) together.emplace(a, b);
    }
    return together;
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

/// Keeps the pairs whose products, each taken alone, say most of the residuals: Σ (z'r)² / z'z over the
/// columns of a pair, z about its mean. Of evenly spaced rows where that would take long; the number of rows.
std::size_t keepPromising(const CheckContext& context, std::vector<Pair>& pairs) {
    using Eigen::Index;
    using Eigen::MatrixXd;
    std::vector<std::uint8_t> wanted(context.inputs.inputs().size(), 0);
    for (const Pair& pair : pairs)
        wanted[pair.a] = wanted[pair.b] = 1;
    const std::vector<Side> names = sidesOf(context, {}, std::vector<std::uint8_t>(wanted.size(), 0));
    std::vector<Index> begin(names.size(), 0);
    Index width = 0;
    for (std::size_t i = 0; i < names.size(); ++i) {
        begin[i] = width;
        if (wanted[i] != 0) width += static_cast<Index>(names[i].width);
    }
    const auto n = context.learningRows.size();
    const double w = static_cast<double>(width);
    const auto count =
        std::min(n, std::max<std::size_t>(
                        4096, static_cast<std::size_t>(std::min(promiseWork / (w * w), promiseValues / w))));
    std::vector<std::uint32_t> rows;
    Eigen::VectorXd residuals(static_cast<Index>(count)), weights = Eigen::VectorXd::Ones(residuals.size());
    for (std::size_t k = 0; k < count; ++k) {
        const std::size_t place = k * n / count;
        rows.push_back(context.learningRows[place]);
        residuals[static_cast<Index>(k)] = context.linear->residuals[static_cast<Index>(place)];
        if (!context.weights.empty()) weights[static_cast<Index>(k)] = context.weights[place];
    }
    MatrixXd columns(static_cast<Index>(count), width);
    {
        const std::vector<Side> sides = sidesOf(context, rows, wanted);
        for (std::size_t i = 0; i < sides.size(); ++i)
            for (std::size_t j = 0; j < sides[i].columns.size(); ++j)
                columns.col(begin[i] + static_cast<Index>(j)) = sides[i].columns[j];
    }
    const MatrixXd squared = columns.cwiseAbs2();
    MatrixXd score(width, width);
    constexpr Index panel = 32;
    parallelFor(static_cast<std::size_t>((width + panel - 1) / panel), context.threads, [&](std::size_t b) {
        stopIfTold(*context.progress);
        const Index from = static_cast<Index>(b) * panel, own = std::min(panel, width - from);
        const MatrixXd weighted = columns.middleCols(from, own).array().colwise() * weights.array();
        const MatrixXd means = productsOf(columns, weighted) / weights.sum();
        stopIfTold(*context.progress);
        MatrixXd right = weighted.array().colwise() * residuals.array();
        const MatrixXd products = productsOf(columns, right);
        stopIfTold(*context.progress);
        right = weighted.cwiseProduct(columns.middleCols(from, own));
        const MatrixXd squares = productsOf(squared, right);
        score.middleCols(from, own) =
            (squares.array() - weights.sum() * means.array().square() > 1e-12 * squares.array())
                .select(products.array().square() /
                            (squares.array() - weights.sum() * means.array().square()),
                        0);
    });
    std::vector<std::pair<double, std::size_t>> order;
    for (std::size_t k = 0; k < pairs.size(); ++k) {
        const Side &a = names[pairs[k].a], &b = names[pairs[k].b];
        const double sum = score
                               .block(begin[pairs[k].a], begin[pairs[k].b], static_cast<Index>(a.width),
                                      static_cast<Index>(b.width))
                               .sum();
        order.emplace_back(-sum / static_cast<double>(a.width * b.width), k);
    }
    std::sort(order.begin(), order.end());
    std::vector<Pair> best;
    for (std::size_t k = 0; k < std::min(kept, order.size()); ++k)
        best.push_back(pairs[order[k].second]);
    pairs = std::move(best);
    return count;
}

} // namespace

void checkMissingInteraction(const CheckContext& context, Findings& findings) {
    const std::string name = "missing interaction";
    const std::vector<std::uint8_t> none(context.inputs.inputs().size(), 0);
    std::vector<Side> sides = sidesOf(context, {}, none); // names and widths
    const auto together = pairsInModel(context);
    std::vector<Pair> pairs;
    std::size_t columns = 0;
    for (std::size_t a = 0; a < sides.size(); ++a)
        for (std::size_t b = a + 1; b < sides.size(); ++b) {
            const std::size_t width = sides[a].width * sides[b].width;
            if (width == 0 || width > widest || together.count({a, b}) > 0) continue;
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
    const bool many = n * rank * static_cast<double>(columns) > mostWork && tried > kept;
    const std::size_t of = many ? keepPromising(context, pairs) : 0;
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
        says += " (the " + std::to_string(kept) + " whose product says most of the residuals of " +
                (of < context.learningRows.size() ? countText(of) + " evenly spaced rows" : "all rows") + ")";
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
