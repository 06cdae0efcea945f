#pragma once
// From the text of one cell to a number or a day.
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>

namespace oxgoad {

/// The number a whole cell says: optional sign, digits, one decimal mark, optional exponent, nearest double.
/// Nothing else (no thousands marks, units, hexadecimal, "inf" or "nan"); a value beyond the range of double
/// is refused.
std::optional<double> parseNumber(std::string_view text, char decimalMark);

/// How numbers are dressed for people.
struct NumberDress {
    char decimalMark = '.';
    /// "" for none; otherwise the characters that may part groups of three digits. A space means every kind
    /// of space.
    std::string thousandsMarks = ", '";
    bool currency = true;
    /// A percent sign: share makes 5 % 0.05, number makes it 5.
    enum class Percent { share, number, refused } percent = Percent::share;
    bool operator==(const NumberDress&) const = default;
};

struct DressedNumber {
    double value = 0;
    bool thousands = false;
    bool currency = false;
    bool percent = false;
};

/// The number a cell written for people says: "€ 1,234.50", "1 234,5 EUR", "(1,200)", "5 %", "−3". Thousands
/// marks must part groups of three; currencies are the signs € $ £ ¥ and three capital letters; brackets mean
/// below zero. Empty when it is anything else. A plain number is one too.
std::optional<DressedNumber> parseDressedNumber(std::string_view text, const NumberDress& dress);

/// Whether numbers that are all whole, between these two, are years: their thousands are not grouped.
constexpr bool areYears(double smallest, double largest) {
    return smallest >= 1500 && largest < 2200;
}

/// True when the text is digits and nothing else (and not empty).
bool isDigits(std::string_view text);

/// A whole number whose digits say more than its value: zeros in front (00123), or more digits than a double
/// keeps (above 2^53). Such cells are codes more often than quantities.
bool writtenAsCode(std::string_view text);

enum class DateOrder { yearFirst, dayFirst, monthFirst };
/// "year first", "day first", "month first".
std::string_view dateOrderName(DateOrder order);

/// Days since 1970-01-01 from 2025-03-01, 2025/03/01, 2025.03.01, 2025-03 (its first day) or 01.03.2025;
/// empty otherwise.
std::optional<std::int32_t> parseDate(std::string_view text);

/// The same, and by the order also 1/3/2025, 1-3-2025 and 3/1/2025; names of months in English (1 Mar 2025,
/// Mar 2025, March 1, 2025) in any order; a time of day after the date is read and dropped.
std::optional<std::int32_t> parseDate(std::string_view text, DateOrder order);

} // namespace oxgoad
