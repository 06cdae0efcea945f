#pragma once
// The recipe: everything the analyst decided, as a small readable text.
#include "design/term.h"
#include "estimate/model_kind.h"
#include "prepare/step.h"
#include "read/source.h"
#include "recipe/choose_plan.h"
#include "recipe/forecast_plan.h"
#include "recipe/goad.h"
#include "resample/folds.h"
#include "resample/parts.h"

#include <cstdint>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// A row left out of learning and judging, with the analyst's reason. Rows count from 1.
struct LeftOutRow {
    std::size_t row = 0;
    std::string reason;
    bool operator==(const LeftOutRow&) const = default;
};

struct AcceptedGoad {
    std::string goad;
    std::string reason;
    /// Goad::size when it was accepted; the goad is open again once it is clearly worse.
    std::optional<double> size{};
    bool operator==(const AcceptedGoad&) const = default;
};

/// Something the analyst saw and wants answered before the forecast is used: it stands among the goads.
struct NotedGoad {
    std::string column;
    std::string says;
    bool operator==(const NotedGoad&) const = default;
};

/// What an analyst says of a check, by the name of its reading, or of all "curvature: COLUMN" by "curvature".
struct CheckSetting {
    bool off = false;
    /// Why it is off, or why its threshold is another.
    std::string reason{};
    /// In place of the usual one: of p where the reading has a p, of the value otherwise.
    std::optional<double> threshold{};
    bool operator==(const CheckSetting&) const = default;
};

/// "least squares", "Huber's robust regression", "5 nearest neighbours".
std::string estimatorText(const Settings& estimator);

/// How the standard errors of least squares are worked out.
struct Errors {
    CovarianceKind kind = CovarianceKind::homoskedastic;
    /// Groups, or periods.
    std::string column;
    /// Serial: periods to look back, -1 for the usual number.
    int lags = -1;
    bool operator==(const Errors&) const = default;
};
/// "errors for equal spread", "HC3 errors", "errors by depot", "errors for 12 lags of month".
std::string errorsText(const Errors& errors);

/// What a column is for. Columns without a role are predictors.
enum class Role { predictor, weight, time, group, identifier, setAside, offset };
/// "predictor", "weight", "time", "group", "identifier", "set aside", "offset".
std::string_view roleName(Role role);
std::optional<Role> roleNamed(std::string_view name);

/// That a program chose the terms by looking at the rows, and what it saw. Changes no number: tests and
/// intervals after it are marked as optimistic.
struct ChosenTerms {
    /// "forward by cross-validated error".
    std::string how;
    /// Terms that were tried.
    std::size_t tried = 0;
    /// Share of the folds in which each chosen term was chosen again, by name.
    std::vector<std::pair<std::string, double>> shares;
    /// Terms that were not chosen though they would be significant: name and p when added.
    std::vector<std::pair<std::string, double>> notSelected;
    bool operator==(const ChosenTerms&) const = default;
};

struct Recipe {
    RowsPlan rows;
    /// Preparation, in order.
    std::vector<Step> steps;
    std::map<std::string, Role> roles;
    std::string response;
    std::vector<Term> terms;
    bool intercept = true;
    std::map<std::string, std::string> reference;
    Settings estimator;
    Errors errors;
    /// The model is one of ln(response), predictions are carried back.
    bool logResponse = false;
    /// Confidence level of coefficient intervals.
    double level = 0.95;
    std::optional<SetAside> setAside;
    /// How the model is judged by models that learn from some of the learning rows.
    std::optional<FoldPlan> judge;
    /// Which of the terms are in the model is learned, too.
    std::optional<ChoosePlan> choose;
    std::optional<ForecastRequest> forecast;
    /// What would happen otherwise, over the rows to be forecast.
    std::vector<Scenario> scenarios;
    /// Rows told by hand.
    std::vector<HandRow> handRows;
    /// Change no number.
    std::optional<Clearance> clearance;
    std::vector<Delivery> deliveries;
    std::vector<LeftOutRow> leaveOut;
    std::vector<AcceptedGoad> accepted;
    std::vector<NotedGoad> noted;
    /// Checks that are off or have another threshold.
    std::map<std::string, CheckSetting> checks;
    std::optional<ChosenTerms> chosen;
    /// Units of columns, for people: "EUR a month".
    std::map<std::string, std::string> units;

    bool operator==(const Recipe&) const = default;
};

/// Reads the form documented in docs/recipe.md. Errors (badRecipe) name the file, the line where the text is
/// not JSON, or the path of the key: "terms[2].power". Unknown and doubled keys are refused.
Recipe parseRecipe(std::string_view json, const std::string& name);
Recipe readRecipe(const std::filesystem::path& path);

/// Role of a column that is neither the response nor left without one.
Role roleOf(const Recipe& recipe, const std::string& column);

/// The column with a role that only one may have, weight or offset; empty without.
std::string columnWith(const Recipe& recipe, Role role);

/// False for weights, offsets, identifiers and columns that are set aside: they are not offered as
/// predictors.
bool isOffered(const Recipe& recipe, const std::string& column);

/// Text that parseRecipe reads back to an equal recipe.
std::string recipeText(const Recipe& recipe);

/// The goads of what was noted, with the moves to see it and to drop it.
std::vector<Goad> notedGoads(const Recipe& recipe);

/// The setting of a check by the name of its reading: its own, or that of all that share the part before
/// ": ". Null without one.
const CheckSetting* checkSetting(const Recipe& recipe, std::string_view reading);

/// Marks a goad as accepted where the recipe accepts it, unless its size is above 1.5 times of what it was
/// when it was accepted (common practice, no source).
void markAccepted(const Recipe& recipe, Goad& goad);

/// True when two recipes learn the same from the same rows: they differ at most in what is asked of the model
/// afterwards (levels of intervals, rows to be forecast, folds, checks) and in what sameModel passes over. Of
/// a quantile regression the level of intervals of single values is learned.
bool learnsTheSame(const Recipe& a, const Recipe& b);

/// True when two recipes give the same fit: they differ at most in accepted and noted goads, units, and roles
/// other than weight and offset (units, time and group count for kinds that read them).
bool sameModel(const Recipe& a, const Recipe& b);

} // namespace oxgoad
