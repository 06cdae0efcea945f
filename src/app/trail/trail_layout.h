#pragma once
// Where the fits of the trail stand: which are shown, how close together, and on what scale of errors.
#include "study/trail.h"

#include <string>
#include <vector>

namespace oxgoad {

struct TrailFilter {
    std::string words;
    bool onlyPinned = false;
    bool withPruned = false;
};

class TrailLayout {
public:
    /// The fit `chosen` is shown whatever the filter.
    TrailLayout() = default;
    TrailLayout(const Trail& trail, const TrailFilter& filter, int chosen);

    struct Place {
        /// Index among the fits of the trail.
        std::size_t fit = 0;
        /// Place of the nearest ancestor that is shown; -1 for none, and whether that is its parent.
        int from = -1;
        bool direct = true;
        double error = 0;
        /// It lies beyond the scale.
        bool beyond = false;
    };
    const std::vector<Place>& places() const { return m_places; }
    double low() const { return m_low; }
    double high() const { return m_high; }
    /// Of the fits in order.
    double step(double width) const;
    /// Labels that find room: the chosen one and pinned or named ones first, then from the left.
    std::vector<std::uint8_t> labelled(const Trail& trail, int chosen, double step) const;

private:
    void scale(const Trail& trail);
    std::vector<Place> m_places;
    double m_low = 0, m_high = 1;
};

} // namespace oxgoad
