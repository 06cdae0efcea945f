#pragma once
// Evidence as files.
#include "study/evaluate.h"
#include "study/evidence.h"
#include "table/table.h"

#include <array>
#include <filesystem>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace oxgoad {

/// coefficients.csv: name, estimate, standard_error, t, p, lower, upper.
std::string coefficientsCsv(const Evidence& evidence);
/// rows.csv: row, part, actual, fitted, residual, leverage, studentised_residual, cooks_distance,
/// and robust_weight of a robust estimator.
std::string rowsCsv(const Evidence& evidence);
/// forecast.csv: the given columns, then prediction, mean_lower, mean_upper, lower, upper, reach, reasons.
/// A given column of one of those names gets "given_" in front. Requires evidence.forecast.
std::string forecastCsv(const Evidence& evidence, const Table& rows);

/// influence.csv: row, leverage, deleted_residual, dffits, cooks_distance, and dfbetas_NAME for each
/// coefficient, one line a learning row. Without DFBETAS for other models than least squares.
std::string influenceCsv(const Evidence& evidence, const Table& table, const std::string& file,
                         Threads threads, Progress& progress);

/// Names and contents.
using NamedFiles = std::vector<std::pair<std::string, std::string>>;

/// Writes files into `folder`, which is made when it is not there. All are prepared in a folder beside it
/// first, so that nothing half-written is left when one cannot be written. Errors: cannotWrite.
void writeFiles(const std::filesystem::path& folder, const NamedFiles& files);

/// All files that a run can write, which is the only list of them.
inline constexpr std::array<std::string_view, 54> filesOfRuns{"evidence.json",
                                                              "coefficients.csv",
                                                              "rows.csv",
                                                              "summary.txt",
                                                              "forecast.csv",
                                                              "choice.json",
                                                              "chosen_recipe.json",
                                                              "comparison.txt",
                                                              "comparison.json",
                                                              "reading.txt",
                                                              "effects.csv",
                                                              "influence.csv",
                                                              "moves.json",
                                                              "what_helps.json",
                                                              "marginal_effects.csv",
                                                              "average_effects.csv",
                                                              "interactions.csv",
                                                              "row_curves.csv",
                                                              "contributions.csv",
                                                              "reach_measures.csv",
                                                              "rows_by_hand.json",
                                                              "path.csv",
                                                              "path_folds.csv",
                                                              "tuning.csv",
                                                              "halves.csv",
                                                              "learning_curve.csv",
                                                              "halves.txt",
                                                              "learning_curve.txt",
                                                              "totals.csv",
                                                              "cross_table.csv",
                                                              "scenarios.csv",
                                                              "reach_tested.json",
                                                              "clearance.json",
                                                              "nodes.csv",
                                                              "cut_points.csv",
                                                              "two_parts.csv",
                                                              "errors_in_time.csv",
                                                              "course.csv",
                                                              "forest.txt",
                                                              "average.csv",
                                                              "average.txt",
                                                              "boosted.txt",
                                                              "network.txt",
                                                              "formulas.csv",
                                                              "formula.txt",
                                                              "search.csv",
                                                              "search.txt",
                                                              "search.json",
                                                              "searched_recipe.json",
                                                              "errors_in_time.txt",
                                                              "ordered.txt",
                                                              "two_parts.txt",
                                                              "tree.txt",
                                                              "importance.csv"};

/// Writes evidence.json, coefficients.csv, rows.csv, summary.txt and, with a forecast, forecast.csv as
/// writeFiles does. `more` goes with them. Over an older run, files of that run which this one does not write
/// are taken away.
void writeEvidence(const std::filesystem::path& folder, const Recipe& recipe, const Evidence& evidence,
                   const StudyRows& rows, const NamedFiles& more = {});

} // namespace oxgoad
