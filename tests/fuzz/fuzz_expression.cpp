#include "base/error.h"
#include "prepare/expression.h"

#include <cmath>
#include <cstdlib>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const std::vector<oxgoad::Column> columns{
        oxgoad::Column::ofNumbers("x", {1, -2, std::nan("")}),
        oxgoad::Column::ofNumbers("list rate", {10, 20, 30}),
        oxgoad::Column::ofFactor("contract", {0, 1, -1}, {"spot", "annual"}),
        oxgoad::Column::ofDates("month", {19000, 0, -5})};
    try {
        const auto expression =
            oxgoad::Expression::parse({reinterpret_cast<const char*>(data), size}, columns);
        const auto values = expression.evaluate(columns);
        if (values.size() != 3) std::abort();
        for (const double value : values)
            if (std::isinf(value)) std::abort();
        // Nothing that was typed changes the rows.
        if (columns[0].numbers()[0] != 1 || columns[1].numbers()[2] != 30) std::abort();
    } catch (const oxgoad::Error&) {
    }
    return 0;
}
