#pragma once
// Columns that say the response by their making: copies, sums, products, shares of it.
#include "base/parallel.h"
#include "base/progress.h"
#include "table/table.h"

#include <cstdint>
#include <functional>
#include <map>
#include <span>
#include <string>

namespace oxgoad {

/// Number columns that hold the response within rounding (a thousandth of its standard deviation in 99 of 100
/// rows): a multiple of it, or with one other column its sum, difference, product or share, or with several a
/// sum or difference; or a part of it or its whole, never on the other side of it and equal to it in some
/// rows. From the column to a phrase: "cost + margin is revenue". Looked for over `rows`, of many some 2,000
/// evenly spaced; among at most 1,000 columns. Columns `notSelected` take no part. Empty with fewer than
/// eight rows. Throws Stopped. Common practice, no source.
std::map<std::string, std::string> columnsThatHold(const Table& table, const std::string& response,
                                                   std::span<const std::uint32_t> rows,
                                                   const std::function<bool(const std::string&)>& notSelected,
                                                   const Progress& progress);

/// Whether a column is not there yet where the model is used: rows to be forecast lack it wholly. False
/// without such rows.
bool knownOnlyAfterwards(const Table* coming, const std::string& column);

} // namespace oxgoad
