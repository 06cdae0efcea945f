#pragma once
// What a drawing of a regression tree shows.
#include "estimate/tree/tree.h"
#include "workspace/session.h"

#include <cstdint>
#include <memory>
#include <optional>
#include <vector>

namespace oxgoad {

struct TreeView {
    std::shared_ptr<const Study> study;
    const TreeModel* model = nullptr;
    QString response, unit;
    std::vector<TreeStep> sequence;
    /// Of the learning rows, evenly spaced: their inputs and responses.
    Eigen::MatrixXd inputs;
    std::vector<double> actual;
    /// The selected row, if it has one.
    std::optional<std::uint32_t> row;
    std::vector<double> rowInputs;
    double rowActual = 0;
};

/// Null unless the model that is shown is a tree.
std::shared_ptr<const TreeView> treeView(const Session& session);
/// "age 6.5, below 9 → … → 29,300 EUR, from 203 rows": the way of some inputs to where they stay.
QString wayText(const TreeView& view, const double* inputs, double complexity);

} // namespace oxgoad
