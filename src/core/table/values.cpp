#include "table/values.h"

#include "base/text.h"

#include <algorithm>
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
    if (parts == 3 && width[0] == 4 && width[1] <= 2 && width[2] <= 2)
        return daysFromCivil(static_cast<int>(part[0]), part[1], part[2]);
    if (parts == 3 && width[2] == 4 && width[0] <= 2 && width[1] <= 2 && mark == '.')
        return daysFromCivil(static_cast<int>(part[2]), part[1], part[0]);
    if (parts == 2 && width[0] == 4 && width[1] == 2 && mark == '-')
        return daysFromCivil(static_cast<int>(part[0]), part[1], 1);
    return std::nullopt;
}

namespace {

constexpr std::array<std::string_view, 5> spaces{" ", "\u00A0", "\u202F", "\u2009", "\u2007"};
constexpr std::array<std::string_view, 4> currencySigns{"€", "$", "£", "¥"};

bool isCapital(char c) {
    return c >= 'A' && c <= 'Z';
}

std::string_view withoutSpaces(std::string_view text) {
    for (bool again = true; again;) {
        again = false;
        for (const auto space : spaces) {
            if (text.starts_with(space)) {
                text.remove_prefix(space.size());
                again = true;
            }
            if (text.ends_with(space)) {
                text.remove_suffix(space.size());
                again = true;
            }
        }
    }
    return text;
}

/// Takes a currency off one end.
bool takeCurrency(std::string_view& text) {
    for (const auto sign : currencySigns) {
        if (text.starts_with(sign)) {
            text = withoutSpaces(text.substr(sign.size()));
            return true;
        }
        if (text.ends_with(sign)) {
            text = withoutSpaces(text.substr(0, text.size() - sign.size()));
            return true;
        }
    }
    if (text.size() <= 3) return false;
    const auto n = text.size();
    if (isCapital(text[0]) && isCapital(text[1]) && isCapital(text[2]) && !isCapital(text[3])) {
        text = withoutSpaces(text.substr(3));
        return true;
    }
    if (isCapital(text[n - 1]) && isCapital(text[n - 2]) && isCapital(text[n - 3]) &&
        !isCapital(text[n - 4])) {
        text = withoutSpaces(text.substr(0, n - 3));
        return true;
    }
    return false;
}

/// The thousands mark that stands at a place; its length, or 0.
std::size_t markAt(std::string_view text, const NumberDress& dress, char& which) {
    for (const char mark : dress.thousandsMarks) {
        if (mark == dress.decimalMark) continue;
        if (mark == ' ') {
            for (const auto space : spaces)
                if (text.starts_with(space)) {
                    which = ' ';
                    return space.size();
                }
        } else if (text[0] == mark) {
            which = mark;
            return 1;
        } else if (mark == '\'' && text.starts_with("’")) {
            which = mark;
            return std::string_view("’").size();
        }
    }
    return 0;
}

/// Drops thousands marks; false when they do not part groups of three.
bool dropThousands(std::string_view text, const NumberDress& dress, std::string& plain, bool& thousands) {
    char used = 0;
    std::size_t group = 0;
    bool first = true;
    bool whole = true;
    for (std::size_t i = 0; i < text.size();) {
        const char c = text[i];
        char which = 0;
        if (isDigit(c)) {
            plain += c;
            ++group;
            ++i;
        } else if (whole && c == dress.decimalMark) {
            if (thousands && group != 3) return false;
            whole = false;
            plain += c;
            ++i;
        } else if (const std::size_t length = whole ? markAt(text.substr(i), dress, which) : 0; length > 0) {
            if ((used && which != used) || (first ? group == 0 || group > 3 : group != 3)) return false;
            used = which;
            thousands = true;
            first = false;
            group = 0;
            i += length;
        } else {
            return false;
        }
    }
    return !(thousands && whole && group != 3);
}

} // namespace

std::optional<DressedNumber> parseDressedNumber(std::string_view text, const NumberDress& dress) {
    text = withoutSpaces(trimmed(text));
    if (text.empty() || text.size() > 64) return std::nullopt;
    if (const auto value = parseNumber(text, dress.decimalMark)) return DressedNumber{*value};
    DressedNumber result;
    bool negative = false;
    auto takeSign = [&] {
        for (const std::string_view sign : {"-", "−", "–"})
            if (text.starts_with(sign)) {
                if (negative) return false;
                negative = true;
                text = withoutSpaces(text.substr(sign.size()));
                return true;
            }
        if (text.starts_with('+')) text.remove_prefix(1);
        return true;
    };
    if (text.size() > 2 && text.front() == '(' && text.back() == ')') {
        negative = true;
        text = withoutSpaces(text.substr(1, text.size() - 2));
    } else if (!takeSign()) {
        return std::nullopt;
    }
    if (dress.currency && takeCurrency(text)) {
        result.currency = true;
        if (!negative && !takeSign()) return std::nullopt;
    }
    if (!text.empty() && text.back() == '%') {
        if (dress.percent == NumberDress::Percent::refused || result.currency) return std::nullopt;
        result.percent = true;
        text = withoutSpaces(text.substr(0, text.size() - 1));
    }
    if (text.empty() || !(isDigit(text[0]) || text[0] == dress.decimalMark)) return std::nullopt;
    std::string plain;
    if (!dropThousands(text, dress, plain, result.thousands)) return std::nullopt;
    const auto value = parseNumber(plain, dress.decimalMark);
    if (!value) return std::nullopt;
    result.value = negative ? -*value : *value;
    if (result.percent && dress.percent == NumberDress::Percent::share) result.value /= 100;
    return result;
}

bool isDigits(std::string_view text) {
    return !text.empty() && std::all_of(text.begin(), text.end(), isDigit);
}

bool writtenAsCode(std::string_view text) {
    text = trimmed(text);
    if (text.size() < 2 || !isDigits(text)) return false;
    if (text[0] == '0') return true;
    return text.size() > 16 || (text.size() == 16 && text > "9007199254740992");
}

std::string_view dateOrderName(DateOrder order) {
    switch (order) {
    case DateOrder::yearFirst:
        return "year first";
    case DateOrder::dayFirst:
        return "day first";
    case DateOrder::monthFirst:
        return "month first";
    }
    return "year first";
}

namespace {

constexpr std::array<std::string_view, 12> months{"january",   "february", "march",    "april",
                                                  "may",       "june",     "july",     "august",
                                                  "september", "october",  "november", "december"};

/// 1..12 for the English name of a month or its first three letters; 0 otherwise.
unsigned monthNamed(std::string_view text) {
    std::string name;
    for (const char c : text)
        name += c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    for (unsigned m = 0; m < months.size(); ++m)
        if (name == months[m] || (name.size() == 3 && months[m].starts_with(name)) ||
            (m == 8 && name == "sept"))
            return m + 1;
    return 0;
}

/// Takes a time of day off the end: "2025-03-01T12:30:00Z", "2025-03-01 12:30". False when what follows is
/// none.
bool dropTime(std::string_view& text) {
    const auto colon = text.find(':');
    if (colon == std::string_view::npos) return true;
    const auto begin = text.find_last_of(" Tt", colon);
    if (begin == std::string_view::npos || begin == 0 || colon - begin > 3 || colon - begin < 2) return false;
    for (std::size_t i = begin + 1; i < text.size(); ++i)
        if (!isDigit(text[i]) && std::string_view(":.+-Zz APMapm").find(text[i]) == std::string_view::npos)
            return false;
    text = trimmed(text.substr(0, begin));
    return true;
}

} // namespace

std::optional<std::int32_t> parseDate(std::string_view text, DateOrder order) {
    if (const auto day = parseDate(text)) return day;
    text = trimmed(text);
    if (text.size() > 40 || !dropTime(text)) return std::nullopt;
    if (const auto day = parseDate(text)) return day;
    struct Piece {
        unsigned value;
        std::size_t width;
        bool name;
    };
    std::array<Piece, 3> pieces{};
    std::size_t count = 0;
    for (std::size_t i = 0; i < text.size();) {
        const char c = text[i];
        if (c == ' ' || c == '/' || c == '-' || c == '.' || c == ',') {
            ++i;
            continue;
        }
        if (count == 3) return std::nullopt;
        const std::size_t begin = i;
        if (isDigit(c)) {
            unsigned value = 0;
            while (i < text.size() && isDigit(text[i]) && i - begin < 5)
                value = value * 10 + static_cast<unsigned>(text[i++] - '0');
            pieces[count++] = {value, i - begin, false};
        } else {
            while (i < text.size() &&
                   ((text[i] >= 'a' && text[i] <= 'z') || (text[i] >= 'A' && text[i] <= 'Z')))
                ++i;
            const unsigned month = i > begin ? monthNamed(text.substr(begin, i - begin)) : 0;
            if (month == 0) return std::nullopt;
            pieces[count++] = {month, 0, true};
        }
    }
    auto isYear = [](const Piece& p) { return !p.name && p.width == 4; };
    auto isSmall = [](const Piece& p) { return !p.name && p.width <= 2; };
    if (count == 2 && pieces[0].name && isYear(pieces[1]))
        return daysFromCivil(static_cast<int>(pieces[1].value), pieces[0].value, 1);
    if (count != 3 || !isYear(pieces[2])) return std::nullopt;
    const int year = static_cast<int>(pieces[2].value);
    if (isSmall(pieces[0]) && pieces[1].name) return daysFromCivil(year, pieces[1].value, pieces[0].value);
    if (pieces[0].name && isSmall(pieces[1])) return daysFromCivil(year, pieces[0].value, pieces[1].value);
    if (!isSmall(pieces[0]) || !isSmall(pieces[1]) || order == DateOrder::yearFirst) return std::nullopt;
    return order == DateOrder::dayFirst ? daysFromCivil(year, pieces[1].value, pieces[0].value)
                                        : daysFromCivil(year, pieces[0].value, pieces[1].value);
}

} // namespace oxgoad
