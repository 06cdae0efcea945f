#pragma once
// Tables of several fits beside each other.
#include "study/compare_many.h"
#include "study/compare_pairs.h"
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <memory>
#include <vector>

namespace oxgoad {

/// A fit and its number.
struct FitColumn {
    int number = 0;
    const Evidence* evidence = nullptr;
};

/// Errors, sizes, criteria and coefficients, a column a fit; of two fits their difference too. Null evidence
/// gives no lines.
GridModel::Content compareGrid(const Session& session, const std::vector<FitColumn>& fits);

/// What a comparison found; fits in the order of the columns.
struct ComparedFits {
    std::vector<int> numbers;
    std::vector<std::shared_ptr<const Evidence>> evidence;
    std::vector<PairComparison> pairs;
    /// One a pair: nested tests, criteria, what keeps two fits from being compared.
    std::vector<std::string> sentences;
    std::vector<DifferingRow> differing;
    std::vector<CommonCoefficient> coefficients;
};
/// A line a pair and measure.
GridModel::Content pairsGrid(const Session& session, std::shared_ptr<const ComparedFits> compared);
/// Coefficients per standard deviation of their column, a column a fit.
GridModel::Content commonGrid(const Session& session, std::shared_ptr<const ComparedFits> compared);
/// Rows where predictions lie furthest apart.
GridModel::Content differingGrid(const Session& session, std::shared_ptr<const ComparedFits> compared);

} // namespace oxgoad
