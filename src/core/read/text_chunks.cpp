#include "read/text_chunks.h"

#include "base/text.h"
#include "read/text_format.h"
#include "table/values.h"

#include <algorithm>
#include <array>
#include <atomic>
#include <cmath>
#include <cstring>

namespace oxgoad {

namespace {

constexpr std::size_t chunkBytes = 2U << 20U;
constexpr std::size_t faultTextBytes = 200;

class ChunkParser {
public:
    ChunkParser(const TextLayout& layout, TextChunk& chunk, const Progress& progress)
        : m_progress(progress), m_layout(layout), m_chunk(chunk), m_p(layout.text.data() + chunk.begin),
          m_end(layout.text.data() + layout.text.size()), m_delimiter(layout.format.delimiter),
          m_quote(layout.format.quote), m_newline(layout.newline), m_blanks(m_delimiter == blankRuns) {
        m_chunk.pieces.assign(layout.names.size(), ColumnPiece{});
    }

    void run() {
        const char* const limit = m_layout.text.data() + m_chunk.end;
        for (std::size_t from = m_chunk.begin; from < m_chunk.end && m_chunk.utf8;) {
            stopIfTold(m_progress);
            std::size_t to = std::min(from + askBytes, m_chunk.end);
            for (int back = 0; back < 3 && to < m_chunk.end && (m_layout.text[to] & 0xC0) == 0x80; ++back)
                --to; // between characters
            m_chunk.utf8 = isUtf8(m_layout.text.substr(from, to - from));
            from = to;
        }
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
        while (m_p < limit) {
            askNowAndThen();
            parseRow();
        }
        m_chunk.stoppedAt = static_cast<std::size_t>(m_p - m_layout.text.data());
    }

private:
    /// About every megabyte, whole lines or not.
    void askNowAndThen() {
        if (m_p < m_askAt) return;
        stopIfTold(m_progress);
        m_askAt = m_p + askBytes;
    }

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
                if (c == columns && !(m_layout.emptyEnd && rowEnded && trimmed(m_cell).empty()))
                    fault(line, c + 1, "", std::string(m_cell), "the line has more cells than the header");
            }
            ++c;
        }
        if (c < columns) {
            if (c < m_layout.fewest)
                fault(line, c, "", {},
                      "the line has " + std::to_string(c) + " cells where the header has " +
                          std::to_string(m_layout.fewest));
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
        ColumnPiece& piece = m_chunk.pieces[c];
        const ColumnKind kind = m_layout.kinds[c];
        if (kind == ColumnKind::number && m_layout.moments[c] == 0 && parsePlainNumber(piece))
            return endCell();
        const bool rowEnded = scanCell();
        std::string_view cell = m_cell;
        if (!cell.empty() && (cell.front() <= ' ' || cell.back() <= ' ')) cell = trimmed(cell);
        if (m_layout.missing->contains(cell)) {
            addMissing(c);
            return rowEnded;
        }
        ++piece.present;
        if (kind == ColumnKind::number) {
            const bool moment = m_layout.moments[c] != 0;
            piece.numbers.push_back(moment ? momentIn(c, cell) : numberIn(piece, c, cell));
            if (std::isnan(piece.numbers.back()))
                misfit(piece, c, line, cell, moment ? "is not a date and time" : "is not a number");
        } else if (kind == ColumnKind::date) {
            if (piece.lastDate != cell) {
                piece.lastDay = dateIn(piece, c, cell);
                piece.lastDate.assign(cell);
            }
            piece.integers.push_back(piece.lastDay);
            if (piece.lastDay == Column::missingDay) misfit(piece, c, line, cell, "is not a date");
        } else {
            addText(piece, cell);
        }
        return rowEnded;
    }

    void addText(ColumnPiece& piece, std::string_view cell) {
        constexpr std::size_t enough = 64;
        if (!piece.plainTexts) {
            piece.integers.push_back(piece.dictionary.code(cell));
            if (piece.dictionary.size() < enough || 4 * piece.dictionary.size() < 3 * piece.present) return;
            piece.plainTexts = true;
            piece.texts.reserve(piece.integers.capacity());
            for (const auto code : piece.integers)
                piece.texts.push_back(code < 0 ? std::string_view()
                                               : std::string_view(piece.dictionary.key(code)));
            std::vector<std::int32_t>().swap(piece.integers);
            return;
        }
        if (m_cellIsOwn) {
            piece.unquoted.push_back(std::make_shared<const std::string>(cell));
            cell = *piece.unquoted.back();
        }
        piece.texts.push_back(cell);
    }

    /// The day of a cell; where the order of day and month is a guess, what speaks for it is counted.
    std::int32_t dateIn(ColumnPiece& piece, std::size_t c, std::string_view cell) const {
        if (m_layout.dateForms[c] == DateForm::compact)
            return parseCompactDate(cell).value_or(Column::missingDay);
        if (m_layout.dateForms[c] == DateForm::serial)
            return parseSerialDate(cell).value_or(Column::missingDay);
        if (cell.find(':') != std::string_view::npos) {
            const auto moment = parseMoment(cell, m_layout.dateOrders[c]);
            piece.times += moment && *moment != std::floor(*moment);
        }
        const auto day = parseDate(cell, m_layout.dateOrders[c]);
        if (m_layout.orderIsGuess[c] != 0) {
            const auto other = parseDate(cell, otherOrder(m_layout.dateOrders[c]));
            piece.open += day && other && *day != *other;
            piece.thisOrder += day && !other;
            piece.otherOrder += other && !day;
        }
        return day.value_or(Column::missingDay);
    }

    /// Days with the time as their fraction; NaN when it is none.
    double momentIn(std::size_t c, std::string_view cell) const {
        if (const auto moment = parseMoment(cell, m_layout.dateOrders[c])) return *moment;
        const auto day = parseDate(cell, m_layout.dateOrders[c]);
        return day ? *day : std::nan("");
    }

    /// The number of a cell, plain or dressed; NaN when it is none.
    double numberIn(ColumnPiece& piece, std::size_t c, std::string_view cell) const {
        if (const auto value = parseNumber(cell, m_layout.format.decimalMark)) {
            piece.codes += writtenAsCode(cell);
            piece.notWhole += !isDigits(cell);
            return *value;
        }
        ++piece.notWhole;
        const auto dressed = parseDressedNumber(cell, m_layout.dresses[c]);
        if (!dressed) return std::nan("");
        piece.thousands += dressed->thousands;
        piece.currency += dressed->currency;
        piece.percent += dressed->percent;
        piece.unit += !dressed->unit.empty();
        return dressed->value;
    }

    /// Digits with at most one decimal mark up to the cell's end, exact in one operation; otherwise
    /// nothing is consumed.
    bool parsePlainNumber(ColumnPiece& piece) {
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
        m_cellIsOwn = false;
        m_p = p;
        return finishScan();
    }

    bool scanQuoted() {
        m_buffer.clear();
        const std::size_t openedIn = m_chunk.lines + 1;
        ++m_p;
        for (;;) {
            // As it is up to the next quote.
            const char* const from = m_p;
            const auto room = std::min<std::size_t>(static_cast<std::size_t>(m_end - m_p), askBytes);
            const auto* quote = static_cast<const char*>(std::memchr(m_p, m_quote, room));
            m_p = quote ? quote : from + room;
            m_chunk.lines += static_cast<std::size_t>(std::count(from, m_p, m_newline));
            m_buffer.append(from, m_p);
            askNowAndThen();
            if (m_p >= m_end) {
                m_chunk.openQuoteLine = openedIn;
                break;
            }
            if (!quote) continue;
            ++m_p;
            if (m_p >= m_end || *m_p != m_quote) break;
            m_buffer += *m_p++;
        }
        while (m_p < m_end && *m_p != m_newline && (m_blanks ? !isBlank(*m_p) : *m_p != m_delimiter))
            m_buffer += *m_p++;
        m_cell = m_buffer;
        m_cellIsOwn = true;
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
        ColumnPiece& piece = m_chunk.pieces[c];
        switch (m_layout.kinds[c]) {
        case ColumnKind::number:
            piece.numbers.push_back(std::nan(""));
            break;
        case ColumnKind::date:
            piece.integers.push_back(Column::missingDay);
            break;
        default:
            if (piece.plainTexts)
                piece.texts.emplace_back();
            else
                piece.integers.push_back(Column::missingCode);
        }
    }

    void misfit(ColumnPiece& piece, std::size_t c, std::size_t line, std::string_view cell,
                const char* reason) {
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

    static constexpr std::size_t askBytes = 1U << 20U;
    const Progress& m_progress;
    const TextLayout& m_layout;
    TextChunk& m_chunk;
    const char* m_askAt = nullptr;
    const char* m_p;
    const char* m_end;
    char m_delimiter;
    char m_quote;
    char m_newline;
    bool m_blanks;
    std::string m_buffer;
    std::string_view m_cell;
    /// The cell stands in the buffer, not in the file.
    bool m_cellIsOwn = false;
};

} // namespace

std::vector<TextChunk> cutIntoChunks(const TextLayout& layout, std::size_t begin, Threads threads) {
    const std::string_view text = layout.text;
    // A chunk has room of its own for every column: wide rows come in larger ones.
    constexpr std::size_t fewestRows = 256;
    const std::size_t lineEnd = std::min(text.find(layout.newline, begin), text.size());
    const std::size_t size = std::max(chunkBytes, fewestRows * (lineEnd - begin));
    const std::size_t blocks = std::max<std::size_t>(1, (text.size() - begin) / size);
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
    std::vector<TextChunk> chunks;
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

bool tiles(const std::vector<TextChunk>& chunks) {
    return std::all_of(chunks.begin(), chunks.end(), [](const TextChunk& c) { return c.stoppedAt == c.end; });
}

void parseChunks(const TextLayout& layout, std::vector<TextChunk>& chunks, Threads threads,
                 Progress& progress) {
    std::atomic<std::size_t> done{0};
    std::atomic<std::size_t> rows{0};
    parallelFor(chunks.size(), threads, [&](std::size_t i) {
        const std::size_t ready = done.load();
        progress.checkpoint(static_cast<double>(ready) / static_cast<double>(chunks.size()),
                            "Reading rows, " + countText(rows.load()) + " so far");
        ChunkParser(layout, chunks[i], progress).run();
        rows += chunks[i].rows;
        ++done;
    });
}

} // namespace oxgoad
