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
#include <map>
#include <optional>

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
        std::size_t times = 0;
        std::size_t compact = 0;
        std::size_t serial = 0;
        UnitTally units{};
    };
    std::vector<Tally> tallies(layout.names.size());
    NumberDress withUnit = dressOf(options, layout.format.decimalMark);
    withUnit.units = NumberDress::Units::any;
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
                bool number = parseNumber(cell, layout.format.decimalMark).has_value();
                if (!number)
                    if (const auto dressed = parseDressedNumber(cell, withUnit)) {
                        number = dressed->unit.empty();
                        if (!number) tallies[c].units.add(dressed->unit);
                    }
                tallies[c].numbers += number;
                tallies[c].codes += number && writtenAsCode(cell);
                tallies[c].wholes += number && isDigits(cell);
                tallies[c].compact += number && parseCompactDate(cell);
                tallies[c].serial += number && parseSerialDate(cell);
                if (cell.find(':') != std::string_view::npos)
                    for (const DateOrder order : {DateOrder::dayFirst, DateOrder::monthFirst})
                        if (const auto moment = parseMoment(cell, options.dateOrder.value_or(order))) {
                            tallies[c].times += *moment != std::floor(*moment);
                            break;
                        }
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
    for (std::size_t c = 0; c < tallies.size(); ++c) {
        Tally& t = tallies[c];
        const auto asked = options.kinds.find(layout.names[c]);
        const auto [unit, unitCells] = t.units.best();
        const bool oneUnit = unitCells > 0 && 10 * unitCells >= fittingOfTen * t.present;
        layout.dresses.push_back(dressOf(options, layout.format.decimalMark));
        if (oneUnit ||
            (unitCells > 0 && asked != options.kinds.end() && asked->second == ColumnKind::number)) {
            layout.dresses.back().units = NumberDress::Units::one;
            layout.dresses.back().unit = unit;
            t.numbers += unitCells;
        }
        layout.mixedUnits.push_back(!oneUnit && unitCells > 0 &&
                                    10 * (t.numbers + t.units.all()) >= fittingOfTen * t.present);
        const DateOrder order = options.dateOrder            ? *options.dateOrder
                                : t.dayFirst >= t.monthFirst ? DateOrder::dayFirst
                                                             : DateOrder::monthFirst;
        layout.dateOrders.push_back(order);
        layout.orderIsGuess.push_back(!options.dateOrder && t.dayFirst > 0 && t.dayFirst == t.monthFirst ? 1
                                                                                                         : 0);
        t.dates += order == DateOrder::dayFirst     ? t.dayFirst
                   : order == DateOrder::monthFirst ? t.monthFirst
                                                    : 0;
        const bool enough = t.present > 0;
        const bool asDate = asked != options.kinds.end() && asked->second == ColumnKind::date;
        const bool free = asked == options.kinds.end() || asDate;
        const bool compact = enough && t.compact == t.present && free;
        const bool serial =
            enough && !compact && t.serial == t.present && ((free && namesDate(layout.names[c])) || asDate);
        layout.dateForms.push_back(compact  ? DateForm::compact
                                   : serial ? DateForm::serial
                                            : DateForm::written);
        const bool dates = 10 * t.dates >= fittingOfTen * t.present;
        const bool numbers = 10 * t.numbers >= fittingOfTen * t.present;
        const bool codes = areCodes(t.codes, t.wholes, t.present);
        // Nothing of a time of day is dropped unless dates are asked for.
        layout.moments.push_back(asked != options.kinds.end() && asked->second == ColumnKind::number
                                     ? asked->second.moments || (!numbers && dates && t.times > 0)
                                     : !numbers && dates && t.times > 0 && asked == options.kinds.end());
        if (compact || serial)
            kinds.push_back(ColumnKind::date);
        else if ((numbers && !codes) || layout.moments.back() != 0)
            kinds.push_back(ColumnKind::number);
        else
            kinds.push_back(dates && !numbers ? ColumnKind::date : ColumnKind::factor);
        layout.codes.push_back(codes && kinds.back() == ColumnKind::factor);
        // In the sample; the whole file decides.
        constexpr std::size_t nearlyOfTen = 7;
        std::optional<ColumnKind> nearly;
        if (kinds.back() == ColumnKind::factor && enough && !codes) {
            if (10 * t.numbers >= nearlyOfTen * t.present) nearly = ColumnKind::number;
            if (10 * t.dates >= nearlyOfTen * t.present) nearly = ColumnKind::date;
        }
        layout.nearly.push_back(nearly);
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
    if (layout.kinds[c] == ColumnKind::number) {
        auto numbers = joined(chunks, c, &ColumnPiece::numbers);
        return layout.moments[c] != 0 ? Column::ofMoments(name, std::move(numbers))
                                      : Column::ofNumbers(name, std::move(numbers));
    }
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
            sum.unit += chunk.pieces[c].unit;
            sum.present += chunk.pieces[c].present;
            sum.faults += chunk.pieces[c].faults;
        }
        if (layout.kinds[c] == ColumnKind::date && layout.dateForms[c] == DateForm::serial)
            report.doubts.push_back(
                {layout.names[c] +
                     ": whole numbers were read as the days a workbook counts (44562 is 2022-01-01).",
                 layout.names[c]});
        if (layout.kinds[c] == ColumnKind::date && layout.dateForms[c] == DateForm::compact)
            report.doubts.push_back(
                {layout.names[c] + ": eight digits were read as days (20220131 is 2022-01-31).",
                 layout.names[c]});
        if (layout.mixedUnits[c] != 0 && layout.kinds[c] != ColumnKind::number)
            report.doubts.push_back(
                {layout.names[c] + ": numbers beside different texts were left as texts.", layout.names[c]});
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
        const std::string& unit = layout.dresses[c].unit;
        if (sum.unit > 0 && unit != sizeMarks) report.units.emplace_back(layout.names[c], unit);
        const std::string_view size =
            ": k, M and B behind numbers were read as thousand, million and billion.";
        if (sum.unit > 0)
            report.doubts.push_back(
                {layout.names[c] + (unit == sizeMarks
                                        ? std::string(size)
                                        : ": \"" + unit + "\" beside the numbers was read as their unit.")});
        if (sum.percent > 0 && sum.percent < sum.present - sum.faults &&
            layout.dresses[c].percent == NumberDress::Percent::share)
            report.doubts.push_back(
                {layout.names[c] + ": " + countText(sum.percent) + " cells have a percent sign and " +
                 countText(sum.present - sum.faults - sum.percent) + " have none; 5 % was read as 0.05."});
        add(sum.percent, layout.dresses[c].percent == NumberDress::Percent::share
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
            sum.times += chunk.pieces[c].times;
        }
        if (layout.kinds[c] == ColumnKind::date && layout.dateForms[c] != DateForm::written) {
            if (sum.faults == 0 || options.kinds.contains(layout.names[c])) continue;
            layout.dateForms[c] = DateForm::written; // not all are days: numbers after all
            layout.kinds[c] = ColumnKind::number;
            changed = true;
            continue;
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
        if (layout.kinds[c] == ColumnKind::date && sum.times > 0 && !tooMany) {
            layout.kinds[c] = ColumnKind::number;
            layout.moments[c] = 1;
            changed = true;
            continue;
        }
        const bool codes =
            layout.kinds[c] == ColumnKind::number &&
            areCodes(sum.codes, sum.present - std::min(sum.present, sum.notWhole), sum.present);
        if (!tooMany && !codes) continue;
        layout.codes[c] = codes && !tooMany;
        if (tooMany) layout.nearly[c] = layout.kinds[c];
        layout.kinds[c] = ColumnKind::factor;
        layout.moments[c] = 0;
        changed = true;
    }
    return changed;
}

/// Which texts keep a column from being numbers or dates, when at least eight of ten cells are; otherwise
/// empty.
std::string whatKeepsFrom(const Column& column, ColumnKind kind, const TextLayout& layout, std::size_t c) {
    const auto fits = [&](const std::string& cell) {
        return kind == ColumnKind::number ? parseDressedNumber(cell, layout.dresses[c]).has_value()
                                          : parseDate(cell, layout.dateOrders[c]).has_value();
    };
    std::vector<std::size_t> counts(column.levels().size());
    std::map<std::string, std::size_t> others;
    std::size_t present = 0, fitting = 0;
    if (column.kind() == ColumnKind::factor) {
        for (const auto code : column.codes())
            if (code >= 0) ++counts[static_cast<std::size_t>(code)];
        for (std::size_t level = 0; level < counts.size(); ++level) {
            present += counts[level];
            if (fits(column.levels()[level]))
                fitting += counts[level];
            else if (counts[level] > 0)
                others[column.levels()[level]] += counts[level];
        }
    } else {
        for (std::size_t i = 0; i < column.size(); ++i) {
            if (column.isMissing(i)) continue;
            ++present;
            const std::string cell = column.cellText(i);
            if (fits(cell))
                ++fitting;
            else
                ++others[cell];
        }
    }
    if (others.empty() || 10 * fitting < 8 * present) return {};
    std::vector<std::pair<std::size_t, std::string>> sorted;
    for (const auto& [text, count] : others)
        sorted.emplace_back(count, text);
    std::stable_sort(sorted.begin(), sorted.end(),
                     [](const auto& a, const auto& b) { return a.first > b.first; });
    const bool numbers = kind == ColumnKind::number;
    std::string said = percentText(static_cast<double>(fitting) / static_cast<double>(present)) +
                       " of the cells are " + (numbers ? "numbers" : "dates") + "; ";
    constexpr std::size_t few = 4, longest = 24;
    for (std::size_t i = 0; i < std::min(few, sorted.size()); ++i) {
        std::string text = sorted[i].second;
        if (text.size() > longest) {
            text.resize(longest);
            while (!isUtf8(text))
                text.pop_back();
            text += "…";
        }
        said += (i > 0 ? ", " : "") + ("\"" + text + "\" (" + countText(sorted[i].first) + ")");
    }
    if (sorted.size() > few) said += " and " + countText(sorted.size() - few) + " other texts";
    return said + " keep it from being " + (numbers ? "numbers." : "dates.");
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

/// What the first lines under the header tell of it.
struct UnderHeader {
    WiderLines lines;
    /// Of the line of units, if there is one: what it says of each column, its bytes and lines.
    std::vector<std::string> units;
    std::size_t unitBytes = 0, unitLines = 0;
};

UnderHeader lookUnderHeader(const TextLayout& layout, std::string_view text, std::size_t header,
                            const TextOptions& options, std::vector<ReadDoubt>& doubts,
                            const Progress& progress) {
    constexpr std::size_t looked = 1000, judged = 100;
    RowScanner scanner{.text = text,
                       .delimiter = layout.format.delimiter,
                       .quote = layout.format.quote,
                       .newline = layout.newline,
                       .progress = &progress};
    UnderHeader found;
    std::vector<std::size_t> widths;
    std::size_t emptyEnds = 0;
    std::vector<std::vector<HeadCell>> rows;
    std::vector<std::string> cells;
    const bool mayHaveUnits = layout.format.header && !options.header;
    while (!scanner.atEnd() && widths.size() < looked) {
        stopIfTold(progress);
        scanner.next(cells);
        if (cells.size() == 1 && trimmed(cells[0]).empty()) continue;
        widths.push_back(cells.size());
        emptyEnds += cells.size() == header + 1 && trimmed(cells.back()).empty();
        if (widths.size() == 1) found.unitBytes = scanner.position, found.unitLines = scanner.lines;
        if (!mayHaveUnits || rows.size() > judged) continue;
        rows.emplace_back();
        for (const std::string& cell : cells)
            rows.back().push_back(headCell(cell, layout.format.decimalMark, *layout.missing, true));
    }
    found.lines = widerLines(header, widths, emptyEnds);
    const bool units = rows.size() > 2 && rows[0].size() <= header && !found.lines.rowNames &&
                       isUnitRow(rows[0], {rows.begin() + 1, rows.end()});
    if (!units) {
        found.unitBytes = found.unitLines = 0;
        return found;
    }
    std::string said;
    for (const HeadCell& cell : rows[0]) {
        found.units.push_back(cell.text);
        if (!cell.text.empty()) said += (said.empty() ? "" : ", ") + cell.text;
    }
    constexpr std::size_t longest = 60;
    if (said.size() > longest) said.clear();
    doubts.push_back(
        {"The line under the header was taken as units" + (said.empty() ? "" : ": " + said) + "."});
    return found;
}

/// Names for what lines have beyond the header.
void nameMore(std::vector<std::string>& head, const WiderLines& lines, bool header,
              std::vector<ReadDoubt>& doubts) {
    if (lines.rowNames && header) {
        std::string name = "row";
        while (std::find(head.begin(), head.end(), name) != head.end())
            name += "_";
        head.insert(head.begin(), name);
        doubts.push_back(
            {"Lines have one cell more than the header: the first was taken as the name of its row, \"" +
             name + "\"."});
        return;
    }
    const std::size_t added = lines.rowNames ? 1 : lines.added, before = head.size();
    if (added == 0) return;
    head.resize(before + added);
    if (header)
        doubts.push_back({"Lines have up to " + plural(head.size(), "cell", "cells") +
                          " where the header names " + countText(before) + ": " +
                          plural(added, "column was", "columns were") + " added at the end."});
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
    if (layout.format.header) {
        rowsBegin = first.position;
        linesBefore = layout.format.skipLines + first.lines;
    }
    const UnderHeader under =
        lookUnderHeader(layout, text.substr(rowsBegin), head.size(), options, result.report.doubts, progress);
    requireRoom(text, head.size() + under.lines.added, layout.newline, name);
    layout.fewest = head.size();
    layout.emptyEnd = under.lines.emptyEnd;
    nameMore(head, under.lines, layout.format.header, result.report.doubts);
    if (under.lines.rowNames) ++layout.fewest;
    layout.names = columnNames(head, layout.format.header, result.report.notes);
    for (std::size_t c = 0; c < under.units.size(); ++c)
        if (!under.units[c].empty()) result.report.units.emplace_back(layout.names[c], under.units[c]);
    rowsBegin += under.unitBytes;
    linesBefore += under.unitLines;
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
            layout.kinds[c] = asked->second, layout.codes[c] = 0, layout.nearly[c] = std::nullopt;
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
    std::vector<std::string> keepsFrom(columns.size());
    parallelFor(columns.size(), threads, [&](std::size_t c) {
        columns[c] = joinedColumn(layout, chunks, c, options.kinds.contains(layout.names[c]));
        if (layout.nearly[c]) keepsFrom[c] = whatKeepsFrom(*columns[c], *layout.nearly[c], layout, c);
    });
    std::vector<Column> table;
    for (std::size_t c = 0; c < columns.size(); ++c) {
        table.push_back(std::move(*columns[c]));
        if (!keepsFrom[c].empty())
            result.report.doubts.push_back(
                {layout.names[c] + ": " + keepsFrom[c], layout.names[c], *layout.nearly[c]});
    }
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

std::string faultText(const CellFault& fault) {
    std::string text;
    if (fault.line > 0) text = "line " + countText(fault.line);
    if (!fault.column.empty()) text += (text.empty() ? "" : ", ") + fault.column;
    text += text.empty() ? "" : ": ";
    if (!fault.text.empty()) text += "\"" + fault.text + "\" ";
    if (fault.column.empty() && !fault.text.empty()) text += "– ";
    return text + fault.reason;
}

std::string ReadReport::faultsText() const {
    if (faultCount == 0) return {};
    std::string text = plural(faultCount, "cell or line does", "cells or lines do") + " not fit: ";
    constexpr std::size_t few = 5;
    std::size_t inColumns = 0, listed = 0;
    for (const auto& [column, count] : faultsByColumn) {
        inColumns += count;
        if (listed++ < few) text += (listed > 1 ? ", " : "") + column + " " + countText(count);
    }
    if (listed > few) text += ", …";
    if (inColumns < faultCount)
        text +=
            (listed > 0 ? ", " : "") + plural(faultCount - inColumns, "line", "lines") + " of another length";
    return text;
}

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
