#include "read/text_reader.h"

#include "base/file.h"
#include "base/text.h"
#include "read/text_chunks.h"
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

/// A column is a number or a date when this many of 10 cells can be read so.
constexpr std::size_t fittingOfTen = 9;

/// Kinds by looking at the first rows and at a few rows in every part of the file.
std::vector<ColumnKind> guessKinds(TextLayout& layout, const std::vector<TextChunk>& chunks,
                                   const TextOptions& options, const Progress& progress) {
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
        RowScanner scanner{.text = layout.text,
                           .delimiter = layout.format.delimiter,
                           .quote = layout.format.quote,
                           .newline = layout.newline,
                           .position = chunks[i].begin,
                           .progress = &progress};
        for (std::size_t row = 0; row < (i == 0 ? 1000U : 50U) && scanner.position < chunks[i].end; ++row) {
            stopIfTold(progress);
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
std::vector<T> joined(std::vector<TextChunk>& chunks, std::size_t column,
                      std::vector<T> ColumnPiece::*member) {
    std::size_t rows = 0;
    for (const TextChunk& chunk : chunks)
        rows += chunk.rows;
    std::vector<T> all;
    all.reserve(rows);
    for (TextChunk& chunk : chunks) {
        auto& part = chunk.pieces[column].*member;
        all.insert(all.end(), part.begin(), part.end());
        std::vector<T>().swap(part);
    }
    return all;
}

Column joinedColumn(const TextLayout& layout, std::vector<TextChunk>& chunks, std::size_t c, bool kindAsked) {
    const std::string& name = layout.names[c];
    if (layout.kinds[c] == ColumnKind::number)
        return Column::ofNumbers(name, joined(chunks, c, &ColumnPiece::numbers));
    if (layout.kinds[c] == ColumnKind::date)
        return Column::ofDates(name, joined(chunks, c, &ColumnPiece::integers));
    Dictionary dictionary;
    std::size_t present = 0;
    for (TextChunk& chunk : chunks) {
        ColumnPiece& piece = chunk.pieces[c];
        present += piece.present;
        if (piece.plainTexts) {
            piece.integers.reserve(piece.texts.size());
            for (const std::string_view text : piece.texts)
                piece.integers.push_back(text.data() ? dictionary.code(text) : Column::missingCode);
            std::vector<std::string_view>().swap(piece.texts);
            piece.unquoted.clear();
            piece.dictionary = Dictionary();
            continue;
        }
        const auto keys = piece.dictionary.takeKeys();
        std::vector<std::int32_t> global;
        global.reserve(keys.size());
        for (const auto& key : keys)
            global.push_back(dictionary.code(key));
        for (auto& code : piece.integers)
            if (code >= 0) code = global[static_cast<std::size_t>(code)];
    }
    auto codes = joined(chunks, c, &ColumnPiece::integers);
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

void collectFaults(const TextLayout& layout, const std::vector<TextChunk>& chunks, std::size_t linesBefore,
                   ReadReport& report) {
    std::size_t line = linesBefore;
    std::size_t row = 0;
    std::size_t blank = 0;
    for (const TextChunk& chunk : chunks) {
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
        for (const TextChunk& chunk : chunks)
            count += chunk.pieces[c].faults;
        if (count > 0) report.faultsByColumn.emplace_back(layout.names[c], count);
    }
    if (blank > 0)
        report.notes.push_back(plural(blank, "blank line was", "blank lines were") + " passed over.");
}

/// What was read past, and which order of day and month was taken where the file leaves it open.
void noteDress(const TextLayout& layout, const std::vector<TextChunk>& chunks, ReadReport& report) {
    for (std::size_t c = 0; c < layout.names.size(); ++c) {
        ColumnPiece sum;
        for (const TextChunk& chunk : chunks) {
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
bool demoteMisjudged(TextLayout& layout, const std::vector<TextChunk>& chunks, const TextOptions& options) {
    bool changed = false;
    for (std::size_t c = 0; c < layout.names.size(); ++c) {
        const bool readable = layout.kinds[c] == ColumnKind::number || layout.kinds[c] == ColumnKind::date;
        if (!readable) continue;
        ColumnPiece sum;
        for (const TextChunk& chunk : chunks) {
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
    TextLayout layout;
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

    RowScanner first{.text = text,
                     .delimiter = layout.format.delimiter,
                     .quote = layout.format.quote,
                     .newline = layout.newline,
                     .progress = &progress};
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

    std::vector<TextChunk> chunks = cutIntoChunks(layout, rowsBegin, threads);
    layout.kinds = guessKinds(layout, chunks, options, progress);
    for (std::size_t c = 0; c < layout.names.size(); ++c)
        if (const auto asked = options.kinds.find(layout.names[c]); asked != options.kinds.end())
            layout.kinds[c] = asked->second, layout.codes[c] = 0;
    do {
        for (TextChunk& chunk : chunks)
            chunk = {.begin = chunk.begin, .end = chunk.end};
        parseChunks(layout, chunks, threads, progress);
        if (!tiles(chunks)) { // quotes do not pair up: one chunk, in order
            chunks.assign(1, {.begin = rowsBegin, .end = text.size()});
            parseChunks(layout, chunks, threads, progress);
        }
    } while (demoteMisjudged(layout, chunks, options));
    notUtf8 = std::any_of(chunks.begin(), chunks.end(), [](const TextChunk& c) { return !c.utf8; }) ||
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
