#pragma once
// How the columns of a fit are made of what its cells share and of the numbers by which their rows differ.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_cells.h"
#include "estimate/linear/grouped_rows.h"

#include <Eigen/Core>

#include <memory>
#include <vector>

namespace oxgoad {

/// In a cell each column of the fit is a combination of 1 and of one number, both shifted and scaled.
class CellColumns {
public:
    using Index = Eigen::Index;
    /// The fit's mean in each cell: of 1, and of each shifted number.
    using ExtendedRows = Eigen::Matrix<long double, Eigen::Dynamic, Eigen::Dynamic, Eigen::RowMajor>;

    explicit CellColumns(std::shared_ptr<const RowCells> cells);

    const RowCells& cells() const { return *m_cells; }
    /// Numbers whose multiple differs by cell, or that make several columns; and all others.
    const std::vector<Index>& own() const { return m_own; }
    const std::vector<Index>& shared() const { return m_shared; }
    /// Shifts and scales of numbers, as of the last call of `shift`.
    const Eigen::VectorXd& shifts() const { return m_shift; }
    const Eigen::VectorXd& scales() const { return m_scale; }

    /// A shared number is shifted as its column is; the others about the values given, of each number.
    void shift(const LeastSquaresFit& fit, const Eigen::VectorXd& middles);
    /// Shifts and scales numbers as they are, a column each.
    void shiftNumbers(Eigen::Ref<Eigen::MatrixXd> numbers) const;

    ExtendedRows coefficients(const LeastSquaresFit& fit, const GroupedRows::Extended& solution,
                              Threads threads) const;
    /// X~'z by place, of sums of z and of z times each shifted number in each cell.
    Eigen::VectorXd products(const LeastSquaresFit& fit, const ExtendedRows& sums, Threads threads) const;
    /// R of [1, X~, y~] of rows that stand for all: of each cell so many rows as there are 1 and own numbers,
    /// of all cells the rows that are `left`. Their columns: 1, own numbers, shared numbers, y. Throws
    /// Stopped.
    Eigen::MatrixXd reduced(const LeastSquaresFit& fit, const Eigen::MatrixXd& rows,
                            const Eigen::MatrixXd& left, Threads threads, Progress& progress) const;

    /// What shared numbers say in the basis that the factor makes orthonormal: the numbers whose column is in
    /// the model, an orthonormal basis of where they point, and their coordinates in it (upper triangular).
    struct Shared {
        std::vector<Index> numbers;
        Eigen::MatrixXd basis, turn;
    };
    Shared sharedBasis(const LeastSquaresFit& fit) const;
    /// 1 and the own numbers of cells first..last-1, (1 + own) columns a cell, in that basis.
    Eigen::MatrixXd directions(const LeastSquaresFit& fit, Index first, Index last) const;

private:
    /// How a column of the fit is made of a cell's 1 and of one shifted number.
    struct Code {
        Index number = RowCells::none;
        double ofNumber = 0;
        long double ofOne = 0;
    };
    Code code(const LeastSquaresFit& fit, Index cell, Index column) const;
    /// Place of a number among 1, own and shared numbers.
    Index placeOf(Index number) const;

    std::shared_ptr<const RowCells> m_cells;
    std::vector<Index> m_own, m_shared;
    /// The one column that a shared number makes; of others the last.
    std::vector<Index> m_columnOf;
    Eigen::VectorXd m_shift, m_scale;
};

} // namespace oxgoad
