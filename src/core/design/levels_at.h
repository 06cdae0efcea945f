#pragma once
// Levels of a factor as places.
#include "design/inputs.h"

#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// Which level of the input each of the rows has. Requires a factor with a value at all of them, of levels
/// that were learned.
std::vector<std::uint32_t> levelsAt(const BoundInputs& inputs, std::size_t input,
                                    std::span<const std::uint32_t> rows);

} // namespace oxgoad
