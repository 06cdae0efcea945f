#pragma once
// Grid of the terms a choice was made from.
#include "study/choose_terms.h"
#include "workspace/grid_model.h"

#include <memory>

namespace oxgoad {

/// The chosen terms first, in the order they came in.
GridModel::Content chooseGrid(std::shared_ptr<const Choice> choice);

} // namespace oxgoad
