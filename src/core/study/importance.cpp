#include "study/importance.h"

#include "base/random.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "study/rows_used.h"
#include "table/fields.h"
#include "write/csv.h"

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t mostRows = 1000, mostInputs = 100;
constexpr int repeats = 5;
constexpr double together = 0.8; // common practice, no source

/// Ranks, ties by their mean; missing values are one tie below all others.
VectorXd ranksOf(VectorXd values) {
    values = values.array().isNaN().select(-std::numeric_limits<double>::infinity(), values);
    std::vector<Index> order(static_cast<std::size_t>(values.size()));
    std::iota(order.begin(), order.end(), Index{0});
    std::sort(order.begin(), order.end(), [&](Index a, Index b) { return values[a] < values[b]; });
    VectorXd ranks(values.size());
    for (std::size_t i = 0; i < order.size();) {
        std::size_t j = i;
        while (j < order.size() && values[order[j]] == values[order[i]])
            ++j;
        for (std::size_t k = i; k < j; ++k)
            ranks[order[k]] = 0.5 * static_cast<double>(i + j - 1);
        i = j;
    }
    const double spread = std::sqrt((ranks.array() - ranks.mean()).square().sum());
    return spread > 0 ? VectorXd((ranks.array() - ranks.mean()) / spread) : VectorXd::Zero(values.size());
}

/// Inputs that go together, by single linkage; groups of two and more.
std::vector<std::vector<Index>> groupsOf(const Inputs& inputs, const MatrixXd& values) {
    const auto p = static_cast<Index>(inputs.size());
    std::vector<VectorXd> ranks(inputs.size());
    for (Index j = 0; j < p; ++j)
        if (!inputs[static_cast<std::size_t>(j)].factor)
            ranks[static_cast<std::size_t>(j)] = ranksOf(values.col(j));
    std::vector<Index> group(inputs.size());
    std::iota(group.begin(), group.end(), Index{0});
    for (Index a = 0; a < p; ++a)
        for (Index b = a + 1; b < p; ++b) {
            const VectorXd &x = ranks[static_cast<std::size_t>(a)], &y = ranks[static_cast<std::size_t>(b)];
            if (x.size() == 0 || y.size() == 0 || !(std::fabs(x.dot(y)) >= together)) continue;
            const Index from = group[static_cast<std::size_t>(b)], to = group[static_cast<std::size_t>(a)];
            std::replace(group.begin(), group.end(), from, to);
        }
    std::vector<std::vector<Index>> groups;
    for (Index g = 0; g < p; ++g) {
        std::vector<Index> members;
        for (Index j = 0; j < p; ++j)
            if (group[static_cast<std::size_t>(j)] == g) members.push_back(j);
        if (members.size() > 1) groups.push_back(std::move(members));
    }
    return groups;
}

} // namespace

Importance permutationImportance(const Recipe& recipe, const PreparedRows& prepared, const Evidence& evidence,
                                 const std::string& file, Threads threads, Progress& progress) {
    Importance out;
    const Study& study = *evidence.study;
    if (study.inputs.size() > mostInputs || study.inputs.empty()) return out;
    const BoundModel bound = study.bind(prepared.table, file);
    std::vector<std::uint32_t> rows = rowsUsed(recipe, prepared, file).heldOut;
    std::erase_if(rows, [&](std::uint32_t row) { return !bound.complete(row) || !bound.hasOffset(row); });
    out.of = rows.size() >= 20 ? "held-out rows" : "learning rows";
    if (rows.size() < 20) rows = study.rows;
    // Fewer rows of a model with thousands of columns.
    const LinearModel* linear = study.linear();
    const auto columns =
        linear ? static_cast<std::size_t>(linear->fit.coefficients.size()) : study.inputs.size();
    const std::size_t most =
        std::clamp<std::size_t>(2000000 / std::max<std::size_t>(1, columns), 100, mostRows);
    const std::size_t stride = (rows.size() + most - 1) / most;
    std::vector<std::uint32_t> some;
    for (std::size_t i = 0; i < rows.size(); i += stride)
        some.push_back(rows[i]);
    out.rows = some.size();
    const auto m = static_cast<Index>(some.size());
    MatrixXd inputs(m, static_cast<Index>(study.inputs.size()));
    bound.inputs().fill(some, inputs);
    const std::span<const double> response = prepared.table.at(recipe.response, file).numbers();
    const auto rmseOf = [&](const MatrixXd& at) {
        const VectorXd values = study.rule.valuesOf(*study.model, at);
        double squares = 0, count = 0;
        for (Index i = 0; i < m; ++i) {
            const auto row = some[static_cast<std::size_t>(i)];
            const double e = response[row] - study.rule.toResponseScale(values[i] + bound.offset(row));
            if (std::isnan(e)) continue; // a term that is not defined there
            squares += e * e;
            ++count;
        }
        return std::sqrt(squares / std::max(1.0, count));
    };
    out.rmse = rmseOf(inputs);
    std::vector<std::vector<Index>> asked;
    for (Index j = 0; j < inputs.cols(); ++j)
        asked.push_back({j});
    for (auto& group : groupsOf(study.inputs, inputs))
        asked.push_back(std::move(group));
    out.lines.resize(asked.size());
    parallelFor(asked.size(), threads, [&](std::size_t k) {
        ImportanceLine& line = out.lines[k];
        std::string names;
        for (const Index j : asked[k]) {
            line.columns.push_back(study.inputs[static_cast<std::size_t>(j)].name);
            names += line.columns.back() + "\n";
        }
        RandomStream stream(1, "permuted " + names);
        std::vector<double> increases;
        MatrixXd changed = inputs;
        for (int r = 0; r < repeats; ++r) {
            stopIfTold(progress);
            const auto order = shuffled(static_cast<std::uint32_t>(m), stream);
            for (const Index j : asked[k])
                for (Index i = 0; i < m; ++i)
                    changed(i, j) = inputs(order[static_cast<std::size_t>(i)], j);
            increases.push_back(rmseOf(changed) - out.rmse);
        }
        double sum = 0, squares = 0;
        for (const double v : increases)
            sum += v;
        line.increase = sum / repeats;
        for (const double v : increases)
            squares += (v - line.increase) * (v - line.increase);
        line.spread = std::sqrt(squares / (repeats - 1));
    });
    std::stable_sort(
        out.lines.begin(), out.lines.end(),
        [](const ImportanceLine& a, const ImportanceLine& b) { return a.increase > b.increase; });
    return out;
}

std::string importanceCsv(const Importance& importance) {
    CsvWriter out;
    for (const auto* name : {"columns", "rmse", "rmse_permuted", "increase", "spread"})
        out.text(name);
    out.endRow();
    for (const ImportanceLine& line : importance.lines) {
        out.text(nameList(line.columns, line.columns.size()));
        out.number(importance.rmse)
            .number(importance.rmse + line.increase)
            .number(line.increase)
            .number(line.spread);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
