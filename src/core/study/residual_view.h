#pragma once
// Residuals of every kind against anything, with what the eye needs beside them.
#include "look/distribution.h"
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <cstdint>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

enum class ResidualKind {
    /// Actual less predicted, on the model's scale; of held-out rows too.
    plain,
    /// Over its own standard error, s √(1 − h).
    standardised,
    /// Over that with s of the other rows (externally studentised).
    deleted,
    /// Plus what the terms of the column add (component plus residual; Larsen and McCleary 1972).
    partial,
    /// Of held-out rows only.
    heldOut,
    /// By the folds' models.
    outOfFold,
    /// By a fit without the row: e / (1 − h).
    leaveOneOut,
    /// No residual: what was.
    actual,
};
/// "residual", "standardised residual", … and what the kind is of this evidence: all that can be drawn.
std::string_view residualName(ResidualKind kind);
std::vector<ResidualKind> residualKinds(const Evidence& evidence);

enum class ResidualAgainst { predicted, rowNumber, time, leverage, column };

struct ResidualRequest {
    ResidualKind kind = ResidualKind::plain;
    ResidualAgainst against = ResidualAgainst::predicted;
    /// Of `column`, and for partial residuals.
    std::string column;
    /// Whether normal quantiles and their band are worked out, which takes some hundreds of samples.
    bool quantiles = true;
};

/// A smooth line with its band.
struct SmoothLine {
    std::vector<double> at, middle, low, high;
};

struct ResidualView {
    /// Rows with both values: of the table, in order.
    std::vector<std::uint32_t> rows;
    std::vector<double> x, y;
    /// The column along is a factor: x are its levels. A date: days.
    bool levels = false, dates = false;
    /// Along predictions of a response in logs or with a log link, all above 0: they are drawn, and smoothed
    /// over, on a logarithmic scale.
    bool logarithmic = false;
    /// Mean of the residuals along x with its 95 % band; empty for a factor and for too few rows.
    SmoothLine middle;
    /// The middle plus and minus a smooth standard deviation, √(π/2) times the smoothed size of what is left.
    SmoothLine spread;
    /// Sorted residuals against normal quantiles, and where 95 % of normal samples lie at all places at once.
    std::optional<NormalQuantiles> normal;
    std::vector<double> normalLow, normalHigh;
    /// How many of the points lie beyond the band, and of how many rows the quantiles are.
    std::size_t beyond = 0, quantilesOf = 0;
};

/// What stands along for ResidualAgainst::time: the number or date with the role of time, otherwise the first
/// date; null without.
const Column* residualTime(const Recipe& recipe, const Table& table);

/// Throws Stopped. The same for any number of threads.
ResidualView residualView(const Evidence& evidence, const Recipe& recipe, const PreparedRows& prepared,
                          const std::string& file, const ResidualRequest& request, Threads threads,
                          Progress& progress);

/// A simultaneous 95 % band for the sorted values of n normal rows with their own mean and standard
/// deviation, at chosen places (from 0): each place has the same chance to lie outside, found by 500 seeded
/// samples (Aldor-Noiman, Brown, Buja, Rolke and Stine 2013, "The power to see: a new graphical test of
/// normality", The American Statistician 67). In standard deviations about the mean. Throws Stopped.
struct QuantileBand {
    std::vector<double> low, high;
};
QuantileBand normalBand(std::size_t n, std::span<const std::size_t> places, Threads threads,
                        Progress& progress);

} // namespace oxgoad
