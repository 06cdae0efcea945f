#pragma once
// What the parts of both kinds of workbook are read with.
#include "base/error.h"
#include "base/text.h"
#include "read/sheet_sink.h"
#include "read/workbook.h"
#include "read/zip_xml.h"
#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

/// An element's name without its prefix.
inline std::string_view local(std::string_view name) {
    const auto colon = name.rfind(':');
    return colon == std::string_view::npos ? name : name.substr(colon + 1);
}

inline std::optional<double> numberOf(std::string_view text) {
    text = trimmed(text);
    double value = 0;
    const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (failure != std::errc{} || end != text.data() + text.size()) return std::nullopt;
    return value;
}

inline std::size_t countOf(std::string_view text, std::size_t otherwise, std::size_t most) {
    std::size_t value = 0;
    const auto [end, failure] = std::from_chars(text.data(), text.data() + text.size(), value);
    if (text.empty() || failure != std::errc{} || end != text.data() + text.size()) return otherwise;
    return std::min(value, most);
}

/// The place where an element's text is gathered, for handlers that want a few texts only.
class TextHandler : public XmlHandler {
public:
    void text(std::string_view text) override {
        if (m_gathering) m_text.append(text);
    }

protected:
    void gather() {
        m_text.clear();
        m_gathering = true;
    }
    std::string& gathered() {
        m_gathering = false;
        return m_text;
    }
    bool gathering() const { return m_gathering; }
    std::string m_text;
    bool m_gathering = false;
};

// Office Open XML
// ------------------------------------------------------------------------------------------------

} // namespace oxgoad
