#pragma once
// Text of numbers and dates, independent of the locale.
#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// The shortest text that reads back to exactly the same double, without a power of ten from 1 to 10¹⁵; ""
/// for a missing value (NaN).
std::string exactText(double value);

/// The same with thousands grouped by a comma and a minus sign of U+2212: for people.
std::string groupedText(double value);

/// `value` with `digits` significant digits and a minus sign of U+2212, thousands grouped by a comma
/// when it is written without an exponent: for people, not for files.
std::string readableText(double value, int digits = 4);

/// The same with six digits at most and none that says nothing: 72.1, 0.17, 1,440.
std::string shortText(double value);

/// A whole number with thousands grouped: 1,440.
std::string countText(std::size_t count);

/// A share as per cent without needless digits: 0.95 is "95 %".
std::string percentText(double share);

/// A p value: two digits, "< 1e-99" below that.
std::string probabilityText(double p);

/// "Did you mean \"rate\"?" of the known name nearest to a mistyped one, by the number of letters to change
/// (Levenshtein 1966; capitals count for nothing); empty when none is near.
std::string didYouMean(std::string_view name, const std::vector<std::string>& known);

/// "1 row", "2 rows".
std::string plural(std::size_t count, std::string_view one, std::string_view many);

/// Days since 1970-01-01 of a calendar date; empty when there is no such day.
/// Source: Howard Hinnant, "chrono-compatible low-level date algorithms" (civil calendar).
std::optional<std::int32_t> daysFromCivil(int year, unsigned month, unsigned day);

/// ISO 8601 text of a day: 2025-03-01.
std::string dateText(std::int32_t days);

std::string_view trimmed(std::string_view text);

/// Text without what would steer a terminal or is no character: a dot in its place. Ends of lines stay where
/// they are `lines` of our own.
std::string harmless(std::string_view text, bool lines = false);

/// True when `text` is well-formed UTF-8 (RFC 3629: no overlong forms, no surrogates).
bool isUtf8(std::string_view text);

} // namespace oxgoad
