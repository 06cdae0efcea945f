#pragma once
// The path of one share of the l1 penalty, ready to be drawn and read.
#include "study/halves.h"
#include "study/penalty_search.h"

#include <string>
#include <vector>

namespace oxgoad {

/// Errors are RMSE in the response's unit; NaN where nothing was judged.
struct PathPlace {
    double penalty = 0;
    /// Root of the mean over folds of mean squared errors, less and plus one standard error.
    double error = nan, low = nan, high = nan;
    /// Of the rows learned from, and over folds of least squares of what is kept.
    double learning = nan, relaxed = nan;
    std::size_t kept = 0;
};

struct PathLine {
    std::string name;
    std::size_t term = 0;
    /// One a place, per standard deviation of the column and in natural units.
    std::vector<double> perDeviation, natural;
    /// Share of folds that keep it, one a place; empty where nothing was judged.
    std::vector<double> keptShare;
    /// The first place where it is in; as many as there are places where it never is.
    std::size_t enters = 0;
};

/// From the strongest penalty to the weakest.
struct PathView {
    double l1Share = 1;
    std::vector<PathPlace> places;
    /// Of columns that are in anywhere: those that come in first.
    std::vector<PathLine> lines;
    std::size_t columns = 0;
    /// Where the error is smallest, and the strongest penalty within one standard error of it; as many as
    /// there are places where nothing was judged.
    std::size_t smallest = 0, oneError = 0;
    std::string judgedBy;

    /// The place nearest to a penalty, on a logarithmic scale.
    std::size_t nearest(double penalty) const;
};
/// Requires points of that share; a search that is not detailed has no learning errors and shares.
PathView pathView(const PenaltySearch& search, double l1Share);
/// Shares of the l1 penalty that a search followed.
std::vector<double> sharesOf(const PenaltySearch& search);

/// "Penalty 0.31 keeps 6 of 246 columns: 4,903 ± 120 over 10 folds, seed 1 (least squares of what is kept
/// 4,950), 4,800 on learning rows, a gap of 2.1 %."
std::string placeSentence(const PathView& view, std::size_t place, const std::string& unit);
/// What the simpler model costs in error and saves in gap, beside the smallest error; empty when they are the
/// same or nothing was judged.
std::string simplerSentence(const PathView& view, const std::string& unit);

} // namespace oxgoad
