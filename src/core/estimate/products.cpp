#include "estimate/products.h"

#include "estimate/kernel_arrays.h"

#include <cassert>

namespace oxgoad {

void addProducts(Eigen::Ref<Eigen::MatrixXd> sum, const Eigen::Ref<const Eigen::MatrixXd>& a,
                 const Eigen::Ref<const Eigen::MatrixXd>& b) {
    assert(a.rows() == b.rows() && sum.rows() == a.cols() && sum.cols() == b.cols());
    if (sum.size() > 0 && a.rows() > 0) oxgoad_add_products(arrayOf(sum), readArrayOf(a), readArrayOf(b));
}

Eigen::MatrixXd productsOf(const Eigen::Ref<const Eigen::MatrixXd>& a,
                           const Eigen::Ref<const Eigen::MatrixXd>& b) {
    Eigen::MatrixXd sum = Eigen::MatrixXd::Zero(a.cols(), b.cols());
    addProducts(sum, a, b);
    return sum;
}

void addSquares(Eigen::Ref<Eigen::MatrixXd> sum, const Eigen::Ref<const Eigen::MatrixXd>& a) {
    assert(sum.rows() == a.cols() && sum.cols() == a.cols());
    if (sum.size() > 0 && a.rows() > 0) oxgoad_add_squares(arrayOf(sum), readArrayOf(a));
}

} // namespace oxgoad
