#pragma once
// Products of many rows, by the arithmetic of this machine (kernels/kernels.h).
#include <Eigen/Core>

namespace oxgoad {

/// sum (columns of a × columns of b) += a'b; a and b have the same rows.
void addProducts(Eigen::Ref<Eigen::MatrixXd> sum, const Eigen::Ref<const Eigen::MatrixXd>& a,
                 const Eigen::Ref<const Eigen::MatrixXd>& b);

/// a'b.
Eigen::MatrixXd productsOf(const Eigen::Ref<const Eigen::MatrixXd>& a,
                           const Eigen::Ref<const Eigen::MatrixXd>& b);

/// sum += a'a, of which only the lower triangle is worked out.
void addSquares(Eigen::Ref<Eigen::MatrixXd> sum, const Eigen::Ref<const Eigen::MatrixXd>& a);

} // namespace oxgoad
