#pragma once
// Tables of the Look station.
#include "study/look_at.h"
#include "workspace/grid_model.h"

#include <memory>
#include <vector>

namespace oxgoad {

/// One line a column, in the order given; lines of columns that are not ranked yet say so.
GridModel::Content rankingGrid(std::shared_ptr<const std::vector<RankedColumn>> ranking);

/// Sorts by a column of the ranking grid: 0 name, 1 and 3 what a curve explains, 2 straight, 4 bend, 5 rank
/// correlation by size, 6 adjusted p, 7 missing. Columns without the number come last both ways.
void sortRanking(std::vector<RankedColumn>& ranking, int column, bool descending);

/// Every column against every other, in an order that puts those that go together side by side, groups held
/// by brackets. The data row of a cell is the line and its raw value the strength.
GridModel::Content pairMatrix(std::shared_ptr<const Pairs> pairs);
/// The strongest pairs first; columns that go together have the number of their group.
inline constexpr std::size_t mostPairsListed = 100000;
GridModel::Content pairsGrid(std::shared_ptr<const Pairs> pairs);

} // namespace oxgoad
