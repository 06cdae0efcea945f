#pragma once
// What columns do on average over rows, for any kind of model; and which pairs act together.
#include "base/parallel.h"
#include "base/progress.h"
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
};

/// Of every input of the model, from at most 2,000 learning rows, evenly spaced (partial dependence from
/// 300). Rows that have no value of a column are passed over for it. Throws Stopped.
std::vector<AverageEffect> averageEffects(const Study& study, const Table& table, Threads threads,
                                          const Progress& progress);
/// Of one input.
AverageEffect averageEffect(const Study& study, const Table& table, std::size_t input,
                            const Progress& progress);

struct PairStrength {
    std::string first, second;
    /// H² (Friedman and Popescu 2008, Annals of Applied Statistics 2, eq. 44): the share of the variance of
    /// the pair's partial dependence that the sum of both columns' own does not say.
    double hSquared = 0;
};
/// Of every pair of inputs, the strongest first, from at most 50 learning rows, evenly spaced; pairs of
/// models with more than 20 inputs are those of the 20 whose partial dependence varies most. Throws Stopped.
std::vector<PairStrength> interactionStrengths(const Study& study, const Table& table, Threads threads,
                                               const Progress& progress);

/// average_effects.csv: column, at, level, accumulated, partial_dependence, rows.
std::string averageEffectsCsv(const std::vector<AverageEffect>& effects, const Study& study);
/// interactions.csv: first, second, h_squared.
std::string interactionsCsv(const std::vector<PairStrength>& pairs);

} // namespace oxgoad
