#pragma once
// Finding out how a text file is written: encoding, delimiter, header, decimal mark, kinds of columns.
#include "base/progress.h"
#include "read/text_reader.h"

#include <array>
#include <map>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// Text as UTF-8. Points into the bytes given, or into `converted` when they had to be recoded.
struct Utf8Text {
    std::string_view text;
    std::string converted;
    Encoding encoding = Encoding::utf8;
};

/// Drops a byte order mark, recodes UTF-16, and refuses binary files (Error binaryFile, emptyFile).
Utf8Text decodeText(std::string_view bytes, const std::string& name, std::optional<Encoding> wanted);

/// Recodes Latin-1 (read as its superset, code page 1252) to UTF-8.
std::string recodedLatin1(std::string_view bytes);

/// One row of cells from `text` at `position`, which moves past the row's end. `lines` counts the line ends
/// passed. Quotes count only at the start of a cell; a doubled quote inside is one quote. The delimiter
/// blankRuns stands for any run of blanks.
struct RowScanner {
    std::string_view text;
    char delimiter;
    char quote;
    char newline;
    std::size_t position = 0;
    std::size_t lines = 0;
    bool openQuote = false;
    /// Asked about every megabyte, in the middle of a cell too; throws Stopped then.
    const Progress* progress = nullptr;

    bool atEnd() const { return position >= text.size(); }
    void next(std::vector<std::string>& cells);
};

/// '\n', or '\r' in files that have no '\n'.
char newlineOf(std::string_view text);

/// True for cells that stand for "no value".
class MissingMarks {
public:
    explicit MissingMarks(const std::vector<std::string>& marks);
    bool contains(std::string_view cell) const {
        if (cell.empty()) return true;
        if (cell.size() > m_longest || !m_firstByte[static_cast<unsigned char>(cell[0])]) return false;
        for (const auto& mark : m_marks)
            if (mark == cell) return true;
        return false;
    }

private:
    std::vector<std::string> m_marks;
    std::size_t m_longest = 0;
    std::array<bool, 256> m_firstByte{};
};

/// What was found, and what of it is not sure.
struct FoundFormat {
    TextFormat format;
    std::vector<std::string> notes;
    std::vector<ReadDoubt> doubts;
};

/// Fills in what `options` leaves open by looking at the first rows: lines above the header, delimiter,
/// decimal mark, header.
FoundFormat findFormat(std::string_view text, Encoding encoding, const TextOptions& options);

/// What is left of `text` below some lines; Error noRows when there are fewer.
std::string_view belowLines(std::string_view text, std::size_t lines, const std::string& name);

/// What one cell holds, as far as finding a header goes.
struct HeadCell {
    enum class Kind { empty, text, number, date } kind = Kind::empty;
    /// A whole number from 1500 to 2199.
    bool year = false;
    double number = 0;
    std::string text{};
};

/// A number below the header may have a unit.
HeadCell headCell(std::string_view text, char decimalMark, const MissingMarks& missing, bool below = false);

struct HeaderVerdict {
    bool header = true;
    bool sure = true;
};

/// Whether the first row names the columns: names stand over values of other kinds. Each column votes: a text
/// or a date over numbers, a text over dates and a year over numbers that are none speak for a header; a
/// number over numbers, a date over dates and a text that comes again below against one. Years that count up
/// by one are names in any case. Without a vote a row of texts is a header unless most of them come again
/// below.
HeaderVerdict judgeHeader(const std::vector<HeadCell>& first,
                          const std::vector<std::vector<HeadCell>>& below);

/// How the lines of a table go beyond their header.
struct WiderLines {
    /// Columns that the header does not name.
    std::size_t added = 0;
    /// The first cell of each line is its name.
    bool rowNames = false;
    /// Lines end with a delimiter behind the last cell.
    bool emptyEnd = false;
};
/// From the numbers of cells in the first lines, and how many of those with one more end with an empty cell.
/// Single wider lines are left to be faults: added are columns that a twentieth of the lines, and two, have.
WiderLines widerLines(std::size_t header, const std::vector<std::size_t>& widths, std::size_t emptyEnds);

/// Whether a row under the header holds units: no number or date, short texts over columns of numbers.
bool isUnitRow(const std::vector<HeadCell>& row, const std::vector<std::vector<HeadCell>>& below);

/// What stands beside the numbers of one column.
class UnitTally {
public:
    void add(const std::string& unit) { ++m_counts[unit]; }
    /// The commonest, and how many cells have it; "" without any.
    std::pair<std::string, std::size_t> best() const;
    std::size_t all() const;
    /// "kg in 60 cells, lb in 40".
    std::string said() const;

private:
    std::map<std::string, std::size_t> m_counts;
};

/// Whether the numbers of a column are to be kept as texts: how many of its cells are written as codes and
/// how many are whole numbers, of those present.
bool areCodes(std::size_t asCodes, std::size_t wholes, std::size_t present);

/// Trimmed, never empty, never twice; says in `notes` what was changed.
std::vector<std::string> columnNames(const std::vector<std::string>& cells, bool header,
                                     std::vector<std::string>& notes);

} // namespace oxgoad
