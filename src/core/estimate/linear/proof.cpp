#include "estimate/linear/proof.h"

#include "estimate/linear/condition.h"
#include "estimate/linear/least_squares.h"

#include <algorithm>
#include <cmath>
#include <limits>

namespace oxgoad {

void prove(LeastSquaresFit& fit, const Eigen::VectorXd& products, const Eigen::VectorXd& solution) {
    constexpr double epsilon = std::numeric_limits<double>::epsilon();
    const Eigen::VectorXd lengths = columnLengths(fit.factor);
    const double size =
        std::sqrt(fit.totalSumOfSquares) * fit.responseScale + solution.cwiseAbs().dot(lengths);
    const double rounding =
        64 * epsilon * (std::sqrt(static_cast<double>(fit.rows)) + static_cast<double>(fit.rank())) * size;
    double largest = 0;
    for (Eigen::Index place = 0; place < products.size(); ++place) {
        const double allowed = rounding * lengths[place];
        const double share = std::fabs(products[place]) / allowed;
        if (!(share <= largest)) largest = allowed > 0 || products[place] != 0 ? share : largest;
    }
    fit.fromOrthogonal = largest;
    if (fit.proven()) return;
    const double ofRounding =
        largest * 64 * (std::sqrt(static_cast<double>(fit.rows)) + static_cast<double>(fit.rank()));
    fit.digitsLeft = std::max(0.0, -std::log10(epsilon * ofRounding * fit.conditionNumber));
}

} // namespace oxgoad
