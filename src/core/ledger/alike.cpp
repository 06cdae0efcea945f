#include "ledger/ledger.h"

#include <cstdlib>
#include <string_view>
#include <utf8proc.h>

namespace oxgoad {

std::string foldedCase(const std::string& text) {
    utf8proc_uint8_t* out = nullptr;
    const auto size = utf8proc_map(reinterpret_cast<const utf8proc_uint8_t*>(text.data()),
                                   static_cast<utf8proc_ssize_t>(text.size()), &out,
                                   static_cast<utf8proc_option_t>(UTF8PROC_CASEFOLD | UTF8PROC_COMPOSE));
    if (size < 0) return text;
    std::string result(reinterpret_cast<const char*>(out), static_cast<std::size_t>(size));
    std::free(out);
    return result;
}

namespace {

bool isDigit(char c) {
    return c >= '0' && c <= '9';
}

/// A letter or a digit; bytes of other letters count as one.
bool isWord(char c) {
    return isDigit(c) || (c >= 'a' && c <= 'z') || static_cast<unsigned char>(c) >= 0x80;
}

} // namespace

std::string bareLevel(const std::string& level) {
    const std::string text = foldedCase(level);
    std::string plain;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        const char before = i > 0 ? text[i - 1] : ' ', after = i + 1 < text.size() ? text[i + 1] : ' ';
        const bool betweenDigits = isDigit(before) && isDigit(after);
        // A minus between words joins them; at an end, or before a digit, it is a sign.
        const bool sign = c == '-' && (i == 0 || i + 1 == text.size() || betweenDigits);
        const bool keep = isWord(c) || sign ||
                          std::string_view("+<>=#%*&@$!?~^|").find(c) != std::string_view::npos ||
                          (std::string_view(".,/:").find(c) != std::string_view::npos && betweenDigits);
        if (keep) plain += c;
    }
    return plain;
}

} // namespace oxgoad
