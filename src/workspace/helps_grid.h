#pragma once
// What would help the fit, as a table.
#include "study/what_helps.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <memory>
#include <vector>

namespace oxgoad {

/// What would help with the names it is shown under: of tens of thousands they are made once, off the window.
struct ListedHelps {
    explicit ListedHelps(WhatHelps found);
    WhatHelps what;
    std::vector<QString> names;
};

/// A line a help, in their order, of those with `find` in their name, in capitals or not; a tick puts one
/// into the model with the terms it needs.
GridModel::Content helpsGrid(std::shared_ptr<const ListedHelps> listed, Session& session,
                             const QString& find = {});

} // namespace oxgoad
