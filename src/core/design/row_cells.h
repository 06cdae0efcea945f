#pragma once
// Rows of a model matrix by what their levels are: in a cell of rows with the same levels each column is a
// multiple of one number of the row, or is the same in all of them.
#include <Eigen/Core>

#include <cstdint>
#include <functional>
#include <span>
#include <vector>

namespace oxgoad {

struct RowCells {
    /// Of each row; below `count`. Every cell has a row.
    std::vector<std::uint32_t> cellOf;
    Eigen::Index count = 0;
    /// Numbers by which the rows of a cell differ.
    Eigen::Index numbers = 0;
    /// Of each column of the model matrix the number that it goes by, or none.
    static constexpr Eigen::Index none = -1;
    std::vector<Eigen::Index> numberOf;
    /// count × columns: what the number is times, or what the column is where it goes by none.
    Eigen::MatrixXd multiple;
    /// Writes the numbers of the rows at these places: places × numbers. From any thread.
    std::function<void(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block)> fill;
};

} // namespace oxgoad
