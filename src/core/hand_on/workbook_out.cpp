#include "hand_on/workbook_out.h"

#include "base/error.h"
#include "base/text.h"
#include "hand_on/notation.h"
#include "hand_on/say.h"
#include "hand_on/scored_rows.h"

#include <xlsxwriter.h>
#include <zip.h>

#include <algorithm>
#include <clocale>
#include <cmath>
#include <functional>
#include <map>

namespace oxgoad {

namespace {

using scoring::Op;

constexpr std::size_t longestFormula = 8192, longestText = 255, columnsRead = 200;

std::string columnLetters(std::size_t column) {
    std::string out;
    for (std::size_t k = column + 1; k > 0; k = (k - 1) / 26)
        out.insert(out.begin(), static_cast<char>('A' + (k - 1) % 26));
    return out;
}

/// How cells are named and arguments parted.
struct Dialect {
    bool open = false; ///< that of the open format
    const char* comma() const { return open ? ";" : ","; }
    std::string cell(const std::string& sheet, std::size_t column, std::size_t row,
                     bool fixed = false) const {
        const std::string at =
            (fixed ? "$" : "") + columnLetters(column) + (fixed ? "$" : "") + std::to_string(row + 1);
        return open ? "[" + (sheet.empty() ? "." : "$" + sheet + ".") + at + "]"
                    : (sheet.empty() ? "" : sheet + "!") + at;
    }
    std::string cells(const std::string& sheet, std::size_t row, bool fixed) const {
        const std::string r = (fixed ? "$" : "") + std::to_string(row + 1),
                          last = "$" + columnLetters(columnsRead - 1);
        return open ? "[$" + sheet + ".$A" + r + ":." + last + r + "]" : sheet + "!$A" + r + ":" + last + r;
    }
};

/// The formulas of one row.
class Formulas {
public:
    Formulas(const Program& program, Dialect dialect, std::size_t row)
        : m_program(program), m_in(dialect), m_row(row) {}

    /// Sources first, then the steps, in the sheet "working".
    std::string source(std::size_t k) const {
        const std::string c = m_in.comma();
        const std::string at =
            "INDEX(" + m_in.cells("rows", m_row, false) + c + "1" + c + m_in.cell("", k, 1, true) + ")";
        switch (m_program.sources[k].kind) {
        case Program::Kind::number:
            return "IF(ISNUMBER(" + at + ")" + c + at + c + "NA())";
        case Program::Kind::date:
            return "IF(ISNUMBER(" + at + ")" + c + at + "-25569" + c + "IFERROR(DATEVALUE(" + at + ")-25569" +
                   c + "NA()))";
        case Program::Kind::text:
            return "IF(ISBLANK(" + at + ")" + c + "\"\"" + c + at + "&\"\")";
        }
        return "NA()";
    }
    /// Letter by letter: searches take some letters for patterns.
    std::string place(std::size_t k) const {
        const std::string c = m_in.comma(), heads = m_in.cells("rows", 0, true);
        const std::string found =
            "SUMPRODUCT(EXACT(" + heads + c + m_in.cell("", k, 0, true) + ")*COLUMN(" + heads + "))";
        return "IF(" + found + "=0" + c + "NA()" + c + found + ")";
    }
    std::string step(std::size_t k) const { return checked(said(*m_program.steps[k].value, false)); }
    /// In the sheet "forecast".
    std::string output(const Said& value) const {
        const std::string c = m_in.comma();
        return checked("IF(" + nothing() + c + "\"\"" + c + "IFERROR(" + said(*value, true) + c + "\"\"))");
    }
    std::string reasons(bool words) const {
        const std::string c = m_in.comma();
        std::string text;
        if (words) {
            for (const Program::Reason& reason : m_program.reasons)
                text += (text.empty() ? "" : "&") + std::string("IF(") + said(*reason.holds, true) + c +
                        quoted(reason.says + "; ") + c + "\"\")";
            if (text.empty()) text = "\"\"";
        } else {
            std::string outside, edge;
            for (const Program::Reason& reason : m_program.reasons)
                (reason.outside ? outside : edge) += (reason.outside ? outside : edge).empty()
                                                         ? said(*reason.holds, true)
                                                         : c + said(*reason.holds, true);
            text = "IF(" + (outside.empty() ? "FALSE()" : "OR(" + outside + ")") + c + "\"outside\"" + c +
                   "IF(" + (edge.empty() ? "FALSE()" : "OR(" + edge + ")") + c + "\"edge\"" + c +
                   "\"inside\"))";
        }
        return checked("IF(" + nothing() + c + "\"\"" + c + text + ")");
    }

private:
    std::string nothing() const { return "COUNTA(" + m_in.cells("rows", m_row, false) + ")=0"; }
    std::string checked(std::string formula) const {
        if (formula.size() > longestFormula)
            throw Error(ErrorCode::badTerm,
                        "a formula of " + countText(formula.size()) +
                            " characters is longer than a workbook takes",
                        {}, "Hand the model on as SQL, C or Python, or make it smaller.");
        return formula;
    }
    static std::string quoted(const std::string& text) {
        if (text.size() > longestText)
            throw Error(ErrorCode::badTerm,
                        "a level of " + countText(text.size()) +
                            " characters is longer than a workbook takes in a formula",
                        {}, "Merge the level under a shorter name.");
        std::string out = "\"";
        for (const char c : text) {
            out += static_cast<unsigned char>(c) < 0x20 ? ' ' : c;
            if (c == '"') out += c;
        }
        return out + "\"";
    }
    /// In the sheet of the steps, or from another.
    std::string said(const ScoreNode& node, bool elsewhere) const {
        const std::string c = m_in.comma(), sheet = elsewhere ? "working" : "";
        Notation in;
        in.number = [](double value) { return value < 0 ? "(" + exactText(value) + ")" : exactText(value); };
        in.text = quoted;
        in.missing = "NA()";
        in.source = [&](std::size_t k) { return m_in.cell(sheet, k, m_row + 2); };
        in.variable = [&](std::size_t k) {
            return m_in.cell(sheet, m_program.sources.size() + k, m_row + 2);
        };
        in.comma = m_in.comma();
        in.floor = "INT";
        in.join = "&";
        in.choose = [&](const auto& holds, const auto& yes, const auto& no) {
            return "IF(" + holds + c + yes + c + no + ")";
        };
        in.lacksText = [](const auto& a) { return "(" + a + "=\"\")"; };
        in.lacksNumber = [](const auto& a) { return "ISERROR(" + a + ")"; };
        in.own = [&](const ScoreNode& each,
                     const std::vector<std::string>& of) -> std::optional<std::string> {
            const auto compared = [&](const char* sign) {
                return "IFERROR(" + of[0] + sign + of[1] + c + "FALSE())";
            };
            switch (each.op) {
            case Op::below:
                return compared("<");
            case Op::atMost:
                return compared("<=");
            case Op::equal:
                return compared("=");
            case Op::unequal:
                return compared("<>");
            case Op::same: // texts are compared letter by letter, capitals and all
                return "EXACT(" + of[0] + c + of[1] + ")";
            case Op::other:
                return "NOT(EXACT(" + of[0] + c + of[1] + "))";
            case Op::both:
                return "AND(" + of[0] + c + of[1] + ")";
            case Op::either:
                return "OR(" + of[0] + c + of[1] + ")";
            default:
                return std::nullopt;
            }
        };
        return writtenIn(in, node);
    }

    const Program& m_program;
    Dialect m_in;
    std::size_t m_row;
};

/// Rows that have formulas: some megabytes of them.
std::size_t rowsOfFormulas(const Program& program) {
    const Formulas one(program, {}, 1);
    std::size_t size = 0;
    for (std::size_t k = 0; k < program.steps.size(); ++k)
        size += one.step(k).size() + 40;
    return std::clamp<std::size_t>(6000000 / (size + 400 * (program.sources.size() + 6)), 20, 1000);
}

void fillSheets(SheetsOut& out, const Program& program, const std::vector<ProgramRow>& rows,
                const std::vector<PlainSheet>& more, Dialect dialect) {
    const std::size_t n = rowsOfFormulas(program), sources = program.sources.size();
    if (sources + program.steps.size() > 1000)
        throw Error(ErrorCode::badTerm,
                    countText(sources + program.steps.size()) +
                        " columns of formulas are more than a workbook should have",
                    {}, "Hand the model on as SQL, C or Python, or make it smaller.");
    out.sheet("rows");
    for (std::size_t k = 0; k < sources; ++k) {
        out.text(0, k, program.sources[k].name);
        for (std::size_t i = 0; i < std::min(n, rows.size()); ++i)
            if (program.sources[k].kind == Program::Kind::text)
                out.text(i + 1, k, rows[i].texts[k]);
            else if (!std::isnan(rows[i].numbers[k]))
                program.sources[k].kind == Program::Kind::date ? out.date(i + 1, k, rows[i].numbers[k])
                                                               : out.number(i + 1, k, rows[i].numbers[k]);
    }
    out.sheet("forecast");
    const std::vector<std::string> heads{"row", "prediction", "lower", "upper", "reach", "reasons"};
    for (std::size_t k = 0; k < heads.size(); ++k)
        out.text(0, k,
                 k == 0 ? heads[k]
                 : k == 1
                     ? "prediction of " + program.response + (program.unit.empty() ? "" : ", " + program.unit)
                     : heads[k]);
    for (std::size_t i = 0; i < n; ++i) {
        const Formulas of(program, dialect, i + 1);
        const bool there = i < rows.size();
        const ProgramResult said =
            there ? runProgram(program, rows[i]) : ProgramResult{NAN, NAN, NAN, {}, false};
        out.number(i + 1, 0, static_cast<double>(i + 1));
        out.formula(i + 1, 1, of.output(program.prediction), said.prediction, {});
        if (program.noIntervals.empty()) {
            out.formula(i + 1, 2, of.output(program.lower), said.lower, {});
            out.formula(i + 1, 3, of.output(program.upper), said.upper, {});
        }
        std::string reasons;
        for (const std::string& reason : said.reasons)
            reasons += reason + "; ";
        const std::string reach = !there            ? ""
                                  : said.outside    ? "outside"
                                  : reasons.empty() ? "inside"
                                                    : "edge";
        out.formula(i + 1, 4, of.reasons(false), NAN, reach);
        out.formula(i + 1, 5, of.reasons(true), NAN, reasons);
    }
    out.sheet("working");
    const Formulas head(program, dialect, 0);
    for (std::size_t k = 0; k < sources; ++k) {
        out.text(0, k, program.sources[k].name);
        out.formula(1, k, head.place(k), static_cast<double>(k + 1), {});
    }
    for (std::size_t k = 0; k < program.steps.size(); ++k)
        out.text(0, sources + k, program.steps[k].says);
    for (std::size_t i = 0; i < n; ++i) {
        const Formulas of(program, dialect, i + 1);
        for (std::size_t k = 0; k < sources; ++k)
            out.formula(i + 3, k, of.source(k), i < rows.size() ? rows[i].numbers[k] : NAN,
                        i < rows.size() ? rows[i].texts[k] : std::string());
        const auto values =
            i < rows.size() ? runSteps(program, rows[i])
                            : std::vector<std::pair<double, std::string>>(program.steps.size(), {NAN, ""});
        for (std::size_t k = 0; k < program.steps.size(); ++k)
            out.formula(i + 3, sources + k, of.step(k),
                        program.steps[k].value->isText ? NAN : values[k].first, values[k].second);
    }
    if (!program.coefficients.empty()) {
        out.sheet("coefficients");
        out.text(0, 0, "name");
        out.text(0, 1, "estimate");
        for (std::size_t k = 0; k < program.coefficients.size(); ++k) {
            out.text(k + 1, 0, program.coefficients[k].first);
            out.number(k + 1, 1, program.coefficients[k].second);
        }
    }
    for (const PlainSheet& sheet : more) {
        out.sheet(sheet.name);
        for (std::size_t i = 0; i < sheet.cells.size(); ++i)
            for (std::size_t k = 0; k < sheet.cells[i].size(); ++k)
                out.text(i, k, sheet.cells[i][k]);
    }
}

class Xlsx final : public SheetsOut {
public:
    explicit Xlsx(const std::string& file) : m_book(workbook_new(file.c_str())) {
        m_date = workbook_add_format(m_book);
        format_set_num_format(m_date, "yyyy-mm-dd");
    }
    ~Xlsx() override {
        if (m_book) workbook_close(m_book);
    }
    Xlsx(const Xlsx&) = delete;
    Xlsx& operator=(const Xlsx&) = delete;

    void sheet(const std::string& name) override { m_sheet = workbook_add_worksheet(m_book, name.c_str()); }
    void text(std::size_t row, std::size_t column, const std::string& text) override {
        if (text.empty()) return;
        // A cell holds 32,767 characters.
        worksheet_write_string(m_sheet, at(row), col(column), harmless(text, true).substr(0, 32000).c_str(),
                               nullptr);
    }
    void number(std::size_t row, std::size_t column, double value) override {
        if (std::isfinite(value)) worksheet_write_number(m_sheet, at(row), col(column), value, nullptr);
    }
    void date(std::size_t row, std::size_t column, double day) override {
        worksheet_write_number(m_sheet, at(row), col(column), day + 25569, m_date);
    }
    void formula(std::size_t row, std::size_t column, const std::string& formula, double value,
                 const std::string& text) override {
        if (std::isfinite(value))
            worksheet_write_formula_num(m_sheet, at(row), col(column), ("=" + formula).c_str(), nullptr,
                                        value);
        else
            worksheet_write_formula_str(m_sheet, at(row), col(column), ("=" + formula).c_str(), nullptr,
                                        harmless(text, true).substr(0, 32000).c_str());
    }
    bool close() {
        const lxw_error error = workbook_close(m_book);
        m_book = nullptr;
        return error == LXW_NO_ERROR;
    }

private:
    static lxw_row_t at(std::size_t row) { return static_cast<lxw_row_t>(row); }
    static lxw_col_t col(std::size_t column) { return static_cast<lxw_col_t>(column); }
    lxw_workbook* m_book;
    lxw_worksheet* m_sheet = nullptr;
    lxw_format* m_date = nullptr;
};

/// Cells row by row: sheets are put together when they are whole.
class Ods final : public SheetsOut {
public:
    void sheet(const std::string& name) override { m_sheets.push_back({name, {}}); }
    void text(std::size_t row, std::size_t column, const std::string& text) override {
        if (!text.empty())
            put(row, column,
                "office:value-type=\"string\"><text:p>" + markupText(harmless(text, true)) + "</text:p>");
    }
    void number(std::size_t row, std::size_t column, double value) override {
        if (std::isfinite(value))
            put(row, column,
                "office:value-type=\"float\" office:value=\"" + exactText(value) + "\"><text:p>" +
                    exactText(value) + "</text:p>");
    }
    void date(std::size_t row, std::size_t column, double day) override {
        const std::string text = dateText(static_cast<std::int32_t>(day));
        put(row, column,
            "table:style-name=\"day\" office:value-type=\"date\" office:date-value=\"" + text +
                "\"><text:p>" + text + "</text:p>");
    }
    void formula(std::size_t row, std::size_t column, const std::string& formula, double value,
                 const std::string& text) override {
        const std::string says =
            "table:formula=\"of:=" + markupText(harmless(formula, true)) + "\" office:value-type=\"";
        put(row, column,
            std::isfinite(value)
                ? says + "float\" office:value=\"" + exactText(value) + "\">"
                : says + "string\" office:string-value=\"" + markupText(harmless(text, true)) +
                      "\"><text:p>" + markupText(harmless(text, true)) + "</text:p>");
    }
    std::string content() const {
        std::string out =
            "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<office:document-content "
            "xmlns:office=\"urn:oasis:names:tc:opendocument:xmlns:office:1.0\" "
            "xmlns:table=\"urn:oasis:names:tc:opendocument:xmlns:table:1.0\" "
            "xmlns:text=\"urn:oasis:names:tc:opendocument:xmlns:text:1.0\" "
            "xmlns:style=\"urn:oasis:names:tc:opendocument:xmlns:style:1.0\" "
            "xmlns:number=\"urn:oasis:names:tc:opendocument:xmlns:datastyle:1.0\" "
            "xmlns:of=\"urn:oasis:names:tc:opendocument:xmlns:of:1.2\" office:version=\"1.2\">"
            "<office:automatic-styles><number:date-style style:name=\"iso\"><number:year "
            "number:style=\"long\"/>"
            "<number:text>-</number:text><number:month number:style=\"long\"/><number:text>-</number:text>"
            "<number:day number:style=\"long\"/></number:date-style><style:style style:name=\"day\" "
            "style:family=\"table-cell\" style:data-style-name=\"iso\"/></office:automatic-styles>"
            "<office:body><office:spreadsheet><table:calculation-settings "
            "table:use-regular-expressions=\"false\"/>";
        for (const auto& [name, rows] : m_sheets) {
            out += "<table:table table:name=\"" + markupText(harmless(name, true)) + "\">";
            std::size_t next = 0;
            for (const auto& [row, cells] : rows) {
                if (row > next)
                    out += "<table:table-row table:number-rows-repeated=\"" + std::to_string(row - next) +
                           "\"><table:table-cell/></table:table-row>";
                out += "<table:table-row>";
                std::size_t column = 0;
                for (const auto& [at, cell] : cells) {
                    if (at > column)
                        out += "<table:table-cell table:number-columns-repeated=\"" +
                               std::to_string(at - column) + "\"/>";
                    out += "<table:table-cell " + cell + "</table:table-cell>";
                    column = at + 1;
                }
                out += "</table:table-row>";
                next = row + 1;
            }
            if (rows.empty()) out += "<table:table-row><table:table-cell/></table:table-row>";
            out += "</table:table>";
        }
        return out + "</office:spreadsheet></office:body></office:document-content>";
    }

private:
    void put(std::size_t row, std::size_t column, std::string cell) {
        m_sheets.back().second[row][column] = std::move(cell);
    }
    std::vector<std::pair<std::string, std::map<std::size_t, std::map<std::size_t, std::string>>>> m_sheets;
};

/// A workbook that `fill` fills.
void makeXlsx(const std::filesystem::path& file, const std::function<void(SheetsOut&)>& fill);
void makeOds(const std::filesystem::path& file, const std::function<void(SheetsOut&)>& fill);

[[noreturn]] void cannotWriteBook(const std::filesystem::path& file) {
    throw Error(ErrorCode::cannotWrite, "cannot be written", {.file = file.string()},
                "Choose another folder.");
}

} // namespace

namespace {

void makeXlsx(const std::filesystem::path& file, const std::function<void(SheetsOut&)>& fill) {
    // The library writes numbers as the locale says, which would spoil them.
    const std::string locale = std::setlocale(LC_NUMERIC, nullptr);
    std::setlocale(LC_NUMERIC, "C");
    bool written = false;
    try {
        Xlsx book(file.string());
        fill(book);
        written = book.close();
    } catch (...) {
        std::setlocale(LC_NUMERIC, locale.c_str());
        throw;
    }
    std::setlocale(LC_NUMERIC, locale.c_str());
    if (!written) cannotWriteBook(file);
}

void makeOds(const std::filesystem::path& file, const std::function<void(SheetsOut&)>& fill) {
    Ods book;
    fill(book);
    const std::string mime = "application/vnd.oasis.opendocument.spreadsheet", content = book.content(),
                      manifest = "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n<manifest:manifest "
                                 "xmlns:manifest=\"urn:oasis:names:tc:opendocument:xmlns:manifest:1.0\" "
                                 "manifest:version=\"1.2\"><manifest:file-entry manifest:full-path=\"/\" "
                                 "manifest:media-type=\"" +
                                 mime +
                                 "\"/><manifest:file-entry manifest:full-path=\"content.xml\" "
                                 "manifest:media-type=\"text/xml\"/></manifest:manifest>";
    int failure = 0;
    zip_t* archive = zip_open(file.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &failure);
    if (!archive) cannotWriteBook(file);
    const auto add = [&](const char* name, const std::string& bytes) {
        zip_source_t* source = zip_source_buffer(archive, bytes.data(), bytes.size(), 0);
        const auto at = source ? zip_file_add(archive, name, source, ZIP_FL_ENC_UTF_8) : -1;
        if (at >= 0 && std::string_view(name) == "mimetype")
            zip_set_file_compression(archive, static_cast<zip_uint64_t>(at), ZIP_CM_STORE, 0);
        return at >= 0;
    };
    if (!add("mimetype", mime) || !add("content.xml", content) || !add("META-INF/manifest.xml", manifest)) {
        zip_discard(archive);
        cannotWriteBook(file);
    }
    if (zip_close(archive) != 0) {
        zip_discard(archive);
        cannotWriteBook(file);
    }
}

} // namespace

void writeXlsx(const std::filesystem::path& file, const Program& program, const std::vector<ProgramRow>& rows,
               const std::vector<PlainSheet>& more) {
    makeXlsx(file, [&](SheetsOut& book) { fillSheets(book, program, rows, more, {}); });
}

void writeOds(const std::filesystem::path& file, const Program& program, const std::vector<ProgramRow>& rows,
              const std::vector<PlainSheet>& more) {
    makeOds(file, [&](SheetsOut& book) { fillSheets(book, program, rows, more, {.open = true}); });
}

void writeScoredXlsx(const std::filesystem::path& file, const ScoredRows& scored, Progress& progress) {
    makeXlsx(file, [&](SheetsOut& book) { writeScoredSheets(book, scored, progress); });
}

void writeScoredOds(const std::filesystem::path& file, const ScoredRows& scored, Progress& progress) {
    makeOds(file, [&](SheetsOut& book) { writeScoredSheets(book, scored, progress); });
}

} // namespace oxgoad
