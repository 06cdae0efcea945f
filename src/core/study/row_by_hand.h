#pragma once
// One row told by hand: what a model says of it, how far out it is, and what would have to change.
#include "forecast/forecast.h"
#include "study/evidence.h"
#include "study/ladder.h"
#include "study/prepare_rows.h"

#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// A column that a row can be told by, as it is read.
struct HandColumn {
    std::string name;
    AskedKind kind{};
    /// Of a factor, those there are.
    std::vector<std::string> levels{};
    /// Of a number or a date: over the learning rows.
    double low = 0, high = 0;
    /// The median, the latest date, the most frequent level.
    HandRow::Value usual = 0.0;
};

struct HandAnswer {
    double prediction = 0, lower = 0, upper = 0;
    Reach reach;
    /// Empty where there is no prediction.
    Ladder ladder;
};

/// Along one column, the others held.
struct HandScale {
    std::vector<double> at, prediction;
    std::vector<ReachGrade> grade;
};

/// A model that is asked about one row after the other. Holds what it needs of the evidence, and what the
/// learning rows cover, so that an answer takes no pass over them.
class RowByHand {
public:
    /// Requires evidence with its study, of prepared rows. Throws Stopped.
    RowByHand(const Evidence& evidence, const Recipe& recipe, const PreparedRows& prepared, Threads threads,
              const Progress& progress);

    /// Columns of the rows as they are read which the model, its offset, or a step before it reads.
    const std::vector<HandColumn>& columns() const { return m_columns; }
    /// Their usual values; `given` in the places of those that it names. Errors: unknownColumn, wrongType (a
    /// text for a number, a number for a level, a date that is none).
    std::vector<HandRow::Value> valuesOf(const HandRow& given) const;
    /// `values` one a column. A NaN is missing. Steps that look back find what they learned from.
    HandAnswer ask(const std::vector<HandRow::Value>& values) const;
    /// Along a number or date, as far beyond what was learned as a half of its range; `points` places.
    HandScale along(const std::vector<HandRow::Value>& values, std::size_t column, std::size_t points) const;
    /// Where along that scale the prediction is `target`, ascending, each to a millionth of the range.
    std::vector<double> valuesFor(const std::vector<HandRow::Value>& values, std::size_t column,
                                  double target) const;

private:
    Table rowsOf(const std::vector<HandRow::Value>& values, std::optional<std::size_t> along,
                 const std::vector<double>& at) const;
    ForecastEvidence score(const Table& raw, Table* prepared = nullptr) const;

    std::shared_ptr<const Study> m_study;
    std::vector<Step> m_steps;
    std::vector<StepOutcome> m_learned;
    std::vector<HandColumn> m_columns;
    /// Kinds of all columns as they are read, for those that are not told.
    Table m_raw;
    std::vector<HeldValue> m_usual;
    std::optional<LearnedReach> m_reach;
    double m_level = 0.95;
};

/// A row of the recipe and what was found.
struct HandRowFound {
    HandRow row;
    HandAnswer answer;
    /// Values of the target's column.
    std::vector<double> reached;
    /// Why it could not be worked out; empty when it was.
    std::string problem;
};
/// Of all rows that the recipe tells by hand. Throws Stopped.
std::vector<HandRowFound> answerHandRows(const Evidence& evidence, const Recipe& recipe,
                                         const PreparedRows& prepared, Threads threads,
                                         const Progress& progress);
/// rows_by_hand.json; see docs/evidence.md.
std::string handRowsText(const std::vector<HandRowFound>& found);

} // namespace oxgoad
