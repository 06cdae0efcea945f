#pragma once
// Why a goad is one, in three sentences.
#include "recipe/goad.h"

#include <string>

namespace oxgoad {

struct Explanation {
    /// What it is, why it matters here with this model's own numbers, what usually answers it.
    std::string what, here, answers;
    /// Heading in docs/methods.md where formula and source stand.
    std::string help;
};

/// For goads of checks, of rows and of the recipe alike; never empty.
Explanation explain(const Goad& goad);

} // namespace oxgoad
