#pragma once
// Whether two tables are the same without looking at their values.
#include "table/table.h"

#include <algorithm>

namespace oxgoad {

/// The same columns in the same order, each sharing its values with the other's.
inline bool sameTable(const Table& a, const Table& b) {
    return a.columns().size() == b.columns().size() &&
           std::equal(
               a.columns().begin(), a.columns().end(), b.columns().begin(),
               [](const Column& x, const Column& y) { return x.name() == y.name() && x.sharesValues(y); });
}

} // namespace oxgoad
