#include "design/levels_at.h"

#include <algorithm>

namespace oxgoad {

std::vector<std::uint32_t> levelsAt(const BoundInputs& inputs, std::size_t input,
                                    std::span<const std::uint32_t> rows) {
    constexpr std::size_t most = 16384; // in the cache
    std::vector<std::uint32_t> levels(rows.size());
    std::vector<double> codes(std::min(most, rows.size()));
    for (std::size_t begin = 0; begin < rows.size(); begin += most) {
        const std::size_t count = std::min(most, rows.size() - begin);
        inputs.fillOne(input, rows.subspan(begin, count), codes.data());
        std::transform(codes.begin(), codes.begin() + static_cast<std::ptrdiff_t>(count),
                       levels.begin() + static_cast<std::ptrdiff_t>(begin),
                       [](double code) { return static_cast<std::uint32_t>(code); });
    }
    return levels;
}

} // namespace oxgoad
