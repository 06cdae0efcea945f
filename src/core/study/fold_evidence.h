#pragma once
// What the folds say, in the evidence and as readings and goads.
#include "study/evidence.h"

#include <nlohmann/json_fwd.hpp>

#include <memory>
#include <string>

namespace oxgoad {

/// The form documented in docs/evidence.md.
nlohmann::ordered_json foldsJson(const FoldEvidence& folds, const Recipe& recipe);

/// "typical error 14,162 ± 310 over 10 folds, seed 1".
std::string foldsSentence(const FoldEvidence& folds);

/// Puts what the folds found into the evidence, with the readings and goads that follow; those of folds that
/// were there before go. Accepted goads are marked.
void addFolds(const Recipe& recipe, std::shared_ptr<const FoldEvidence> folds, Evidence& evidence);

} // namespace oxgoad
