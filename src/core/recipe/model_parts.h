#pragma once
// The model's part of a recipe's text: terms, estimator, errors.
#include "recipe/json_reader.h"
#include "recipe/recipe.h"

#include <nlohmann/json.hpp>

#include <string_view>

namespace oxgoad {

/// "places", {"log": "places"}, {"column": "places", "as": "curve", "knots": 4}, {"product": [...]}.
Term parseTerm(const JsonValue& value);
nlohmann::ordered_json termJson(const Term& term);

/// {"kind": "robust", "function": "Huber"}: a kind of model and its fields.
Settings parseEstimator(const JsonValue& value);
nlohmann::ordered_json estimatorJson(const Settings& estimator);

/// {"kind": "HC3"}, {"kind": "serial", "column": "month", "lags": 12}.
Errors parseErrors(const JsonValue& value);
nlohmann::ordered_json errorsJson(const Errors& errors);
/// {"how": "forward by BIC", "tried": 22, "shares": {"places": 1}, "passed_over": {"dock_hours": 0.01}}.
ChosenTerms parseChosen(const JsonValue& value);
nlohmann::ordered_json chosenJson(const ChosenTerms& chosen);

/// "HC3", "by group".
std::string_view covarianceKindName(CovarianceKind kind);

} // namespace oxgoad
