#pragma once
// A smooth curve through points, and how much it explains of rows it has not seen.
#include "base/parallel.h"

#include <Eigen/Core>

#include <cstddef>
#include <memory>
#include <optional>
#include <span>
#include <vector>

namespace oxgoad {

/// Cubic splines on knots at quantiles. Knows nothing of y.
class CurveBasis {
public:
    /// At most `mostKnots` inner knots at quantiles of (at most 4,000 evenly spaced) values, one for every
    /// four distinct ones. Empty when fewer than two distinct finite values, or when their range overflows.
    static std::optional<CurveBasis> of(std::span<const double> x, std::size_t mostKnots = 20);

    std::size_t size() const { return m_breaks.size() + 2; }
    double low() const { return m_low; }
    double high() const { return m_high; }
    /// Values of the four splines that are not 0 at x (held to the range); returns the first's number.
    std::size_t at(double x, double values[4]) const;
    /// ∫ B''B'' over the range taken as 0..1, size() × size() (O'Sullivan 1986, "A statistical perspective on
    /// ill-posed inverse problems").
    const Eigen::MatrixXd& roughness() const { return m_roughness; }
    /// How many distinct values the sample had, up to 4,000.
    std::size_t distinct() const { return m_distinct; }

private:
    double m_low = 0, m_high = 1, m_inverseRange = 1;
    std::size_t m_distinct = 0;
    /// Interval ends in 0..1, first 0 and last 1.
    std::vector<double> m_breaks;
    /// For each interval the four splines as cubics of the place within it: [spline][power].
    struct Piece {
        double coefficient[4][4];
        double from = 0, inverseWidth = 1;
    };
    std::vector<Piece> m_pieces;
    /// First interval to look at for each of 256 equal cells.
    std::vector<std::uint16_t> m_start;
    Eigen::MatrixXd m_roughness;
};

/// A cubic spline with a penalty on ∫f''² (Eilers and Marx 1996, "Flexible smoothing with B-splines and
/// penalties"; here with knots at quantiles). The weight of the penalty is the one with the smallest
/// generalised cross-validation score n·RSS/(n − 1.4·edf)² (Craven and Wahba 1979; the factor 1.4: Kim and Gu
/// 2004, "Smoothing spline Gaussian regression").
class Curve {
public:
    std::size_t rows = 0;
    double low = 0, high = 0;
    /// Trace of the smoother; 2 is a straight line.
    double degreesOfFreedom = 0;
    double rSquared = 0;
    double residualStandardDeviation = 0;

    double at(double x) const;
    /// Pointwise standard error by the posterior covariance (Wahba 1983, "Bayesian confidence intervals for
    /// the cross-validated smoothing spline"; Nychka 1988 for their coverage).
    double errorAt(double x) const;

private:
    friend std::optional<Curve> fitCurve(std::span<const double>, std::span<const double>, Threads, bool);
    std::shared_ptr<const CurveBasis> m_basis;
    Eigen::VectorXd m_coefficients;
    /// errorAt(x) = ‖m_root'·b(x)‖
    Eigen::MatrixXd m_root;
    double m_centre = 0, m_scale = 1;
};

/// x, y of length n; points that are not finite are passed over. Empty with fewer than five points or fewer
/// than four distinct x. With `straight` the penalty has no end, and the curve is its line. The same for any
/// number of threads.
std::optional<Curve> fitCurve(std::span<const double> x, std::span<const double> y, Threads threads = {1},
                              bool straight = false);

/// What straight line and curve explain of rows that were not used to make them, over ten folds: 1 − Σ(y −
/// ŷ)²/Σ(y − ȳ)², ŷ and ȳ from the other folds (Stone 1974, "Cross-validatory choice"). The curve's penalty
/// is chosen anew in every fold. Rows are dealt to folds by a hash of their place. Of more than 50,000 points
/// evenly spaced ones are taken: their shares are known to ±0.007. NaN where it cannot be said.
struct CrossValidated {
    double line = 0;
    /// Where the line says no less of unseen rows, the curve is shrunk to it.
    double curve = 0;
    bool straight = false;
};
CrossValidated crossValidateCurve(std::span<const double> x, std::span<const double> y);

/// Fold 0..9 of a row: a fixed mix of its number (the finaliser of SplitMix64).
unsigned foldOf(std::size_t row);

} // namespace oxgoad
