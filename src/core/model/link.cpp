#include "model/link.h"

#include <cassert>

namespace oxgoad {

double Link::valueOf(std::span<const double> outputs) const {
    if (kind != Kind::chances) return outputs.front();
    assert(outputs.size() == values.size());
    double mean = 0;
    for (std::size_t k = 0; k < outputs.size(); ++k)
        mean += outputs[k] * values[k];
    return mean;
}

std::string_view linkName(Link::Kind kind) {
    switch (kind) {
    case Link::Kind::identity:
        return "identity";
    case Link::Kind::logarithm:
        return "logarithm";
    case Link::Kind::logOfMean:
        return "log of the mean";
    case Link::Kind::chances:
        return "chances";
    }
    return "identity";
}

} // namespace oxgoad
