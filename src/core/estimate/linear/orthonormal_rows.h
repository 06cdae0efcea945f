#pragma once
// The rows of a fit's model matrix in the basis that its factor makes orthonormal, held in memory.
#include "estimate/linear/least_squares.h"
#include "estimate/row_blocks.h"

#include <vector>

namespace oxgoad {

/// P = X~R⁻¹, n × rank. Products over its rows are summed block by block in a fixed order.
class OrthonormalRows {
public:
    OrthonormalRows(const LeastSquaresFit& fit, const RowSource& x, Threads threads, Progress& progress)
        : m_rows(x.rows(), fit.rank()), m_threads(threads) {
        forRowBlocks(x, threads, progress, [&](Eigen::Index begin, const Eigen::MatrixXd& raw) {
            m_rows.middleRows(begin, raw.rows()) = fit.inOrthonormalBasis(raw);
        });
    }

    const Eigen::MatrixXd& matrix() const { return m_rows; }
    Eigen::Index rows() const { return m_rows.rows(); }
    Eigen::Index rank() const { return m_rows.cols(); }

    /// P'diag(weights)P.
    Eigen::MatrixXd product(const Eigen::VectorXd& weights) const {
        return sum(Eigen::MatrixXd::Zero(rank(), rank()).eval(), [&](Eigen::Index begin, Eigen::Index count) {
            const auto p = m_rows.middleRows(begin, count);
            const Eigen::MatrixXd scaled = p.array().colwise() * weights.segment(begin, count).array().sqrt();
            Eigen::MatrixXd product = Eigen::MatrixXd::Zero(rank(), rank());
            product.selfadjointView<Eigen::Lower>().rankUpdate(scaled.transpose());
            return Eigen::MatrixXd(product.selfadjointView<Eigen::Lower>());
        });
    }
    /// P'v.
    Eigen::VectorXd crossProduct(const Eigen::VectorXd& v) const {
        return sum(Eigen::VectorXd::Zero(rank()).eval(), [&](Eigen::Index begin, Eigen::Index count) {
            return Eigen::VectorXd(m_rows.middleRows(begin, count).transpose() * v.segment(begin, count));
        });
    }
    /// P·c into `out`, length n.
    void apply(const Eigen::VectorXd& c, Eigen::VectorXd& out) const {
        blocks([&](Eigen::Index begin, Eigen::Index count, std::size_t) {
            out.segment(begin, count).noalias() = m_rows.middleRows(begin, count) * c;
        });
    }

    template <class Each> void blocks(Each&& each) const {
        constexpr Eigen::Index size = 4096;
        parallelFor(static_cast<std::size_t>((rows() + size - 1) / size), m_threads, [&](std::size_t b) {
            const Eigen::Index begin = static_cast<Eigen::Index>(b) * size;
            each(begin, std::min(size, rows() - begin), b);
        });
    }

private:
    template <class Sum, class Each> Sum sum(Sum total, Each&& each) const {
        std::vector<Sum> parts(static_cast<std::size_t>((rows() + 4095) / 4096));
        blocks([&](Eigen::Index begin, Eigen::Index count, std::size_t b) { parts[b] = each(begin, count); });
        for (const Sum& part : parts)
            total += part;
        return total;
    }

    Eigen::MatrixXd m_rows;
    Threads m_threads;
};

} // namespace oxgoad
