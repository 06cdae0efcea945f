#pragma once
// Least squares of rows in cells: what the rows of a cell share is worked on once.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_cells.h"
#include "estimate/linear/cell_columns.h"
#include "estimate/linear/grouped_rows.h"

#include <Eigen/Core>

#include <memory>
#include <span>
#include <utility>
#include <vector>

namespace oxgoad {

/// The rows of a fit, cell by cell, with a copy of their numbers and of y. In a cell columns are combinations
/// of 1 and of the numbers, so that an orthogonal reduction of [1, numbers, y] of its rows gives all that the
/// whole model matrix would: the rows of 1, and of numbers whose multiple differs by cell, stay with the
/// cell; what is left of the other numbers and of y goes into one triangle for all cells (blocks of a
/// diagonal as in Golub and Van Loan 2013, §5.2; Björck 1996, "Numerical methods for least squares problems",
/// §6.3, on block angular problems). Sums are taken in the order of cells: the same for any number of
/// threads.
class CellRows final : public GroupedRows {
public:
    /// Cells worth it beside all rows as they are. Null where there are none.
    static std::shared_ptr<const RowCells> worthwhile(const RowSource& x);
    /// What their reduction costs, in products of numbers.
    static double costOf(const RowCells& cells, Eigen::Index rows, Eigen::Index columns);

    /// References outlive it.
    CellRows(CellColumns columns, std::span<const double> y, std::span<const double> weights, Threads threads,
             Progress& progress);

    Extent extent() const override;

    Eigen::MatrixXd triangleOf(const LeastSquaresFit& fit) override;
    Eigen::VectorXd crossProducts(const LeastSquaresFit& fit, const Extended& solution,
                                  bool careful) const override;
    ResidualSums finish(LeastSquaresFit& fit, const Eigen::VectorXd& solution) const override;

private:
    using Index = Eigen::Index;
    const RowCells& cells() const { return m_columns.cells(); }
    double weight(Index i) const {
        return m_weights.empty() ? 1 : m_weights[m_order[static_cast<std::size_t>(i)]];
    }
    Index begin(Index cell) const { return static_cast<Index>(m_begin[static_cast<std::size_t>(cell)]); }
    Index rowsOf(Index cell) const { return begin(cell + 1) - begin(cell); }
    /// Cells first..last-1 of a batch of some thousand rows.
    std::vector<std::pair<Index, Index>> batches() const;
    template <class Each> void forBatches(double from, double to, const char* what, Each&& each) const;
    /// Shifted numbers of consecutive rows, in the order of `m_order`.
    Eigen::MatrixXd numbersOf(Index from, Index count) const;
    using ExtendedRows = CellColumns::ExtendedRows;
    /// Adds w·r and w·r·numbers of consecutive rows of a cell to `sums`.
    void addProducts(const LeastSquaresFit& fit, Index from, Index count, const long double* coefficients,
                     long double* sums) const;
    /// The same of residuals that are there; w·r is taken.
    void addProducts(const Eigen::MatrixXd& numbers, Eigen::VectorXd residuals, Index from, Index cell,
                     ExtendedRows& sums) const;
    Eigen::VectorXd residualsOf(const LeastSquaresFit& fit, const Eigen::MatrixXd& numbers, Index from,
                                const Eigen::RowVectorXd& coefficients) const;

    CellColumns m_columns;
    std::span<const double> m_weights;
    Threads m_threads;
    Progress& m_progress;
    /// Rows cell by cell.
    std::vector<std::uint32_t> m_order;
    std::vector<std::uint32_t> m_begin;
    /// n × (numbers + 1): the numbers as they are, then y.
    Eigen::MatrixXd m_values;
    /// Roots of weights; empty without.
    Eigen::VectorXd m_roots;
};

} // namespace oxgoad
