#include "table/values.h"

#include "base/text.h"

#include <array>
#include <charconv>
#include <cmath>
#include <string>

namespace oxgoad {

namespace {

constexpr std::array<double, 23> tenTo{1e0,  1e1,  1e2,  1e3,  1e4,  1e5,  1e6,  1e7,  1e8,  1e9,  1e10, 1e11,
                                       1e12, 1e13, 1e14, 1e15, 1e16, 1e17, 1e18, 1e19, 1e20, 1e21, 1e22};

bool isDigit(char c) {
    return c >= '0' && c <= '9';
}

/// The general case, and the judge of the form.
std::optional<double> parseSlowly(std::string_view text, char decimalMark) {
    std::string plain(text);
    bool digits = false;
    for (char& c : plain) {
        if (c == decimalMark)
            c = '.';
        else if (c == '.')
            return std::nullopt;
        if (isDigit(c))
            digits = true;
        else if (c != '.' && c != '+' && c != '-' && c != 'e' && c != 'E')
            return std::nullopt;
    }
    if (!digits) return std::nullopt;
    const char* begin = plain.data();
    if (*begin == '+') ++begin;
    if (begin != plain.data() && (*begin == '-' || *begin == '+')) return std::nullopt;
    double value = 0;
    const auto [end, failure] = std::from_chars(begin, plain.data() + plain.size(), value);
    if (end != plain.data() + plain.size()) return std::nullopt;
    if (failure == std::errc::result_out_of_range) {
        // Too small to tell from 0 reads as 0; too large is refused.
        const auto exponent = plain.find_first_of("eE");
        if (exponent != std::string::npos && exponent + 1 < plain.size() && plain[exponent + 1] == '-')
            return 0.0;
        return std::nullopt;
    }
    if (failure != std::errc{} || !std::isfinite(value)) return std::nullopt;
    return value;
}

} // namespace

std::optional<double> parseNumber(std::string_view text, char decimalMark) {
    text = trimmed(text);
    if (text.empty()) return std::nullopt;
    // Up to 19 digits with an exact power of ten: one correctly rounded operation on exact operands
    // (Clinger 1990, "How to read floating point numbers accurately", the fast path).
    std::size_t i = text[0] == '-' || text[0] == '+' ? 1 : 0;
    std::uint64_t mantissa = 0;
    int digits = 0;
    int decimals = 0;
    bool point = false;
    for (; i < text.size(); ++i) {
        const char c = text[i];
        if (isDigit(c)) {
            mantissa = mantissa * 10 + static_cast<std::uint64_t>(c - '0');
            ++digits;
            decimals += point;
        } else if (c == decimalMark && !point) {
            point = true;
        } else {
            break;
        }
        if (digits > 18) break;
    }
    if (i < text.size() || digits == 0 || decimals > 22 || mantissa > (1ULL << 53))
        return parseSlowly(text, decimalMark);
    const double size = static_cast<double>(mantissa) / tenTo[static_cast<std::size_t>(decimals)];
    return text[0] == '-' ? -size : size;
}

std::optional<std::int32_t> parseDate(std::string_view text) {
    if (text.size() == 10 && text[4] == '-' && text[7] == '-') { // 2025-03-01, by far the commonest
        const std::array<std::size_t, 8> places{0, 1, 2, 3, 5, 6, 8, 9};
        unsigned digits = 0;
        bool plain = true;
        for (const auto place : places) {
            plain &= isDigit(text[place]);
            digits = digits * 10 + static_cast<unsigned>(text[place] - '0');
        }
        if (plain) return daysFromCivil(static_cast<int>(digits / 10000), digits / 100 % 100, digits % 100);
    }
    text = trimmed(text);
    std::array<unsigned, 3> part{};
    std::array<std::size_t, 3> width{};
    std::size_t parts = 0;
    char mark = 0;
    for (std::size_t i = 0; i < text.size() && parts < 3;) {
        const std::size_t begin = i;
        while (i < text.size() && isDigit(text[i]) && i - begin < 4)
            part[parts] = part[parts] * 10 + static_cast<unsigned>(text[i++] - '0');
        width[parts] = i - begin;
        if (width[parts] == 0) return std::nullopt;
        ++parts;
        if (i == text.size()) break;
        if (parts == 3 || (text[i] != '-' && text[i] != '/' && text[i] != '.') || (mark && text[i] != mark))
            return std::nullopt;
        mark = text[i++];
        if (i == text.size()) return std::nullopt;
    }
    if (parts == 3 && width[0] == 4 && width[1] <= 2 && width[2] <= 2 && mark != '.')
        return daysFromCivil(static_cast<int>(part[0]), part[1], part[2]);
    if (parts == 3 && width[2] == 4 && width[0] <= 2 && width[1] <= 2 && mark == '.')
        return daysFromCivil(static_cast<int>(part[2]), part[1], part[0]);
    if (parts == 2 && width[0] == 4 && width[1] == 2 && mark == '-')
        return daysFromCivil(static_cast<int>(part[0]), part[1], 1);
    return std::nullopt;
}

} // namespace oxgoad
