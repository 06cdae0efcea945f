#pragma once
// What would help the fit, as a table.
#include "study/what_helps.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <memory>

namespace oxgoad {

/// A line a help, in their order; a tick puts one into the model with the terms it needs.
GridModel::Content helpsGrid(std::shared_ptr<const WhatHelps> helps, Session& session);

} // namespace oxgoad
