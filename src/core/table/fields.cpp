#include "table/fields.h"

#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <cassert>
#include <cmath>
#include <cstdlib>

namespace oxgoad {

namespace {

bool typeFits(FieldType type, const FieldValue& value) {
    switch (type) {
    case FieldType::column:
    case FieldType::text:
    case FieldType::choice:
    case FieldType::expression:
    case FieldType::level:
        return std::holds_alternative<std::string>(value);
    case FieldType::columns:
    case FieldType::levels:
    case FieldType::texts:
        return std::holds_alternative<std::vector<std::string>>(value);
    case FieldType::number:
    case FieldType::whole:
        return std::holds_alternative<double>(value);
    case FieldType::numbers:
        return std::holds_alternative<std::vector<double>>(value);
    case FieldType::pairs:
        return std::holds_alternative<TextPairs>(value);
    case FieldType::flag:
        return std::holds_alternative<bool>(value);
    case FieldType::sought:
        return std::holds_alternative<double>(value) || std::holds_alternative<std::string>(value) ||
               std::holds_alternative<std::vector<double>>(value);
    }
    return false;
}

[[noreturn]] void refuse(const std::string& what, const std::string& remedy = {}) {
    throw Error(ErrorCode::badStep, what, {}, remedy);
}

void checkNumber(const std::string& of, const Field& field, double number) {
    const bool usual = number == 0 && field.fallback && *field.fallback == FieldValue(0.0);
    if (!usual && (!std::isfinite(number) || number < field.low || number > field.high))
        refuse(of + " must lie between " + shortText(field.low) + " and " + shortText(field.high));
    if (field.whole && number != std::floor(number)) refuse(of + " must be a whole number");
    if (field.type == FieldType::whole && number != std::floor(number))
        refuse(of + " must be a whole number");
}

/// A rule that is known, or values to try that could stand there themselves.
void checkSought(const std::string& of, const Field& field, const FieldValue& value) {
    if (const auto* rule = std::get_if<std::string>(&value);
        rule && std::find(field.choices.begin(), field.choices.end(), *rule) == field.choices.end())
        refuse(of + " is to be found by \"" + *rule + "\"",
               field.choices.empty() ? "Give the values to try."
                                     : "Known are " + nameList(field.choices, 20) + ".");
    if (const auto* values = std::get_if<std::vector<double>>(&value)) {
        if (values->empty()) refuse(of + " has no value to try", "Give one or more.");
        if (!field.choices.empty()) refuse(of + " is found by a rule, not among values", "Give a rule.");
        for (const double each : *values)
            checkNumber(of, field, each);
    }
}

void checkValue(const std::string& owner, const Field& field, const FieldValue& value) {
    const std::string of = "\"" + field.key + "\" of " + owner;
    if (!typeFits(field.type, value)) refuse(of + " has a value of the wrong type");
    if (const auto* number = std::get_if<double>(&value)) checkNumber(of, field, *number);
    if (const auto* numbers = std::get_if<std::vector<double>>(&value))
        for (const double number : *numbers)
            if (!std::isfinite(number)) refuse(of + " holds a number that is not finite");
    if (field.type == FieldType::sought) checkSought(of, field, value);
    if (field.type == FieldType::choice && std::find(field.choices.begin(), field.choices.end(),
                                                     std::get<std::string>(value)) == field.choices.end())
        refuse(of + " is \"" + std::get<std::string>(value) + "\"",
               "Known are " + nameList(field.choices, 20) + ".");
    const bool asUsual = field.fallback && *field.fallback == value;
    if (field.type == FieldType::columns && std::get<std::vector<std::string>>(value).empty() && !asUsual)
        refuse(of + " names no column", "Choose at least one.");
    if (field.type == FieldType::column && std::get<std::string>(value).empty() && !field.fallback)
        refuse(of + " names no column", "Choose one.");
}

} // namespace

void checkFields(const std::string& owner, std::span<const Field> fields, const FieldValues& values) {
    for (const auto& [key, value] : values)
        if (std::none_of(fields.begin(), fields.end(), [&](const Field& f) { return f.key == key; }))
            refuse(owner + " has no \"" + key + "\"");
    for (const Field& field : fields) {
        const auto own = values.find(field.key);
        if (own != values.end())
            checkValue(owner, field, own->second);
        else if (!field.fallback)
            refuse(owner + " lacks \"" + field.key + "\"");
    }
}

const FieldValue& fieldValue(std::span<const Field> fields, const FieldValues& values, std::string_view key) {
    if (const auto own = values.find(std::string(key)); own != values.end()) return own->second;
    for (const Field& field : fields)
        if (field.key == key) {
            assert(field.fallback);
            return *field.fallback;
        }
    assert(false && "no such field");
    std::abort();
}

std::string nameList(const std::vector<std::string>& names, std::size_t most) {
    std::string text;
    const std::size_t shown = names.size() > most ? most : names.size();
    for (std::size_t i = 0; i < shown; ++i) {
        if (i > 0) text += i + 1 == names.size() ? " and " : ", ";
        text += names[i];
    }
    if (shown < names.size()) text += " and " + countText(names.size() - shown) + " more";
    return text;
}

Field choiceField(std::string key, std::string label, std::vector<std::string> choices) {
    const std::string first = choices.front();
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::choice,
            .fallback = first,
            .choices = std::move(choices)};
}

Field numberField(std::string key, std::string label, double fallback, double low, double high) {
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::number,
            .fallback = fallback,
            .low = low,
            .high = high};
}

Field wholeField(std::string key, std::string label, double fallback, double low, double high) {
    Field field = numberField(std::move(key), std::move(label), fallback, low, high);
    field.type = FieldType::whole;
    return field;
}

Field flagField(std::string key, std::string label, bool fallback) {
    return {.key = std::move(key), .label = std::move(label), .type = FieldType::flag, .fallback = fallback};
}

Field soughtField(std::string key, std::string label, FieldValue fallback, double low, double high,
                  std::vector<std::string> rules) {
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::sought,
            .fallback = std::move(fallback),
            .choices = std::move(rules),
            .low = low,
            .high = high};
}

} // namespace oxgoad
