#pragma once
// Standard errors of least squares that stand unequal spread, groups and serial dependence.
#include "estimate/linear/least_squares.h"
#include "model/covariance_kind.h"

#include <cstdint>
#include <memory>
#include <span>
#include <vector>

namespace oxgoad {

struct RobustErrors {
    /// See LeastSquaresFit::covarianceRoot.
    DirectionRows covarianceRoot;
    /// Of t.
    double degreesOfFreedom = 0;
    /// Groups, or periods; 0 otherwise.
    std::size_t units = 0;
    /// For byFewGroups.
    std::shared_ptr<const FewGroups> fewGroups{};
    /// Rows that alone fix their fitted value (1 − h < 1e-10). Their residual is 0 whatever the spread: they
    /// add nothing here.
    std::size_t rowsFixed = 0;
    /// See LeastSquaresFit::unseen.
    DirectionRows unseen{};
    bool undefinedThere = false;
};

/// Where the levels of a factor are apart in the fit, so are they in the root, but for byFewGroups. Where the
/// fit was worked out to twice the precision and kept its orthonormal rows, so are these.
/// `units`: for byGroup and byFewGroups the group of each row, for serial the period of each row, both
/// counted from 0; empty otherwise. `lags` for serial, 0 or more. `weights` as the fit was made with.
/// Requires the rows of the fit. Errors: tooFewRows with fewer than two groups or not more periods than lags.
/// Throws Stopped.
RobustErrors robustErrors(const LeastSquaresFit& fit, const RowSource& x, std::span<const double> weights,
                          CovarianceKind kind, std::span<const std::uint32_t> units, int lags,
                          Threads threads, Progress& progress);

/// Lags to look back over n periods: the whole part of 4(n/100)^(2/9) (Newey and West 1994, Review of
/// Economic Studies 61).
int usualLags(std::size_t periods);

/// What FewGroups::products and own were, as FewGroups again.
std::shared_ptr<const FewGroups> fewGroupsOf(std::vector<Eigen::MatrixXd> products,
                                             std::vector<Eigen::MatrixXd> own);

} // namespace oxgoad
