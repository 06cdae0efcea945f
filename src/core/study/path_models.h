#pragma once
// The models of a path at rows.
#include "design/held_rows.h"

#include <Eigen/Core>

#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// Linear models that follow each other on a path, most of which keep few columns: what they say at rows is
/// worked out from the columns that any of them keeps, in the order in which they come in.
class PathModels {
public:
    /// Coefficients, one a column, and the constant.
    void add(const Eigen::VectorXd& coefficients, double constant);
    Eigen::Index count() const { return static_cast<Eigen::Index>(m_constants.size()); }
    /// What each says at rows by their places: places × models. `columns` is room for the columns.
    void say(const HeldRows& rows, std::span<const std::uint32_t> places, Eigen::MatrixXd& columns,
             Eigen::MatrixXd& said) const;

private:
    struct Kept {
        std::vector<Eigen::Index> at; // among m_columns
        std::vector<double> coefficients;
    };
    std::vector<Kept> m_models;
    std::vector<double> m_constants;
    /// In the order in which they come in, and the place there of each that came in; −1 of others.
    std::vector<Eigen::Index> m_columns, m_placeOf;
};

} // namespace oxgoad
