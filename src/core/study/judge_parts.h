#pragma once
// What the ways to judge by folds share.
#include "study/judge.h"
#include "study/rows_used.h"

namespace oxgoad {

/// Of sums in the orthonormal basis of the whole fit: learning rows that hold a direction with less than this
/// share have as good as lost it.
inline constexpr double leastShare = 1e-8;

/// A fold that was judged, before it is added up.
struct FoldOutcome {
    std::string name;
    std::size_t repeat = 0;
    /// Rows of the table, what was and what the fold's model says, in the response's unit.
    std::vector<std::uint32_t> rows;
    std::vector<double> actual, predicted;
    /// Of the response over the fold's learning rows.
    double learningMean = 0;
    /// Mean squared error of the fold's model over the learning rows of the whole fit; NaN where nobody asks.
    double wholeMse = 0;
    /// Of its own learning rows; NaN where nobody knows.
    double learningMse = std::numeric_limits<double>::quiet_NaN();
    std::vector<std::string> chosen;
    Settings settings;
    std::vector<UnseenLevel> unseen;
    std::size_t unpredicted = 0;
    /// Squared errors of its judged rows without each term of the recipe; empty where nobody knows.
    std::vector<double> squaresWithout{};
};

/// A fold of least squares whose steps were learned anew and nothing else: by sums over its learning rows in
/// the basis of the whole fit, on the fold's own table. None where the fold needs a fit of its own: its rows
/// lack levels or do not hold the model, or a judged row has a level that they lack. `used` says which rows
/// learn and which are judged. One thread. Throws Stopped.
std::optional<FoldOutcome> foldOfLeastSquares(const Recipe& recipe, const Table& own, const std::string& file,
                                              const Study& whole, const RowsUsed& used, Progress& progress);

/// Called for each fold in order; false to stop.
using FoldSink = std::function<bool(const FoldOutcome&)>;

/// Folds of least squares where nothing but coefficients is learned of the rows.
///
/// With R of the whole fit, z = R⁻ᵀx~ are rows of an orthonormal basis and e its residuals; the model of
/// other rows differs from the whole fit by z'd with d = (Σ w z z')⁻¹ Σ w z e over them. The sums are taken
/// in that basis, where they are near the identity, so that squaring costs no digits.
class LeastSquaresFolds {
public:
    /// True when the model of any rows can be had so.
    static bool applies(const Recipe& recipe, const Study& whole);

    LeastSquaresFolds(const Recipe& recipe, const Table& table, const std::string& file, const Study& whole,
                      const Dealing& dealing, Threads threads, Progress& progress);

    /// Judges all folds. `refit` is asked for a fold whose learning rows do not hold all coefficients.
    void judge(const std::function<FoldOutcome(std::size_t)>& refit, const FoldSink& sink,
               Progress& progress);

private:
    struct Impl;
    std::shared_ptr<Impl> m_impl;
};

} // namespace oxgoad
