#pragma once
// Rows of a model matrix by the level that each has of one factor.
#include <Eigen/Core>

#include <cstdint>
#include <functional>
#include <memory>
#include <span>
#include <vector>

namespace oxgoad {

/// The columns of a model matrix that are 0 but at one level each of the same factor, and the others. A level
/// has a few of its own: 1 where a row has the level, and products of that with something else, a slot each.
struct RowLevels {
    using Index = Eigen::Index;
    /// Of each row its level, counted from 0; `levels` where it has none with columns.
    std::vector<std::uint32_t> of;
    Index levels = 0;
    Index perLevel = 1;
    /// Of each level and slot (level·perLevel + slot) the column of the model matrix, −1 where there is none;
    /// rising within a level. The first slot is that of the columns that are 1 if `ones`.
    std::vector<Index> columns;
    bool ones = true;
    /// The other columns, rising.
    std::vector<Index> rest;
    /// Writes the rest's columns at the rows at these places: places × rest. From any thread.
    std::function<void(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block)> fill;
    /// What each slot is at these rows whatever their level: places × perLevel. None where the only slot
    /// is 1.
    std::function<void(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block)> fillOwn;

    /// Another factor by whose levels rows of a level meet: columns of the rest that are the same wherever it
    /// has the same level.
    struct Second {
        std::vector<std::uint32_t> of;
        Index levels = 0;
        /// Their places in `rest`, rising, and what they are: levels × places.
        std::vector<Index> places;
        Eigen::MatrixXd values;
        /// The other places, and what writes their columns, as `fill` does.
        std::vector<Index> others;
        std::function<void(std::span<const std::uint32_t> places, Eigen::Ref<Eigen::MatrixXd> block)> fill;
    };
    /// Null where no other factor makes many columns.
    std::shared_ptr<const Second> second;

    Index column(Index level, Index slot) const {
        return columns[static_cast<std::size_t>(level * perLevel + slot)];
    }
};

} // namespace oxgoad
