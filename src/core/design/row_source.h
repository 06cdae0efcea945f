#pragma once
// A model matrix that is made block by block, so that a million rows need no second copy.
#include "design/row_cells.h"
#include "design/row_levels.h"

#include <Eigen/Core>

#include <memory>

namespace oxgoad {

/// n rows × p columns. fill() may be called from several threads at once.
class RowSource {
public:
    virtual ~RowSource() = default;
    virtual Eigen::Index rows() const = 0;
    virtual Eigen::Index columns() const = 0;
    /// Writes rows begin..begin+block.rows()-1 into `block` (any row count, p columns).
    virtual void fill(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> block) const = 0;
    /// The same to about 32 digits, hi + lo: what powers, products and logarithms lose in a double is in lo.
    virtual void fillExact(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> hi,
                           Eigen::Ref<Eigen::MatrixXd> lo) const {
        fill(begin, hi);
        lo.setZero();
    }
    /// The rows by what their levels are; null where there are no levels, or more than `most` cells.
    virtual std::shared_ptr<const RowCells> cells([[maybe_unused]] Eigen::Index most) const {
        return nullptr;
    }
    /// The rows by the levels of the factor that makes most columns; null where none makes any.
    virtual std::shared_ptr<const RowLevels> levels() const { return nullptr; }
};

/// A matrix that is there already. Keeps a reference: the matrix must outlive it.
class MatrixRows final : public RowSource {
public:
    explicit MatrixRows(const Eigen::MatrixXd& matrix) : m_matrix(matrix) {}
    Eigen::Index rows() const override { return m_matrix.rows(); }
    Eigen::Index columns() const override { return m_matrix.cols(); }
    void fill(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> block) const override {
        block = m_matrix.middleRows(begin, block.rows());
    }

private:
    const Eigen::MatrixXd& m_matrix;
};

} // namespace oxgoad
