#pragma once
// Named values that steps and kinds of model are told by, and what each may be.
#include "table/column.h"

#include <map>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <variant>
#include <vector>

namespace oxgoad {

using TextPairs = std::vector<std::pair<std::string, std::string>>;
using FieldValue =
    std::variant<std::string, double, bool, std::vector<std::string>, std::vector<double>, TextPairs>;
using FieldValues = std::map<std::string, FieldValue>;

/// What a field holds, and how it is asked for.
enum class FieldType {
    column,
    columns,
    number,
    whole,
    text,
    choice,
    expression,
    level,
    levels,
    texts,
    numbers,
    pairs,
    flag,
    /// A number, or how it is to be found: a rule (text, one of the choices) or the values to try.
    sought
};

struct Field {
    /// Name in the recipe.
    std::string key;
    /// What the window calls it.
    std::string label;
    FieldType type = FieldType::text;
    /// Taken when the recipe leaves the field out; none for fields that must be given.
    std::optional<FieldValue> fallback;
    std::vector<std::string> choices;
    /// Of numbers. A number whose fallback is 0 below `low` may be 0, which stands for "the usual one".
    double low = 0, high = 0;
    /// Kinds of columns that make sense; empty for any.
    std::vector<ColumnKind> kinds;
    /// A number that is sought is a whole one.
    bool whole = false;
    /// Key of the object that it is in together with others; empty for none.
    std::string within{};
};

Field choiceField(std::string key, std::string label, std::vector<std::string> choices);
Field numberField(std::string key, std::string label, double fallback, double low, double high);
Field wholeField(std::string key, std::string label, double fallback, double low, double high);
/// A number or how it is to be found: by one of the rules, or, without rules, among values that are given.
Field soughtField(std::string key, std::string label, FieldValue fallback, double low, double high,
                  std::vector<std::string> rules);
/// Rules by which a value is taken of those tried: the one of the smallest error; the one that follows the
/// rows least of those whose error is at most the smallest plus its standard error (Breiman, Friedman, Olshen
/// and Stone 1984, "Classification and regression trees", §3.4.3).
inline constexpr const char* smallestErrorRule = "smallest error";
inline constexpr const char* oneStandardErrorRule = "one standard error";
/// At the end of such a rule: judged by held-out rows; in recipes {"tuned": {"rule": …, "by": "held out"}}.
inline constexpr const char* onHeldOutRows = ", on held-out rows";
Field flagField(std::string key, std::string label, bool fallback);

/// Throws Error (badStep) unless every value belongs to a field and every field is there or has a fallback,
/// is of the right type, among the choices and in range. `owner` is how a message names them: "the step
/// \"lag\"".
void checkFields(const std::string& owner, std::span<const Field> fields, const FieldValues& values);

/// The value of a field, or its fallback. Asserts that there is one.
const FieldValue& fieldValue(std::span<const Field> fields, const FieldValues& values, std::string_view key);

/// "a, b and c", shortened after a few.
std::string nameList(const std::vector<std::string>& names, std::size_t most = 6);

} // namespace oxgoad
