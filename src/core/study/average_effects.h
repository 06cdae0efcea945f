#pragma once
// What columns do on average over rows, for any kind of model; and which pairs act together.
#include "base/parallel.h"
#include "base/progress.h"
#include "check/checks.h"
#include "study/study.h"

#include <string>
#include <vector>

namespace oxgoad {

/// A column's effect over the learning rows, in the response's unit.
struct AverageEffect {
    std::string column;
    /// Values of a number or a date, ascending: the smallest, and the ends of parts with as many rows; of a
    /// factor its levels by number.
    std::vector<double> at;
    std::vector<std::string> levels;
    /// Accumulated local effects (Apley and Zhu 2020, Journal of the Royal Statistical Society B 82, eq. 15
    /// and 16): the mean change over each part, of the rows that lie in it, added up, with a mean of 0 over
    /// the rows. Empty for a factor, whose levels have no neighbours.
    std::vector<double> accumulated;
    /// Partial dependence (Friedman 2001, Annals of Statistics 29, §8.1): the mean prediction of all rows
    /// with the column at the value.
    std::vector<double> partial;
    /// Rows in the part that ends at each value; of each level.
    std::vector<std::size_t> rows;
    /// Smallest and largest of both over five models, each learned without a fifth of the rows; empty where
    /// they were not asked for, or there are more than 50,000 learning rows.
    std::vector<double> accumulatedLow, accumulatedHigh, partialLow, partialHigh;
    /// Single rows, as the column moves and nothing else (Goldstein, Kapelner, Bleich and Pitkin 2015,
    /// Journal of Computational and Graphical Statistics 24): ten learning rows, evenly spaced, each with its
    /// number from 1 and a prediction at every value.
    std::vector<std::size_t> curveRows;
    std::vector<std::vector<double>> curves;
};

/// Of every input of the model, from at most 2,000 learning rows, evenly spaced (partial dependence from
/// 300). Rows that have no value of a column are passed over for it. Throws Stopped.
std::vector<AverageEffect> averageEffects(const Study& study, const Table& table, Threads threads,
                                          Progress& progress);
/// Of one input; `without` are models without a part of the rows, for bands.
AverageEffect averageEffect(const Study& study, const Table& table, std::size_t input,
                            std::span<const std::shared_ptr<const Study>> without, const Progress& progress);
/// Five studies, each learned without a fifth of the rows (seed 1) by what the whole one was learned by;
/// none above 50,000 rows, or where one cannot be learned. Throws Stopped.
std::vector<std::shared_ptr<const Study>> studiesWithoutParts(const Study& study, const Table& table,
                                                              Threads threads, Progress& progress);

/// Of every pair of inputs, the strongest first, from at most 50 learning rows, evenly spaced; pairs of
/// models with more than 20 inputs are those of the 20 whose partial dependence varies most. Throws Stopped.
std::vector<PairStrength> interactionStrengths(const Study& study, const Table& table, Threads threads,
                                               const Progress& progress);

/// average_effects.csv: column, at, level, accumulated, partial_dependence, rows, and the ends of both bands.
std::string averageEffectsCsv(const std::vector<AverageEffect>& effects, const Study& study);
/// row_curves.csv: column, at, level, row, prediction.
std::string rowCurvesCsv(const std::vector<AverageEffect>& effects, const Study& study);
/// interactions.csv: first, second, h_squared, share.
std::string interactionsCsv(const std::vector<PairStrength>& pairs);

} // namespace oxgoad
