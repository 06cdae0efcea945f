#include "read/text_reader.h"

#include "base/file.h"
#include "base/text.h"
#include "read/text_format.h"
#include "table/dictionary.h"
#include "table/values.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <cstring>

namespace oxgoad {

namespace {

constexpr std::size_t chunkBytes = 2U << 20U;
/// A column is a number or a date when this many of 10 cells can be read so.
constexpr std::size_t fittingOfTen = 9;
constexpr std::size_t faultTextBytes = 200;

/// Everything a chunk needs to know to be parsed by itself.
struct Layout {
    std::string_view text;
    TextFormat format;
    char newline = '\n';
    std::vector<std::string> names;
    std::vector<ColumnKind> kinds;
    /// Of date columns; whether another order may be tried when this one does not fit.
    std::vector<DateOrder> dateOrders;
    std::vector<std::uint8_t> orderIsGuess;
    /// Columns of whole numbers that are kept as texts.
    std::vector<std::uint8_t> codes;
    NumberDress dress;
    const MissingMarks* missing = nullptr;
    /// From the sample; only used to reserve memory.
    double bytesPerRow = 64;
};

DateOrder otherOrder(DateOrder order) {
    return order == DateOrder::dayFirst ? DateOrder::monthFirst : DateOrder::dayFirst;
}

/// The values of one column in one chunk.
struct Piece {
    std::vector<double> numbers;
    std::vector<std::int32_t> integers;
    Dictionary dictionary;
    /// The last date and its text: dates come in runs.
    std::string lastDate;
    std::int32_t lastDay = Column::missingDay;
    std::size_t present = 0;
    std::size_t faults = 0;
    /// Numbers that were dressed.
    std::size_t thousands = 0, currency = 0, percent = 0;
    /// Whole numbers that look like codes.
    std::size_t codes = 0;
    /// Numbers with a decimal mark, an exponent or a dress.
    std::size_t notWhole = 0;
    /// Dates that mean two days, and those that only the order taken or only the other one reads.
    std::size_t open = 0, thisOrder = 0, otherOrder = 0;
};

struct Chunk {
    std::size_t begin = 0;
    std::size_t end = 0;
    std::size_t stoppedAt = 0;
    std::size_t rows = 0;
    std::size_t lines = 0;
    std::size_t blankLines = 0;
    std::size_t openQuoteLine = 0;
    std::size_t faultCount = 0;
    std::vector<CellFault> faults;
    std::vector<Piece> pieces;
    bool utf8 = true;
};

class ChunkParser {
public:
    ChunkParser(const Layout& layout, Chunk& chunk)
        : m_layout(layout), m_chunk(chunk), m_p(layout.text.data() + chunk.begin),
          m_end(layout.text.data() + layout.text.size()), m_delimiter(layout.format.delimiter),
          m_quote(layout.format.quote), m_newline(layout.newline), m_blanks(m_delimiter == blankRuns) {
        m_chunk.pieces.assign(layout.names.size(), Piece{});
    }

    void run() {
        const char* const limit = m_layout.text.data() + m_chunk.end;
        m_chunk.utf8 = isUtf8(m_layout.text.substr(m_chunk.begin, m_chunk.end - m_chunk.begin));
        const auto expected =
            static_cast<std::size_t>(1.1 * static_cast<double>(m_chunk.end - m_chunk.begin) /
                                     m_layout.bytesPerRow) +
            16;
        for (std::size_t c = 0; c < m_layout.names.size(); ++c) {
            if (m_layout.kinds[c] == ColumnKind::number)
                m_chunk.pieces[c].numbers.reserve(expected);
            else
                m_chunk.pieces[c].integers.reserve(expected);
        }
        while (m_p < limit)
            parseRow();
        m_chunk.stoppedAt = static_cast<std::size_t>(m_p - m_layout.text.data());
    }

private:
    void parseRow() {
        const std::size_t columns = m_layout.names.size();
        if (m_blanks) {
            skipBlanks();
            if (m_p >= m_end) return; // blanks behind the last line are no row
        }
        if (columns > 1 && isBlankLine()) return;
        const std::size_t line = m_chunk.lines + 1;
        std::size_t c = 0;
        bool rowEnded = false;
        while (!rowEnded) {
            if (c < columns) {
                rowEnded = parseCell(c, line);
            } else {
                rowEnded = scanCell();
                if (c == columns)
                    fault(line, c + 1, "", std::string(m_cell), "the line has more cells than the header");
            }
            ++c;
        }
        if (c < columns) {
            fault(line, c, "", {},
                  "the line has " + std::to_string(c) + " cells where the header has " +
                      std::to_string(columns));
            for (; c < columns; ++c)
                addMissing(c);
        }
        ++m_chunk.rows;
    }

    bool isBlankLine() {
        const char* q = m_p;
        if (q < m_end && *q == '\r' && m_newline == '\n') ++q;
        if (q < m_end && *q != m_newline) return false;
        if (q >= m_end && q == m_p) return false;
        m_p = q < m_end ? q + 1 : q;
        ++m_chunk.lines;
        ++m_chunk.blankLines;
        return true;
    }

    /// Reads one cell of column c; true when the row ends with it.
    bool parseCell(std::size_t c, std::size_t line) {
        Piece& piece = m_chunk.pieces[c];
        const ColumnKind kind = m_layout.kinds[c];
        if (kind == ColumnKind::number && parsePlainNumber(piece)) return endCell();
        const bool rowEnded = scanCell();
        std::string_view cell = m_cell;
        if (!cell.empty() && (cell.front() <= ' ' || cell.back() <= ' ')) cell = trimmed(cell);
        if (m_layout.missing->contains(cell)) {
            addMissing(c);
            return rowEnded;
        }
        ++piece.present;
        if (kind == ColumnKind::number) {
            piece.numbers.push_back(numberIn(piece, cell));
            if (std::isnan(piece.numbers.back())) misfit(piece, c, line, cell, "is not a number");
        } else if (kind == ColumnKind::date) {
            if (piece.lastDate != cell) {
                piece.lastDay = dateIn(piece, c, cell);
                piece.lastDate.assign(cell);
            }
            piece.integers.push_back(piece.lastDay);
            if (piece.lastDay == Column::missingDay) misfit(piece, c, line, cell, "is not a date");
        } else {
            piece.integers.push_back(piece.dictionary.code(cell));
        }
        return rowEnded;
    }

    /// The day of a cell; where the order of day and month is a guess, what speaks for it is counted.
    std::int32_t dateIn(Piece& piece, std::size_t c, std::string_view cell) const {
        const auto day = parseDate(cell, m_layout.dateOrders[c]);
        if (m_layout.orderIsGuess[c] != 0) {
            const auto other = parseDate(cell, otherOrder(m_layout.dateOrders[c]));
            piece.open += day && other && *day != *other;
            piece.thisOrder += day && !other;
            piece.otherOrder += other && !day;
        }
        return day.value_or(Column::missingDay);
    }

    /// The number of a cell, plain or dressed; NaN when it is none.
    double numberIn(Piece& piece, std::string_view cell) const {
        if (const auto value = parseNumber(cell, m_layout.format.decimalMark)) {
            piece.codes += writtenAsCode(cell);
            piece.notWhole += !isDigits(cell);
            return *value;
        }
        ++piece.notWhole;
        const auto dressed = parseDressedNumber(cell, m_layout.dress);
        if (!dressed) return std::nan("");
        piece.thousands += dressed->thousands;
        piece.currency += dressed->currency;
        piece.percent += dressed->percent;
        return dressed->value;
    }

    /// Digits with at most one decimal mark up to the cell's end, exact in one operation; otherwise
    /// nothing is consumed.
    bool parsePlainNumber(Piece& piece) {
        static constexpr std::array<double, 19> tenTo{1e0,  1e1,  1e2,  1e3,  1e4,  1e5,  1e6,
                                                      1e7,  1e8,  1e9,  1e10, 1e11, 1e12, 1e13,
                                                      1e14, 1e15, 1e16, 1e17, 1e18};
        if (m_end - m_p < 48) return false; // never look past the end
        const char* q = m_p;
        // A mark that is the delimiter too stands in quotes only, which are not plain.
        const char decimalMark =
            m_layout.format.decimalMark == m_delimiter ? '\0' : m_layout.format.decimalMark;
        const bool negative = *q == '-';
        q += negative;
        const char* const start = q;
        std::uint64_t mantissa = 0;
        unsigned digit = 0;
        while ((digit = static_cast<unsigned char>(*q) - '0') < 10 && q - start < 20) {
            mantissa = mantissa * 10 + digit;
            ++q;
        }
        auto digits = q - start;
        std::ptrdiff_t decimals = 0;
        if (*q == decimalMark) {
            const char* const mark = ++q;
            while ((digit = static_cast<unsigned char>(*q) - '0') < 10 && q - mark < 20) {
                mantissa = mantissa * 10 + digit;
                ++q;
            }
            decimals = q - mark;
            digits += decimals;
        }
        if (digits == 0 || digits > 18 || mantissa > (1ULL << 53U)) return false;
        if (*q != m_delimiter && *q != m_newline && (*q != '\r' || m_newline != '\n' || q[1] != '\n'))
            return false;
        double size = static_cast<double>(mantissa);
        if (decimals > 0) size /= tenTo[static_cast<std::size_t>(decimals)];
        piece.numbers.push_back(negative ? -size : size);
        ++piece.present;
        const bool whole = !negative && q - start == digits;
        piece.codes += whole && digits > 1 && *start == '0';
        piece.notWhole += !whole;
        m_p = q;
        return true;
    }

    /// Steps over the delimiter or the line end; true at the end of a row.
    bool endCell() {
        if (m_blanks)
            skipBlanks();
        else if (m_p < m_end && *m_p == '\r' && m_newline == '\n')
            ++m_p;
        if (m_p >= m_end) return endLine();
        if (*m_p == m_newline) {
            ++m_p;
            return endLine();
        }
        m_p += !m_blanks;
        return false;
    }

    bool isBlank(char c) const { return c == ' ' || c == '\t' || (c == '\r' && m_newline == '\n'); }

    void skipBlanks() {
        while (m_p < m_end && isBlank(*m_p))
            ++m_p;
    }

    bool endLine() {
        ++m_chunk.lines;
        return true;
    }

    /// Reads the next cell's text into m_cell; true when the row ends with it.
    bool scanCell() {
        if (m_p < m_end && *m_p == m_quote) return scanQuoted();
        const char* p = m_p; // locals: a char read through a member pointer would be reloaded each time
        const char* const end = m_end;
        const char delimiter = m_delimiter;
        const char newline = m_newline;
        if (m_blanks) {
            while (p < end && !isBlank(*p) && *p != newline)
                ++p;
        } else {
            while (p < end && *p != delimiter && *p != newline)
                ++p;
        }
        m_cell = {m_p, static_cast<std::size_t>(p - m_p)};
        m_p = p;
        return finishScan();
    }

    bool scanQuoted() {
        m_buffer.clear();
        const std::size_t openedIn = m_chunk.lines + 1;
        ++m_p;
        for (;;) {
            if (m_p >= m_end) {
                m_chunk.openQuoteLine = openedIn;
                break;
            }
            const char c = *m_p++;
            if (c == m_quote) {
                if (m_p < m_end && *m_p == m_quote)
                    ++m_p;
                else
                    break;
            } else if (c == m_newline) {
                ++m_chunk.lines;
            }
            m_buffer += c;
        }
        while (m_p < m_end && *m_p != m_newline && (m_blanks ? !isBlank(*m_p) : *m_p != m_delimiter))
            m_buffer += *m_p++;
        m_cell = m_buffer;
        return finishScan();
    }

    bool finishScan() {
        if (m_blanks) return endCell();
        const bool last = m_p >= m_end || *m_p == m_newline;
        if (last && m_newline == '\n' && !m_cell.empty() && m_cell.back() == '\r') m_cell.remove_suffix(1);
        if (m_p < m_end) ++m_p;
        return last && endLine();
    }

    void addMissing(std::size_t c) {
        Piece& piece = m_chunk.pieces[c];
        switch (m_layout.kinds[c]) {
        case ColumnKind::number:
            piece.numbers.push_back(std::nan(""));
            break;
        case ColumnKind::date:
            piece.integers.push_back(Column::missingDay);
            break;
        default:
            piece.integers.push_back(Column::missingCode);
        }
    }

    void misfit(Piece& piece, std::size_t c, std::size_t line, std::string_view cell, const char* reason) {
        ++piece.faults;
        fault(line, c + 1, m_layout.names[c], std::string(cell), reason);
    }

    void fault(std::size_t line, std::size_t cell, const std::string& column, std::string text,
               std::string reason) {
        ++m_chunk.faultCount;
        if (m_chunk.faults.size() >= ReadReport::listedFaults) return;
        if (text.size() > faultTextBytes) {
            text.resize(faultTextBytes);
            while (!text.empty() && !isUtf8(text))
                text.pop_back();
            text += "…";
        }
        m_chunk.faults.push_back({line, m_chunk.rows + 1, cell, column, std::move(text), std::move(reason)});
    }

    const Layout& m_layout;
    Chunk& m_chunk;
    const char* m_p;
    const char* m_end;
    char m_delimiter;
    char m_quote;
    char m_newline;
    bool m_blanks;
    std::string m_buffer;
    std::string_view m_cell;
};

/// Where rows begin, about every chunkBytes, assuming that quotes come in pairs. parseChunks checks the
/// assumption: each chunk must end exactly where the next begins.
std::vector<Chunk> cutIntoChunks(const Layout& layout, std::size_t begin, Threads threads) {
    const std::string_view text = layout.text;
    const std::size_t blocks = std::max<std::size_t>(1, (text.size() - begin) / chunkBytes);
    const std::size_t step = (text.size() - begin + blocks - 1) / blocks;
    std::vector<char> odd(blocks, 0);
    parallelFor(blocks, threads, [&](std::size_t i) {
        const auto part = text.substr(begin + i * step, step);
        bool isOdd = false;
        for (auto at = part.find(layout.format.quote); at != std::string_view::npos;
             at = part.find(layout.format.quote, at + 1))
            isOdd = !isOdd;
        odd[i] = isOdd;
    });
    std::vector<Chunk> chunks;
    std::size_t start = begin;
    bool inside = false;
    for (std::size_t i = 1; i < blocks; ++i) {
        inside ^= odd[i - 1] != 0;
        bool quoted = inside;
        std::size_t p = begin + i * step;
        for (; p < text.size(); ++p) {
            if (text[p] == layout.format.quote)
                quoted = !quoted;
            else if (text[p] == layout.newline && !quoted)
                break;
        }
        if (p + 1 >= text.size()) break;
        if (p + 1 <= start) continue;
        chunks.push_back({.begin = start, .end = p + 1});
        start = p + 1;
    }
    if (start < text.size()) chunks.push_back({.begin = start, .end = text.size()});
    return chunks;
}

bool tiles(const std::vector<Chunk>& chunks) {
    return std::all_of(chunks.begin(), chunks.end(), [](const Chunk& c) { return c.stoppedAt == c.end; });
}

void parseChunks(const Layout& layout, std::vector<Chunk>& chunks, Threads threads, Progress& progress) {
    std::atomic<std::size_t> done{0};
    std::atomic<std::size_t> rows{0};
    parallelFor(chunks.size(), threads, [&](std::size_t i) {
        const std::size_t ready = done.load();
        progress.checkpoint(static_cast<double>(ready) / static_cast<double>(chunks.size()),
                            "Reading rows, " + countText(rows.load()) + " so far");
        ChunkParser(layout, chunks[i]).run();
        rows += chunks[i].rows;
        ++done;
    });
}

/// Kinds by looking at the first rows and at a few rows in every part of the file.
std::vector<ColumnKind> guessKinds(Layout& layout, const std::vector<Chunk>& chunks,
                                   const TextOptions& options) {
    struct Tally {
        std::size_t present = 0;
        std::size_t numbers = 0;
        std::size_t dates = 0;
        std::size_t dayFirst = 0;
        std::size_t monthFirst = 0;
        std::size_t codes = 0;
        std::size_t wholes = 0;
    };
    std::vector<Tally> tallies(layout.names.size());
    std::vector<std::string> cells;
    std::size_t sampledRows = 0;
    std::size_t sampledBytes = 0;
    const std::size_t stride = std::max<std::size_t>(1, chunks.size() / 32);
    for (std::size_t i = 0; i < chunks.size(); i += stride) {
        RowScanner scanner{layout.text, layout.format.delimiter, layout.format.quote, layout.newline,
                           chunks[i].begin};
        for (std::size_t row = 0; row < (i == 0 ? 1000U : 50U) && scanner.position < chunks[i].end; ++row) {
            const std::size_t before = scanner.position;
            scanner.next(cells);
            ++sampledRows;
            sampledBytes += scanner.position - before;
            for (std::size_t c = 0; c < std::min(cells.size(), tallies.size()); ++c) {
                const std::string_view cell = trimmed(cells[c]);
                if (layout.missing->contains(cell)) continue;
                ++tallies[c].present;
                const bool number = parseNumber(cell, layout.format.decimalMark).has_value() ||
                                    parseDressedNumber(cell, layout.dress).has_value();
                tallies[c].numbers += number;
                tallies[c].codes += number && writtenAsCode(cell);
                tallies[c].wholes += number && isDigits(cell);
                if (parseDate(cell)) {
                    ++tallies[c].dates;
                } else if (!number) {
                    tallies[c].dayFirst += parseDate(cell, DateOrder::dayFirst).has_value();
                    tallies[c].monthFirst += parseDate(cell, DateOrder::monthFirst).has_value();
                }
            }
        }
    }
    if (sampledRows > 0)
        layout.bytesPerRow =
            std::max(1.0, static_cast<double>(sampledBytes) / static_cast<double>(sampledRows));
    std::vector<ColumnKind> kinds;
    for (Tally& t : tallies) {
        const DateOrder order = options.dateOrder            ? *options.dateOrder
                                : t.dayFirst >= t.monthFirst ? DateOrder::dayFirst
                                                             : DateOrder::monthFirst;
        layout.dateOrders.push_back(order);
        layout.orderIsGuess.push_back(!options.dateOrder && t.dayFirst > 0 && t.dayFirst == t.monthFirst ? 1
                                                                                                         : 0);
        t.dates += order == DateOrder::dayFirst     ? t.dayFirst
                   : order == DateOrder::monthFirst ? t.monthFirst
                                                    : 0;
        if (10 * t.numbers >= fittingOfTen * t.present && !areCodes(t.codes, t.wholes, t.present))
            kinds.push_back(ColumnKind::number);
        else
            kinds.push_back(10 * t.dates >= fittingOfTen * t.present &&
                                    10 * t.numbers < fittingOfTen * t.present
                                ? ColumnKind::date
                                : ColumnKind::factor);
        layout.codes.push_back(areCodes(t.codes, t.wholes, t.present));
    }
    return kinds;
}

template <class T>
std::vector<T> joined(std::vector<Chunk>& chunks, std::size_t column, std::vector<T> Piece::*member) {
    std::size_t rows = 0;
    for (const Chunk& chunk : chunks)
        rows += chunk.rows;
    std::vector<T> all;
    all.reserve(rows);
    for (Chunk& chunk : chunks) {
        auto& part = chunk.pieces[column].*member;
        all.insert(all.end(), part.begin(), part.end());
        std::vector<T>().swap(part);
    }
    return all;
}

Column joinedColumn(const Layout& layout, std::vector<Chunk>& chunks, std::size_t c, bool kindAsked) {
    const std::string& name = layout.names[c];
    if (layout.kinds[c] == ColumnKind::number)
        return Column::ofNumbers(name, joined(chunks, c, &Piece::numbers));
    if (layout.kinds[c] == ColumnKind::date)
        return Column::ofDates(name, joined(chunks, c, &Piece::integers));
    Dictionary dictionary;
    std::size_t present = 0;
    for (Chunk& chunk : chunks) {
        Piece& piece = chunk.pieces[c];
        present += piece.present;
        const auto keys = piece.dictionary.takeKeys();
        std::vector<std::int32_t> global;
        global.reserve(keys.size());
        for (const auto& key : keys)
            global.push_back(dictionary.code(key));
        for (auto& code : piece.integers)
            if (code >= 0) code = global[static_cast<std::size_t>(code)];
    }
    auto codes = joined(chunks, c, &Piece::integers);
    const std::size_t distinct = dictionary.size();
    const bool asText =
        kindAsked ? layout.kinds[c] == ColumnKind::text : distinct > 20 && distinct * 2 > present;
    if (!asText) return sortedFactor(name, std::move(codes), dictionary.takeKeys());
    TextCells cells;
    cells.offsets.reserve(codes.size() + 1);
    for (const auto code : codes)
        cells.add(code < 0 ? std::string_view{} : std::string_view(dictionary.key(code)));
    return Column::ofText(name, std::move(cells));
}

void collectFaults(const Layout& layout, const std::vector<Chunk>& chunks, std::size_t linesBefore,
                   ReadReport& report) {
    std::size_t line = linesBefore;
    std::size_t row = 0;
    std::size_t blank = 0;
    for (const Chunk& chunk : chunks) {
        report.faultCount += chunk.faultCount;
        for (CellFault fault : chunk.faults) {
            if (report.faults.size() >= ReadReport::listedFaults) break;
            fault.line += line;
            fault.row += row;
            report.faults.push_back(std::move(fault));
        }
        line += chunk.lines;
        row += chunk.rows;
        blank += chunk.blankLines;
    }
    for (std::size_t c = 0; c < layout.names.size(); ++c) {
        std::size_t count = 0;
        for (const Chunk& chunk : chunks)
            count += chunk.pieces[c].faults;
        if (count > 0) report.faultsByColumn.emplace_back(layout.names[c], count);
    }
    if (blank > 0)
        report.notes.push_back(plural(blank, "blank line was", "blank lines were") + " passed over.");
}

/// What was read past, and which order of day and month was taken where the file leaves it open.
void noteDress(const Layout& layout, const std::vector<Chunk>& chunks, ReadReport& report) {
    for (std::size_t c = 0; c < layout.names.size(); ++c) {
        Piece sum;
        for (const Chunk& chunk : chunks) {
            sum.open += chunk.pieces[c].open;
            sum.thisOrder += chunk.pieces[c].thisOrder;
            sum.thousands += chunk.pieces[c].thousands;
            sum.currency += chunk.pieces[c].currency;
            sum.percent += chunk.pieces[c].percent;
        }
        if (layout.kinds[c] == ColumnKind::date && sum.open > 0 && sum.thisOrder == 0)
            report.doubts.push_back({layout.names[c] + ": dates such as 03/04/2025 were read " +
                                     std::string(dateOrderName(layout.dateOrders[c])) + "."});
        if (layout.codes[c] != 0)
            report.doubts.push_back({layout.names[c] +
                                         ": whole numbers with zeros in front or more digits than a "
                                         "number keeps were left as texts.",
                                     layout.names[c]});
        if (layout.kinds[c] != ColumnKind::number) continue;
        std::string text;
        auto add = [&text](std::size_t count, const char* what) {
            if (count > 0) text += (text.empty() ? "" : ", ") + countText(count) + what;
        };
        add(sum.thousands, " with thousands marks");
        add(sum.currency, " with a currency sign");
        add(sum.percent, layout.dress.percent == NumberDress::Percent::share
                             ? " with a percent sign (5 % is 0.05)"
                             : " with a percent sign (5 % is 5)");
        if (!text.empty()) report.notes.push_back(layout.names[c] + ": numbers " + text + ".");
    }
}

/// Number and date columns in which too many cells do not fit, dates that only the other order of day and
/// month reads, and whole numbers that are codes: found only after the whole file was read.
bool demoteMisjudged(Layout& layout, const std::vector<Chunk>& chunks, const TextOptions& options) {
    bool changed = false;
    for (std::size_t c = 0; c < layout.names.size(); ++c) {
        const bool readable = layout.kinds[c] == ColumnKind::number || layout.kinds[c] == ColumnKind::date;
        if (!readable) continue;
        Piece sum;
        for (const Chunk& chunk : chunks) {
            sum.present += chunk.pieces[c].present;
            sum.faults += chunk.pieces[c].faults;
            sum.codes += chunk.pieces[c].codes;
            sum.notWhole += chunk.pieces[c].notWhole;
            sum.thisOrder += chunk.pieces[c].thisOrder;
            sum.otherOrder += chunk.pieces[c].otherOrder;
        }
        const bool tooMany = 10 * sum.faults > (10 - fittingOfTen) * sum.present;
        if (layout.kinds[c] == ColumnKind::date && layout.orderIsGuess[c] == 1 &&
            (sum.otherOrder > sum.thisOrder || (tooMany && sum.otherOrder > 0))) {
            layout.orderIsGuess[c] = 2; // the other order, once
            layout.dateOrders[c] = otherOrder(layout.dateOrders[c]);
            changed = true;
            continue;
        }
        if (options.kinds.contains(layout.names[c])) continue;
        const bool codes =
            layout.kinds[c] == ColumnKind::number &&
            areCodes(sum.codes, sum.present - std::min(sum.present, sum.notWhole), sum.present);
        if (!tooMany && !codes) continue;
        layout.codes[c] = codes && !tooMany;
        layout.kinds[c] = ColumnKind::factor;
        changed = true;
    }
    return changed;
}

/// Refuses more columns than anything can be done with, and short lines under a long one that would make more
/// cells than a file of that size can hold.
void requireRoom(std::string_view text, std::size_t columns, char newline, const std::string& name) {
    constexpr std::size_t most = 50000;
    if (columns > most)
        throw Error(ErrorCode::badText,
                    "the file has " + countText(columns) + " columns, and at most " + countText(most) +
                        " are read",
                    {.file = name, .line = 1}, "Look whether rows and columns are the wrong way round.");
    constexpr std::size_t always = 20000000, each = 8;
    if (columns <= each) return;
    const auto lines = static_cast<std::size_t>(std::count(text.begin(), text.end(), newline)) + 1;
    if (lines > (always + each * text.size()) / columns)
        throw Error(
            ErrorCode::badText,
            "a line of " + countText(columns) + " columns stands over " + countText(lines) +
                " lines that are mostly shorter: together more cells than a file of this size can hold",
            {.file = name, .line = 1}, "Look whether the delimiter is right and where the header is.");
}

RowsRead readUtf8(std::string_view text, Encoding encoding, const std::string& name,
                  const TextOptions& options, std::size_t bytes, Threads threads, Progress& progress,
                  bool& notUtf8) {
    RowsRead result;
    result.report.file = name;
    result.report.bytes = bytes;
    Layout layout;
    layout.newline = newlineOf(text);
    if (options.skipLines) belowLines(text, *options.skipLines, name); // refuses more than there are
    FoundFormat found = findFormat(text, encoding, options);
    layout.format = found.format;
    text = belowLines(text, layout.format.skipLines, name);
    layout.text = text;
    result.report.notes = std::move(found.notes);
    result.report.doubts = std::move(found.doubts);
    layout.dress = dressOf(options, layout.format.decimalMark);
    const MissingMarks missing(options.missingMarks);
    layout.missing = &missing;

    RowScanner first{text, layout.format.delimiter, layout.format.quote, layout.newline};
    std::vector<std::string> head;
    std::size_t rowsBegin = 0;
    std::size_t linesBefore = 0;
    do { // blank lines above the header are passed over
        rowsBegin = first.position;
        linesBefore = layout.format.skipLines + first.lines;
        first.next(head);
    } while (head.size() == 1 && trimmed(head[0]).empty() && !first.atEnd());
    requireRoom(text, head.size(), layout.newline, name);
    layout.names = columnNames(head, layout.format.header, result.report.notes);
    if (layout.format.header) {
        rowsBegin = first.position;
        linesBefore = layout.format.skipLines + first.lines;
    }
    if (rowsBegin >= text.size())
        throw Error(ErrorCode::noRows, "there is a header line but no rows below it",
                    {.file = name, .line = 1}, "Choose a file that has rows.");
    for (const auto& [column, kind] : options.kinds)
        if (!options.kindsMayBeAbsent &&
            std::find(layout.names.begin(), layout.names.end(), column) == layout.names.end())
            throw Error(ErrorCode::unknownColumn,
                        "there is no column \"" + column + "\" to be read as " + std::string(kindName(kind)),
                        {.file = name, .line = 1}, "Take it out of \"kinds\" or correct its name.");

    std::vector<Chunk> chunks = cutIntoChunks(layout, rowsBegin, threads);
    layout.kinds = guessKinds(layout, chunks, options);
    for (std::size_t c = 0; c < layout.names.size(); ++c)
        if (const auto asked = options.kinds.find(layout.names[c]); asked != options.kinds.end())
            layout.kinds[c] = asked->second, layout.codes[c] = 0;
    do {
        for (Chunk& chunk : chunks)
            chunk = {.begin = chunk.begin, .end = chunk.end};
        parseChunks(layout, chunks, threads, progress);
        if (!tiles(chunks)) { // quotes do not pair up: one chunk, in order
            chunks.assign(1, {.begin = rowsBegin, .end = text.size()});
            parseChunks(layout, chunks, threads, progress);
        }
    } while (demoteMisjudged(layout, chunks, options));
    notUtf8 = std::any_of(chunks.begin(), chunks.end(), [](const Chunk& c) { return !c.utf8; }) ||
              !isUtf8(text.substr(0, rowsBegin));
    if (notUtf8) return result;
    if (chunks.back().openQuoteLine > 0) {
        std::size_t line = linesBefore + chunks.back().openQuoteLine;
        for (std::size_t i = 0; i + 1 < chunks.size(); ++i)
            line += chunks[i].lines;
        throw Error(ErrorCode::badText, "a quote is opened here and never closed",
                    {.file = name, .line = line}, "Close the quote, or say that the file has no quotes.");
    }

    collectFaults(layout, chunks, linesBefore, result.report);
    noteDress(layout, chunks, result.report);
    progress.checkpoint(0.98, "Putting columns together");
    std::vector<std::optional<Column>> columns(layout.names.size());
    parallelFor(columns.size(), threads, [&](std::size_t c) {
        columns[c] = joinedColumn(layout, chunks, c, options.kinds.contains(layout.names[c]));
    });
    std::vector<Column> table;
    for (auto& column : columns)
        table.push_back(std::move(*column));
    result.table = Table(std::move(table));
    result.report.rows = result.table.rows();
    result.report.format = layout.format;
    if (result.report.rows == 0)
        throw Error(ErrorCode::noRows, "there is a header line but no rows below it",
                    {.file = name, .line = 1}, "Choose a file that has rows.");
    if (layout.names.size() == 1)
        result.report.doubts.push_back(
            {"There is one column only; if there should be more, say which delimiter parts them."});
    return result;
}

} // namespace

NumberDress dressOf(const TextOptions& options, char decimalMark) {
    return {.decimalMark = decimalMark,
            .thousandsMarks = options.thousandsMarks.value_or(decimalMark == '.' ? ", '" : ". '"),
            .currency = options.currency,
            .percent = options.percent};
}

RowsRead readTextBytes(std::string_view bytes, const std::string& name, const TextOptions& options,
                       Threads threads, Progress& progress) {
    Utf8Text decoded = decodeText(bytes, name, options.encoding);
    bool notUtf8 = false;
    RowsRead result =
        readUtf8(decoded.text, decoded.encoding, name, options, bytes.size(), threads, progress, notUtf8);
    if (!notUtf8) return result;
    if (options.encoding)
        throw Error(ErrorCode::badText, "the file is not UTF-8 text", {.file = name},
                    "Read it as Latin-1, or let the encoding be found.");
    const std::string recoded = recodedLatin1(decoded.text);
    result = readUtf8(recoded, Encoding::latin1, name, options, bytes.size(), threads, progress, notUtf8);
    result.report.doubts.push_back({"The file is not UTF-8; it was read as Latin-1."});
    return result;
}

RowsRead readText(const std::filesystem::path& path, const TextOptions& options, Threads threads,
                  Progress& progress) {
    progress.checkpoint(0, "Reading the file");
    const ByteBuffer bytes = readBytes(path, threads);
    return readTextBytes(bytes.view(), path.filename().string(), options, threads, progress);
}

} // namespace oxgoad
