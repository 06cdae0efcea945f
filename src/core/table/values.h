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
    /// Whether a unit may stand beside the number: none, any, or the one that `unit` says.
    enum class Units { none, any, one } units = Units::none;
    std::string unit{};
    bool operator==(const NumberDress&) const = default;
};

struct DressedNumber {
    double value = 0;
    bool thousands = false;
    bool currency = false;
    bool percent = false;
    /// What stood beside it: "kg", "EUR"; sizeMarks for k, M, B and bn, which are in the value.
    std::string unit{};
};

/// What DressedNumber::unit says of "3.4M" and "850k".
inline constexpr std::string_view sizeMarks = "k, M, B";

/// The number a cell written for people says: "€ 1,234.50", "(1,200)", "120.50-", "5 %", "−3"; with units
/// also "1 234,5 EUR", "9,120 mi", "3.4M". Thousands marks must part groups of three; currencies are the
/// signs € $ £ ¥; brackets and a minus behind mean below zero. Units are codes of ISO 4217 before the number
/// or set apart behind it, and up to twelve letters and signs behind it; none stands beside digits with zeros
/// in front, which are codes. Empty when it is anything else. A plain number is one too.
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
/// Mar 2025, March 1, 2025) in any order; years of two digits (1/15/22, 01-Jan-22, Jan-22, 15.01.22), of
/// which 69 to 99 are of the last century (as POSIX has it); quarters (2022Q1, 2022-Q1, Q1 2022) and weeks
/// (2022-W07, ISO 8601), which are their first days. A time of day after the date is read and dropped.
std::optional<std::int32_t> parseDate(std::string_view text, DateOrder order);

/// Days since 1970-01-01 with the time of day as their fraction, from a date and a time:
/// 2025-03-01T12:30:00Z, 3/1/2025 2:30 PM. Zones are passed over: a column is taken to keep one. Empty when
/// there is no time.
std::optional<double> parseMoment(std::string_view text, DateOrder order);
/// "2025-03-01 12:30", with seconds and their fraction where there are some.
std::string momentText(double days);

/// The day of eight digits, 20220131, from 1900 to 2099.
std::optional<std::int32_t> parseCompactDate(std::string_view text);
/// The day that workbooks write as a number: 1 is 1900-01-01, and from 61 on days follow each other (ECMA-376
/// part 1, §18.17.4.1). From 1954 to 2119 only, so that numbers of other things are rarely one.
std::optional<std::int32_t> parseSerialDate(std::string_view text);
/// Whether a column's name says that it holds dates: "date", "Order day", "Datum".
bool namesDate(std::string_view name);

} // namespace oxgoad
