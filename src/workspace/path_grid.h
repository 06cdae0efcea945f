#pragma once
// The columns of a path of penalties at one of its places.
#include "study/path_view.h"
#include "workspace/grid_model.h"

#include <memory>

namespace oxgoad {

/// One line a column that is in anywhere, those that are in at the place first; `halves` may be null.
GridModel::Content pathGrid(std::shared_ptr<const PathView> view, std::size_t place,
                            std::shared_ptr<const StabilitySelection> halves, const Recipe& recipe,
                            bool perDeviation);

} // namespace oxgoad
