#pragma once
// What the folds say, in the evidence and as readings and goads.
#include "study/evidence.h"

#include <nlohmann/json_fwd.hpp>

#include <memory>
#include <string>
#include <string_view>

namespace oxgoad {

/// The form documented in docs/evidence.md.
nlohmann::ordered_json foldsJson(const FoldEvidence& folds, const Recipe& recipe);

/// "typical error 14,162 ± 310 over 10 folds, seed 1".
std::string foldsSentence(const FoldEvidence& folds);

/// Puts what the folds found into the evidence, with the readings and goads that follow; those of folds that
/// were there before go. Accepted goads are marked.
void addFolds(const Recipe& recipe, std::shared_ptr<const FoldEvidence> folds, Evidence& evidence);

/// Key of the goad that says why a fit was not judged by its folds.
inline constexpr std::string_view unjudgedKey = "folds could not be judged";
/// Puts that goad into the evidence in place of folds: a fit is not refused because a fold's rows are too few
/// for it.
void addUnjudged(const Recipe& recipe, const std::string& why, Evidence& evidence);

} // namespace oxgoad
