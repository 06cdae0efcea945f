#pragma once
// A program as a graph of the open neural network exchange format.
#include "hand_on/program.h"

#include <string>

namespace oxgoad {

/// Opset 13 of the standard's own operators and 2 of its machine-learning part, everything in double
/// precision. An input of shape [rows, 1] a column, by its name: doubles, days since 1970-01-01 for dates,
/// and texts, empty where missing; outputs `prediction`, `lower` and `upper` (NaN where there is none), and
/// `outside`. Errors: badTerm for texts that are put together.
std::string onnxOf(const Program& program);

} // namespace oxgoad
