#pragma once
// What models without coefficients say of the rows they learned from, and of rows left out for it.
#include "estimate/model_kind.h"

#include <functional>
#include <memory>

namespace oxgoad {

/// What a model says of each learning row. Throws Stopped.
Eigen::VectorXd fittedBy(const LearnedModel& model, const TrainingData& training, const Progress& progress);

/// Errors of rows that the model of the others had not seen, into `out`: in five parts, dealt by the seed,
/// or, of more than 20,000 rows, of one fifth. Nothing where none are asked for, for fewer rows than
/// `fewest`, or than ten. `learn` is also told which rows are left out.
void judgeByParts(const TrainingData& training, std::size_t fewest, TrainingResults& out, Progress& progress,
                  const std::function<std::shared_ptr<const LearnedModel>(const TrainingData& part,
                                                                          const TrainingData& left)>& learn);

} // namespace oxgoad
