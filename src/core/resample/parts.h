#pragma once
// Setting rows aside, and how well predictions do on each part.
#include "base/progress.h"
#include "table/table.h"

#include <Eigen/Core>

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// Learning rows make the model, held-out rows validate it as often as one likes, test rows are locked.
enum class Part : std::uint8_t { learning, heldOut, test };
std::string_view partName(Part part);

/// How rows are set aside.
enum class SetAsideKind {
    /// At random.
    random,
    /// At random within the levels of a factor, or within bands of a number, so that all parts have the same
    /// mix.
    proportionate,
    /// The first rows learn, those after them are held out, the last are the test.
    firstRows,
    /// A column says it.
    column,
    /// Whole groups at random: no group is in two parts.
    groups,
    /// The latest periods: learning rows lie before held-out rows, and these before test rows.
    latest,
};
/// "random", "in proportion", "first rows", "column", "groups", "latest": the words of recipes.
std::string_view setAsideName(SetAsideKind kind);
std::optional<SetAsideKind> setAsideNamed(std::string_view name);

struct SetAside {
    SetAsideKind kind = SetAsideKind::random;
    /// Of all rows.
    double share = 0.25;
    double testShare = 0;
    std::uint64_t seed = 1;
    /// What it goes by; empty for random and first rows.
    std::string column{};
    /// For a number that is kept in proportion.
    int bands = 5;
    /// For `column`: the values that mean held out and test.
    std::vector<std::string> heldOutValues{};
    std::vector<std::string> testValues{};
    /// The rows held out learn with the others, once the model is chosen: test rows stay the same ones.
    bool heldOutLearn = false;
    bool operator==(const SetAside&) const = default;
};

/// "25 % at random, seed 7", "by depot, 20 %, seed 3", "the latest 20 % by month": how it reads in a
/// sentence.
std::string setAsideText(const SetAside& aside);

/// The same after a number of rows: "held out at random, seed 7", "held out by whole depot, seed 3".
std::string judgedText(const SetAside& aside);

/// The part of every row of the table; all learn when nothing is set aside, and held-out rows do when they
/// are told to. Random parts depend on the seed and on the number of rows (the mix, the groups) only. Missing
/// values of the column are a group, a level or a band of their own; a row without a date learns. Stratified
/// sampling: Cochran (1977), "Sampling techniques", ch. 5. Errors: unknownColumn, wrongType, badParts (shares
/// that leave nothing to learn from, a value no row has, one group that holds all rows).
std::vector<Part> assignParts(const Table& table, const std::optional<SetAside>& aside,
                              const std::string& file);

/// What is in a part: its rows and the response there.
struct PartSummary {
    Part part = Part::learning;
    std::size_t rows = 0;
    /// Rows with a response.
    std::size_t withResponse = 0;
    double mean = 0;
    /// Divisor n - 1.
    double standardDeviation = 0;
    /// "column: level" for levels rows of this part have and no learning row has.
    std::vector<std::string> unseenLevels;
    /// Something to know of how rows came here; usually empty.
    std::string note{};
};
/// One summary for each part that has rows. `used` says which rows count; NaN where a mean cannot be said,
/// and for test rows: what they answer is not looked at here. Throws Stopped.
std::vector<PartSummary> summarizeParts(const Table& table, std::span<const Part> parts,
                                        std::span<const std::uint8_t> used, const std::string& response,
                                        const Progress& progress = {});

/// How predictions compare with actual values. NaN where it cannot be said.
struct Scores {
    std::size_t rows = 0;
    double rmse = 0;
    double mae = 0;
    /// 1 - SSE / sum of squares about these rows' own mean.
    double rSquared = 0;
    /// Σ|e| over Σ|y - m|, and Σe² over Σ(y - m)², m the mean of the learning rows: below 1 is better than
    /// always predicting that mean (Witten, Frank and Hall 2011, "Data mining", 3rd ed., §5.8).
    double relativeAbsoluteError = 0;
    double relativeSquaredError = 0;
    /// Standard error of rmse, from the spread of the squared errors (delta method).
    double rmseError = 0;
    double meanActual = 0;
};

Scores score(std::span<const double> actual, std::span<const double> predicted, double learningMean);

} // namespace oxgoad
