#pragma once
// A look as files and text.
#include "base/progress.h"
#include "study/look_at.h"

#include <cstddef>
#include <filesystem>
#include <string>

namespace oxgoad {

/// How many of the strongest pairs are written: more are for no reader, and files of gigabytes with thousands
/// of columns.
inline constexpr std::size_t mostPairsOfJson = 10000, mostPairsOfCsv = 1000000;

/// look.json, documented in docs/evidence.md. Numbers read back exactly; NaN is null.
std::string lookJson(const LookReport& report);
/// ranking.csv: column, kind, rows, missing_share, straight_r2, straight_unseen_r2, curved_unseen_r2,
/// rank_correlation, p, p_adjusted.
std::string rankingCsv(const LookReport& report);
/// pairs.csv: column_a, column_b, measure, value, rows, group_a, group_b; strongest first.
std::string pairsCsv(const LookReport& report, const Progress& progress = Progress());
/// Writes the three into `folder`, which is made when it is not there. Errors: cannotWrite.
void writeLook(const std::filesystem::path& folder, const LookReport& report,
               const Progress& progress = Progress());

} // namespace oxgoad
