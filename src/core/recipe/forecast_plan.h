#pragma once
// What is asked of a forecast: intervals, totals, a cross table, scenarios, how far it was tested.
#include "read/source.h"

#include <nlohmann/json_fwd.hpp>

#include <optional>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace oxgoad {

class JsonObject;
class JsonValue;

/// How intervals of single values are made; `usual` is what the kind of model gives.
enum class IntervalWay { usual, theory, quantiles, resampled, outOfFold };
/// "theory", "quantiles", "resampled", "out of fold"; "usual".
std::string_view intervalWayName(IntervalWay way);

enum class Stretch { none, day, week, month, quarter, year };
/// "day", "week", …; "" for none.
std::string_view stretchName(Stretch stretch);

/// What rows are parted by: the values of a column, a stretch of a date, bands of a number with as many rows
/// each.
struct Segment {
    std::string column;
    Stretch stretch = Stretch::none;
    int bands = 0;
    bool operator==(const Segment&) const = default;
};
/// "region", "quarter of month", "4 bands of list_rate".
std::string segmentText(const Segment& segment);

/// A total for each combination of the segments that rows have; of all rows without segments.
struct TotalRequest {
    std::vector<Segment> by{};
    bool operator==(const TotalRequest&) const = default;
};

/// What a cross table shows in each cell.
enum class CrossMeasure {
    sumOfPredicted,
    meanOfPredicted,
    shareOfPredicted,
    sumOfActual,
    meanOfActual,
    sumOfDifference,
    meanOfDifference,
    rows,
    interval
};
/// "sum of predicted", "share of predicted", "rows", "width of the interval" …
std::string_view crossMeasureName(CrossMeasure measure);

struct CrossTable {
    Segment down, across;
    CrossMeasure measure = CrossMeasure::sumOfPredicted;
    bool operator==(const CrossTable&) const = default;
};

/// By which rules rows are graded inside, at the edge or outside of what was learned from.
struct ReachRules {
    /// See ReachOptions.
    double edgeShare = 0.05, edgeDistance = 3, outsideDistance = 2;
    /// A row outside of the convex hull of the numbers is at the edge at least.
    bool hull = false;
    /// So is one whose distance to the nearest learning rows less than this share of these have to theirs; 0:
    /// not asked.
    double nearest = 0;
    bool operator==(const ReachRules&) const = default;
};

/// Rows to be forecast: a source like any other, and what is asked of them. The joins of the rows are made
/// with them too.
struct ForecastRequest : RowsSource {
    double level = 0.95;
    IntervalWay intervals = IntervalWay::usual;
    std::vector<TotalRequest> totals{};
    std::optional<CrossTable> crossTable{};
    /// Columns along which the model is asked to go beyond what it learned from.
    std::vector<std::string> testReach{};
    ReachRules reach{};
    bool operator==(const ForecastRequest&) const = default;
};

/// One column changed.
struct ColumnChange {
    enum class How { by, byPercent, to };
    std::string column;
    How how = How::by;
    /// An amount in the column's unit, per cent, or the new value: a number, or the text of a level or a
    /// date.
    std::variant<double, std::string> value = 0.0;
    bool operator==(const ColumnChange&) const = default;
};

/// Rows to be forecast as they could be otherwise.
struct Scenario {
    std::string name;
    /// A condition over the columns as they are read (see Expression); empty for all rows.
    std::string where{};
    std::vector<ColumnChange> change{};
    bool operator==(const Scenario&) const = default;
};
/// "list_rate + 5 % where contract = "annual"".
std::string scenarioText(const Scenario& scenario);

/// A row told by hand, and what is asked of it.
struct HandRow {
    using Value = std::variant<double, std::string>;
    std::string name;
    /// Columns as they are read; the others have their usual values.
    std::vector<std::pair<std::string, Value>> values{};
    /// A prediction to be reached, and the column by which.
    struct Target {
        std::string column;
        double prediction = 0;
        bool operator==(const Target&) const = default;
    };
    std::optional<Target> target{};
    bool operator==(const HandRow&) const = default;
};

/// Who clears a forecast for use, and when: free text.
struct Clearance {
    std::string by{}, on{}, says{};
    bool operator==(const Clearance&) const = default;
};

/// What came of a forecast whose truth is known by now, as it is kept.
struct Delivery {
    /// Rows that were forecast, those with intervals among them, and those within.
    struct Part {
        std::size_t rows = 0, withIntervals = 0, inside = 0;
        /// Sums of actual less predicted, and of its squares.
        double errors = 0, squares = 0;
        bool operator==(const Part&) const = default;
    };
    std::string file{}, on{}, fingerprint{};
    double level = 0.95;
    /// Root mean squared error that was to be expected; NaN is not kept.
    std::optional<double> expected{};
    /// All rows, and those graded outside.
    Part all{}, outside{};
    bool operator==(const Delivery&) const = default;
};

/// The keys of recipe.md under "forecast", "scenarios" and "clearance". Errors: badRecipe with the path.
ForecastRequest parseForecast(const JsonValue& value);
nlohmann::ordered_json forecastJson(const ForecastRequest& request);
std::vector<Scenario> parseScenarios(const JsonValue& value);
nlohmann::ordered_json scenariosJson(const std::vector<Scenario>& scenarios);
std::vector<HandRow> parseHandRows(const JsonValue& value);
nlohmann::ordered_json handRowsJson(const std::vector<HandRow>& rows);
Clearance parseClearance(const JsonValue& value);
nlohmann::ordered_json clearanceJson(const Clearance& clearance);
std::vector<Delivery> parseDeliveries(const JsonValue& value);
nlohmann::ordered_json deliveriesJson(const std::vector<Delivery>& deliveries);

} // namespace oxgoad
