#pragma once
// What the views of a look read off the rows.
#include "look/curve.h"
#include "look/levels.h"
#include "look/series.h"
#include "look/shape.h"
#include "study/look_at.h"

namespace oxgoad {

/// What is asked of a number or date against the target.
struct AgainstQuestion {
    /// A factor, or empty for all rows together.
    std::string group;
    LookScales scales;
    /// A curve for each group beside its line.
    bool groupCurves = false;
    /// Bands of x whose means are wanted; 0 for none.
    std::size_t bands = 0;
    /// Factors of at most this many levels are tried for slopes that differ; 0 for none.
    std::size_t mostGroups = 12;
};

struct AgainstReading {
    LookPoints points;
    /// One for all rows, or one a group.
    GroupLines lines;
    /// For all rows, or one a line of `lines`; empty where there is none.
    std::vector<std::optional<Curve>> curves;
    /// Of all rows; NaN with groups.
    CrossValidated unseen{};
    std::optional<BendTerm> bend;
    /// The curve explains more of unseen rows: by a hundredth of the variance, which is seen by eye, or by
    /// less with the test of the bend below 1 %.
    bool bends = false;
    /// When its p is below 0.1 % and the ratio above 1.5.
    std::optional<SpreadTrend> spread;
    std::vector<SlopesBy> slopesBy;
    std::vector<BandMean> bands;
};

/// `columns` are those whose factors are tried for slopes that differ. That, the bend's test and the spread
/// are read off at most 200,000 evenly spaced rows; line and curve off all. Rows the target or the column
/// lacks are passed over. Errors: unknownColumn. Throws Stopped.
AgainstReading readAgainst(const Table& table, const Column& x, const LookScope& scope,
                           const std::vector<std::string>& columns, const AgainstQuestion& question,
                           Threads threads, Progress& progress);

/// The target along the dates of the rows.
struct Course {
    /// The column with the role time, or the first of dates.
    const Column* dates = nullptr;
    Period period = Period::month;
    Series whole;
    /// One a level of the group; empty without one.
    std::vector<Series> groups;
    /// Largest over smallest mean of the groups, by size; 1 without.
    double apart = 1;
    std::optional<Season> season;
    /// For 1 … 24 periods later, at most half of them; empty when a period has no rows.
    std::vector<double> autocorrelation;
    /// An autocorrelation beyond this is more than chance: 1.96/√n (Box, Jenkins and Reinsel 2008, §2.1.6).
    double chance = 0;
    /// A factor that is offered, whose levels each lie in one month of the year.
    const Column* monthFactor = nullptr;
};
/// Empty when there is no column of dates. `byYears` makes periods long enough for a season.
std::optional<Course> readCourse(const Recipe& recipe, const Table& table, const LookScope& scope,
                                 const std::string& group, Summing summing, bool byYears);

} // namespace oxgoad
