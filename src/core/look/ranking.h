#pragma once
// What each column explains alone.
#include "base/parallel.h"
#include "base/progress.h"
#include "table/table.h"

#include <cstddef>
#include <functional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// What one column says about the target, over the rows where both are there. NaN where it cannot be said.
struct RankedColumn {
    std::string name;
    ColumnKind kind = ColumnKind::number;
    /// Rows with both, and the share of the rows looked at that lack the column.
    std::size_t rows = 0;
    double missingShare = 0;
    /// Share of the target's variance: of a line for a number or date, of the level means for a factor (the
    /// squared correlation ratio).
    double straight = 0;
    /// The same two over ten folds, on rows that did not make them: see crossValidateCurve. For a factor both
    /// are those of its level means, the mean of all rows standing in for a level the fold's rows lack.
    double straightUnseen = 0;
    double curved = 0;
    /// Spearman (1904), equal values share their mean rank; not for factors.
    double rankCorrelation = 0;
    /// Of the F test that the line's slope is 0, or that all levels have one mean.
    double p = 0;
    /// For the number of columns tried (Holm 1979, "A simple sequentially rejective multiple test
    /// procedure").
    double pAdjusted = 0;
    /// Sign of the slope; 0 for factors.
    int direction = 0;

    /// What a curve adds to a line on rows neither has seen: never below 0.
    double bend() const;
};

/// Called for each column as it is done, from any thread, one call at a time.
using ColumnRanked = std::function<void(std::size_t index, const RankedColumn&)>;

/// Ranks `columns` of the table against `target` (one value a row; NaN leaves the row out). Rows where
/// `used` is 0 are passed over. Text columns have NaN everywhere. The result is in the order of `columns`
/// and does not depend on the number of threads. Errors: unknownColumn. Throws Stopped.
std::vector<RankedColumn> rankColumns(const Table& table, std::span<const double> target,
                                      std::span<const std::uint8_t> used,
                                      const std::vector<std::string>& columns, Threads threads,
                                      Progress& progress, const ColumnRanked& ranked = {});

/// Adjusted p values by Holm's method, in the order given; NaN stays and is not counted.
std::vector<double> holmAdjusted(std::span<const double> p);

/// Ranks from 1; equal values share their mean rank. Requires finite values.
std::vector<double> ranksOf(std::span<const double> values);

} // namespace oxgoad
