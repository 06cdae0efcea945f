#pragma once
// Rows by what they have in common: levels, groups, bands of a number.
#include "table/column.h"

#include <cstddef>
#include <cstdint>
#include <vector>

namespace oxgoad {

/// A number for each row, 0 for a missing value: its level, its text, its value (`bands` is 0), or its band
/// among `bands` of about as many rows each. `count` is one more than the largest there can be.
std::vector<std::uint32_t> stratumOf(const Column& column, int bands, std::size_t& count);

} // namespace oxgoad
