#include "model/intervals.h"

#include <cmath>

namespace oxgoad {

double IntervalsByErrors::half(double level) const {
    const double place = std::ceil(level * static_cast<double>(sizes.size() + 1) - 1e-9);
    if (!(place >= 1) || place > static_cast<double>(sizes.size())) return std::nan("");
    return sizes[static_cast<std::size_t>(place) - 1];
}

std::string_view errorsOfName(IntervalsByErrors::Of of) {
    switch (of) {
    case IntervalsByErrors::Of::leftOneOut:
        return "left out one at a time";
    case IntervalsByErrors::Of::outOfBag:
        return "out of bag";
    case IntervalsByErrors::Of::outOfFold:
        return "out of fold";
    }
    return "out of fold";
}

std::string intervalsText(const Intervals& intervals) {
    if (std::holds_alternative<IntervalsByTheory>(intervals)) return "by theory";
    if (std::holds_alternative<IntervalsByQuantiles>(intervals)) return "by a pair of quantiles";
    if (const auto* errors = std::get_if<IntervalsByErrors>(&intervals))
        return "by rows " + std::string(errorsOfName(errors->of));
    return "none: " + std::get<NoIntervals>(intervals).why;
}

} // namespace oxgoad
