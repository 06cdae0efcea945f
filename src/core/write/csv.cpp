#include "write/csv.h"

#include "base/text.h"
#include "table/values.h"

namespace oxgoad {

void CsvWriter::separate() {
    if (m_started) m_out += ',';
    m_started = true;
}

CsvWriter& CsvWriter::text(std::string_view value) {
    separate();
    const bool live = !value.empty() &&
                      std::string_view("=+-@\t\r\n").find(value.front()) != std::string_view::npos &&
                      !parseNumber(value, '.');
    // Also at what other programs part cells by: they would see a formula after it.
    const bool quoted = value.find_first_of(",;\t\"\r\n") != std::string_view::npos ||
                        (!value.empty() && (value.front() == ' ' || value.back() == ' '));
    if (quoted) m_out += '"';
    if (live) m_out += '\'';
    const bool utf8 = isUtf8(value);
    for (const char c : value) {
        // What would steer a terminal, or is no text at all, is shown as such (U+FFFD).
        const auto u = static_cast<unsigned char>(c);
        if ((u < 0x20 && c != '\t' && c != '\n' && c != '\r') || u == 0x7F || (!utf8 && u >= 0x80)) {
            m_out += "\uFFFD";
            continue;
        }
        if (c == '"') m_out += '"';
        m_out += c;
    }
    if (quoted) m_out += '"';
    return *this;
}

CsvWriter& CsvWriter::number(double value) {
    separate();
    m_out += exactText(value);
    return *this;
}

CsvWriter& CsvWriter::count(std::size_t value) {
    separate();
    m_out += std::to_string(value);
    return *this;
}

void CsvWriter::endRow() {
    m_out += '\n';
    m_started = false;
}

} // namespace oxgoad
