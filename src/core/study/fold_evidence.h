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

/// The reading and the goads that the folds of the evidence bring, or why they could not be judged.
Findings foldFindings(const Evidence& evidence);

/// Key of the goad that says why a fit was not judged by its folds.
inline constexpr std::string_view unjudgedKey = "folds could not be judged";
/// Key of the goad that says that the test is worse than was to be expected.
inline constexpr std::string_view testDisappointsKey = "test error disappoints";

} // namespace oxgoad
