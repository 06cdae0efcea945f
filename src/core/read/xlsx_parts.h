#pragma once
// The parts of an Office Open XML workbook (ECMA-376), read as they stream by.
#include "base/error.h"
#include "base/text.h"
#include "read/sheet_sink.h"
#include "read/workbook.h"
#include "read/workbook_text.h"
#include "read/zip_xml.h"
#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

struct XlsxSheet {
    SheetInfo info;
    std::string relation;
    std::string part;
};

class XlsxBook : public XmlHandler {
public:
    void open(std::string_view element, const XmlAttributes& attributes) override {
        const auto name = local(element);
        if (name == "sheet") {
            std::string_view relation = attributes["r:id"];
            const auto state = attributes["state"];
            sheets.push_back({{std::string(attributes["name"]), !state.empty() && state != "visible"},
                              std::string(relation),
                              {}});
        } else if (name == "workbookPr") {
            const auto flag = attributes["date1904"];
            from1904 = flag == "1" || flag == "true";
        }
    }
    std::vector<XlsxSheet> sheets;
    bool from1904 = false;
};

class XlsxRelations : public XmlHandler {
public:
    void open(std::string_view element, const XmlAttributes& attributes) override {
        if (local(element) != "Relationship") return;
        std::string target(attributes["Target"]);
        if (target.starts_with('/'))
            target.erase(0, 1);
        else
            target.insert(0, "xl/");
        targets[std::string(attributes["Id"])] = target;
        const auto type = attributes["Type"];
        if (type.ends_with("/sharedStrings")) strings = target;
        if (type.ends_with("/styles")) styles = target;
    }
    std::map<std::string, std::string> targets;
    std::string strings, styles;
};

class XlsxStrings : public TextHandler {
public:
    void open(std::string_view element, const XmlAttributes&) override {
        const auto name = local(element);
        if (name == "si") m_string.clear();
        if (name == "rPh") m_phonetic = true;
        if (name == "t" && !m_phonetic) gather();
    }
    void close(std::string_view element) override {
        const auto name = local(element);
        if (name == "t" && gathering()) m_string += gathered();
        if (name == "rPh") m_phonetic = false;
        if (name == "si") strings.push_back(m_string);
    }
    std::vector<std::string> strings;

private:
    std::string m_string;
    bool m_phonetic = false;
};

/// Whether a number format shows a date: it has a day, a year, or a month that is no minute.
inline bool showsDate(std::string_view code) {
    bool quoted = false, bracket = false, day = false, month = false, clock = false;
    for (std::size_t i = 0; i < code.size(); ++i) {
        const char c = code[i];
        if (quoted) {
            quoted = c != '"';
        } else if (bracket) {
            bracket = c != ']';
        } else if (c == '"') {
            quoted = true;
        } else if (c == '[') {
            bracket = true;
        } else if (c == '\\' || c == '_' || c == '*') {
            ++i;
        } else if (c == ';') {
            break; // the format of numbers above zero is enough
        } else {
            day |= c == 'd' || c == 'D' || c == 'y' || c == 'Y';
            month |= c == 'm' || c == 'M';
            clock |= c == 'h' || c == 'H' || c == 's' || c == 'S';
        }
    }
    return day || (month && !clock);
}

class XlsxStyles : public XmlHandler {
public:
    void open(std::string_view element, const XmlAttributes& attributes) override {
        const auto name = local(element);
        if (name == "numFmt") {
            if (showsDate(attributes["formatCode"]))
                m_custom[std::string(attributes["numFmtId"])] = true;
            else
                m_custom[std::string(attributes["numFmtId"])] = false;
        } else if (name == "cellXfs") {
            m_inCells = true;
        } else if (name == "xf" && m_inCells) {
            const std::string id(attributes["numFmtId"]);
            const auto own = m_custom.find(id);
            const auto number = countOf(id, 0, 100000);
            // Built-in formats with a day, by ECMA-376 part 1, §18.8.30, and its East Asian lists.
            const bool builtIn = (number >= 14 && number <= 17) || number == 22 ||
                                 (number >= 27 && number <= 31) || number == 36 ||
                                 (number >= 50 && number <= 54) || number == 57 || number == 58;
            dates.push_back(own == m_custom.end() ? builtIn : own->second);
        }
    }
    void close(std::string_view element) override {
        if (local(element) == "cellXfs") m_inCells = false;
    }
    std::vector<bool> dates;

private:
    std::map<std::string, bool> m_custom;
    bool m_inCells = false;
};

struct XlsxParts {
    XlsxBook book;
    XlsxRelations relations;
};

inline XlsxParts readXlsxParts(const ZipArchive& archive, Progress& progress) {
    XlsxParts parts;
    if (!archive.has("xl/workbook.xml"))
        throw Error(ErrorCode::badWorkbook, "this archive holds no workbook", {.file = archive.name()},
                    "Choose an .xlsx or .ods file.");
    parsePart(archive, "xl/workbook.xml", parts.book, progress);
    parsePart(archive, "xl/_rels/workbook.xml.rels", parts.relations, progress);
    for (XlsxSheet& sheet : parts.book.sheets) {
        const auto found = parts.relations.targets.find(sheet.relation);
        if (found != parts.relations.targets.end()) sheet.part = found->second;
    }
    // Chart sheets hold no cells.
    std::erase_if(parts.book.sheets,
                  [](const XlsxSheet& s) { return s.part.find("chartsheets/") != std::string::npos; });
    if (parts.book.sheets.empty())
        throw Error(ErrorCode::badWorkbook, "the workbook has no sheets", {.file = archive.name()},
                    "Choose another.");
    return parts;
}

class XlsxCells : public TextHandler {
public:
    XlsxCells(SheetSink& sink, const std::vector<std::string>& strings, const std::vector<bool>& dates,
              bool from1904)
        : m_sink(sink), m_strings(strings), m_dates(dates), m_from1904(from1904) {}

    void open(std::string_view element, const XmlAttributes& attributes) override {
        const auto name = local(element);
        if (name == "c") {
            const auto place = parseCellName(attributes["r"]);
            m_column = place ? place->first : m_column + 1;
            if (place) m_row = place->second;
            m_type = attributes["t"];
            m_style = countOf(attributes["s"], 0, 1000000);
            m_value.clear();
            m_formula = false;
            m_hasValue = false;
        } else if (name == "v" || name == "t") {
            if (!m_phonetic) gather();
        } else if (name == "f") {
            m_formula = true;
        } else if (name == "row") {
            m_row = countOf(attributes["r"], m_row + 2, 100000000) - 1;
            m_column = static_cast<std::size_t>(-1);
            if (m_sink.full()) stop();
        } else if (name == "rPh") {
            m_phonetic = true;
        } else if (name == "mergeCell") {
            if (const auto range = parseRange(attributes["ref"])) m_sink.merged(*range);
        }
    }

    void close(std::string_view element) override {
        const auto name = local(element);
        if ((name == "v" || name == "t") && gathering()) {
            m_value += gathered();
            m_hasValue = true;
        } else if (name == "rPh") {
            m_phonetic = false;
        } else if (name == "c") {
            take();
        }
    }

private:
    void take() {
        if (!m_hasValue) {
            if (m_formula) fault("formula without a stored value");
            return;
        }
        if (m_type.empty() || m_type == "n") {
            const auto value = numberOf(m_value);
            if (!value) return fault(m_value);
            if (m_style < m_dates.size() && m_dates[m_style]) return takeDate(*value);
            m_sink.cell(m_row, m_column, {SheetCell::Kind::number, *value, {}});
        } else if (m_type == "s") {
            const auto at = numberOf(m_value);
            if (!at || *at < 0 || *at >= static_cast<double>(m_strings.size()))
                return fault("text that is not there");
            m_sink.cell(m_row, m_column,
                        {SheetCell::Kind::text, 0, m_strings[static_cast<std::size_t>(*at)]});
        } else if (m_type == "b") {
            m_sink.cell(m_row, m_column, {SheetCell::Kind::text, 0, m_value == "1" ? "true" : "false"});
        } else if (m_type == "e") {
            fault(m_value);
        } else if (m_type == "d") {
            if (const auto moment = parseMoment(m_value, DateOrder::yearFirst))
                m_sink.cell(m_row, m_column, {SheetCell::Kind::date, *moment, {}});
            else if (const auto day = parseDate(m_value, DateOrder::yearFirst))
                m_sink.cell(m_row, m_column, {SheetCell::Kind::date, static_cast<double>(*day), {}});
            else
                fault(m_value);
        } else { // str, inlineStr
            m_sink.cell(m_row, m_column, {SheetCell::Kind::text, 0, m_value});
        }
    }

    /// Serial numbers of days: 1 is 1900-01-01, and 60 a 29 February 1900 that never was; or 0 is 1904-01-01.
    void takeDate(double serial) {
        double day = std::floor(serial);
        const double time = serial - day;
        if (!m_from1904 && (day < 1 || day == 60)) return fault(exactText(serial));
        day += m_from1904 ? -24107 : day < 60 ? -25568 : -25569;
        if (std::fabs(day) > 4e6) return fault(exactText(serial));
        m_sink.cell(m_row, m_column, {SheetCell::Kind::date, day + time, {}});
    }

    void fault(const std::string& text) { m_sink.cell(m_row, m_column, {SheetCell::Kind::fault, 0, text}); }

    SheetSink& m_sink;
    const std::vector<std::string>& m_strings;
    const std::vector<bool>& m_dates;
    bool m_from1904;
    std::size_t m_row = static_cast<std::size_t>(-1), m_column = 0, m_style = 0;
    std::string m_type, m_value;
    bool m_formula = false, m_hasValue = false, m_phonetic = false;
};

// OpenDocument
// ---------------------------------------------------------------------------------------------------

} // namespace oxgoad
