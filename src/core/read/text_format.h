#pragma once
// Finding out how a text file is written: encoding, delimiter, header, decimal mark, kinds of columns.
#include "read/text_reader.h"

#include <array>
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
/// passed. Quotes count only at the start of a cell; a doubled quote inside is one quote.
struct RowScanner {
    std::string_view text;
    char delimiter;
    char quote;
    char newline;
    std::size_t position = 0;
    std::size_t lines = 0;
    bool openQuote = false;

    bool atEnd() const { return position >= text.size(); }
    void next(std::vector<std::string>& cells);
};

/// '\n', or '\r' in files that have no '\n'.
char newlineOf(std::string_view text);

/// Fills in what `options` leaves open by looking at the first rows.
TextFormat findFormat(std::string_view text, Encoding encoding, const TextOptions& options);

/// Trimmed, never empty, never twice; says in `notes` what was changed.
std::vector<std::string> columnNames(const std::vector<std::string>& cells, bool header,
                                     std::vector<std::string>& notes);

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

} // namespace oxgoad
