#pragma once
// Which points lie within a line drawn round them.
#include <span>
#include <vector>

namespace oxgoad {

/// A closed outline; its last corner is joined to its first.
class Outline {
public:
    Outline(std::span<const double> x, std::span<const double> y);
    /// By the even–odd rule (Shimrat 1962, "Algorithm 112: position of point relative to polygon"). False for
    /// NaN and for outlines of fewer than three corners.
    bool contains(double x, double y) const;

private:
    std::vector<double> m_x, m_y;
    double m_left = 0, m_right = -1, m_bottom = 0, m_top = -1;
};

} // namespace oxgoad
