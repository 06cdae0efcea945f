#pragma once
// Comma-separated text out (RFC 4180), safe to open in a spreadsheet program.
#include <string>
#include <string_view>

namespace oxgoad {

/// Builds rows cell by cell. Numbers read back exactly, missing values are empty cells, text is quoted where
/// needed. Text that a spreadsheet program would run as a formula (it begins with = + - @, a tab or a line
/// end) gets an apostrophe in front, so that data never becomes live.
class CsvWriter {
public:
    CsvWriter& text(std::string_view value);
    CsvWriter& number(double value);
    CsvWriter& count(std::size_t value);
    void endRow();
    const std::string& bytes() const { return m_out; }

private:
    void separate();
    std::string m_out;
    bool m_started = false;
};

} // namespace oxgoad
