#pragma once
// The larger parts of a recipe's text: where rows come from, steps, rows set aside, folds.
#include "prepare/step.h"
#include "read/source.h"
#include "recipe/choose_plan.h"
#include "recipe/json_reader.h"
#include "resample/folds.h"
#include "resample/parts.h"

#include <nlohmann/json.hpp>

#include <span>

namespace oxgoad {

/// A source's keys within an object whose other keys the caller asks for.
RowsSource parseSource(JsonObject& object);
void writeSource(nlohmann::ordered_json& out, const RowsSource& source);

/// A source, "stack", "origin" and "join".
RowsPlan parsePlan(const JsonValue& value);
nlohmann::ordered_json planJson(const RowsPlan& plan);

/// One value, as its field is told. It is not checked yet.
FieldValue parseField(const Field& field, const JsonValue& value);
/// The values of fields that are there among an object's keys. They are not checked yet.
FieldValues parseFields(JsonObject& object, std::span<const Field> fields);
nlohmann::ordered_json fieldJson(const FieldValue& value);

/// {"do": "fill missing", "columns": ["occupancy"], "with": "median"}; "off": true for a step that is
/// switched off.
Step parseStep(const JsonValue& value);
nlohmann::ordered_json stepJson(const Step& step);

SetAside parseSetAside(const JsonValue& value);
nlohmann::ordered_json setAsideJson(const SetAside& aside);

/// {"kind": "k folds", "folds": 10, "repeats": 1, "seed": 1}, {"kind": "leave one out"},
/// {"kind": "rolling origin", "column": "month", "folds": 6, "horizon": 3, "gap": 0}.
FoldPlan parseFoldPlan(const JsonValue& value);
nlohmann::ordered_json foldPlanJson(const FoldPlan& plan);

/// {"way": "forward", "by": "AICc", "steps": 10, "folds": 5, "enter": 0.05, "leave": 0.1}.
ChoosePlan parseChoosePlan(const JsonValue& value);
nlohmann::ordered_json choosePlanJson(const ChoosePlan& plan);

} // namespace oxgoad
