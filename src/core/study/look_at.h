#pragma once
// What a look is taken at: which rows, and which number of each.
#include "look/lines.h"
#include "look/pairs.h"
#include "look/ranking.h"
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// What stands up the plots and what columns are ranked against.
enum class Against { response, predicted, residual };
/// "response", "predicted", "residual".
std::string_view againstName(Against against);
std::optional<Against> againstNamed(std::string_view name);

/// The rows and numbers a look is taken at. Only learning rows are read off: held-out rows must stay able to
/// judge what was chosen by looking, and test rows are locked.
struct LookScope {
    /// One value a row of the table; NaN where there is none.
    std::vector<double> target;
    /// 1 for learning rows that nobody left out.
    std::vector<std::uint8_t> used;
    std::size_t rows = 0;
};

/// `evidence` may be null; then only the response can be looked at. Errors: unknownColumn, wrongType (the
/// response is not a number), badRecipe (no response, or predictions without a fit).
LookScope lookScope(const Recipe& recipe, const PreparedRows& prepared, const Evidence* evidence,
                    Against against);

/// Another column in place of the target: dates as days, factors as codes.
void lookAtColumn(LookScope& scope, const Column& column);
/// Leaves only rows whose `only` is not 0; all when it is empty.
void keepOnly(LookScope& scope, std::span<const std::uint8_t> only);

/// Scales on which a look is taken: on a logarithmic one the readings are those of natural logarithms.
struct LookScales {
    bool logX = false, logY = false;
    bool operator==(const LookScales&) const = default;
};

/// Values of the used rows that have both, and the rows' numbers; logarithms where the scale asks for them.
struct LookPoints {
    std::vector<double> x, y;
    std::vector<std::uint32_t> rows;
    /// Rows with both that a logarithmic scale has no place for.
    std::size_t notPositive = 0;
};
LookPoints pointsOf(const Column& x, const LookScope& scope, LookScales scales = {});
/// Codes of a factor at the points.
std::vector<std::int32_t> codesAt(const Column& factor, const LookPoints& points);

/// Columns that are offered as predictors, in the order of the table; text columns and the response are not.
std::vector<std::string> lookColumns(const Recipe& recipe, const Table& table);

/// Factors of 2 to `most` levels by which the slope of the target over `x` differs, by the test of equal
/// slopes.
struct SlopesBy {
    std::string factor;
    EqualSlopes test;
    /// For the number of factors tried (Holm 1979).
    double pAdjusted = 0;
};
/// Smallest p first; `x` is passed over among `columns`. Errors: unknownColumn. Throws Stopped.
std::vector<SlopesBy> slopesByFactor(const Table& table, const LookPoints& points, const std::string& x,
                                     const std::vector<std::string>& columns, std::size_t most,
                                     Threads threads, Progress& progress);

/// Everything the headless look gives.
struct LookReport {
    Against against = Against::response;
    std::string response;
    std::size_t rows = 0;
    /// Strongest first, by what curve or levels say of unseen rows.
    std::vector<RankedColumn> ranking;
    /// For each number of the ranking that has one: the factor its slope differs by most.
    std::vector<std::pair<std::string, SlopesBy>> slopes;
    Pairs pairs;
};
LookReport lookReport(const Recipe& recipe, const PreparedRows& prepared, const Evidence* evidence,
                      Against against, Threads threads, Progress& progress);

/// Strongest first: by what curve or levels say of unseen rows; those without a number last.
void sortByStrength(std::vector<RankedColumn>& ranking);

} // namespace oxgoad
