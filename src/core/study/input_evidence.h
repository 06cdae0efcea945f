#pragma once
// What is said of the inputs of a model without coefficients.
#include "study/evidence.h"

#include <span>
#include <vector>

namespace oxgoad {

/// One an input: range, density, what the model predicts along it, and how much worse it predicts `judged`
/// rows (complete; their `actual` responses beside them) when the input is shuffled. At most 500 evenly
/// spaced ones are asked, three times, shuffled by a seed of their own: the same on every run and for any
/// number of threads. Throws Stopped.
std::vector<InputEvidence> describeInputs(const Study& study, const Table& table, const std::string& file,
                                          std::span<const std::uint32_t> judged,
                                          std::span<const double> actual, Threads threads,
                                          Progress& progress);

} // namespace oxgoad
