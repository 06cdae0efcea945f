#include "study/look_at.h"

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
        scope.used[i] = prepared.teaches(i);
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

void lookAtColumn(LookScope& scope, const Column& column) {
    const NumberView view(column);
    scope.target.assign(view.values().begin(), view.values().end());
}

void keepOnly(LookScope& scope, std::span<const std::uint8_t> only) {
    if (only.empty()) return;
    scope.rows = 0;
    for (std::size_t i = 0; i < scope.used.size(); ++i) {
        if (only[i] == 0) scope.used[i] = 0;
        scope.rows += scope.used[i];
    }
}

LookPoints pointsOf(const Column& x, const LookScope& scope, LookScales scales) {
    LookPoints points;
    const NumberView view(x);
    points.x.reserve(scope.rows);
    points.y.reserve(scope.rows);
    points.rows.reserve(scope.rows);
    for (std::size_t i = 0; i < scope.used.size(); ++i) {
        if (scope.used[i] == 0 || !std::isfinite(view[i]) || !std::isfinite(scope.target[i])) continue;
        if ((scales.logX && !(view[i] > 0)) || (scales.logY && !(scope.target[i] > 0))) {
            ++points.notPositive;
            continue;
        }
        points.x.push_back(scales.logX ? std::log(view[i]) : view[i]);
        points.y.push_back(scales.logY ? std::log(scope.target[i]) : scope.target[i]);
        points.rows.push_back(static_cast<std::uint32_t>(i));
    }
    return points;
}

std::vector<std::int32_t> codesAt(const Column& factor, const LookPoints& points) {
    std::vector<std::int32_t> codes;
    codes.reserve(points.rows.size());
    for (const auto row : points.rows)
        codes.push_back(factor.codes()[row]);
    return codes;
}

namespace {

bool isFactorOf(const Column& column, std::size_t mostLevels) {
    return column.kind() == ColumnKind::factor && column.levels().size() >= 2 &&
           column.levels().size() <= mostLevels;
}

} // namespace

std::vector<SlopesBy> slopesByFactor(const Table& table, const LookPoints& points, const std::string& x,
                                     const std::vector<std::string>& columns, std::size_t most,
                                     Threads threads, Progress& progress) {
    std::vector<const Column*> factors;
    for (const std::string& name : columns)
        if (const Column& column = table.at(name, {}); name != x && isFactorOf(column, most))
            factors.push_back(&column);
    std::vector<std::optional<EqualSlopes>> tests(factors.size());
    parallelFor(factors.size(), threads, [&](std::size_t f) {
        stopIfTold(progress);
        tests[f] = groupLines(points.x, points.y, codesAt(*factors[f], points), factors[f]->levels().size())
                       .equalSlopes;
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

void sortByStrength(std::vector<RankedColumn>& ranking) {
    std::stable_sort(ranking.begin(), ranking.end(), [](const RankedColumn& a, const RankedColumn& b) {
        const auto strength = [](const RankedColumn& c) {
            return std::isnan(c.curved) ? -INFINITY : c.curved;
        };
        return strength(a) > strength(b);
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
    constexpr std::size_t mostGroups = 12;
    std::vector<std::string> factors; // the same for every number
    for (const std::string& name : columns)
        if (isFactorOf(prepared.table.at(name, {}), mostGroups)) factors.push_back(name);
    for (const RankedColumn& column : report.ranking) {
        if (column.kind == ColumnKind::factor) continue;
        if (factors.empty()) break;
        const auto by = slopesByFactor(prepared.table, pointsOf(prepared.table.at(column.name, {}), scope),
                                       column.name, factors, mostGroups, threads, slopes);
        if (!by.empty()) report.slopes.emplace_back(column.name, by.front());
    }
    ProgressStage pairs(progress, 0.6, 1);
    report.pairs = pairsOf(prepared.table, scope.used, columns, threads, pairs);
    return report;
}

} // namespace oxgoad
