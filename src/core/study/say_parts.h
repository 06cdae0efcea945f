#pragma once
// What the sentences about a fit share.
#include "study/evidence.h"

#include <string>

namespace oxgoad {

/// "EUR" of "EUR a month"; empty without.
inline std::string unitHead(const Recipe& recipe, const std::string& column) {
    const auto found = recipe.units.find(column);
    return found == recipe.units.end() ? std::string() : found->second.substr(0, found->second.find(' '));
}

/// The unit with a blank in front; nothing without one.
inline std::string within(const std::string& unit) {
    return unit.empty() ? unit : " " + unit;
}

/// Null unless the model has coefficients.
inline const LinearModel* linearOf(const Evidence& e) {
    return e.linear && e.study ? e.study->linear() : nullptr;
}

/// Place of an input; the number of inputs when it is none.
inline std::size_t inputOf(const LinearModel& model, const std::string& name) {
    const auto& inputs = model.design.inputs();
    for (std::size_t i = 0; i < inputs.size(); ++i)
        if (inputs[i].name == name) return i;
    return inputs.size();
}

} // namespace oxgoad
