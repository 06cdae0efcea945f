#pragma once
// Everything a model says of one row.
#include "study/evidence.h"
#include "study/ladder.h"
#include "study/prepare_rows.h"

#include <cstdint>
#include <string>
#include <vector>

namespace oxgoad {

/// Where the row lies within the learning rows of a column.
struct ColumnPlace {
    std::string name, value;
    bool factor = false;
    /// Share of learning rows below it, those equal to it by half; of a factor the share that has its level.
    double share = 0;
    bool outside = false;
};

struct NearRow {
    std::uint32_t row = 0;
    /// Root of the sum over columns of squared differences in standard deviations; a level that differs
    /// counts as 1.
    double distance = 0;
    double actual = 0, predicted = 0, residual = 0;
};

/// A coefficient with the row and without it.
struct WithoutRow {
    std::string name;
    double with = 0, without = 0;
    /// DFBETAS.
    double inErrors = 0;
};

struct RowStory {
    std::uint32_t row = 0;
    RowState state = RowState::learning;
    /// Response's unit; NaN where not known.
    double actual = 0, predicted = 0, lower = 0, upper = 0;
    /// On the model's scale.
    double residual = 0;
    double leverage = 0, studentized = 0, cook = 0, dffits = 0;
    /// Mean over the learning rows, from which the ladder starts, the offset of the row, and the end: on the
    /// model's scale.
    double start = 0, offset = 0, end = 0;
    std::vector<Contribution> ladder;
    std::vector<ColumnPlace> places;
    std::vector<NearRow> nearest;
    /// Of learning rows of least squares; empty otherwise.
    std::vector<WithoutRow> coefficients;
    /// Sum of all predictions of the forecast, and what it would be without the row; NaN without.
    double forecastTotal = 0, forecastTotalWithout = 0;
    /// Why the model says nothing of it; empty otherwise.
    std::vector<std::string> problems;
};

/// Of any row of the table. A ladder of terms for models with coefficients: each times its distance from the
/// mean of the learning rows. For models that say what each column adds (Contributions) that. Otherwise
/// columns are moved one after the other from their usual values (see usualValues) to the row's, in the order
/// of the inputs. Coefficients without the row by b − (X'X)⁻¹x e/(1 − h) (Miller 1974; Cook and Weisberg
/// 1982, eq. A.2.1), no refit. `forecast` are the prepared rows to be forecast, or null. Throws Stopped.
RowStory rowStory(const Evidence& evidence, const Recipe& recipe, const Table& table, const Table* forecast,
                  const std::string& file, std::uint32_t row, Threads threads, Progress& progress);

} // namespace oxgoad
