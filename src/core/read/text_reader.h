#pragma once
// Rows from delimited text files.
#include "base/parallel.h"
#include "base/progress.h"
#include "table/table.h"
#include "table/values.h"

#include <cstddef>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

enum class Encoding { utf8, utf16LittleEndian, utf16BigEndian, latin1 };

/// "utf-8", "utf-16le", "utf-16be", "latin-1".
std::string_view encodingName(Encoding encoding);

/// The delimiter of files whose cells are parted by runs of blanks (spaces and tabs), as in columns that are
/// lined up; blanks at both ends of a line part nothing.
inline constexpr char blankRuns = ' ';

/// What the analyst says of the file; what is left empty is found by looking at it.
struct TextOptions {
    std::optional<char> delimiter;
    std::optional<char> quote;
    std::optional<bool> header;
    std::optional<char> decimalMark;
    std::optional<Encoding> encoding;
    /// Lines above the header that are no part of the table; found when not given (remarks that begin with #,
    /// titles, a line sep=).
    std::optional<std::size_t> skipLines;
    /// Characters that may part thousands ("" for none); what is usual beside the decimal mark when not
    /// given.
    std::optional<std::string> thousandsMarks;
    /// Whether currency signs are read past.
    bool currency = true;
    NumberDress::Percent percent = NumberDress::Percent::share;
    /// For dates such as 03/04/2025; found from the column's other dates when not given.
    std::optional<DateOrder> dateOrder;
    /// Cells that stand for "no value". The empty cell always does.
    std::vector<std::string> missingMarks = {"NA",  "N/A",  "n/a",  "#N/A", "NaN",
                                             "nan", "null", "NULL", "?",    "-"};
    /// Kinds asked for, by column name; the other columns' kinds are found.
    std::map<std::string, AskedKind> kinds;
    /// A kind asked for a column that is not there is passed over instead of refused.
    bool kindsMayBeAbsent = false;

    bool operator==(const TextOptions&) const = default;
};

/// How the file was read, everything decided.
struct TextFormat {
    char delimiter = ',';
    char quote = '"';
    bool header = true;
    char decimalMark = '.';
    Encoding encoding = Encoding::utf8;
    std::size_t skipLines = 0;
};

/// Something the reader had to decide and could not be sure of.
struct ReadDoubt {
    /// A sentence for people.
    std::string said;
    /// A column kept as text that is offered to be read as numbers or dates; usually empty.
    std::string column{};
    ColumnKind as = ColumnKind::number;
    bool operator==(const ReadDoubt&) const = default;
};

/// A cell that does not fit its column, or a line of the wrong length. Lines, rows and cells count from 1.
struct CellFault {
    std::size_t line = 0;
    std::size_t row = 0;
    std::size_t cell = 0;
    std::string column;
    /// The text as it stands in the file (shortened after 200 bytes).
    std::string text;
    std::string reason;
};

/// "line 12, Turnover: \"--\" is not a number".
std::string faultText(const CellFault& fault);

struct ReadReport {
    static constexpr std::size_t listedFaults = 1000;
    std::string file;
    std::size_t bytes = 0;
    std::size_t rows = 0;
    TextFormat format;
    std::size_t faultCount = 0;
    /// The first listedFaults of them, in the order of the file.
    std::vector<CellFault> faults;
    /// Column name and number of its cells that do not fit; only columns that have some.
    std::vector<std::pair<std::string, std::size_t>> faultsByColumn;
    /// What was decided on the way: names made up, blank lines passed over, encoding assumed.
    std::vector<std::string> notes;
    /// What the reader was not sure of.
    std::vector<ReadDoubt> doubts;
    /// Column name and unit, of columns whose cells or whose line under the header say one.
    std::vector<std::pair<std::string, std::string>> units;

    /// "3 cells or lines do not fit: Turnover 2, lines 1"; empty without faults.
    std::string faultsText() const;
};

struct RowsRead {
    Table table;
    ReadReport report;
};

/// Reads a delimited text file (RFC 4180, and the usual departures from it).
///
/// A column is a number or a date when at least 90 % of its cells that are not missing can be read so
/// (numbers also with thousands marks, currency and percent signs, which the notes count, and with one unit
/// that stands in nearly all of them); otherwise a factor, or text when more than half of more than 20 cells
/// are distinct. Dates with times of day are moments, numbers of days that keep both. Eight digits that are
/// all days, and the day numbers of workbooks in a column that is named after dates, are dates. Where lines
/// have steadily one cell more than the header, the first is a name of the row; where they are wider
/// otherwise, columns are made. A line of units under the header is passed over. Whole numbers with zeros in
/// front or more digits than a double keeps stay texts when they are at least 1 in 50 of a column of whole
/// numbers. Cells that do not fit become missing and are counted and listed in the report. Numbers read to
/// the nearest double. The result does not depend on the number of threads. Errors: fileNotFound, notAFile,
/// cannotRead, emptyFile, binaryFile, badText (an open quote at the end), noRows (a header only),
/// unknownColumn (in options.kinds, unless they may be absent). Throws Stopped.
RowsRead readText(const std::filesystem::path& path, const TextOptions& options, Threads threads,
                  Progress& progress);

/// What is usual beside a decimal mark, and what the options say.
NumberDress dressOf(const TextOptions& options, char decimalMark);

/// The same from bytes in memory; `name` stands for the file in messages.
RowsRead readTextBytes(std::string_view bytes, const std::string& name, const TextOptions& options,
                       Threads threads, Progress& progress);

} // namespace oxgoad
