#pragma once
// The decompositions of matrices, compiled once: what they are made of takes long to compile where it is
// used.
#include <Eigen/Core>

namespace oxgoad {

/// Of a symmetric matrix, of which the lower half is read; values rising.
struct SymmetricParts {
    Eigen::VectorXd values;
    Eigen::MatrixXd vectors;
};
SymmetricParts symmetricParts(const Eigen::MatrixXd& a);
/// The values alone.
Eigen::VectorXd symmetricValues(const Eigen::MatrixXd& a);

/// R of rows = QR by Householder reflections: as many rows as there are rows or columns, whatever is less.
Eigen::MatrixXd upperTriangle(Eigen::MatrixXd rows);
/// Q of it: as many orthonormal columns as there are columns, of which there are at most as many as rows.
Eigen::MatrixXd orthonormalColumns(Eigen::MatrixXd columns);

} // namespace oxgoad
