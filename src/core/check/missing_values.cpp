#include "base/text.h"
#include "check/checks.h"

#include <algorithm>

namespace oxgoad {

namespace {

constexpr double shareLimit = 0.05;

std::string byColumn(const std::vector<std::pair<std::string, std::size_t>>& counts) {
    std::string text;
    for (const auto& [column, count] : counts)
        text += (text.empty() ? "" : ", ") + column + " " + countText(count);
    return text;
}

} // namespace

void checkMissingValues(const CheckContext& context, Findings& findings) {
    const auto usable = context.learning.rows + context.heldOut.rows;
    const double share =
        static_cast<double>(context.rowsMissing) / static_cast<double>(context.rowsMissing + usable);
    const double limit = context.limitOf("rows with missing values", 100 * shareLimit);
    findings.readings.push_back({"rows with missing values",
                                 100 * share,
                                 limit,
                                 {},
                                 readableText(100 * share, 2) + " % of rows cannot be used",
                                 "common practice, no source"});
    if (context.rowsMissing == 0) return;
    Goad goad;
    goad.key = "missing values";
    goad.check = "rows with missing values";
    goad.size = share;
    goad.severity = 100 * share > limit ? Severity::alarm : Severity::caution;
    goad.title = plural(context.rowsMissing, "row is", "rows are") + " not used because a value is missing";
    goad.reading = byColumn(context.missingByColumn) + "; " + readableText(100 * share, 2) + " % of rows";
    goad.threshold = "any row; grave above " + shortText(limit) + " % of rows";
    goad.source = "common practice, no source";
    goad.station = "data";
    const auto most = std::max_element(context.missingByColumn.begin(), context.missingByColumn.end(),
                                       [](const auto& a, const auto& b) { return a.second < b.second; });
    if (most != context.missingByColumn.end()) {
        goad.column = most->first;
        goad.moves.push_back(seeColumn());
        std::vector<std::string> numbers, factors;
        for (const auto& [name, count] : context.missingByColumn) {
            const Column* column = name == context.response() ? nullptr : context.table.find(name);
            if (column && column->kind() == ColumnKind::number) numbers.push_back(name);
            if (column && column->kind() == ColumnKind::factor) factors.push_back(name);
        }
        auto fill = [&goad](const char* label, const std::vector<std::string>& columns, const char* with) {
            if (columns.empty()) return;
            goad.moves.push_back(
                addStep(label, {"fill missing", true, {{"columns", columns}, {"with", std::string(with)}}}));
        };
        fill("fill with medians", numbers, "median");
        fill("make them the level \"missing\"", factors, "level missing");
        for (const Term& term : context.terms)
            if (term.parts.size() == 1 && term.parts[0].column == most->first)
                goad.moves.push_back(leaveOutTerm(termName(term)));
    }
    findings.goads.push_back(std::move(goad));
}

void checkMisfits(const CheckContext& context, Findings& findings) {
    for (const auto& [column, count] : context.misfitsByColumn) {
        Goad goad;
        goad.key = "unreadable cells: " + column;
        goad.title = plural(count, "cell", "cells") + " of " + column + " could not be read";
        goad.reading = "taken as missing; the list is in the Data station";
        goad.threshold = "any cell of a column in use";
        goad.source = "common practice, no source";
        goad.station = "data";
        goad.column = column;
        goad.moves.push_back(seeColumn());
        findings.goads.push_back(std::move(goad));
    }
}

} // namespace oxgoad
