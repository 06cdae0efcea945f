#pragma once
// Least squares by orthogonal reduction, with its inference.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_source.h"
#include "estimate/linear/direction_rows.h"
#include "estimate/linear/triangular_factor.h"

#include <Eigen/Core>

#include <memory>
#include <optional>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

struct LeastSquaresOptions {
    bool intercept = true;
    /// A column is taken as dependent on the columns before it when what is left of it after projecting
    /// them out is below this share of its own (centred) length. 0 means 64·eps·(columns + 1): the
    /// rounding of a backward stable reduction of that many columns with room to spare.
    double rankTolerance = 0;
    Threads threads;
    /// Weight of each row, n values, finite and not negative; none weighs all rows alike. A row of weight w
    /// has the variance σ²/w; rows of weight 0 do not teach, and are predicted only.
    std::span<const double> weights{};
    /// Twice the precision: where the condition number says that digits are being lost or where it costs
    /// next to nothing, or never.
    enum class Precision { asNeeded, plain } precision = Precision::asNeeded;
    /// The levels of the largest factor, whose columns are eliminated first where that pays: into one
    /// triangle with the others, or apart, so that they need no room by their square (see TriangularFactor),
    /// as is done from some 1,000 columns on. Apart nothing is worked out to twice the precision.
    enum class Levels { asNeeded, together, apart } levels = Levels::asNeeded;
    /// Keeps LeastSquaresFit::orthonormal where twice the precision was used: n × rank doubles.
    bool keepOrthonormal = false;
};

/// A column that the columns before it already say: x_column = constant + Σ weight·x_other.
struct Dependency {
    std::size_t column = 0;
    double constant = 0;
    /// Other column and weight; only weights that matter.
    std::vector<std::pair<std::size_t, double>> combination;
};

/// A linear combination of coefficients.
struct Combination {
    double value = 0;
    double standardError = 0;
    /// Of t; infinite for the normal.
    double degreesOfFreedom = 0;
};

/// The test that some coefficients are 0 together.
struct JointTest {
    /// NaN where nothing can be said; `why` says why then.
    double f = 0;
    double numeratorDf = 0;
    double denominatorDf = 0;
    std::string why;
};

/// What a covariance made from few groups knows of its own spread (see robust_errors.h).
class FewGroups {
public:
    virtual ~FewGroups() = default;
    /// Degrees of freedom of t for a combination, given in the basis that the factor makes orthonormal.
    virtual double degreesOfFreedom(const Eigen::VectorXd& direction) const = 0;
    /// Degrees of freedom η of the Wishart distribution that stands for the covariance of q combinations
    /// (rank × q).
    virtual double wishartDegreesOfFreedom(const Eigen::MatrixXd& directions) const = 0;
    /// What it is made of, a pair of rank × rank matrices a group, for writing it down.
    virtual const std::vector<Eigen::MatrixXd>& products() const = 0;
    virtual const std::vector<Eigen::MatrixXd>& own() const = 0;
};

/// y = b0 + X b + e, E e = 0, Var e = σ² I, on n rows and p columns.
///
/// Made by fitLeastSquares. Works inside on columns shifted by their means and scaled by powers of two
/// (both exact to undo), x~ = (x - shift)·scale, with the constant as an explicit first column.
class LeastSquaresFit {
public:
    Eigen::Index rows = 0;
    Eigen::Index columns = 0;
    bool intercept = true;
    /// Columns that could be estimated, in order (indices into 0..p-1).
    std::vector<std::size_t> kept;
    std::vector<Dependency> dependent;
    double rankToleranceUsed = 0;

    /// Length p; NaN for dependent columns. Units: y per unit of x_j.
    Eigen::VectorXd coefficients;
    Eigen::VectorXd standardErrors;
    double constant = 0;
    double constantError = 0;

    double residualSumOfSquares = 0;
    /// About the (weighted) mean with an intercept, about 0 without. Sums of squares are weighted sums.
    double totalSumOfSquares = 0;
    /// Rows of a weight above 0 less the rank.
    double degreesOfFreedom = 0;
    /// NaN when no degrees of freedom are left.
    double residualStandardDeviation = 0;
    /// Estimated 2-norm condition number of the shifted, unit-length columns.
    double conditionNumber = 1;
    /// Decimal digits that doubles leave in the worst determined coefficient: what an error of half a unit in
    /// the last place of the data can take is lost whatever the arithmetic.
    double digitsLeft = 16;
    /// The same of the response: what is left of its spread beside its size.
    double responseDigitsLeft = 16;
    /// The residuals are no more than the rounding of the response: there is no spread to judge by.
    bool fitsExactly = false;
    /// How far the residuals are from being orthogonal to every column, over what rounding may make of it.
    double fromOrthogonal = 0;
    bool proven() const { return fromOrthogonal <= 1; }
    /// A quick way was taken whose residuals were not, so that all was worked out anew in the plain way.
    bool workedOutAnew = false;
    /// True when coefficients, errors, residuals and leverages were worked out to twice the precision.
    bool exact = false;

    /// Length n each.
    Eigen::VectorXd fitted;
    Eigen::VectorXd residuals;
    Eigen::VectorXd leverages;

    /// Where the covariance of the coefficients is not σ²(R'R)⁻¹ (errors that stand unequal spread,
    /// estimators other than least squares): rows B in the directions of the factor, with the covariance
    /// R⁻¹B'BR⁻ᵀ of the shifted coefficients [constant, b~(kept)], in the response's unit squared. As a root
    /// it never makes a variance below 0.
    std::optional<DirectionRows> covarianceRoot;
    /// Degrees of freedom of t with that covariance; infinite for the normal. Otherwise degreesOfFreedom.
    std::optional<double> covarianceDegreesOfFreedom;
    /// Degrees of freedom that differ by combination; null when they do not.
    std::shared_ptr<const FewGroups> fewGroups;
    /// Learning rows whose own leverage leaves nothing of their residual (1 - h < 1e-10), where the
    /// covariance is made of residuals: what they say of the spread is not known.
    std::size_t rowsFixed = 0;
    /// Orthonormal directions of the rows fixed, of whose spread their residuals say nothing, and whether
    /// errors are not even defined there, as the covariance divides by 1 - h.
    DirectionRows unseen;
    bool undefinedThere = false;

    double testDegreesOfFreedom() const { return covarianceDegreesOfFreedom.value_or(degreesOfFreedom); }
    /// Of t for coefficient j (index into 0..p-1), and for the constant.
    double coefficientDegreesOfFreedom(std::size_t j) const;
    double constantDegreesOfFreedom() const;
    /// Puts other coefficients (shifted, as above) and the root of their covariance in the place of these;
    /// natural coefficients and standard errors follow, and without() then drops columns from these
    /// coefficients by least distance in the metric X'X. Fitted values, residuals and sums of squares are the
    /// caller's.
    void replaceCoefficients(const Eigen::VectorXd& shiftedCoefficients, Eigen::MatrixXd covarianceRoot,
                             double degreesOfFreedom);
    /// Only the covariance; standard errors follow. Throws Stopped.
    void replaceCovariance(DirectionRows covarianceRoot, double degreesOfFreedom,
                           const Progress& progress = {});
    /// Variance of the predicted mean at rows given in the directions of the factor, where it and the root
    /// are apart (see DirectionRows::timesApart).
    Eigen::VectorXd varianceApart(std::span<const Eigen::Index> first, const Eigen::MatrixXd& own,
                                  const Eigen::MatrixXd& rest) const;
    /// Coefficients of the shifted, scaled columns, the constant first, in the response's unit.
    Eigen::VectorXd shiftedCoefficients() const;
    /// Variance of the predicted mean at rows of the model matrix.
    Eigen::VectorXd meanVariance(const Eigen::MatrixXd& block) const;
    /// Degrees of freedom of t for the predicted mean at rows of the model matrix.
    Eigen::VectorXd meanDegreesOfFreedom(const Eigen::MatrixXd& block) const;
    /// Σ weight·coefficient + constantWeight·constant; weights of length p.
    Combination combination(const Eigen::VectorXd& weights, double constantWeight) const;
    /// F test that some columns are not needed; dependent ones are passed over. With σ²(X'X)⁻¹ the F of the
    /// residual sums of squares with and without them; otherwise Wald's, b'V⁻¹b over their number, worked out
    /// in the orthonormal basis of the directions that only these columns have, where nothing cancels. The
    /// rank of the covariance there decides: a direction with less than 1e-6 of the largest standard error,
    /// or that lies in those of rows fixed, is one that the residuals say nothing of, and then there is no
    /// test. With FewGroups it is (η−q+1)/η of that, on q and η−q+1 degrees of freedom (Pustejovsky and
    /// Tipton 2018, Journal of Business & Economic Statistics 36).
    JointTest jointTest(std::span<const std::size_t> columns) const;
    /// Generalised variance inflation det(R11)·det(R22)/det(R) of some columns against the others (Fox and
    /// Monette 1992, "Generalized collinearity diagnostics", Journal of the American Statistical Association
    /// 87), from the triangular factor and its inverse, so that no determinant is formed; never below 1. NaN
    /// for none.
    double inflation(std::span<const std::size_t> columns) const;

    Eigen::Index rank() const { return static_cast<Eigen::Index>(kept.size()) + (intercept ? 1 : 0); }

    /// Predicted mean at rows of the model matrix (m × p; dependent columns are not read).
    Eigen::VectorXd predict(const Eigen::MatrixXd& block) const;
    /// x'(X'X)⁻¹x for each row, the constant included: the leverage of a learning row, and the variance
    /// of the mean over σ² anywhere.
    Eigen::VectorXd leverage(const Eigen::MatrixXd& block) const;
    /// Unscaled covariance (X'X)⁻¹ of the kept coefficients, in the order of kept, without the constant.
    Eigen::MatrixXd unscaledCovariance() const;

    /// The fit of the same rows without some columns, from the triangular factor alone (no pass over rows).
    struct Reduced {
        /// Length p; 0 for columns left out or dependent.
        Eigen::VectorXd coefficients;
        double constant = 0;
        double residualSumOfSquares = 0;
        Eigen::Index rank = 0;
    };
    Reduced without(std::span<const std::size_t> columns) const;

    /// Squared length of the projection of z (length n, given as X~'z and the constant's 1'z) onto the
    /// columns beyond the constant: the explained sum of squares of a regression of z on the same columns.
    double explainedSumOfSquares(const Eigen::VectorXd& shiftedCrossProducts, double sum) const;

    /// The first of the dependent columns that is not at a row of the model matrix what the columns before it
    /// say of it, as it was at all rows learned from: the row is outside of what they span, so that they
    /// determine no mean there (Searle 1971, "Linear models", §5.4, on estimable functions). None where it is
    /// inside. Of a combination of rows `constantWeight` is the sum of their weights.
    const Dependency* partsFrom(const Eigen::VectorXd& row, double constantWeight = 1) const;

    /// Means of the learning rows' columns (weighted as they are): length p, 0 for dependent ones and without
    /// a constant.
    Eigen::VectorXd columnMeans() const;

    // The reduction: R of [1, X~(kept)], Q'y~, and how columns were shifted and scaled.
    TriangularFactor factor;
    Eigen::VectorXd projections;
    /// X~R⁻¹, rows times the square roots of their weights, where it was worked out to twice the precision
    /// and asked for; null otherwise.
    std::shared_ptr<const Eigen::MatrixXd> orthonormal;
    Eigen::VectorXd shift;
    Eigen::VectorXd scale;
    double responseShift = 0;
    double responseScale = 1;
    /// m × rank: [1, X~(kept)].
    Eigen::MatrixXd shifted(const Eigen::MatrixXd& block) const;
    /// Rows of the model matrix in the basis that the factor makes orthonormal: [1, X~(kept)]R⁻¹, m × rank.
    /// Where most columns are mostly 0, as those of levels are, by what is not 0 in them.
    Eigen::MatrixXd inOrthonormalBasis(const Eigen::MatrixXd& block) const;

private:
    /// Standard error of a combination given in the orthonormal basis. NaN where the residuals do not tell
    /// it: more than a hundredth of its variance lies where it is not defined, or it comes out below 1e-6 of
    /// what equal spread would make it.
    double errorOf(const Eigen::VectorXd& direction) const;
    /// The same from what it is made of: squared lengths of the direction, and of what the unseen rows and
    /// the root say along it; and of several directions (rank × m).
    double errorFrom(double squared, double unseenSquared, double variance) const;
    bool asksUnseen() const;
    Eigen::VectorXd errorsOf(const Eigen::MatrixXd& directions) const;
    /// Wald's b'V⁻¹b over its number that these places (most of all) are not needed, with a root of the
    /// covariance that is apart, from what the others leave.
    void testApart(const std::vector<Eigen::Index>& places, JointTest& test) const;
    std::vector<Eigen::Index> placesOf(std::span<const std::size_t> columns) const;
    /// Solution in places of the factor with 0 at some, and what the projections lose by it: from the
    /// inverse, O(rank²) for each place, or by reducing the others' columns.
    Eigen::VectorXd takenOut(const std::vector<Eigen::Index>& places, double& given) const;
    Eigen::VectorXd ofTheOthers(const std::vector<Eigen::Index>& places, double& given) const;
    /// All other places.
    std::vector<Eigen::Index> besides(const std::vector<Eigen::Index>& places) const;
    /// Of the longest row of the root, or of what equal spread would make it.
    double sizeOfRoot() const;
    /// Orthonormal basis (rank × q) of the directions that only these places of the factor have.
    Eigen::MatrixXd directionsOf(const std::vector<Eigen::Index>& places) const;
    double constantOf(const Eigen::VectorXd& coefficients, double shiftedConstant) const;
};

/// Fits by Householder reduction of row blocks to triangular factors, combined in a fixed order (Golub
/// and Van Loan 2013, §5.2; Demmel, Grigori, Hoemmen and Langou 2012, "Communication-optimal parallel and
/// sequential QR and LU factorizations"), and one step of refinement by the corrected seminormal equations
/// (Björck 1987, "Stability analysis of the method of seminormal equations").
/// Columns that depend on earlier ones are left out in the order given and named.
///
/// Where the condition number is above 300, or the work is small, solveExactly() does the last part anew.
///
/// Every fit proves itself (proof.h): where its residuals are not orthogonal to its columns it is worked out
/// anew from rows as they are, and where that does not help `proven` says so.
///
/// Requires: y of length n, X n × p, all finite. Errors: tooFewRows when n < rank, noSpread when y is
/// constant, badWeights. Throws Stopped. The result does not depend on the number of threads.
LeastSquaresFit fitLeastSquares(const RowSource& x, std::span<const double> y,
                                const LeastSquaresOptions& options, Progress& progress);

/// R of [1, X~, y~] of some rows, shifted and scaled as the fit has them; all columns, upper triangular.
Eigen::MatrixXd reduceRows(LeastSquaresFit& fit, const RowSource& x, std::span<const double> y,
                           std::span<const double> weights, Threads threads, Progress& progress);

/// X~(kept)'z and 1'z over all rows, block by block in a fixed order.
std::pair<Eigen::VectorXd, double> shiftedCrossProducts(const LeastSquaresFit& fit, const RowSource& x,
                                                        const Eigen::VectorXd& z, Threads threads,
                                                        const Progress& progress);

} // namespace oxgoad
