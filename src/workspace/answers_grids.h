#pragma once
// Tables of what is asked of a forecast.
#include "workspace/grids.h"

namespace oxgoad {

/// A line a value down, a column a value across.
GridModel::Content crossGrid(const Session& session);
GridModel::Content scenariosGrid(const Session& session);
/// A line a step of each column's end.
GridModel::Content reachGrid(const Session& session);

} // namespace oxgoad
