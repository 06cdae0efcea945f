#pragma once
// Columns as numbers, for plots and readings.
#include "table/column.h"

#include <span>
#include <vector>

namespace oxgoad {

/// A column as numbers: days for dates, codes for factors, NaN for missing values and text. The column must
/// outlive it; numbers are not copied.
class NumberView {
public:
    explicit NumberView(const Column& column);
    NumberView(const NumberView&) = delete;
    NumberView& operator=(const NumberView&) = delete;
    double operator[](std::size_t row) const { return m_values[row]; }
    std::span<const double> values() const { return m_values; }

private:
    std::vector<double> m_own;
    std::span<const double> m_values;
};

} // namespace oxgoad
