#pragma once
// The ledger for people at a terminal, and for programs.
#include "study/prepare_rows.h"

#include "ledger/drift.h"

#include <string>
#include <string_view>

namespace oxgoad {

/// One line a column in columns that line up, then the rows as a whole, the steps, the parts and what is odd.
/// Control characters in names and levels are shown as "·", so that data cannot steer a terminal.
std::string ledgerText(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared);

/// The same as JSON, documented in docs/evidence.md. Numbers read back exactly; NaN is null.
/// What changed between two readings, as lines and as JSON.
std::string driftText(const Drift& drift);
std::string driftJson(const Drift& drift);

std::string ledgerJson(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared);

} // namespace oxgoad
