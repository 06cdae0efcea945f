#pragma once
// Steps of preparation as the analyst chose them, and the kinds there are.
#include "table/fields.h"

#include <functional>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace oxgoad {

class StepFrame;

using StepValue = FieldValue;
using StepField = Field;

/// A step of one kind with the values of its fields. A value type; part of the recipe.
struct Step {
    std::string kind;
    bool on = true;
    FieldValues fields;
    bool operator==(const Step&) const = default;

    /// The field, or its kind's fallback. An assertion when the type is another; checkStep makes sure of it.
    template <class T> const T& get(std::string_view key) const { return std::get<T>(value(key)); }
    const std::string& text(std::string_view key) const { return get<std::string>(key); }
    double number(std::string_view key) const { return get<double>(key); }
    bool flag(std::string_view key) const { return get<bool>(key); }
    const std::vector<std::string>& texts(std::string_view key) const {
        return get<std::vector<std::string>>(key);
    }

private:
    const StepValue& value(std::string_view key) const;
};

/// A kind of step: what it asks for, how it reads aloud, and what it does.
struct StepKind {
    /// In recipes: "fill missing".
    std::string name;
    /// In the window's list: "Fill missing values".
    std::string title;
    /// Heading in that list: "rows", "values", "numbers", "levels", "dates and series", "columns".
    std::string group;
    std::vector<StepField> fields;
    /// Learns something from learning rows, which is kept in the evidence.
    bool learns = false;
    /// Leaves rows out, and does so to no row that is to be forecast.
    bool leavesOut = false;
    /// "Fill 15 missing values of occupancy with the median of the learning rows" without the counts.
    std::function<std::string(const Step&)> sentence;
    /// Errors of the core are what the analyst reads on the step; the frame is then as it was before.
    std::function<void(const Step&, StepFrame&)> run;
};

/// All kinds, in the order of the window's list.
const std::vector<StepKind>& stepKinds();
const StepKind* findStepKind(std::string_view name);

/// Throws Error (badStep) unless the kind is known and every field is known, there or with a fallback, of the
/// right type, among the choices and in range.
void checkStep(const Step& step);

/// The step read aloud, without a full stop.
std::string stepSentence(const Step& step);

/// Columns the step names, as far as its fields say.
std::vector<std::string> columnsOfStep(const Step& step);

} // namespace oxgoad
