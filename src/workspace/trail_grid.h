#pragma once
// The trail as a list.
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <vector>

namespace oxgoad {

/// One line a fit of `fits` (numbers).
GridModel::Content trailGrid(const Session& session, std::vector<int> fits);
/// What the trail says of a fit when it is pointed at: change, errors, size, difference from where it came.
QString trailHint(const Session& session, int fit);

} // namespace oxgoad
