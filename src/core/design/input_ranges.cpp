#include "design/input_ranges.h"

namespace oxgoad {

Range rangeOver(const BoundInputs& inputs, std::size_t input, std::span<const std::uint32_t> rows) {
    Range range;
    if (const auto numbers = inputs.numbers(input); !numbers.empty()) {
        for (const auto row : rows)
            range.add(numbers[row]);
        return range;
    }
    for (const auto row : rows)
        range.add(inputs.value(input, row));
    return range;
}

std::vector<double> densityOver(const BoundInputs& inputs, std::size_t input,
                                std::span<const std::uint32_t> rows, const Range& range, std::size_t cells,
                                std::size_t most) {
    const Input& known = inputs.inputs()[input];
    if (known.factor) {
        std::vector<double> density(known.levels.size(), 0);
        for (const auto row : rows)
            if (const double level = inputs.value(input, row); std::isfinite(level))
                ++density[static_cast<std::size_t>(level)];
        return density;
    }
    std::vector<double> density(cells, 0);
    const double width = range.high - range.low;
    const auto last = static_cast<double>(cells - 1);
    const std::size_t stride = most == 0 ? 1 : std::max<std::size_t>(1, rows.size() / most);
    for (std::size_t i = 0; i < rows.size(); i += stride) {
        const double value = inputs.value(input, rows[i]);
        if (std::isnan(value)) continue;
        const double cell = width > 0 ? (value - range.low) / width * static_cast<double>(cells) : 0;
        ++density[static_cast<std::size_t>(std::min(last, cell))];
    }
    return density;
}

} // namespace oxgoad
