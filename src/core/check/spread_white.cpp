#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"
#include "estimate/row_blocks.h"

#include <cmath>

namespace oxgoad {

namespace {

/// Columns of the regression of squared residuals; above it, and above as much work, there is no reading.
constexpr Eigen::Index mostColumns = 300;
constexpr double mostWork = 3e9;

/// Columns of the design, standardised, their squares and products; two-valued columns have no square of
/// their own, and columns of one indicator's family multiply to nothing.
class SquaresAndProducts final : public RowSource {
public:
    SquaresAndProducts(const DesignRows& x, Eigen::VectorXd shift, Eigen::VectorXd scale)
        : m_x(x), m_shift(std::move(shift)), m_scale(std::move(scale)) {}
    Eigen::Index rows() const override { return m_x.rows(); }
    Eigen::Index columns() const override {
        const Eigen::Index k = m_x.columns();
        return k + k * (k + 1) / 2;
    }
    void fill(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> block) const override {
        const Eigen::Index k = m_x.columns();
        Eigen::MatrixXd raw(block.rows(), k);
        m_x.fill(begin, raw);
        for (Eigen::Index j = 0; j < k; ++j)
            raw.col(j) = (raw.col(j).array() - m_shift[j]) * m_scale[j];
        block.leftCols(k) = raw;
        Eigen::Index at = k;
        for (Eigen::Index i = 0; i < k; ++i)
            for (Eigen::Index j = i; j < k; ++j)
                block.col(at++) = raw.col(i).cwiseProduct(raw.col(j));
    }

private:
    const DesignRows& m_x;
    Eigen::VectorXd m_shift, m_scale;
};

} // namespace

void checkSpreadWhite(const CheckContext& context, Findings& findings) {
    const std::string name = "unequal spread, White";
    const std::string source = "White 1980";
    const DesignRows x(context.linear->design, context.learningRows);
    const Eigen::Index k = x.columns();
    const Eigen::Index wide = k + k * (k + 1) / 2;
    const auto n = static_cast<double>(context.learningRows.size());
    if (wide > mostColumns || n * static_cast<double>(wide) * static_cast<double>(wide) > mostWork) {
        findings.readings.push_back(
            noReading(name, countText(static_cast<std::size_t>(wide)) + " squares and products on " +
                                countText(context.learningRows.size()) +
                                " rows are too many; unequal spread is judged on the columns alone"));
        return;
    }
    Eigen::VectorXd mean = Eigen::VectorXd::Zero(k), square = mean;
    Progress& progress = *context.progress;
    mean = sumRowBlocks(x, context.threads, progress, mean,
                        [](Eigen::Index, const Eigen::MatrixXd& raw) {
                            return Eigen::VectorXd(raw.colwise().sum());
                        }) /
           n;
    square =
        sumRowBlocks(x, context.threads, progress, square, [&](Eigen::Index, const Eigen::MatrixXd& raw) {
            return Eigen::VectorXd((raw.rowwise() - mean.transpose()).colwise().squaredNorm());
        });
    Eigen::VectorXd scale(k);
    for (Eigen::Index j = 0; j < k; ++j)
        scale[j] = square[j] > 0 ? std::sqrt(n / square[j]) : 0;
    std::vector<double> squares(context.learningRows.size());
    for (std::size_t i = 0; i < squares.size(); ++i)
        squares[i] = context.errors[i] * context.errors[i];
    LeastSquaresOptions options;
    options.threads = context.threads;
    options.precision = LeastSquaresOptions::Precision::plain;
    // Squares of two-valued columns come out as rounding, above the rank decision of the fit itself.
    options.rankTolerance = 1e-8;
    if (n <= static_cast<double>(k) + 2) {
        findings.readings.push_back(noReading(name, "there are too few rows for its columns"));
        return;
    }
    // With as many columns as rows R² is 1 whatever the spread.
    const LeastSquaresFit fit = [&] {
        try {
            return fitLeastSquares(SquaresAndProducts(x, mean, scale), squares, options, progress);
        } catch (const Error&) {
            return LeastSquaresFit{};
        }
    }();
    const auto df = static_cast<double>(fit.rank() - 1);
    if (fit.rows == 0 || !(df > 0) || !(fit.degreesOfFreedom > 0) || !(fit.totalSumOfSquares > 0)) {
        findings.readings.push_back(noReading(
            name, countText(context.learningRows.size()) + " rows are too few for " +
                      countText(static_cast<std::size_t>(wide)) + " columns, squares and products"));
        return;
    }
    const double statistic = n * (fit.totalSumOfSquares - fit.residualSumOfSquares) / fit.totalSumOfSquares;
    const double p = chiSquaredUpper(statistic, df);
    const double limit = context.limitOf(name, pLimit);
    findings.readings.push_back(madeReading(
        name, statistic, limit, p,
        "n R² of squared residuals on " + shortText(df) + " columns, squares and products", source));
    if (!(p < limit) || (context.robustToSpread && context.reach.empty())) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "The spread of residuals changes with the columns or their products";
    goad.reading = "n R² " + readableText(statistic, 3) + " on " + shortText(df) + " degrees of freedom, p " +
                   probabilityText(p);
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.size = statistic;
    goad.family = "spread";
    goad.familyTitle = "# signs of unequal spread";
    if (!context.robustToSpread)
        goad.moves.push_back(
            {.label = "errors that stand it",
             .edit = [](Recipe& recipe, const std::string&) { recipe.errors.kind = CovarianceKind::hc3; }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
