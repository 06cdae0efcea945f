#pragma once
// The model of a recipe, fitted to some rows.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/design.h"
#include "forecast/prediction.h"
#include "study/recipe.h"
#include "table/table.h"

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// Everything a prediction, a test or an effect needs of a fit. Owns what it holds; the table is not kept.
struct ModelFit {
    Design design;
    LeastSquaresFit fit;
    PredictionRule rule;
    /// Rows of the table that were learned from, in the order of the vectors below and of fit.residuals.
    std::vector<std::uint32_t> rows;
    /// What was fitted: the response, its logarithm, less the offset.
    std::vector<double> working;
    /// Empty when all rows weigh alike.
    std::vector<double> weights;
    /// Estimators that iterate.
    std::optional<Iterated> iterated;
    /// Groups or periods of the errors; 0 without.
    std::size_t errorUnits = 0;
    int errorLags = 0;
    /// Quantile regression: 1 less the check loss over that of the quantile alone (Koenker and Machado 1999,
    /// Journal of the American Statistical Association 94); NaN otherwise.
    double quantileFit = 0;
};

/// Columns a recipe's model reads: the response, those of terms, weight, offset, and of the errors.
std::vector<std::string> columnsInUse(const Recipe& recipe);

/// Weights of some rows; empty when the recipe has none. Errors: wrongType, badWeights with the row.
std::vector<double> weightsOf(const Recipe& recipe, const Table& table, const std::string& file,
                              std::span<const std::uint32_t> rows);

/// The value the model fits at a row: the response, or its logarithm, less the offset. NaN where not defined.
class WorkingResponse {
public:
    /// Errors: unknownColumn, wrongType.
    WorkingResponse(const Recipe& recipe, const Table& table, const std::string& file);
    double at(std::size_t row) const;
    double offset(std::size_t row) const;
    double natural(std::size_t row) const { return m_response[row]; }

private:
    std::span<const double> m_response;
    const Column* m_offset = nullptr;
    bool m_logarithm = false;
};

/// Learns the design from `rows`, all of which have values in columnsInUse(), and fits by the recipe's
/// estimator with the recipe's errors. Errors: those of Design::learn and fitLeastSquares; badTerm with the
/// row where a term or the logarithm of the response is not defined; wrongType for a weight or offset that is
/// no number; tooFewRows. Throws Stopped.
ModelFit fitModel(const Recipe& recipe, const Table& table, const std::string& file,
                  std::vector<std::uint32_t> rows, Threads threads, Progress& progress);

/// Fit's linear predictor at complete rows, without offset. Throws Stopped.
std::vector<double> predictor(const LeastSquaresFit& fit, const BoundDesign& design,
                              std::span<const std::uint32_t> rows, Threads threads, Progress& progress);

} // namespace oxgoad
