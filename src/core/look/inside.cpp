#include "look/inside.h"

#include <algorithm>

namespace oxgoad {

Outline::Outline(std::span<const double> x, std::span<const double> y)
    : m_x(x.begin(), x.end()), m_y(y.begin(), y.end()) {
    if (x.size() < 3) return;
    const auto [left, right] = std::ranges::minmax(m_x);
    const auto [bottom, top] = std::ranges::minmax(m_y);
    m_left = left;
    m_right = right;
    m_bottom = bottom;
    m_top = top;
}

bool Outline::contains(double x, double y) const {
    if (!(x >= m_left && x <= m_right && y >= m_bottom && y <= m_top)) return false;
    bool inside = false;
    for (std::size_t i = 0, before = m_x.size() - 1; i < m_x.size(); before = i++)
        if ((m_y[i] > y) != (m_y[before] > y) &&
            x < m_x[i] + (m_x[before] - m_x[i]) * ((y - m_y[i]) / (m_y[before] - m_y[i])))
            inside = !inside;
    return inside;
}

} // namespace oxgoad
