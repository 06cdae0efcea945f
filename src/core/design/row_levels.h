#pragma once
// Rows of a model matrix by the level that each has of one factor.
#include <Eigen/Core>

#include <cstdint>
#include <functional>
#include <span>
#include <vector>

namespace oxgoad {

/// The columns of a model matrix that are 1 at one level each of the same factor and 0 elsewhere, and the
/// others.
struct RowLevels {
    /// Of each row the level, an index into `columns`; columns.size() where none of them is 1.
    std::vector<std::uint32_t> of;
    /// Columns of the model matrix, rising.
    std::vector<Eigen::Index> columns;
    std::vector<Eigen::Index> rest;
    /// Writes the rest's columns at the rows at these places: places × rest. From any thread.
    std::function<void(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block)> fill;
};

} // namespace oxgoad
