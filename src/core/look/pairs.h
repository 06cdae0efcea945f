#pragma once
// How columns go together.
#include "base/parallel.h"
#include "base/progress.h"
#include "table/table.h"

#include <cstddef>
#include <cstdint>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

enum class AssociationKind {
    /// Pearson's correlation of two numbers (or dates).
    correlation,
    /// Correlation ratio η of a number over the levels of a factor (Fisher 1925): √(between / total).
    correlationRatio,
    /// Cramér's V of two factors (Cramér 1946, "Mathematical methods of statistics", §21.9).
    cramersV,
};

struct Association {
    std::size_t a = 0, b = 0;
    AssociationKind kind = AssociationKind::correlation;
    /// −1 … 1 for correlations, 0 … 1 otherwise; NaN without spread.
    double value = 0;
    /// Rows that have both.
    std::size_t rows = 0;
};

struct Pairs {
    std::vector<std::string> columns;
    /// n × n by row; the diagonal is 1.
    std::vector<double> values;
    /// Every pair once, strongest first.
    std::vector<Association> strongest;
    /// Columns in an order that puts those that go together side by side.
    std::vector<std::size_t> order;
    /// For each column (not in `order`) the number of its group from 1, or 0 when it goes with none.
    std::vector<int> group;
    double at(std::size_t a, std::size_t b) const { return values[a * columns.size() + b]; }
};

/// Strength from which columns are put into one group: |r| > 0.7 (Dormann et al. 2013, "Collinearity: a
/// review of methods to deal with it", Ecography 36).
inline constexpr double groupStrength = 0.7;

/// All pairs of the named columns over the rows that have both (pairwise deletion); rows where `used` is 0
/// are passed over. Groups by average linkage of 1 − |value| (Sokal and Michener 1958). Text columns are left
/// away. The same for any number of threads. Errors: unknownColumn. Throws Stopped.
Pairs pairsOf(const Table& table, std::span<const std::uint8_t> used, const std::vector<std::string>& columns,
              Threads threads, Progress& progress);

} // namespace oxgoad
