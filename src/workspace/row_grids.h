#pragma once
// What the model says of one row, as tables.
#include "study/row_story.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <memory>

namespace oxgoad {

/// From the mean of the learning rows to the prediction, a step a term.
GridModel::Content ladderGrid(const Session& session, std::shared_ptr<const RowStory> story);
/// Where the row lies in each column's learning rows.
GridModel::Content placesGrid(std::shared_ptr<const RowStory> story);
/// The learning rows most like it.
GridModel::Content nearestGrid(const Session& session, std::shared_ptr<const RowStory> story);
/// Coefficients with the row and without it.
GridModel::Content withoutRowGrid(std::shared_ptr<const RowStory> story);
/// Rows left out by hand, with reasons.
GridModel::Content leftOutGrid(const Session& session);

/// "actual 227,171, predicted 219,003 (95 % 191,204 to 246,802), residual 8,168 …"
QString rowHeadline(const Session& session, const RowStory& story);
/// What leaving the row out would do to the total of the forecast; empty without.
QString totalWithoutText(const Session& session, const RowStory& story);

} // namespace oxgoad
