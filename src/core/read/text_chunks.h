#pragma once
// Text in chunks that are parsed by themselves, in parallel.
#include "base/parallel.h"
#include "base/progress.h"
#include "read/text_format.h"
#include "read/text_reader.h"
#include "table/dictionary.h"

#include <cstddef>
#include <cstdint>
#include <memory>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// How the days of a date column stand in the file.
enum class DateForm : std::uint8_t { written, compact, serial };

/// Everything a chunk needs to know to be parsed by itself.
struct TextLayout {
    std::string_view text;
    TextFormat format;
    char newline = '\n';
    std::vector<std::string> names;
    std::vector<ColumnKind> kinds;
    /// Of date columns; whether another order may be tried when this one does not fit.
    std::vector<DateOrder> dateOrders;
    std::vector<std::uint8_t> orderIsGuess;
    std::vector<DateForm> dateForms;
    /// Number columns that hold dates with times.
    std::vector<std::uint8_t> moments;
    /// Columns of whole numbers that are kept as texts.
    std::vector<std::uint8_t> codes;
    /// Kept as texts for their units; and those of which many cells are numbers or dates.
    std::vector<std::uint8_t> mixedUnits;
    std::vector<std::optional<ColumnKind>> nearly;
    /// Of each column, with its unit.
    std::vector<NumberDress> dresses;
    /// Cells that a line has at least: those that the header names.
    std::size_t fewest = 0;
    /// Lines end with a delimiter behind the last cell.
    bool emptyEnd = false;
    const MissingMarks* missing = nullptr;
    /// From the sample; only used to reserve memory.
    double bytesPerRow = 64;
};

/// Of day first and month first the other.
inline DateOrder otherOrder(DateOrder order) {
    return order == DateOrder::dayFirst ? DateOrder::monthFirst : DateOrder::dayFirst;
}

/// The values of one column in one chunk.
struct ColumnPiece {
    std::vector<double> numbers;
    std::vector<std::int32_t> integers;
    Dictionary dictionary;
    /// Where nearly all texts differ, which soon shows, they are not looked up any more: each as it stands in
    /// the file, or in `unquoted`; those missing point nowhere.
    std::vector<std::string_view> texts;
    std::vector<std::shared_ptr<const std::string>> unquoted;
    bool plainTexts = false;
    /// The last date and its text: dates come in runs.
    std::string lastDate;
    std::int32_t lastDay = Column::missingDay;
    std::size_t present = 0;
    std::size_t faults = 0;
    /// Numbers that were dressed.
    std::size_t thousands = 0, currency = 0, percent = 0, unit = 0;
    /// Dates with a time of day that is not the day's begin.
    std::size_t times = 0;
    /// Whole numbers that look like codes.
    std::size_t codes = 0;
    /// Numbers with a decimal mark, an exponent or a dress.
    std::size_t notWhole = 0;
    /// Dates that mean two days, and those that only the order taken or only the other one reads.
    std::size_t open = 0, thisOrder = 0, otherOrder = 0;
};

struct TextChunk {
    std::size_t begin = 0;
    std::size_t end = 0;
    std::size_t stoppedAt = 0;
    std::size_t rows = 0;
    std::size_t lines = 0;
    std::size_t blankLines = 0;
    std::size_t openQuoteLine = 0;
    std::size_t faultCount = 0;
    std::vector<CellFault> faults;
    std::vector<ColumnPiece> pieces;
    bool utf8 = true;
};

/// Where rows begin, about every two megabytes, assuming that quotes come in pairs; tiles() checks the
/// assumption once they are parsed: each chunk must end exactly where the next begins.
std::vector<TextChunk> cutIntoChunks(const TextLayout& layout, std::size_t begin, Threads threads);
bool tiles(const std::vector<TextChunk>& chunks);
/// Parses every chunk. Throws Stopped.
void parseChunks(const TextLayout& layout, std::vector<TextChunk>& chunks, Threads threads,
                 Progress& progress);

} // namespace oxgoad
