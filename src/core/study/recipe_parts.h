#pragma once
// The larger parts of a recipe's text: where rows come from, steps, rows set aside.
#include "prepare/step.h"
#include "read/source.h"
#include "resample/parts.h"
#include "study/json_reader.h"

#include <nlohmann/json.hpp>

namespace oxgoad {

/// A source's keys within an object whose other keys the caller asks for.
RowsSource parseSource(JsonObject& object);
void writeSource(nlohmann::ordered_json& out, const RowsSource& source);

/// A source, "stack", "origin" and "join".
RowsPlan parsePlan(const JsonValue& value);
nlohmann::ordered_json planJson(const RowsPlan& plan);

/// {"do": "fill missing", "columns": ["occupancy"], "with": "median"}; "off": true for a step that is
/// switched off.
Step parseStep(const JsonValue& value);
nlohmann::ordered_json stepJson(const Step& step);

SetAside parseSetAside(const JsonValue& value);
nlohmann::ordered_json setAsideJson(const SetAside& aside);

} // namespace oxgoad
