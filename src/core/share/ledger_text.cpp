#include "share/ledger_text.h"

#include "base/text.h"
#include "table/values.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

std::size_t widthOf(std::string_view text) {
    return static_cast<std::size_t>(std::count_if(
        text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80; }));
}

using Line = std::vector<std::string>;

/// Lines of cells under a head; the first `left` columns stand at the left, the others at the right.
std::string aligned(const std::vector<Line>& lines, std::size_t left) {
    std::vector<std::size_t> widths;
    for (const Line& line : lines)
        for (std::size_t c = 0; c < line.size(); ++c) {
            if (widths.size() <= c) widths.push_back(0);
            widths[c] = std::max(widths[c], widthOf(line[c]));
        }
    std::string text;
    for (const Line& line : lines) {
        std::string row;
        for (std::size_t c = 0; c < line.size(); ++c) {
            const std::string space(widths[c] - widthOf(line[c]), ' ');
            row += (c > 0 ? "  " : "") + (c < left ? line[c] + space : space + line[c]);
        }
        while (!row.empty() && row.back() == ' ')
            row.pop_back();
        text += row + "\n";
    }
    return text;
}

std::string moment(const ColumnSummary& s, double NumberSummary::*member, bool isPlace) {
    if (!s.numbers) return {};
    const double value = (*s.numbers).*member;
    if (const std::string day = calendarText(s, value); isPlace && !day.empty()) return day;
    const bool years = s.whole == s.rows - s.missing && areYears(s.numbers->smallest, s.numbers->largest);
    std::string text = std::isnan(value) ? "" : shortText(value);
    if (years) std::erase(text, ','); // 1970, not 1,970
    return text;
}

std::string roleWord(const Recipe& recipe, const std::string& column) {
    if (column == recipe.response) return "response";
    const auto found = recipe.roles.find(column);
    return found == recipe.roles.end() ? "" : std::string(roleName(found->second));
}

} // namespace

std::string ledgerText(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared) {
    const ReadReport& report = rows.learning.report;
    std::string text = harmless(report.file) + ": " + plural(report.rows, "row", "rows") + ", " +
                       plural(prepared.table.columns().size(), "column", "columns");
    const auto used = prepared.used();
    const auto counted = prepared.counted();
    const auto in = static_cast<std::size_t>(std::count(used.begin(), used.end(), 1));
    if (in < used.size()) text += ", " + countText(used.size() - in) + " left out";
    const auto test = in - static_cast<std::size_t>(std::count(counted.begin(), counted.end(), 1));
    if (test > 0) text += ", " + countText(test) + " for the test not counted below";
    text += "\n";
    for (const auto& note : report.notes)
        text += "  " + harmless(note) + "\n";
    for (const ReadDoubt& doubt : report.doubts)
        text += "  Not sure: " + harmless(doubt.said) + "\n";
    if (report.faultCount > 0) text += "  Not read: " + harmless(report.faultsText()) + "\n";
    constexpr std::size_t fewFaults = 10;
    for (std::size_t i = 0; i < std::min(fewFaults, report.faults.size()); ++i)
        text += "    " + harmless(faultText(report.faults[i])) + "\n";
    std::vector<Line> lines{{"column", "role", "type", "missing", "distinct", "smallest", "lower quartile",
                             "median", "mean", "upper quartile", "largest", "std deviation", "skew"}};
    for (const LedgerLine& line : prepared.ledger.columns) {
        const ColumnSummary& s = line.summary;
        lines.push_back(
            {harmless(s.name), roleWord(recipe, s.name), std::string(kindText(s)),
             s.missing > 0 ? countText(s.missing) : "", countText(s.distinct),
             moment(s, &NumberSummary::smallest, true), moment(s, &NumberSummary::lowerQuartile, true),
             moment(s, &NumberSummary::median, true), moment(s, &NumberSummary::mean, true),
             moment(s, &NumberSummary::upperQuartile, true), moment(s, &NumberSummary::largest, true),
             moment(s, &NumberSummary::standardDeviation, false),
             moment(s, &NumberSummary::skewness, false)});
    }
    text += "\n" + aligned(lines, 3);
    if (!recipe.steps.empty()) {
        text += "\nSteps\n";
        for (std::size_t i = 0; i < recipe.steps.size(); ++i) {
            const StepOutcome& o = prepared.steps[i];
            text += "  " + std::to_string(i + 1) + "  " + harmless(stepSentence(recipe.steps[i]));
            if (!recipe.steps[i].on)
                text += "; switched off";
            else if (!o.problem.empty())
                text += "; could not run: " + harmless(o.problem);
            else
                text += "; rows " + countText(o.rowsIn) + " → " + countText(o.rowsOut) + ", columns " +
                        countText(o.columnsIn) + " → " + countText(o.columnsOut);
            text += "\n";
        }
    }
    std::vector<Line> parts{{"  part", "rows", "mean of " + harmless(recipe.response), "std deviation",
                             "levels no learning row has"}};
    for (const PartSummary& p : prepared.partSummaries)
        parts.push_back(
            {"  " + std::string(partName(p.part)) + (p.note.empty() ? "" : " (" + harmless(p.note) + ")"),
             countText(p.rows),
             p.part == Part::test ? "locked"
             : std::isnan(p.mean) ? ""
                                  : shortText(p.mean),
             p.part == Part::test              ? "locked"
             : std::isnan(p.standardDeviation) ? ""
                                               : shortText(p.standardDeviation),
             harmless(nameList(p.unseenLevels))});
    text += "\nParts\n" + aligned(parts, 1);
    const auto goads = prepared.ledger.goads();
    if (!goads.empty()) text += "\nWhat is odd\n";
    for (const Goad& goad : goads) {
        if (!goad.under.empty()) continue;
        const auto alike = static_cast<std::size_t>(std::count_if(
            goads.begin(), goads.end(), [&](const Goad& other) { return other.under == goad.key; }));
        text += "  " + harmless(goad.title) + ": " + harmless(goad.reading) + " (threshold " +
                harmless(goad.threshold) + ")\n";
        if (alike == 0) continue;
        std::string together = goad.familyTitle;
        together.replace(together.find('#'), 1, countText(alike + 1));
        text += "    " + harmless(together) + "\n";
        if (goad.family.starts_with("columns: ")) continue; // each says the same of another column
        for (const Goad& other : goads)
            if (other.under == goad.key)
                text += "    " + harmless(other.title) + ": " + harmless(other.reading) + "\n";
    }
    std::vector<Goad> remarks = prepared.ledger.tableRemarks;
    for (const LedgerLine& line : prepared.ledger.columns)
        remarks.insert(remarks.end(), line.remarks.begin(), line.remarks.end());
    if (!remarks.empty()) text += "\nRemarks\n";
    for (const Goad& remark : remarks)
        text += "  " + harmless(remark.title) + ": " + harmless(remark.reading) + "\n";
    return text;
}

std::string driftText(const Drift& drift) {
    std::string text;
    for (const auto& sentence : drift.sentences())
        text += harmless(sentence) + "\n";
    return text;
}

std::string driftJson(const Drift& drift) {
    ordered_json out{{"drift", 1}, {"rows_before", drift.rowsBefore}, {"rows_now", drift.rowsNow}};
    out["columns_gone"] = drift.columnsGone;
    out["columns_new"] = drift.columnsNew;
    out["columns"] = ordered_json::array();
    for (const ColumnDrift& column : drift.columns) {
        ordered_json each{{"name", column.column}, {"changes", column.changes}};
        if (!std::isnan(column.distance)) {
            each["distance"] = column.distance;
            each["p"] = column.p;
        }
        out["columns"].push_back(each);
    }
    out["sentences"] = drift.sentences();
    return out.dump(2) + "\n";
}

std::string ledgerJson(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared) {
    ordered_json out;
    out["ledger"] = 1;
    out["file"] = rows.learning.report.file;
    out["rows"] = rows.learning.report.rows;
    out["notes"] = rows.learning.report.notes;
    out["not_sure"] = ordered_json::array();
    for (const ReadDoubt& doubt : rows.learning.report.doubts)
        out["not_sure"].push_back(doubt.said);
    if (const ReadReport& report = rows.learning.report; report.faultCount > 0) {
        out["faults"] = {{"count", report.faultCount}, {"says", report.faultsText()}};
        for (const CellFault& fault : report.faults)
            out["faults"]["first"].push_back(faultText(fault));
    }
    for (const auto& [column, unit] : rows.learning.report.units)
        out["units"][column] = unit;
    out["columns"] = ordered_json::array();
    for (const LedgerLine& line : prepared.ledger.columns) {
        const ColumnSummary& s = line.summary;
        ordered_json column{{"name", s.name},       {"role", roleWord(recipe, s.name)},
                            {"type", kindText(s)},  {"rows", s.rows},
                            {"missing", s.missing}, {"distinct", s.distinct}};
        if (s.numbers) {
            auto place = [&](const char* key, double value) {
                if (const std::string day = calendarText(s, value); !day.empty())
                    column[key] = day;
                else
                    column[key] = value;
            };
            place("smallest", s.numbers->smallest);
            place("lower_quartile", s.numbers->lowerQuartile);
            place("median", s.numbers->median);
            place("mean", s.numbers->mean);
            place("upper_quartile", s.numbers->upperQuartile);
            place("largest", s.numbers->largest);
            column["standard_deviation"] = s.numbers->standardDeviation;
            column["skew"] = s.numbers->skewness;
        }
        constexpr std::size_t mostLevels = 1000;
        for (std::size_t i = 0; i < std::min(s.levels.size(), mostLevels); ++i)
            column["levels"].push_back({{"level", s.levels[i].first}, {"rows", s.levels[i].second}});
        out["columns"].push_back(column);
    }
    for (std::size_t i = 0; i < recipe.steps.size(); ++i)
        out["steps"].push_back({{"says", stepSentence(recipe.steps[i])},
                                {"done", prepared.steps[i].done},
                                {"problem", prepared.steps[i].problem},
                                {"rows_in", prepared.steps[i].rowsIn},
                                {"rows_out", prepared.steps[i].rowsOut}});
    for (const PartSummary& p : prepared.partSummaries)
        out["parts"].push_back({{"part", partName(p.part)},
                                {"rows", p.rows},
                                {"mean", p.mean},
                                {"standard_deviation", p.standardDeviation},
                                {"levels_not_learned", p.unseenLevels}});
    out["goads"] = ordered_json::array();
    out["remarks"] = ordered_json::array();
    for (const Goad& remark : prepared.ledger.tableRemarks)
        out["remarks"].push_back({{"goad", remark.key}, {"reading", remark.reading}});
    for (const LedgerLine& line : prepared.ledger.columns)
        for (const Goad& remark : line.remarks)
            out["remarks"].push_back(
                {{"goad", remark.key}, {"column", remark.column}, {"reading", remark.reading}});
    for (const Goad& goad : prepared.ledger.goads()) {
        ordered_json each{{"goad", goad.key},
                          {"title", goad.title},
                          {"reading", goad.reading},
                          {"threshold", goad.threshold},
                          {"source", goad.source}};
        if (!goad.column.empty()) each["column"] = goad.column;
        if (goad.row) each["row"] = *goad.row + 1;
        if (!goad.under.empty()) each["under"] = goad.under;
        out["goads"].push_back(each);
    }
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
