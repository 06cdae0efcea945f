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

/// Takes a sign of a currency off one end.
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
    return false;
}

/// Alphabetic codes of the funds and currencies in use (ISO 4217:2015, list one; from memory).
constexpr std::string_view currencyCodes =
    " AED AFN ALL AMD ANG AOA ARS AUD AWG AZN BAM BBD BDT BGN BHD BIF BMD BND BOB BRL BSD BTN BWP BYN BZD "
    "CAD "
    "CDF CHF CLF CLP CNY COP CRC CUP CVE CZK DJF DKK DOP DZD EGP ERN ETB EUR FJD FKP GBP GEL GHS GIP GMD GNF "
    "GTQ GYD HKD HNL HRK HTG HUF IDR ILS INR IQD IRR ISK JMD JOD JPY KES KGS KHR KMF KPW KRW KWD KYD KZT LAK "
    "LBP LKR LRD LSL LYD MAD MDL MGA MKD MMK MNT MOP MRU MUR MVR MWK MXN MYR MZN NAD NGN NIO NOK NPR NZD OMR "
    "PAB PEN PGK PHP PKR PLN PYG QAR RON RSD RUB RWF SAR SBD SCR SDG SEK SGD SHP SLE SLL SOS SRD SSP STN SVC "
    "SYP SZL THB TJS TMT TND TOP TRY TTD TWD TZS UAH UGX USD UYU UZS VED VES VND VUV WST XAF XCD XOF XPF YER "
    "ZAR ZMW ZWL ";

bool isCurrencyCode(std::string_view text) {
    return text.size() == 3 && std::all_of(text.begin(), text.end(), isCapital) &&
           currencyCodes.find(" " + std::string(text) + " ") != std::string_view::npos;
}

struct SizeMark {
    std::string_view mark;
    std::string_view exponent;
};
constexpr std::array<SizeMark, 8> sizes{SizeMark{"k", "e3"}, {"K", "e3"},       {"M", "e6"},
                                        {"B", "e9"},         {"bn", "e9"},      {" bn", "e9"},
                                        {" million", "e6"},  {" billion", "e9"}};

/// Characters of units: letters, signs such as ° % / ² µ, and points and blanks between them.
bool isUnitText(std::string_view text) {
    constexpr std::size_t longest = 12;
    if (text.empty() || text.size() > longest) return false;
    bool letter = false;
    for (const char c : text) {
        const auto u = static_cast<unsigned char>(c);
        if ((c >= 'a' && c <= 'z') || isCapital(c) || u >= 0x80)
            letter = true;
        else if (c != '/' && c != '.' && c != ' ' && c != '^' && c != '"')
            return false;
    }
    return letter;
}

/// Takes a unit off one end, as far as the dress lets it; the power of ten of a mark of size goes into
/// `exponent`. False when there is none.
bool takeUnit(std::string_view& text, const NumberDress& dress, std::string& unit, std::string& exponent) {
    if (dress.units == NumberDress::Units::none) return false;
    const auto wanted = [&](std::string_view found) {
        return dress.units == NumberDress::Units::any || found == dress.unit;
    };
    const auto isStart = [&](std::string_view rest) {
        return !rest.empty() && (isDigit(rest[0]) || rest[0] == dress.decimalMark || rest[0] == '-' ||
                                 rest.starts_with("−") || rest[0] == '(');
    };
    if (text.size() > 3 && isCurrencyCode(text.substr(0, 3)) && wanted(text.substr(0, 3))) {
        const std::string_view rest = withoutSpaces(text.substr(3));
        // A minus that follows the code at once is a stroke: ALL-0012.
        if (!isStart(rest) || (rest.size() + 3 == text.size() && !isDigit(rest[0]))) return false;
        unit = text.substr(0, 3);
        text = rest;
        return true;
    }
    std::size_t end = text.size();
    while (end > 0 && !isDigit(text[end - 1]) && text[end - 1] != ')')
        --end;
    if (end == 0 || end == text.size()) return false;
    const std::string_view behind = text.substr(end);
    for (const SizeMark& size : sizes)
        if (behind == size.mark && wanted(sizeMarks)) {
            unit = sizeMarks;
            exponent = size.exponent;
            text = text.substr(0, end);
            return true;
        }
    const std::string_view name = withoutSpaces(behind);
    if (!isUnitText(name) || !wanted(name) ||
        std::find(currencySigns.begin(), currencySigns.end(), name) != currencySigns.end())
        return false;
    const bool apart = name.size() < behind.size();
    if (!apart && isCurrencyCode(name)) return false;
    unit = name;
    text = text.substr(0, end);
    return true;
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
    std::string exponent;
    if (takeUnit(text, dress, result.unit, exponent)) {
        const auto digits = text.find_first_of("0123456789");
        if (digits + 1 < text.size() && text[digits] == '0' && isDigit(text[digits + 1])) return std::nullopt;
    }
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
    } else if (text.size() > 1 && text.back() == '-' && isDigit(text[text.size() - 2])) {
        negative = true; // as ledgers print it
        text.remove_suffix(1);
        if (text.front() == '-' || text.front() == '+') return std::nullopt;
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
    // 4.1 % is the double nearest to 0.041, which 4.1 / 100 is not.
    if (result.percent && dress.percent == NumberDress::Percent::share) exponent = "e-2";
    const auto value = parseNumber(plain + exponent, dress.decimalMark);
    if (!value) return std::nullopt;
    result.value = negative ? -*value : *value;
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

/// Takes a time of day off the end: "2025-03-01T12:30:00Z", "2025-03-01 12:30", "3/1/2025 2:30 PM". False
/// when what follows is none. `time` is its text, empty without.
bool dropTime(std::string_view& text, std::string_view& time) {
    time = {};
    const auto colon = text.find(':');
    if (colon == std::string_view::npos) return true;
    const auto begin = text.find_last_of(" Tt", colon);
    if (begin == std::string_view::npos || begin == 0 || colon - begin > 3 || colon - begin < 2) return false;
    for (std::size_t i = begin + 1; i < text.size(); ++i)
        if (!isDigit(text[i]) && std::string_view(":.,+-Zz APMapm").find(text[i]) == std::string_view::npos)
            return false;
    time = text.substr(begin + 1);
    text = trimmed(text.substr(0, begin));
    return true;
}

/// Share of the day of "12:30", "12:30:05.25", "2:30 PM"; none when it is no time.
std::optional<double> timeOfDay(std::string_view text) {
    std::array<double, 3> part{};
    std::size_t parts = 0, i = 0;
    while (parts < 3) {
        const std::size_t begin = i;
        while (i < text.size() && isDigit(text[i]))
            part[parts] = 10 * part[parts] + (text[i++] - '0');
        if (i == begin || i - begin > 2) return std::nullopt;
        ++parts;
        if (i >= text.size() || text[i] != ':') break;
        ++i;
    }
    if (parts < 2 || part[0] > 24 || part[1] > 59 || part[2] > 60) return std::nullopt;
    if (parts == 3 && i < text.size() && (text[i] == '.' || text[i] == ',')) {
        double place = 0.1;
        for (++i; i < text.size() && isDigit(text[i]); ++i, place /= 10)
            part[2] += place * (text[i] - '0');
    }
    while (i < text.size() && text[i] == ' ')
        ++i;
    const char half = i < text.size() ? text[i] : '\0';
    if (half == 'P' || half == 'p' || half == 'A' || half == 'a') {
        if (part[0] < 1 || part[0] > 12) return std::nullopt;
        part[0] = std::fmod(part[0], 12) + (half == 'P' || half == 'p' ? 12 : 0);
    }
    return (part[0] * 3600 + part[1] * 60 + part[2]) / 86400;
}

/// Days of quarters and weeks: "2022Q1", "2022-Q1", "Q1 2022", "2022-W07", "2022W07".
std::optional<std::int32_t> parsePeriod(std::string_view text) {
    std::string plain;
    for (const char c : text)
        if (c != ' ' && c != '-' && c != '/') plain += c >= 'a' && c <= 'z' ? static_cast<char>(c - 32) : c;
    if (plain.size() == 6 && plain[0] == 'Q') plain = plain.substr(2) + plain.substr(0, 2); // Q1 2022
    const bool quarter = plain.size() == 6 && plain[4] == 'Q', week = plain.size() == 7 && plain[4] == 'W';
    if (!quarter && !week) return std::nullopt;
    if (!isDigits(plain.substr(0, 4)) || !isDigits(plain.substr(5))) return std::nullopt;
    const int year = std::stoi(plain.substr(0, 4));
    const auto number = static_cast<unsigned>(std::stoi(plain.substr(5)));
    if (year < 1500 || year >= 2200) return std::nullopt;
    if (quarter) return number >= 1 && number <= 4 ? daysFromCivil(year, 3 * number - 2, 1) : std::nullopt;
    // The week of January 4 is the first (ISO 8601); 1970-01-01 was a Thursday.
    const auto fourth = daysFromCivil(year, 1, 4), last = daysFromCivil(year, 12, 28);
    const auto mondayOf = [](std::int32_t day) { return day - ((day + 3) % 7 + 7) % 7; };
    const std::int32_t monday = mondayOf(*fourth) + 7 * (static_cast<std::int32_t>(number) - 1);
    return number >= 1 && monday <= *last ? std::optional(monday) : std::nullopt;
}

constexpr int centuryOf(unsigned twoDigits) {
    return static_cast<int>(twoDigits) + (twoDigits < 69 ? 2000 : 1900);
}

} // namespace

std::optional<std::int32_t> parseDate(std::string_view text, DateOrder order) {
    if (const auto day = parseDate(text)) return day;
    text = trimmed(text);
    std::string_view time;
    if (text.size() > 40 || !dropTime(text, time)) return std::nullopt;
    if (const auto day = parseDate(text)) return day;
    if (const auto day = parsePeriod(text)) return day;
    struct Piece {
        unsigned value;
        std::size_t width;
        bool name;
    };
    std::array<Piece, 3> pieces{};
    std::size_t count = 0;
    bool slashes = false;
    for (std::size_t i = 0; i < text.size();) {
        const char c = text[i];
        if (c == ' ' || c == '/' || c == '-' || c == '.' || c == ',') {
            slashes |= c == '/';
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
    auto isYear = [](const Piece& p) { return !p.name && (p.width == 4 || p.width == 2); };
    auto yearOf = [](const Piece& p) {
        return p.width == 4 ? static_cast<int>(p.value) : centuryOf(p.value);
    };
    auto isSmall = [](const Piece& p) { return !p.name && p.width <= 2; };
    if (count == 2 && pieces[0].name && isYear(pieces[1]))
        return daysFromCivil(yearOf(pieces[1]), pieces[0].value, 1);
    if (count != 3 || !isYear(pieces[2])) return std::nullopt;
    const int year = yearOf(pieces[2]);
    if (isSmall(pieces[0]) && pieces[1].name) return daysFromCivil(year, pieces[1].value, pieces[0].value);
    if (pieces[0].name && isSmall(pieces[1])) return daysFromCivil(year, pieces[0].value, pieces[1].value);
    if (!isSmall(pieces[0]) || !isSmall(pieces[1]) || order == DateOrder::yearFirst) return std::nullopt;
    // 1.2.10 and 1-2-10 number versions and parts more often than days.
    if (pieces[2].width == 2 && !slashes && (pieces[0].width != 2 || pieces[1].width != 2))
        return std::nullopt;
    return order == DateOrder::dayFirst ? daysFromCivil(year, pieces[1].value, pieces[0].value)
                                        : daysFromCivil(year, pieces[0].value, pieces[1].value);
}

std::optional<double> parseMoment(std::string_view text, DateOrder order) {
    text = trimmed(text);
    std::string_view time;
    if (text.size() > 40 || !dropTime(text, time) || time.empty()) return std::nullopt;
    const auto day = parseDate(text, order);
    const auto share = timeOfDay(time);
    if (!day || !share) return std::nullopt;
    return *day + *share;
}

std::string momentText(double days) {
    const auto thousandths = static_cast<std::int64_t>(std::llround(days * 86400000));
    const std::int64_t day = (thousandths >= 0 ? thousandths : thousandths - 86399999) / 86400000;
    const auto rest = static_cast<int>(thousandths - day * 86400000);
    const auto two = [](int value) { return (value < 10 ? "0" : "") + std::to_string(value); };
    std::string text =
        dateText(static_cast<std::int32_t>(day)) + " " + two(rest / 3600000) + ":" + two(rest / 60000 % 60);
    if (rest % 60000 == 0) return text;
    text += ":" + two(rest / 1000 % 60);
    if (rest % 1000 != 0) text += "." + std::to_string(1000 + rest % 1000).substr(1);
    return text;
}

std::optional<std::int32_t> parseCompactDate(std::string_view text) {
    if (text.size() != 8 || !isDigits(text)) return std::nullopt;
    unsigned value = 0;
    for (const char c : text)
        value = 10 * value + static_cast<unsigned>(c - '0');
    if (value < 19000000 || value >= 21000000) return std::nullopt;
    return daysFromCivil(static_cast<int>(value / 10000), value / 100 % 100, value % 100);
}

std::optional<std::int32_t> parseSerialDate(std::string_view text) {
    const auto value = parseNumber(text, '.');
    constexpr double first = 20000, last = 80000, epoch = 25569; // of 1970-01-01
    if (!value || *value != std::floor(*value) || *value < first || *value > last) return std::nullopt;
    return static_cast<std::int32_t>(*value - epoch);
}

bool namesDate(std::string_view name) {
    constexpr std::array<std::string_view, 9> words{"date", "day",   "datum", "fecha", "tag",
                                                    "jour", "month", "monat", "period"};
    std::string word;
    const auto isOne = [&] { return std::find(words.begin(), words.end(), word) != words.end(); };
    for (std::size_t i = 0; i < name.size(); ++i) {
        const char c = name[i];
        const bool capital = isCapital(c);
        if ((c >= 'a' && c <= 'z') || capital) {
            if (capital && i > 0 && name[i - 1] >= 'a' && name[i - 1] <= 'z') { // orderDate
                if (isOne()) return true;
                word.clear();
            }
            word += capital ? static_cast<char>(c - 'A' + 'a') : c;
        } else {
            if (isOne()) return true;
            word.clear();
        }
    }
    return isOne();
}

} // namespace oxgoad
