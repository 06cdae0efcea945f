#include "workspace/start_recipe.h"

#include "table/summary.h"
#include "table/values.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <string>

namespace oxgoad {

namespace {

bool holdsWord(const std::string& name, std::string_view word) {
    std::string lower;
    for (const char c : name)
        lower += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    const auto at = lower.find(word);
    return at != std::string::npos;
}

/// How likely a column is what somebody wants to predict: by its name, by how many values it has, and by
/// where it stands. Years, codes, identifiers and counts of few values are seldom it.
double promise(const Column& column, std::size_t place, std::size_t columns) {
    static constexpr std::array<std::string_view, 25> amounts{
        "revenue", "sales",  "turnover", "spend",    "cost",   "price",   "amount", "profit", "margin",
        "income",  "value",  "total",    "demand",   "volume", "expense", "fee",    "rent",   "wage",
        "gross",   "salary", "target",   "response", "umsatz", "kosten",  "preis"};
    static constexpr std::array<std::string_view, 12> keys{"year", "month", "day",    "week", "date", "code",
                                                           "zip",  "index", "number", "_id",  "lat",  "lon"};
    const ColumnSummary s = summarize(column);
    if (!s.numbers || s.distinct < 2) return -1e9;
    const auto present = static_cast<double>(s.rows - s.missing);
    double score = 0;
    for (const auto word : amounts)
        if (holdsWord(column.name(), word)) {
            score += 4;
            break;
        }
    for (const auto word : keys)
        if (holdsWord(column.name(), word)) {
            score -= 4;
            break;
        }
    if (column.name() == "y" || column.name() == "Y") score += 4;
    if (column.name() == "id" || column.name() == "ID") score -= 6;
    const bool whole = s.whole == s.rows - s.missing;
    if (whole && areYears(s.numbers->smallest, s.numbers->largest)) score -= 5;
    if (whole && s.distinct <= 12) score -= 3;
    if (whole && s.numbers->largest - s.numbers->smallest + 1 == present && s.distinct == s.rows - s.missing)
        score -= 5; // a running number
    score += 2 * std::min(1.0, static_cast<double>(s.distinct) / std::max(1.0, present));
    // One that is mostly missing is no start, however it is called.
    const double lacking = static_cast<double>(s.missing) / static_cast<double>(s.rows);
    score -= 3 * lacking + (lacking > 0.3 ? 8 : 0);
    // Results stand at the end more often than not, sometimes at the beginning.
    if (place + 1 == columns) score += 1.5;
    if (place == 0) score += 0.5;
    return score;
}

} // namespace

Recipe startRecipe(const RowsPlan& plan, const RowsRead& read) {
    const Table& table = read.table;
    Recipe recipe;
    recipe.rows = plan;
    for (const auto& [column, unit] : read.report.units)
        recipe.units.try_emplace(column, unit);
    double best = -1e9;
    const auto& columns = table.columns();
    std::size_t numbers = 0, place = 0;
    for (const Column& column : columns)
        numbers += column.kind() == ColumnKind::number;
    for (const Column& column : columns) {
        if (column.kind() != ColumnKind::number || column.moments()) continue;
        if (const double score = promise(column, place++, numbers);
            column.missingCount() < column.size() && (recipe.response.empty() || score > best)) {
            best = score;
            recipe.response = column.name();
        }
    }
    // Of few rows every one is needed to learn; of many, one look at a part is as good as ten.
    const Column* response = table.find(recipe.response);
    const std::size_t rows = response ? response->size() - response->missingCount() : 0;
    if (rows >= 5000)
        recipe.setAside = SetAside{.share = 0.25, .seed = 7};
    else if (rows >= 20)
        recipe.judge = FoldPlan{};
    else if (rows >= 3)
        recipe.judge = FoldPlan{.kind = FoldKind::leaveOneOut};
    return recipe;
}

} // namespace oxgoad
