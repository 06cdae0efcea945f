#pragma once
// How far rows to be forecast stand from those learned from, by measures that ask no model.
#include "base/parallel.h"
#include "base/progress.h"
#include "forecast/forecast.h"
#include "recipe/recipe.h"
#include "study/study.h"

#include <string>
#include <vector>

namespace oxgoad {

struct ReachMeasure {
    /// Mean of Gower's distances (1971) to the five nearest learning rows, and the share of learning rows
    /// that stand farther from their own. NaN where a value is missing or was never learned.
    double distance = 0, share = 0;
    /// Whether the row lies outside the convex hull of the numbers of the learning rows, and by which columns
    /// it leaves it, that with most first; empty where it was not asked (see ReachMeasures::hull).
    std::string hull, leavesBy;
};

struct ReachMeasures {
    std::vector<ReachMeasure> rows;
    /// Over how many learning rows distances are taken, and over how many numbers the hull; or why there is
    /// none.
    std::size_t learningRows = 0;
    std::string hull;
};

/// Of at most 100,000 rows; distances from at most 5,000 learning rows, evenly spaced, and the hull of at
/// most 20,000 for at most 2,000 rows: in more than ten numbers nearly every row lies outside, which says
/// nothing. Throws Stopped.
ReachMeasures reachMeasures(const Study& study, const Table& learned, const Table& coming, Threads threads,
                            const Progress& progress);

/// The rules of the recipe's forecast, or the usual ones without.
ReachOptions reachOptionsOf(const Recipe& recipe);
std::string reachRulesText(const Recipe& recipe);
/// Grades rows to be forecast by these measures too, where the recipe asks for that; tells the reason.
void gradeByMeasures(ForecastEvidence& forecast, const ReachMeasures& measures, const ReachRules& rules);

/// reach_measures.csv: row, distance, share_farther, hull, leaves_by.
std::string reachMeasuresCsv(const ReachMeasures& measures);

} // namespace oxgoad
