#pragma once
// What models without coefficients say of the rows they learned from, and of rows left out for it.
#include "estimate/model_kind.h"

#include <functional>
#include <memory>
#include <string_view>

namespace oxgoad {

/// What a model says of each learning row. Throws Stopped.
Eigen::VectorXd fittedBy(const LearnedModel& model, const TrainingData& training, const Progress& progress);

/// Deals the learning rows in so many parts by the seed and hands each, as what is learned without it and as
/// what was left out, with the places of its rows; `parts` of them, or only the first `take`. Rows keep their
/// order.
void forEachPart(const TrainingData& training, std::uint32_t parts, std::uint32_t take,
                 std::string_view purpose,
                 const std::function<void(const TrainingData& others, const TrainingData& left,
                                          std::span<const std::uint32_t> places)>& use);

/// Errors of rows that the model of the others had not seen, into `out`: in five parts, dealt by the seed,
/// or, of more than 20,000 rows, of one fifth. Nothing where none are asked for, for fewer rows than
/// `fewest`, or than ten. `learn` is also told which rows are left out.
void judgeByParts(const TrainingData& training, std::size_t fewest, TrainingResults& out, Progress& progress,
                  const std::function<std::shared_ptr<const LearnedModel>(const TrainingData& part,
                                                                          const TrainingData& left)>& learn);

} // namespace oxgoad
