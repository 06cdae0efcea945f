#include "read/workbook.h"

#include "base/error.h"
#include "base/text.h"
#include "read/sheet_sink.h"
#include "read/zip_xml.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

namespace {

/// An element's name without its prefix.
std::string_view local(std::string_view name) {
    const auto colon = name.rfind(':');
    return colon == std::string_view::npos ? name : name.substr(colon + 1);
}

std::optional<double> numberOf(std::string_view text) {
    text = trimmed(text);
    double value = 0;
    const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (failure != std::errc{} || end != text.data() + text.size()) return std::nullopt;
    return value;
}

std::size_t countOf(std::string_view text, std::size_t otherwise, std::size_t most) {
    std::size_t value = 0;
    const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (text.empty() || failure != std::errc{} || end != text.data() + text.size()) return otherwise;
    return std::min(value, most);
}

/// The place where an element's text is gathered, for handlers that want a few texts only.
class TextHandler : public XmlHandler {
public:
    void text(std::string_view text) override {
        if (m_gathering) m_text.append(text);
    }

protected:
    void gather() {
        m_text.clear();
        m_gathering = true;
    }
    std::string& gathered() {
        m_gathering = false;
        return m_text;
    }
    bool gathering() const { return m_gathering; }
    std::string m_text;
    bool m_gathering = false;
};

// Office Open XML
// ------------------------------------------------------------------------------------------------

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
bool showsDate(std::string_view code) {
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

XlsxParts readXlsxParts(const ZipArchive& archive, Progress& progress) {
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
            if (const auto day = parseDate(m_value, DateOrder::yearFirst))
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
        if (day != serial) m_sink.timesDropped();
        if (!m_from1904 && (day < 1 || day == 60)) return fault(exactText(serial));
        day += m_from1904 ? -24107 : day < 60 ? -25568 : -25569;
        if (std::fabs(day) > 4e6) return fault(exactText(serial));
        m_sink.cell(m_row, m_column, {SheetCell::Kind::date, day, {}});
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
std::optional<double> daysOfDuration(std::string_view text) {
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
bool isErrorText(std::string_view text) {
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
                    if (m_progress.stopRequested()) throw Stopped{};
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
            if (m_value.find('T') != std::string::npos) m_sink.timesDropped();
            cell = day ? SheetCell{SheetCell::Kind::date, static_cast<double>(*day), {}}
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

bool isOds(const ZipArchive& archive) {
    return archive.has("content.xml");
}

void refuseLocked(const ZipArchive& archive, Progress& progress) {
    if (!archive.has("META-INF/manifest.xml")) return;
    OdsManifest manifest;
    parsePart(archive, "META-INF/manifest.xml", manifest, progress);
    if (manifest.encrypted)
        throw Error(ErrorCode::badWorkbook, "the workbook is locked with a password",
                    {.file = archive.name()}, "Take the password away where it was made.");
}

[[noreturn]] void noSheet(const ZipArchive& archive, const std::string& wanted,
                          const std::vector<SheetInfo>& sheets) {
    std::string names;
    for (const SheetInfo& sheet : sheets)
        names += (names.empty() ? "" : ", ") + sheet.name;
    throw Error(ErrorCode::badWorkbook, "there is no sheet \"" + wanted + "\"", {.file = archive.name()},
                "The sheets are: " + names + ".");
}

/// Adds the rows so far to what is said while a sheet streams by.
class RowsProgress : public Progress {
public:
    RowsProgress(Progress& whole, const SheetSink& sink) : m_whole(whole), m_sink(sink) {}
    void report(double share, std::string_view) override {
        m_whole.report(share, "Reading rows, " + countText(m_sink.rows()) + " so far");
    }
    bool stopRequested() const override { return m_whole.stopRequested(); }

private:
    Progress& m_whole;
    const SheetSink& m_sink;
};

} // namespace

std::vector<SheetInfo> sheetsOf(const std::filesystem::path& path, Progress& progress) {
    const ZipArchive archive(path);
    if (isOds(archive)) {
        refuseLocked(archive, progress);
        OdsSheets sheets;
        parsePart(archive, "content.xml", sheets, progress);
        return sheets.sheets;
    }
    std::vector<SheetInfo> sheets;
    for (const XlsxSheet& sheet : readXlsxParts(archive, progress).book.sheets)
        sheets.push_back(sheet.info);
    return sheets;
}

RowsRead readWorkbook(const std::filesystem::path& path, const SheetChoice& choice,
                      const TextOptions& options, Progress& progress) {
    progress.checkpoint(0, "Opening the workbook");
    const ZipArchive archive(path);
    CellRange range;
    if (!choice.range.empty()) {
        const auto parsed = parseRange(choice.range);
        if (!parsed)
            throw Error(ErrorCode::badWorkbook, "\"" + choice.range + "\" is not a range of cells",
                        {.file = archive.name()}, "Write it as B3:F200, or B:F for whole columns.");
        range = *parsed;
    }
    if (isOds(archive)) {
        Progress quiet;
        refuseLocked(archive, quiet);
        SheetSink sink(archive.name(), choice.sheet, range, options, choice.mostRows);
        sink.setBytes(archive.sizeOf("content.xml"));
        OdsCells cells(sink, choice.sheet, progress);
        RowsProgress rows(progress, sink);
        parsePart(archive, "content.xml", cells, rows);
        if (!cells.found()) {
            const auto sheets = sheetsOf(path, quiet);
            if (!choice.sheet.empty() || sheets.empty()) noSheet(archive, choice.sheet, sheets);
            return readWorkbook(path, {sheets.front().name, choice.range, choice.mostRows}, options,
                                progress);
        }
        return sink.finish();
    }
    Progress quiet;
    const XlsxParts parts = readXlsxParts(archive, quiet);
    const XlsxSheet* sheet = nullptr;
    for (const XlsxSheet& candidate : parts.book.sheets)
        if (!sheet && (choice.sheet.empty() ? !candidate.info.hidden : candidate.info.name == choice.sheet))
            sheet = &candidate;
    if (!sheet && choice.sheet.empty()) sheet = &parts.book.sheets.front();
    if (!sheet) {
        std::vector<SheetInfo> infos;
        for (const XlsxSheet& candidate : parts.book.sheets)
            infos.push_back(candidate.info);
        noSheet(archive, choice.sheet, infos);
    }
    XlsxStyles styles;
    if (!parts.relations.styles.empty() && archive.has(parts.relations.styles))
        parsePart(archive, parts.relations.styles, styles, quiet);
    XlsxStrings strings;
    if (!parts.relations.strings.empty() && archive.has(parts.relations.strings)) {
        ProgressStage stage(progress, 0, 0.1);
        parsePart(archive, parts.relations.strings, strings, stage);
    }
    SheetSink sink(archive.name(), sheet->info.name, range, options, choice.mostRows);
    sink.setBytes(archive.sizeOf(sheet->part) + archive.sizeOf(parts.relations.strings));
    XlsxCells cells(sink, strings.strings, styles.dates, parts.book.from1904);
    ProgressStage stage(progress, 0.1, 1);
    RowsProgress rows(stage, sink);
    parsePart(archive, sheet->part, cells, rows);
    return sink.finish();
}

} // namespace oxgoad
