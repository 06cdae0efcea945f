#include "estimate/decompositions.h"

#include <Eigen/Eigenvalues>
#include <Eigen/QR>

#include <algorithm>

namespace oxgoad {

using Eigen::MatrixXd;

SymmetricParts symmetricParts(const MatrixXd& a) {
    const Eigen::SelfAdjointEigenSolver<MatrixXd> solver(a);
    return {solver.eigenvalues(), solver.eigenvectors()};
}

Eigen::VectorXd symmetricValues(const MatrixXd& a) {
    return Eigen::SelfAdjointEigenSolver<MatrixXd>(a, Eigen::EigenvaluesOnly).eigenvalues();
}

MatrixXd upperTriangle(MatrixXd rows) {
    const Eigen::HouseholderQR<Eigen::Ref<MatrixXd>> qr(rows);
    return rows.topRows(std::min(rows.rows(), rows.cols())).triangularView<Eigen::Upper>();
}

MatrixXd orthonormalColumns(MatrixXd columns) {
    const Eigen::HouseholderQR<Eigen::Ref<MatrixXd>> qr(columns);
    return qr.householderQ() * MatrixXd::Identity(columns.rows(), columns.cols());
}

} // namespace oxgoad
