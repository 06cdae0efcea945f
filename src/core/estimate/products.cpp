#include "estimate/products.h"

#include "kernels/kernels.h"

#include <cassert>

namespace oxgoad {

namespace {

OxgoadMatrix arrayOf(Eigen::Ref<Eigen::MatrixXd>& matrix) {
    return {matrix.data(), matrix.rows(), matrix.cols(), matrix.outerStride()};
}

/// Of a matrix that is only read.
OxgoadMatrix arrayOf(const Eigen::Ref<const Eigen::MatrixXd>& matrix) {
    return {const_cast<double*>(matrix.data()), matrix.rows(), matrix.cols(), matrix.outerStride()};
}

} // namespace

void addProducts(Eigen::Ref<Eigen::MatrixXd> sum, const Eigen::Ref<const Eigen::MatrixXd>& a,
                 const Eigen::Ref<const Eigen::MatrixXd>& b) {
    assert(a.rows() == b.rows() && sum.rows() == a.cols() && sum.cols() == b.cols());
    if (sum.size() > 0 && a.rows() > 0) oxgoad_add_products(arrayOf(sum), arrayOf(a), arrayOf(b));
}

Eigen::MatrixXd productsOf(const Eigen::Ref<const Eigen::MatrixXd>& a,
                           const Eigen::Ref<const Eigen::MatrixXd>& b) {
    Eigen::MatrixXd sum = Eigen::MatrixXd::Zero(a.cols(), b.cols());
    addProducts(sum, a, b);
    return sum;
}

void addSquares(Eigen::Ref<Eigen::MatrixXd> sum, const Eigen::Ref<const Eigen::MatrixXd>& a) {
    assert(sum.rows() == a.cols() && sum.cols() == a.cols());
    if (sum.size() > 0 && a.rows() > 0) oxgoad_add_squares(arrayOf(sum), arrayOf(a));
}

} // namespace oxgoad
