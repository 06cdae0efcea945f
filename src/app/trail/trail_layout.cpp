#include "app/trail/trail_layout.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

constexpr double widest = 150, narrowest = 9, labelWidth = 112;

} // namespace

TrailLayout::TrailLayout(const Trail& trail, const TrailFilter& filter, int chosen) {
    const auto& fits = trail.fits();
    std::map<int, int> placeOf; // of shown fits
    std::map<int, int> parentOf;
    for (std::size_t i = 0; i < fits.size(); ++i) {
        const TrailFit& fit = fits[i];
        parentOf[fit.number] = fit.parent;
        const bool shown =
            fit.number == chosen || ((filter.withPruned || !fit.pruned) &&
                                     (!filter.onlyPinned || fit.pinned) && matches(fit, filter.words));
        if (!shown) continue;
        Place place;
        place.fit = i;
        place.error = fit.summary.judgedRmse();
        for (int from = fit.parent; from != 0; from = parentOf[from]) {
            const auto at = placeOf.find(from);
            if (at == placeOf.end()) {
                place.direct = false;
                continue;
            }
            place.from = at->second;
            break;
        }
        placeOf[fit.number] = static_cast<int>(m_places.size());
        m_places.push_back(place);
    }
    scale(trail);
}

void TrailLayout::scale(const Trail& trail) {
    // What a fit is judged by makes the scale, with its error and the learning error.
    std::vector<double> tops;
    double low = 1e308;
    for (const Place& place : m_places) {
        const FitSummary& f = trail.fits()[place.fit].summary;
        const double error = std::isfinite(f.judgedRmseError()) ? f.judgedRmseError() : 0;
        if (!std::isfinite(place.error)) continue;
        low = std::min(
            {low, place.error - error, std::isfinite(f.learningRmse) ? f.learningRmse : place.error});
        tops.push_back(std::max(place.error + error, std::isfinite(f.learningRmse) ? f.learningRmse : 0));
    }
    if (tops.empty()) return;
    std::sort(tops.begin(), tops.end());
    // Awful fits, a tenth of all at most, that would flatten the rest lie beyond.
    std::size_t last = tops.size() - 1;
    const std::size_t most = std::max<std::size_t>(1, tops.size() / 10);
    for (std::size_t dropped = 0; dropped < most && last >= 2; ++dropped, --last)
        if (!(tops[last] - low > 4 * (tops[last - 1] - low))) break;
    const double high = tops[last];
    const double pad = high > low ? 0.12 * (high - low) : std::max(0.1 * std::fabs(high), 1e-12);
    m_low = std::max(0.0, low - pad);
    m_high = high + pad;
    for (Place& place : m_places)
        place.beyond = place.error > m_high;
}

double TrailLayout::step(double width) const {
    return std::clamp(width / std::max(1.0, static_cast<double>(m_places.size())), narrowest, widest);
}

std::vector<std::uint8_t> TrailLayout::labelled(const Trail& trail, int chosen, double step) const {
    std::vector<std::uint8_t> shown(m_places.size(), 0);
    std::vector<std::size_t> order(m_places.size());
    for (std::size_t i = 0; i < order.size(); ++i)
        order[i] = i;
    const auto rank = [&](std::size_t i) {
        const TrailFit& fit = trail.fits()[m_places[i].fit];
        return fit.number == chosen ? 0 : fit.pinned ? 1 : !fit.name.empty() ? 2 : 3;
    };
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return rank(a) < rank(b); });
    const auto apart = static_cast<std::size_t>(std::ceil(labelWidth / step));
    for (const std::size_t i : order) {
        bool free = true;
        for (std::size_t k = i + 1 > apart ? i + 1 - apart : 0; free && k < std::min(shown.size(), i + apart);
             ++k)
            free = !shown[k];
        if (free) shown[i] = 1;
    }
    return shown;
}

} // namespace oxgoad
