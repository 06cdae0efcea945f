#pragma once
// Which terms a penalty keeps in halves of the rows, and what can be said of them after they were chosen.
#include "study/study.h"

#include <cstdint>
#include <string>
#include <vector>

namespace oxgoad {

struct HalvesRequest {
    /// Splits into two halves: every half chooses terms, and the other one tests them.
    int splits = 50;
    std::uint64_t seed = 1;
    /// Share of halves from which a term counts as stable; above one half.
    double threshold = 0.75;
};

/// Of one term.
struct TermHalves {
    std::string term;
    /// Columns of its own.
    std::size_t columns = 0;
    /// Never chosen: not penalised, so always in.
    bool free = false;
    /// Share of halves that keep it at some penalty from the largest down to that of the model.
    double share = 0;
    bool stable = false;
    /// After selection, adjusted for all terms: the chance of any false claim is at most the level. 1 where
    /// too few splits chose it.
    double p = 1;
};

struct StabilitySelection {
    HalvesRequest asked;
    double penalty = 0, l1Share = 0;
    /// Terms that are penalised, and how many of them a half keeps on average.
    std::size_t terms = 0;
    double keptOnAverage = 0;
    /// Of terms that say nothing, at most so many are expected among the stable ones.
    double expectedFalse = 0;
    /// Splits worked out: fewer than asked for after a stop.
    int done = 0;
    std::vector<TermHalves> each;
    std::string says;
};

/// Draws half of the learning rows again and again, with its complement. Stability selection (Meinshausen and
/// Bühlmann 2010, Journal of the Royal Statistical Society B 72): the share of halves in which a term is kept
/// on the path from the largest penalty down to the model's; with q terms kept on average among m, and a
/// threshold π, at most q²/((2π − 1) m) terms without any effect are expected among the stable ones, if these
/// are exchangeable and the choice is no worse than guessing. Inference after selection by repeated splitting
/// (Meinshausen, Meier and Bühlmann 2009, "p-values for high-dimensional regression", Journal of the American
/// Statistical Association 104): terms chosen by the first half at the model's penalty are tested by least
/// squares (F test of a term's columns) on the second, times their number; over splits the smallest of
/// quantiles γ over γ, from γ = 0.05, times 1 − ln 0.05. Weights count. Requires a penalised study with its
/// penalty found and an l1 share above 0. A stop keeps the splits done; Throws Stopped before the first,
/// Error (tooFewRows) for fewer than eight rows. The same for any number of threads.
StabilitySelection halvesOf(const Recipe& recipe, const PreparedRows& prepared, const Study& study,
                            const HalvesRequest& request, Threads threads, Progress& progress);

/// halves.csv: term, columns, share_of_halves, stable, p_after_selection.
std::string halvesCsv(const StabilitySelection& halves);

/// The smallest of quantiles over γ, times 1 − ln γ_min, at most 1.
double pOverSplits(std::vector<double> p, double smallestShare = 0.05);

} // namespace oxgoad
