#pragma once
// What a term does to the response: fitted relations with bands, partial residuals, lines of pairs, average
// marginal effects.
#include "base/parallel.h"
#include "base/progress.h"
#include "study/evidence.h"
#include "table/table.h"

#include <map>
#include <string>
#include <vector>

namespace oxgoad {

/// A value that a column is held at while others move.
struct HeldValue {
    std::string column;
    /// A number, a day, or the index of the level among the design's.
    double value = 0;
    /// "412.5", "2024-05-01", "annual".
    std::string text;
};

/// One line: the predicted mean over the values of a column, with its confidence band (NaN for a model that
/// has none), in the response's unit.
struct EffectLine {
    /// Level of the other column of a pair; empty otherwise.
    std::string label;
    /// Values of a number or date; 0, 1, 2 … for the levels of a factor.
    std::vector<double> at;
    std::vector<double> mean, lower, upper;
};

/// Rows along the effect: the value of the column, and what the row would say if its other columns were at
/// the held values (partial residual, carried back to the response's unit). At most 5,000, evenly spaced.
struct PartialResiduals {
    std::vector<std::size_t> row;
    std::vector<double> x, y;
    /// Line the row belongs to, in a pair.
    std::vector<int> line;
};

struct Effect {
    std::string column;
    /// Second column of a pair; empty otherwise.
    std::string by;
    bool dates = false;
    /// Names of the levels when `column` is a factor.
    std::vector<std::string> levels;
    std::vector<EffectLine> lines;
    /// Of models without coefficients: single rows as the column moves and nothing else.
    std::vector<EffectLine> curves;
    PartialResiduals rows;
    /// Where the learning rows lie: counts in equal cells from lowest to highest; by level for a factor.
    std::vector<double> density;
    double lowest = 0, highest = 0;
    /// What the other columns are held at.
    std::vector<HeldValue> held;
};

/// Place of each level of an effect along one factor when the lowest mean comes first.
std::vector<double> placesByMean(const Effect& effect);

/// Values the columns of a model are held at when nothing is said: medians, and the most frequent levels, of
/// the learning rows.
std::vector<HeldValue> usualValues(const Study& study, const Table& table);
/// The mean of the offset over the learning rows; 0 without one.
double usualOffset(const Study& study, const Table& table);

/// The effect of a column of the model. `hold` names values to hold other columns at (a number, or the index
/// of a level). Models without coefficients have three lines for a number: with the others held, accumulated
/// and averaged over the rows, with bands, and curves of single rows (see AverageEffect). Requires evidence
/// with its study, and the table it was made from. Errors: unknownColumn when the model does not use it.
/// Throws Stopped.
Effect effectOf(const Evidence& evidence, const Table& table, const std::string& column,
                const std::map<std::string, double>& hold, Progress& progress);

/// A line for each level of the factor `by` (at most 12, the most frequent ones), or for the lower quartile,
/// median and upper quartile of a number `by`; each only over the range that its rows cover (rows of the
/// level, or of the third of the rows nearest to the quartile).
Effect pairEffect(const Evidence& evidence, const Table& table, const std::string& column,
                  const std::string& by, const std::map<std::string, double>& hold, Progress& progress);

} // namespace oxgoad
