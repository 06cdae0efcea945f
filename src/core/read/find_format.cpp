#include "read/text_format.h"

#include "base/error.h"
#include "base/text.h"
#include "table/values.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <map>

namespace oxgoad {

namespace {

constexpr std::size_t sampleRows = 200;
/// Lines above a header looked at.
constexpr std::size_t mostLeadLines = 50;

using Rows = std::vector<std::vector<std::string>>;

bool isEmptyRow(const std::vector<std::string>& cells) {
    return std::all_of(cells.begin(), cells.end(), [](const std::string& c) { return trimmed(c).empty(); });
}

std::size_t filled(const std::vector<std::string>& cells) {
    return static_cast<std::size_t>(
        std::count_if(cells.begin(), cells.end(), [](const std::string& c) { return !trimmed(c).empty(); }));
}

/// The first rows that are not blank, and how many line ends stand before each.
struct Sample {
    Rows rows;
    std::vector<std::size_t> linesBefore;
};

Sample sampleOf(std::string_view text, char delimiter, char quote) {
    RowScanner scanner{text.substr(0, std::min<std::size_t>(text.size(), 1U << 20U)), delimiter, quote,
                       newlineOf(text)};
    Sample sample;
    std::vector<std::string> cells;
    while (!scanner.atEnd() && sample.rows.size() < sampleRows) {
        const std::size_t before = scanner.lines;
        scanner.next(cells);
        if (scanner.atEnd() && scanner.text.size() < text.size()) break; // cut off in the middle
        if (isEmptyRow(cells) && cells.size() < 2) continue;
        sample.rows.push_back(cells);
        sample.linesBefore.push_back(before);
    }
    return sample;
}

std::string_view withoutLine(std::string_view text, char newline) {
    const auto end = text.find(newline);
    return end == std::string_view::npos ? std::string_view{} : text.substr(end + 1);
}

NumberDress dressWith(char decimalMark) {
    return {.decimalMark = decimalMark, .thousandsMarks = decimalMark == '.' ? ", '" : ". '"};
}

/// Of cells below a header, which may have units.
NumberDress dressBelow(char decimalMark, std::string thousandsMarks) {
    return {.decimalMark = decimalMark,
            .thousandsMarks = std::move(thousandsMarks),
            .units = NumberDress::Units::any};
}

bool isDate(std::string_view cell) {
    return parseDate(cell, DateOrder::dayFirst) || parseDate(cell, DateOrder::monthFirst);
}

bool isNumberOrDate(const std::string& cell) {
    return parseDressedNumber(cell, dressWith('.')) || parseDressedNumber(cell, dressWith(',')) ||
           isDate(cell);
}

/// The commonest number of cells in a row, the larger one of two equally common.
std::size_t commonWidth(const Rows& rows) {
    std::map<std::size_t, std::size_t> counts;
    for (const auto& row : rows)
        ++counts[row.size()];
    std::size_t width = 0, most = 0;
    for (const auto& [cells, count] : counts)
        if (count >= most) {
            most = count;
            width = cells;
        }
    return width;
}

constexpr std::string_view delimiters = ",;\t|";

/// How well a delimiter explains the rows, and the share of cells below the first row that are numbers or
/// dates.
struct DelimiterScore {
    double fit = 0;
    double plain = 0;
    /// Something is added for plain cells: the wrong delimiter cuts numbers to pieces.
    double whole() const { return fit + 0.25 * plain; }
};

/// Rows as wide as the header (or as most rows) count whole, shorter ones half, since cells at the end are
/// left out more often than too many written. A first row that only another delimiter parts halves the sum. A
/// little is added for more cells.
DelimiterScore delimiterScore(const Rows& rows, bool headIsParted) {
    DelimiterScore score;
    if (rows.empty()) return score;
    const std::size_t head = rows[0].size();
    for (const std::size_t width : {head, commonWidth(rows)}) {
        if (width < 2) continue;
        double sum = 0;
        for (const auto& row : rows)
            sum += row.size() == width ? 1 : row.size() < width && row.size() > 1 ? 0.5 : 0;
        score.fit = std::max(score.fit, sum / static_cast<double>(rows.size()) * (headIsParted ? 1 : 0.5) +
                                            1e-3 * static_cast<double>(std::min<std::size_t>(width, 100)));
    }
    if (score.fit <= 0) return score;
    std::size_t cells = 0, plain = 0;
    for (std::size_t i = rows.size() > 1 ? 1 : 0; i < rows.size(); ++i)
        for (const auto& cell : rows[i]) {
            if (trimmed(cell).empty()) continue;
            ++cells;
            plain += isNumberOrDate(cell);
        }
    if (cells > 0) score.plain = static_cast<double>(plain) / static_cast<double>(cells);
    return score;
}

struct FoundDelimiter {
    char delimiter = ',';
    bool sure = true;
};

FoundDelimiter findDelimiter(std::string_view text, char quote) {
    const char newline = newlineOf(text);
    const std::string_view whole = text;
    // Titles, which no delimiter parts, say nothing; when most lines are like that they are no titles.
    std::size_t titles = 0;
    for (; titles < mostLeadLines && !text.empty(); ++titles) {
        if (text.substr(0, text.find(newline)).find_first_of(delimiters) != std::string_view::npos) break;
        text = withoutLine(text, newline);
    }
    const std::string_view sample = text.substr(0, 65536);
    if (titles > static_cast<std::size_t>(std::count(sample.begin(), sample.end(), newline))) text = whole;
    FoundDelimiter found;
    DelimiterScore best;
    double second = 0;
    for (const char candidate : delimiters) {
        const Rows rows = sampleOf(text, candidate, quote).rows;
        const DelimiterScore score = delimiterScore(rows, !rows.empty() && rows[0].size() > 1);
        if (score.whole() > best.whole()) {
            second = best.whole();
            best = score;
            found.delimiter = candidate;
        } else {
            second = std::max(second, score.whole());
        }
    }
    // Blanks stand inside texts more often than they part columns.
    constexpr double clearly = 0.2, often = 0.8;
    const Rows rows = sampleOf(whole, blankRuns, quote).rows;
    const DelimiterScore blanks = delimiterScore(rows, !rows.empty() && rows[0].size() > 1);
    // Commas of numbers, and tabs among other blanks, part lines about as well as blanks do, but into worse
    // cells.
    const bool betterCells = blanks.plain > best.plain + (found.delimiter == ',' ? clearly / 2 : 2 * clearly);
    if (blanks.fit > often && (blanks.fit > best.fit + clearly || betterCells)) return {blankRuns, true};
    found.sure = best.fit <= 0 || second < best.whole() - 0.1;
    return found;
}

struct FoundMark {
    char mark = '.';
    bool sure = true;
    /// A number that is another one with the other mark.
    std::string open{};
};

/// A comma in a cell of a comma-delimited file stood in quotes. Three digits behind the only comma are
/// thousands there, and as likely as not a decimal part elsewhere.
FoundMark findDecimalMark(const Rows& rows, char delimiter) {
    std::size_t points = 0;
    std::size_t commas = 0;
    std::size_t open = 0, openPoints = 0;
    std::string example;
    const NumberDress asPoint = dressBelow('.', ","), asComma = dressBelow(',', ".");
    const NumberDress pointOnly = dressBelow('.', " '"), commaOnly = dressBelow(',', " '");
    for (const auto& row : rows)
        for (const auto& cell : row) {
            const bool point = cell.find('.') != std::string::npos;
            const auto comma = cell.find(',');
            if (point && comma != std::string::npos) { // 1,234.50 or 1.234,50: no doubt which is which
                points += parseDressedNumber(cell, asPoint).has_value();
                commas += parseDressedNumber(cell, asComma).has_value();
            } else if (point) {
                const bool number = parseDressedNumber(cell, pointOnly).has_value();
                points += number;
                if (number && parseDressedNumber(cell, asComma)) { // 1.234 can be a thousand as well
                    ++openPoints;
                    if (example.empty()) example = trimmed(cell);
                }
            } else if (comma != std::string::npos && parseDressedNumber(cell, commaOnly)) {
                const bool three =
                    parseDressedNumber(cell, asPoint).has_value(); // 1,234 can be a thousand as well
                open += three;
                commas += three ? delimiter != ',' : 1;
            }
        }
    // Where commas do not part cells, they part decimals, and points that could be of thousands are so.
    if (delimiter != ',' && openPoints == points && commas > open) points = 0;
    FoundMark found{commas > points ? ',' : '.', true};
    if (found.mark == ',')
        found.sure = points == 0 && open < commas;
    else if ((delimiter == ';' || delimiter == '\t') && points > 0 && openPoints == points)
        found = {'.', false, example};
    return found;
}

/// The apostrophe where it stands around all cells of the first lines; otherwise the usual quote.
char usualQuote(std::string_view text) {
    const char newline = newlineOf(text);
    std::size_t lines = 0;
    bool parted = false;
    for (text = text.substr(0, 65536); !text.empty() && lines < 20; text = withoutLine(text, newline)) {
        const std::string_view line = trimmed(text.substr(0, text.find(newline)));
        if (line.empty()) continue;
        if (text.find(newline) == std::string_view::npos && lines > 1) break; // may be cut off
        if (line.size() < 2 || line.front() != '\'' || line.back() != '\'') return '"';
        for (const char d : delimiters)
            parted |= line.find("'" + std::string(1, d) + "'") != std::string_view::npos;
        ++lines;
    }
    return lines > 1 && parted ? '\'' : '"';
}

/// What the delimiter of a line "sep=;" is; empty when the text does not begin so.
std::optional<char> saidDelimiter(std::string_view text) {
    std::string_view line = trimmed(text.substr(0, text.find_first_of("\r\n")));
    const std::string_view whole = text.substr(0, text.find_first_of("\r\n"));
    if (line.size() >= 2 && line.front() == '"' && line.back() == '"') line = line.substr(1, line.size() - 2);
    std::string lower;
    for (const char c : line.substr(0, 4))
        lower += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    if (lower != "sep=") return std::nullopt;
    if (line.size() == 5) return line[4];
    if (line.size() == 4 && whole.size() > 4 && (whole[4] == '\t' || whole[4] == ' ')) return whole[4];
    return std::nullopt;
}

/// Lines at the top that begin with #.
std::size_t remarkLines(std::string_view text, char newline) {
    std::size_t lines = 0;
    std::size_t last = 0;
    while (!text.empty() && lines < 10 * mostLeadLines) {
        const std::string_view line = trimmed(text.substr(0, text.find(newline)));
        if (!line.empty() && line.front() != '#') break;
        ++lines;
        if (!line.empty()) last = lines;
        text = withoutLine(text, newline);
    }
    return last;
}

HeaderVerdict judgeRows(const Rows& rows, std::size_t from, char decimalMark, const MissingMarks& missing) {
    if (from >= rows.size()) return {};
    auto cellsOf = [&](const std::vector<std::string>& row, bool below) {
        std::vector<HeadCell> cells;
        for (const auto& text : row)
            cells.push_back(headCell(text, decimalMark, missing, below));
        return cells;
    };
    std::vector<std::vector<HeadCell>> below;
    for (std::size_t i = from + 1; i < rows.size(); ++i)
        below.push_back(cellsOf(rows[i], true));
    return judgeHeader(cellsOf(rows[from], false), below);
}

/// Rows above the table: one cell filled, or less than half of them, over rows that are wider. The number of
/// them, 0 when the first row belongs to the table.
std::size_t titleRows(const Rows& rows, char decimalMark, const MissingMarks& missing) {
    std::size_t titles = 0;
    const std::size_t most = commonWidth(rows);
    while (titles < rows.size() && titles < mostLeadLines &&
           (filled(rows[titles]) <= 1 || 2 * filled(rows[titles]) < most))
        ++titles;
    if (titles == 0 || titles >= rows.size()) return 0;
    const Rows rest(rows.begin() + static_cast<std::ptrdiff_t>(titles), rows.end());
    const std::size_t width = commonWidth(rest);
    const auto asWide = static_cast<std::size_t>(
        std::count_if(rest.begin(), rest.end(), [width](const auto& row) { return row.size() == width; }));
    if (width < 2 || 10 * asWide < 6 * rest.size() || 2 * filled(rest[0]) < width) return 0;
    // A row as wide as the table with one cell filled names one column, and one of a few cells a few, unless
    // names stand below it.
    const bool maybeNames =
        std::any_of(rows.begin(), rows.begin() + static_cast<std::ptrdiff_t>(titles),
                    [width](const auto& row) { return row.size() >= width || filled(row) > 1; });
    return maybeNames && !judgeRows(rest, 0, decimalMark, missing).header ? 0 : titles;
}

/// Whether the first row begins with the number of rows below it and the number of columns, as some tables
/// for programs do.
bool saysSizes(const Rows& rows, std::string_view text, char newline) {
    if (rows.size() < 3 || rows[0].size() < 2 || !isDigits(rows[0][0]) || !isDigits(rows[0][1])) return false;
    if (rows[0][0].size() > 9 || rows[0][1].size() > 6) return false;
    const std::size_t said = std::stoul(rows[0][0]), columns = std::stoul(rows[0][1]), width = rows[1].size();
    if (columns != width && columns + 1 != width) return false;
    std::size_t lines = 0;
    for (; !text.empty(); text = withoutLine(text, newline))
        lines += !trimmed(text.substr(0, text.find(newline))).empty();
    return lines == said + 1 || lines == said + 2; // with a line of names below it
}

} // namespace

std::pair<std::string, std::size_t> UnitTally::best() const {
    std::pair<std::string, std::size_t> found{{}, 0};
    for (const auto& [unit, count] : m_counts)
        if (count > found.second) found = {unit, count};
    return found;
}

std::size_t UnitTally::all() const {
    std::size_t sum = 0;
    for (const auto& [unit, count] : m_counts)
        sum += count;
    return sum;
}

std::string UnitTally::said() const {
    std::vector<std::pair<std::size_t, std::string>> sorted;
    for (const auto& [unit, count] : m_counts)
        sorted.emplace_back(count, unit);
    std::stable_sort(sorted.begin(), sorted.end(),
                     [](const auto& a, const auto& b) { return a.first > b.first; });
    std::string text;
    constexpr std::size_t few = 3;
    for (std::size_t i = 0; i < std::min(few, sorted.size()); ++i)
        text +=
            (i > 0 ? ", " : "") + sorted[i].second + " (" + plural(sorted[i].first, "cell", "cells") + ")";
    return text + (sorted.size() > few ? ", …" : "");
}

WiderLines widerLines(std::size_t header, const std::vector<std::size_t>& widths, std::size_t emptyEnds) {
    WiderLines found;
    std::size_t one = 0, wider = 0;
    for (const std::size_t width : widths) {
        one += width == header + 1;
        wider += width > header;
    }
    if (widths.empty() || wider == 0) return found;
    if (one == wider && emptyEnds == one) {
        found.emptyEnd = true;
        return found;
    }
    if (header > 1 && 10 * one >= 9 * widths.size() && one == wider) {
        found.rowNames = true;
        return found;
    }
    std::vector<std::size_t> sorted = widths;
    std::sort(sorted.begin(), sorted.end(), std::greater<>());
    const std::size_t enough = std::max<std::size_t>(2, (widths.size() + 19) / 20);
    if (enough <= sorted.size() && sorted[enough - 1] > header) found.added = sorted[enough - 1] - header;
    return found;
}

bool isUnitRow(const std::vector<HeadCell>& row, const std::vector<std::vector<HeadCell>>& below) {
    using Kind = HeadCell::Kind;
    constexpr std::size_t longest = 12;
    std::size_t units = 0, numbers = 0;
    for (std::size_t c = 0; c < row.size(); ++c) {
        if (row[c].kind == Kind::number || row[c].kind == Kind::date) return false;
        std::size_t values = 0, present = 0;
        for (const auto& cells : below)
            if (c < cells.size() && cells[c].kind != Kind::empty) {
                ++present;
                values += cells[c].kind == Kind::number || cells[c].kind == Kind::date;
            }
        const bool ofValues = present > 0 && 10 * values >= 9 * present;
        numbers += ofValues;
        if (row[c].kind == Kind::empty) continue;
        if (row[c].text.size() > longest) return false;
        // A text over texts is a level as likely as not.
        if (!ofValues) return false;
        ++units;
    }
    return below.size() > 1 && units > 0 && 2 * units >= numbers;
}

HeadCell headCell(std::string_view text, char decimalMark, const MissingMarks& missing, bool below) {
    HeadCell cell;
    const std::string_view plain = trimmed(text);
    if (missing.contains(plain)) return cell;
    cell.text = plain;
    NumberDress dress = dressWith(decimalMark);
    if (below) dress.units = NumberDress::Units::any;
    if (const auto number = parseDressedNumber(plain, dress)) {
        cell.kind = HeadCell::Kind::number;
        cell.number = number->value;
        cell.year = plain.size() == 4 && number->value >= 1500 && number->value < 2200;
    } else {
        cell.kind = isDate(plain) ? HeadCell::Kind::date : HeadCell::Kind::text;
    }
    return cell;
}

HeaderVerdict judgeHeader(const std::vector<HeadCell>& first,
                          const std::vector<std::vector<HeadCell>>& below) {
    using Kind = HeadCell::Kind;
    const bool valuesInFirst = std::any_of(first.begin(), first.end(), [](const HeadCell& c) {
        return c.kind == Kind::number || c.kind == Kind::date;
    });
    // Years that count up by one name columns, whatever stands below.
    std::vector<std::uint8_t> counted(first.size());
    for (std::size_t c = 0; c + 2 < first.size(); ++c)
        if (first[c].year && first[c + 1].year && first[c + 2].year &&
            first[c + 1].number == first[c].number + 1 && first[c + 2].number == first[c].number + 2)
            counted[c] = counted[c + 1] = counted[c + 2] = 1;
    double pro = 0, contra = 0;
    std::size_t texts = 0, again = 0, repeated = 0;
    for (std::size_t c = 0; c < first.size(); ++c) {
        if (first[c].kind == Kind::empty) continue;
        std::array<std::size_t, 4> kinds{};
        std::size_t present = 0, years = 0;
        bool same = false;
        for (const auto& row : below) {
            if (c >= row.size() || row[c].kind == Kind::empty) continue;
            ++present;
            ++kinds[static_cast<std::size_t>(row[c].kind)];
            years += row[c].year;
            same |= row[c].text == first[c].text;
        }
        if (first[c].kind == Kind::text) {
            ++texts;
            again += same;
        }
        if (counted[c] != 0) {
            pro += 0.5;
            continue;
        }
        if (present == 0) continue;
        auto mostly = [&](Kind kind) { return 10 * kinds[static_cast<std::size_t>(kind)] >= 8 * present; };
        if (mostly(Kind::number)) {
            if (first[c].kind != Kind::number)
                pro += 1;
            else if (first[c].year && 2 * years < present)
                pro += 0.5;
            else
                contra += 1;
        } else if (mostly(Kind::date)) {
            if (first[c].kind == Kind::text)
                pro += 1;
            else if (first[c].kind == Kind::date)
                contra += 1;
        } else if (mostly(Kind::text)) {
            if (first[c].kind != Kind::text)
                pro += first[c].kind == Kind::date ? 0.5 : 0.25;
            else
                repeated += same;
        }
    }
    // A text that comes again below is a level; alone it says little, since names of columns can be levels.
    if (pro + contra > 0) contra += 0.5 * static_cast<double>(repeated);
    if (pro == 0 && contra == 0) {
        if (valuesInFirst) return {false, false};
        const bool levels = texts > 0 && 2 * again > texts && below.size() > 1;
        return {!levels, !levels};
    }
    return {pro > contra, pro == 0 || contra == 0};
}

bool areCodes(std::size_t asCodes, std::size_t wholes, std::size_t present) {
    return asCodes > 0 && 50 * asCodes >= present && 10 * wholes >= 9 * present;
}

std::string_view belowLines(std::string_view text, std::size_t lines, const std::string& name) {
    const char newline = newlineOf(text);
    for (std::size_t skipped = 0; skipped < lines; ++skipped) {
        const auto end = text.find(newline);
        if (end == std::string_view::npos)
            throw Error(ErrorCode::noRows, "there are no more lines to pass over than " + countText(skipped),
                        {.file = name}, "Pass over fewer lines.");
        text.remove_prefix(end + 1);
    }
    return text;
}

FoundFormat findFormat(std::string_view text, Encoding encoding, const TextOptions& options) {
    FoundFormat found;
    TextFormat& format = found.format;
    format.encoding = encoding;
    format.quote = options.quote.value_or(usualQuote(text));
    const char newline = newlineOf(text);
    const MissingMarks missing(options.missingMarks);
    std::optional<char> said;
    std::size_t remarks = 0;
    if (options.skipLines) {
        format.skipLines = *options.skipLines;
        for (std::size_t i = 0; i < *options.skipLines; ++i)
            text = withoutLine(text, newline);
    } else {
        said = saidDelimiter(text);
        if (said) {
            text = withoutLine(text, newline);
            format.skipLines = 1;
        }
        remarks = remarkLines(text, newline);
    }
    std::string_view table = text;
    for (std::size_t i = 0; i < remarks; ++i)
        table = withoutLine(table, newline);
    if (trimmed(table.substr(0, 65536)).empty()) { // nothing but remarks: rows after all
        table = text;
        remarks = 0;
    }
    FoundDelimiter delimiter{options.delimiter.value_or(','), true};
    if (!options.delimiter)
        delimiter = said ? FoundDelimiter{*said, true} : findDelimiter(table, format.quote);
    format.delimiter = delimiter.delimiter;
    Sample sample = sampleOf(table, format.delimiter, format.quote);
    auto markOf = [&] {
        return options.decimalMark ? FoundMark{*options.decimalMark, true}
                                   : findDecimalMark(sample.rows, format.delimiter);
    };
    FoundMark mark = markOf();
    if (remarks > 0) { // "# region, cost" right over values is a header
        Sample with = sampleOf(text, format.delimiter, format.quote);
        std::size_t last = 0;
        while (last + 1 < with.rows.size() && with.linesBefore[last + 1] < remarks)
            ++last;
        const std::size_t width = commonWidth(sample.rows);
        if (width > 1 && with.rows[last].size() == width && !sample.rows.empty() &&
            !judgeRows(sample.rows, 0, mark.mark, missing).header &&
            judgeRows(with.rows, last, mark.mark, missing).header) {
            remarks = with.linesBefore[last];
            table = text;
            for (std::size_t i = 0; i < remarks; ++i)
                table = withoutLine(table, newline);
            sample = sampleOf(table, format.delimiter, format.quote);
        }
    }
    std::size_t titles = 0;
    if (!options.skipLines) {
        titles = titleRows(sample.rows, mark.mark, missing);
        const std::size_t lines = titles > 0 ? sample.linesBefore[titles] : 0;
        format.skipLines += remarks + lines;
        if (remarks + lines > 0) {
            std::string first;
            if (titles > 0)
                for (const auto& cell : sample.rows[0])
                    if (first.empty()) first = trimmed(cell);
            if (first.size() > 60) first.clear();
            const std::string note = plural(remarks + lines, "line", "lines") + " above the header " +
                                     (remarks + lines == 1 ? "was" : "were") + " passed over" +
                                     (titles == 0     ? " (remarks after #)"
                                      : first.empty() ? ""
                                                      : " (\"" + first + "\" …)") +
                                     ".";
            (titles > 0 ? found.doubts.push_back({note}) : found.notes.push_back(note));
        }
        sample.rows.erase(sample.rows.begin(), sample.rows.begin() + static_cast<std::ptrdiff_t>(titles));
        mark = markOf();
    }
    format.decimalMark = mark.mark;
    if (!options.skipLines && !options.header && saysSizes(sample.rows, table, newline)) {
        found.doubts.push_back(
            {"The first line says how many rows there are and what they hold; it was passed over."});
        ++format.skipLines;
        sample.rows.erase(sample.rows.begin());
    }
    const HeaderVerdict verdict = options.header ? HeaderVerdict{*options.header, true}
                                                 : judgeRows(sample.rows, 0, format.decimalMark, missing);
    format.header = verdict.header;
    if (!delimiter.sure)
        found.doubts.push_back({std::string("Another delimiter than ") +
                                (format.delimiter == '\t'        ? "the tab"
                                 : format.delimiter == blankRuns ? "blanks"
                                                                 : std::string(1, format.delimiter)) +
                                " would part the lines nearly as well."});
    if (!mark.sure && !mark.open.empty()) {
        std::string thousand;
        for (const char c : mark.open)
            if (c != '.') thousand += c;
        found.doubts.push_back({"\"" + mark.open +
                                "\" was read with a decimal point; if points part thousands, "
                                "it is " +
                                thousand + " and the decimal mark is the comma."});
    } else if (!mark.sure)
        found.doubts.push_back({std::string("The decimal mark was taken to be the ") +
                                (mark.mark == ',' ? "comma" : "point") + "; some numbers speak against it."});
    if (!verdict.sure)
        found.doubts.push_back({format.header ? "The first line was taken as the names of the columns."
                                              : "The first line was taken as a row, not as names."});
    return found;
}

} // namespace oxgoad
