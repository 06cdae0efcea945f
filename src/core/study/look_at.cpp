#include "study/look_at.h"

#include "estimate/distributions.h"
#include "estimate/least_squares.h"
#include "look/points.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

std::string_view againstName(Against against) {
    return against == Against::response    ? "response"
           : against == Against::predicted ? "predicted"
                                           : "residual";
}

std::optional<Against> againstNamed(std::string_view name) {
    for (const Against a : {Against::response, Against::predicted, Against::residual})
        if (againstName(a) == name) return a;
    return std::nullopt;
}

LookScope lookScope(const Recipe& recipe, const PreparedRows& prepared, const Evidence* evidence,
                    Against against) {
    if (recipe.response.empty())
        throw Error(ErrorCode::badRecipe, "there is no response to look at", {},
                    "Choose the column to predict first.");
    const Column& response = prepared.table.at(recipe.response, recipe.rows.file);
    if (response.kind() != ColumnKind::number)
        throw Error(ErrorCode::wrongType, "the response is no number", {.column = recipe.response},
                    "Choose a column of numbers.");
    if (against != Against::response && !evidence)
        throw Error(ErrorCode::badRecipe, "there is no fit whose predictions could be looked at", {},
                    "Fit a model first, or look at the response.");
    LookScope scope;
    const std::size_t n = prepared.table.rows();
    scope.used.resize(n);
    for (std::size_t i = 0; i < n; ++i) {
        scope.used[i] = prepared.leftOut[i] == 0 && prepared.parts[i] == Part::learning;
        scope.rows += scope.used[i];
    }
    if (against == Against::response) {
        const auto numbers = response.numbers();
        scope.target.assign(numbers.begin(), numbers.end());
    } else {
        scope.target = against == Against::predicted ? evidence->rows.fitted : evidence->rows.residual;
    }
    return scope;
}

std::vector<std::string> lookColumns(const Recipe& recipe, const Table& table) {
    std::vector<std::string> names;
    for (const Column& column : table.columns())
        if (column.name() != recipe.response && column.kind() != ColumnKind::text &&
            isOffered(recipe, column.name()))
            names.push_back(column.name());
    return names;
}

namespace {

/// Values of the used rows of a scope that have both.
struct Points {
    std::vector<double> x, y;
    std::vector<std::uint32_t> rows;
};

Points pointsOf(const Column& column, const LookScope& scope) {
    Points points;
    const NumberView view(column);
    for (std::size_t i = 0; i < scope.used.size(); ++i)
        if (scope.used[i] != 0 && std::isfinite(view[i]) && std::isfinite(scope.target[i])) {
            points.x.push_back(view[i]);
            points.y.push_back(scope.target[i]);
            points.rows.push_back(static_cast<std::uint32_t>(i));
        }
    return points;
}

} // namespace

std::vector<SlopesBy> slopesByFactor(const Table& table, const LookScope& scope, const std::string& x,
                                     const std::vector<std::string>& columns, std::size_t most,
                                     Threads threads, Progress& progress) {
    const Points points = pointsOf(table.at(x, {}), scope);
    std::vector<const Column*> factors;
    for (const std::string& name : columns) {
        const Column& column = table.at(name, {});
        if (name != x && column.kind() == ColumnKind::factor && column.levels().size() >= 2 &&
            column.levels().size() <= most)
            factors.push_back(&column);
    }
    std::vector<std::optional<EqualSlopes>> tests(factors.size());
    parallelFor(factors.size(), threads, [&](std::size_t f) {
        if (progress.stopRequested()) throw Stopped{};
        std::vector<std::int32_t> codes;
        codes.reserve(points.rows.size());
        for (const auto row : points.rows)
            codes.push_back(factors[f]->codes()[row]);
        tests[f] = groupLines(points.x, points.y, codes, factors[f]->levels().size()).equalSlopes;
    });
    std::vector<SlopesBy> found;
    std::vector<double> p;
    for (std::size_t f = 0; f < factors.size(); ++f)
        if (tests[f] && !std::isnan(tests[f]->p)) {
            found.push_back({factors[f]->name(), *tests[f], 0});
            p.push_back(tests[f]->p);
        }
    const auto adjusted = holmAdjusted(p);
    for (std::size_t k = 0; k < found.size(); ++k)
        found[k].pAdjusted = adjusted[k];
    std::stable_sort(found.begin(), found.end(), [](const SlopesBy& a, const SlopesBy& b) {
        return a.test.p < b.test.p || (a.test.p == b.test.p && a.test.f > b.test.f);
    });
    return found;
}

std::optional<BendTerm> bendTerm(const Column& x, const LookScope& scope) {
    if (x.kind() != ColumnKind::number) return std::nullopt;
    const Points points = pointsOf(x, scope);
    const auto n = static_cast<Eigen::Index>(points.x.size());
    if (n < 5) return std::nullopt;
    const auto rSquaredOf = [&](const Eigen::MatrixXd& columns) {
        Progress silent;
        const auto fit = fitLeastSquares(MatrixRows(columns), points.y, {}, silent);
        return 1 - fit.residualSumOfSquares / fit.totalSumOfSquares;
    };
    const Eigen::Map<const Eigen::VectorXd> values(points.x.data(), n);
    try {
        Eigen::MatrixXd square(n, 2);
        square.col(0) = values;
        square.col(1) = values.array().square();
        const Eigen::MatrixXd line = values;
        BendTerm best{false, rSquaredOf(square), 1};
        const double df = static_cast<double>(n) - 3;
        best.p = fisherUpper((best.rSquared - rSquaredOf(line)) / ((1 - best.rSquared) / df), 1, df);
        if (values.minCoeff() > 0) {
            const Eigen::MatrixXd logarithm = values.array().log();
            // As many terms as the line has: preferred when it says nearly as much.
            const double r = rSquaredOf(logarithm);
            if (r > best.rSquared - 0.005) best = {true, r, best.p};
        }
        return best;
    } catch (const Error&) { // a constant target
        return std::nullopt;
    }
}

void sortByStrength(std::vector<RankedColumn>& ranking) {
    std::stable_sort(ranking.begin(), ranking.end(), [](const RankedColumn& a, const RankedColumn& b) {
        const double x = std::isnan(a.curved) ? -INFINITY : a.curved;
        const double y = std::isnan(b.curved) ? -INFINITY : b.curved;
        return x > y;
    });
}

LookReport lookReport(const Recipe& recipe, const PreparedRows& prepared, const Evidence* evidence,
                      Against against, Threads threads, Progress& progress) {
    const LookScope scope = lookScope(recipe, prepared, evidence, against);
    const std::vector<std::string> columns = lookColumns(recipe, prepared.table);
    LookReport report;
    report.against = against;
    report.response = recipe.response;
    report.rows = scope.rows;
    ProgressStage ranking(progress, 0, 0.5);
    report.ranking = rankColumns(prepared.table, scope.target, scope.used, columns, threads, ranking);
    sortByStrength(report.ranking);
    ProgressStage slopes(progress, 0.5, 0.6);
    for (const RankedColumn& column : report.ranking) {
        if (column.kind == ColumnKind::factor) continue;
        const auto by = slopesByFactor(prepared.table, scope, column.name, columns, 12, threads, slopes);
        if (!by.empty()) report.slopes.emplace_back(column.name, by.front());
    }
    ProgressStage pairs(progress, 0.6, 1);
    report.pairs = pairsOf(prepared.table, scope.used, columns, threads, pairs);
    return report;
}

} // namespace oxgoad
