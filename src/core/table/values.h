#pragma once
// From the text of one cell to a number or a day.
#include <cstdint>
#include <optional>
#include <string_view>

namespace oxgoad {

/// The number a whole cell says: optional sign, digits, one decimal mark, optional exponent, nearest double.
/// Nothing else (no thousands marks, units, hexadecimal, "inf" or "nan"); a value beyond the range of double
/// is refused.
std::optional<double> parseNumber(std::string_view text, char decimalMark);

/// Days since 1970-01-01 from 2025-03-01, 2025/03/01, 2025-03 (its first day) or 01.03.2025; empty otherwise.
std::optional<std::int32_t> parseDate(std::string_view text);

} // namespace oxgoad
