#pragma once
// The course of learning as text: part of a model, and a table of the evidence.
#include "model/learned_model.h"

#include <nlohmann/json_fwd.hpp>

namespace oxgoad {

nlohmann::json courseJson(const LearningCourse& course);
/// Throws what guardedRead makes an Error of.
LearningCourse courseFrom(const nlohmann::json& json);
/// Puts the course into a part of the evidence: its JSON under "course", a line for every step as
/// course.csv, what it says as text.
void putCourse(const LearningCourse& course, nlohmann::json& said, ModelPart& part);

} // namespace oxgoad
