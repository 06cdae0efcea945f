#pragma once
// What the judgements of columns and of tables share.
#include <cstddef>
#include <string_view>

namespace oxgoad {

inline constexpr std::string_view practice = "common practice, no source";
/// Fewer rows than these say nothing about what is usual.
inline constexpr std::size_t fewRows = 20;

} // namespace oxgoad
