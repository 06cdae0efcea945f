#pragma once
// Least squares of rows in cells that differ by their 1 only: rows less the means of their cells.
#include "base/parallel.h"
#include "base/progress.h"
#include "estimate/linear/cell_columns.h"
#include "estimate/linear/grouped_rows.h"

#include <Eigen/Core>

#include <span>
#include <vector>

namespace oxgoad {

/// The rows of a fit in the order given, where no number goes by other multiples in other cells. What a cell
/// shares is the root of its weight times the means of its numbers and of y; what is left of them are their
/// differences from these means, orthogonal to all cells, which go into one triangle (partitioned regression:
/// Frisch and Waugh 1933, "Partial time regressions as compared with individual trends"; Lovell 1963,
/// "Seasonal adjustment of economic time series"; indicators of cells are orthogonal, so that one projection
/// is as exact as reflections: Björck 1996, "Numerical methods for least squares problems", §2.4). Nothing of
/// the rows is kept or copied. Sums are taken in stretches of rows that depend on the shape only: the same
/// for any number of threads. A cell without weight has means of 0.
class CellMeans final : public GroupedRows {
public:
    /// Requires columns without own numbers. References outlive it.
    CellMeans(CellColumns columns, std::span<const double> y, std::span<const double> weights,
              Threads threads, Progress& progress);

    Extent extent() const override;

    Eigen::MatrixXd triangleOf(const LeastSquaresFit& fit) override;
    Eigen::VectorXd crossProducts(const LeastSquaresFit& fit, const Extended& solution,
                                  bool careful) const override;
    ResidualSums finish(LeastSquaresFit& fit, const Eigen::VectorXd& solution) const override;

private:
    using Index = Eigen::Index;
    /// Rows of one stretch that are worked on at once: numbers, then y.
    struct Rows {
        Index stretch = 0, from = 0;
        Eigen::MatrixXd values;
        std::span<const std::uint32_t> cells;
        /// Empty without weights.
        std::span<const double> weights;
        Index count() const { return values.rows(); }
    };
    /// Numbers and y as they are, of so many rows as there is room for.
    void read(Rows& rows) const;
    Index stretches() const;
    template <class Each> void forRows(double from, double to, const char* what, Each&& each) const;
    void shift(const LeastSquaresFit& fit, Eigen::Ref<Eigen::MatrixXd> rows) const;

    struct Part {
        Extended ofCells, ofNumbers;
    };
    /// Adds w·r by cell and w·r·numbers of shifted rows.
    void addProducts(const Rows& rows, Eigen::VectorXd residuals, Part& part) const;
    /// X~'Wr by place.
    Eigen::VectorXd products(const LeastSquaresFit& fit, const std::vector<Part>& parts) const;
    /// Adds w·r by cell and w·r·numbers, worked out in long doubles from rows as they are.
    void addCarefully(const LeastSquaresFit& fit, const Rows& rows,
                      const CellColumns::ExtendedRows& coefficients, Part& part) const;

    CellColumns m_columns;
    std::span<const double> m_y;
    std::span<const double> m_weights;
    Threads m_threads;
    Progress& m_progress;
    /// How many rows are worked on at once, and how many are a stretch.
    Index m_numbers, m_atOnce, m_stretch = 1;
    std::vector<std::uint32_t> m_places;
    /// A row of each cell.
    std::vector<std::uint32_t> m_first;
    /// Weight of each cell.
    std::vector<long double> m_sizes;
};

} // namespace oxgoad
