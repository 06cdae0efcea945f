#pragma once
// Roots of covariances made of the rows of a fit whose levels are apart.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_source.h"
#include "estimate/linear/direction_rows.h"
#include "estimate/linear/least_squares.h"

#include <cstdint>
#include <span>

namespace oxgoad {

/// Reads the scores of rows of such a fit in the directions of its factor, never more of them than what is
/// not 0. References outlive it; its functions throw Stopped.
class ApartScores {
public:
    ApartScores(const LeastSquaresFit& fit, const RowSource& x, Threads threads, Progress& progress);

    /// U of U'U = Σ s·pp', p the rows' directions and s at least 0: triangular, by one reflection a level and
    /// a triangle of the rest, as the fit itself is worked out.
    DirectionRows root(std::span<const double> squaredScores) const;
    /// Σ s·p over the rows of each unit.
    DirectionRows byUnit(std::span<const double> scores, std::span<const std::uint32_t> units,
                         std::size_t count) const;
    /// The directions of some rows, times a number each.
    DirectionRows at(std::span<const std::uint32_t> rows, std::span<const double> by) const;

private:
    const LeastSquaresFit& m_fit;
    const RowSource& m_x;
    Threads m_threads;
    Progress& m_progress;
};

/// Rows into the sums of all windows of `lags` + 1 consecutive ones, those that begin before the first and
/// end after the last included.
DirectionRows windowsOf(const DirectionRows& rows, int lags);

} // namespace oxgoad
