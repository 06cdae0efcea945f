#pragma once
// What further columns would add to a fit, without fitting again.
#include "estimate/linear/least_squares.h"

#include <cstddef>
#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// Columns of a candidate source that enter together. The first `parents` of them are taken in first and are
/// not counted for the block: what a product adds is what it adds beside its parents.
struct ScreenBlock {
    std::vector<std::size_t> columns;
    std::size_t parents = 0;
};

/// What a block would add. NaN where nothing can be said: no columns left, or no degrees of freedom.
struct Addition {
    /// By how much the residual sum of squares would fall, beyond what the parents take.
    double reduction = 0;
    /// Columns that count and do not depend on those there already.
    double numeratorDf = 0, denominatorDf = 0;
    double f = 0;
    double p = 0;
    /// Share of the residual sum of squares (after the parents).
    double share = 0;
};

/// Exact F tests of every block by one update of the factorisation: with W = R⁻ᵀX~'Z the part of Z that the
/// model lacks has the products Z'Z − W'W, and its regression on the residuals gives what the block adds
/// (Björck 2015, "Numerical methods in matrix computations", §2.5.2; the same as refitting with it). Columns
/// left with less than 1e-9 of their squared length are taken as dependent; blocks with a column left with
/// little are worked out from their rows by reflections, since differences of sums of squares lose its
/// digits. `x` are the rows of the fit, `candidates` the same rows of the candidates' columns. The same for
/// any number of threads. Throws Stopped. `weights` as the fit was made with.
std::vector<Addition> screenBlocks(const LeastSquaresFit& fit, const RowSource& x,
                                   const RowSource& candidates, std::span<const ScreenBlock> blocks,
                                   std::span<const double> weights, Threads threads, Progress& progress);

/// Sum over rows of the squared error of predicting each row from the others (Allen 1974, "The relationship
/// between variable selection and data augmentation and a method for prediction"), for the fit as it is.
double leaveOneOutSquares(const LeastSquaresFit& fit);
/// The same with each block (parents included) in the model; NaN where a row could not be left out. Errors
/// are not weighted, as scores are not.
std::vector<double> leaveOneOutWith(const LeastSquaresFit& fit, const RowSource& x,
                                    const RowSource& candidates, std::span<const ScreenBlock> blocks,
                                    std::span<const double> weights, Threads threads, Progress& progress);

/// Folds of the rows of a fit, made of cells of rows.
struct ScreenFolds {
    /// Of each row of the fit.
    std::vector<std::uint32_t> cellOf;
    std::size_t cells = 0;
    struct Fold {
        std::vector<std::size_t> learns, judges;
    };
    /// No cell is judged twice.
    std::vector<Fold> folds;
};

/// Sum over the judged rows of the squared error of predicting each from the cells its fold learns from, with
/// each block (parents included) in the model: what refits of every fold give, by sums over cells in an
/// orthonormal basis of the fit and the block. NaN where the rows of a fold do not hold the model. Errors are
/// not weighted. The same for any number of threads. Throws Stopped.
std::vector<double> foldSquaresWith(const LeastSquaresFit& fit, const RowSource& x,
                                    const RowSource& candidates, std::span<const ScreenBlock> blocks,
                                    const ScreenFolds& folds, std::span<const double> weights,
                                    Threads threads, Progress& progress);

} // namespace oxgoad
