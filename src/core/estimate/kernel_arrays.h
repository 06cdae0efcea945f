#pragma once
// Matrices as the arithmetic of this machine takes them.
#include "kernels/kernels.h"

#include <Eigen/Core>

namespace oxgoad {

inline OxgoadMatrix arrayOf(Eigen::Ref<Eigen::MatrixXd> matrix) {
    return {matrix.data(), matrix.rows(), matrix.cols(), matrix.outerStride()};
}

/// Of a matrix that is only read.
inline OxgoadMatrix readArrayOf(const Eigen::Ref<const Eigen::MatrixXd>& matrix) {
    return {const_cast<double*>(matrix.data()), matrix.rows(), matrix.cols(), matrix.outerStride()};
}

} // namespace oxgoad
