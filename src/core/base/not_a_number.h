#pragma once
// What stands for a number that is not known.
#include <limits>

namespace oxgoad {

inline constexpr double nan = std::numeric_limits<double>::quiet_NaN();

} // namespace oxgoad
