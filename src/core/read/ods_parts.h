#pragma once
// The parts of an OpenDocument spreadsheet (ISO/IEC 26300), read as they stream by.
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

/// Names of table styles that hide what they stand for.
class OdsHidden {
public:
    void open(std::string_view element, const XmlAttributes& attributes) {
        if (element == "style:style")
            m_style =
                attributes["style:family"] == "table" ? std::string(attributes["style:name"]) : std::string();
        else if (element == "style:table-properties" && attributes["table:display"] == "false")
            m_hiding.insert(m_style);
    }
    bool hides(const XmlAttributes& table) const {
        return table["table:display"] == "false" || m_hiding.contains(std::string(table["table:style-name"]));
    }

private:
    std::string m_style;
    std::set<std::string> m_hiding;
};

class OdsSheets : public XmlHandler {
public:
    void open(std::string_view element, const XmlAttributes& attributes) override {
        m_hidden.open(element, attributes);
        if (element == "table:table" && m_depth++ == 0)
            sheets.push_back({std::string(attributes["table:name"]), m_hidden.hides(attributes)});
    }
    void close(std::string_view element) override {
        if (element == "table:table") --m_depth;
    }
    std::vector<SheetInfo> sheets;

private:
    OdsHidden m_hidden;
    int m_depth = 0;
};

class OdsManifest : public XmlHandler {
public:
    void open(std::string_view element, const XmlAttributes&) override {
        encrypted |= local(element) == "encryption-data";
    }
    bool encrypted = false;
};

/// Days from a duration "PT12H30M05.5S" (XML Schema part 2, §3.2.6); empty when it is none or names months.
inline std::optional<double> daysOfDuration(std::string_view text) {
    const bool negative = text.starts_with('-');
    if (negative) text.remove_prefix(1);
    if (!text.starts_with('P') || text.size() < 3) return std::nullopt;
    text.remove_prefix(1);
    bool clock = false;
    double seconds = 0;
    while (!text.empty()) {
        if (text.front() == 'T') {
            clock = true;
            text.remove_prefix(1);
            continue;
        }
        double value = 0;
        const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), value);
        if (failure != std::errc{} || end == text.data() + text.size()) return std::nullopt;
        const char unit = *end;
        if (unit == 'D' && !clock)
            seconds += 86400 * value;
        else if (unit == 'H' && clock)
            seconds += 3600 * value;
        else if (unit == 'M' && clock)
            seconds += 60 * value;
        else if (unit == 'S' && clock)
            seconds += value;
        else
            return std::nullopt;
        text.remove_prefix(static_cast<std::size_t>(end - text.data()) + 1);
    }
    return (negative ? -seconds : seconds) / 86400;
}

/// What a formula that went wrong shows.
inline bool isErrorText(std::string_view text) {
    static constexpr std::array<std::string_view, 8> errors{"#DIV/0!", "#N/A",  "#NAME?",  "#NULL!",
                                                            "#NUM!",   "#REF!", "#VALUE!", "#N/V"};
    return std::find(errors.begin(), errors.end(), trimmed(text)) != errors.end();
}

class OdsCells : public TextHandler {
public:
    OdsCells(SheetSink& sink, std::string sheet, const Progress& progress)
        : m_sink(sink), m_sheet(std::move(sheet)), m_progress(progress) {}
    bool found() const { return m_found; }

    void open(std::string_view element, const XmlAttributes& attributes) override {
        m_hidden.open(element, attributes);
        if (element == "table:table") {
            m_inSheet = m_depth++ == 0 && !m_found &&
                        (m_sheet.empty() ? !m_hidden.hides(attributes) : attributes["table:name"] == m_sheet);
            m_found |= m_inSheet;
            m_row = 0;
            return;
        }
        if (!m_inSheet) return;
        if (element == "table:table-row") {
            m_column = 0;
            m_cells.clear();
            m_repeatRow = countOf(attributes["table:number-rows-repeated"], 1, mostRows);
            if (m_sink.full()) stop();
        } else if (element == "table:table-cell" || element == "table:covered-table-cell") {
            m_repeat = countOf(attributes["table:number-columns-repeated"], 1, 16384);
            m_type = attributes["office:value-type"];
            m_error = attributes["calcext:value-type"] == "error";
            m_formula = !attributes["table:formula"].empty();
            m_value = m_type == "date"      ? attributes["office:date-value"]
                      : m_type == "boolean" ? attributes["office:boolean-value"]
                      : m_type == "time"    ? attributes["office:time-value"]
                      : m_type == "string"  ? attributes["office:string-value"]
                                            : attributes["office:value"];
            const auto across = countOf(attributes["table:number-columns-spanned"], 1, 16384);
            const auto down = countOf(attributes["table:number-rows-spanned"], 1, mostRows);
            if (across > 1 || down > 1)
                m_sink.merged({m_row, m_row + down - 1, m_column, m_column + across - 1});
            m_text.clear();
            m_gathering = false;
            m_paragraphs = 0;
            m_inCell = true;
        } else if (m_inCell && element == "text:p") {
            if (m_paragraphs++ > 0) m_text += '\n';
            m_gathering = true;
        } else if (m_gathering && element == "text:s") {
            m_text.append(countOf(attributes["text:c"], 1, 10000), ' ');
        } else if (m_gathering && (element == "text:tab" || element == "text:line-break")) {
            m_text += ' ';
        } else if (element == "office:annotation") {
            m_inCell = false; // a note is not the cell's text
        }
    }

    void close(std::string_view element) override {
        if (element == "table:table") {
            --m_depth;
            if (m_inSheet) stop();
            m_inSheet = false;
        }
        if (!m_inSheet) return;
        if (element == "text:p") {
            m_gathering = false;
        } else if (element == "office:annotation") {
            m_inCell = true;
        } else if (element == "table:table-cell" || element == "table:covered-table-cell") {
            m_inCell = false;
            takeCell();
            m_column += m_repeat;
        } else if (element == "table:table-row") {
            for (std::size_t k = 0; k < (m_cells.empty() ? 0 : m_repeatRow); ++k) {
                if (m_sink.rows() >= mostRows || m_sink.full()) break;
                for (const auto& repeated : m_cells) {
                    stopIfTold(m_progress);
                    for (std::size_t c = 0; c < repeated.times && repeated.column + c < widest; ++c)
                        m_sink.cell(m_row + k, repeated.column + c, repeated.cell);
                }
            }
            m_row += m_repeatRow;
        }
    }

private:
    static constexpr std::size_t mostRows = 1U << 24U;
    /// Columns beyond are passed over by the sink; repeated ones need not be offered to it.
    static constexpr std::size_t widest = 16384;

    void takeCell() {
        SheetCell cell;
        if (m_type == "float" || m_type == "percentage" || m_type == "currency") {
            const auto value = numberOf(m_value);
            cell = value ? SheetCell{SheetCell::Kind::number, *value, {}}
                         : SheetCell{SheetCell::Kind::fault, 0, m_text};
        } else if (m_type == "date") {
            const auto day = parseDate(m_value, DateOrder::yearFirst);
            const auto moment = parseMoment(m_value, DateOrder::yearFirst);
            cell = day ? SheetCell{SheetCell::Kind::date, moment.value_or(*day), {}}
                       : SheetCell{SheetCell::Kind::fault, 0, m_value};
        } else if (m_type == "time") {
            const auto days = daysOfDuration(m_value);
            cell = days ? SheetCell{SheetCell::Kind::number, *days, {}}
                        : SheetCell{SheetCell::Kind::fault, 0, m_value};
        } else if (m_type == "boolean") {
            cell = {SheetCell::Kind::text, 0, m_value};
        } else {
            const std::string& text = m_value.empty() ? m_text : m_value;
            if (trimmed(text).empty()) {
                if (m_error) m_cells.push_back({m_column, m_repeat, {SheetCell::Kind::fault, 0, "error"}});
                return;
            }
            const bool error =
                m_error || (m_formula && isErrorText(text)) || (text.starts_with('#') && m_type != "string");
            cell = {error || text.starts_with("Err:") ? SheetCell::Kind::fault : SheetCell::Kind::text, 0,
                    text};
        }
        m_cells.push_back({m_column, m_repeat, std::move(cell)});
    }

    /// A cell that stands in some columns one after the other.
    struct Repeated {
        std::size_t column, times;
        SheetCell cell;
    };
    SheetSink& m_sink;
    OdsHidden m_hidden;
    std::string m_sheet;
    const Progress& m_progress;
    std::string m_type, m_value;
    bool m_error = false, m_formula = false;
    std::vector<Repeated> m_cells;
    std::size_t m_row = 0, m_column = 0, m_repeat = 1, m_repeatRow = 1;
    int m_depth = 0, m_paragraphs = 0;
    bool m_inSheet = false, m_inCell = false, m_found = false;
};

} // namespace oxgoad
