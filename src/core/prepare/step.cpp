#include "prepare/step.h"

#include "base/error.h"
#include "base/text.h"
#include "prepare/steps/kinds.h"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace oxgoad {

const std::vector<StepKind>& stepKinds() {
    static const std::vector<StepKind> kinds{
        leaveOutWhere(),  leaveOutMissing(), leaveOutBeyondFences(), leaveOutBeyondZ(), leaveOutRows(),
        fillMissing(),    replaceValues(),   changeType(),           deriveColumn(),    transformNumbers(),
        standardise(),    cutIntoBands(),    mergeLevels(),          lumpRareLevels(),  orderLevels(),
        referenceLevel(), combineColumns(),  partsOfDate(),          lagColumn(),       rollingMean(),
        renameColumn()};
    return kinds;
}

const StepKind* findStepKind(std::string_view name) {
    const auto& kinds = stepKinds();
    const auto found =
        std::find_if(kinds.begin(), kinds.end(), [&](const StepKind& k) { return k.name == name; });
    return found == kinds.end() ? nullptr : &*found;
}

const StepValue& Step::value(std::string_view key) const {
    const auto own = fields.find(std::string(key));
    if (own != fields.end()) return own->second;
    const StepKind* found = findStepKind(kind);
    assert(found);
    for (const StepField& field : found->fields)
        if (field.key == key) {
            assert(field.fallback);
            return *field.fallback;
        }
    assert(false && "no such field");
    std::abort();
}

namespace {

bool typeFits(FieldType type, const StepValue& value) {
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
    }
    return false;
}

[[noreturn]] void refuse(const std::string& what, const std::string& remedy = {}) {
    throw Error(ErrorCode::badStep, what, {}, remedy);
}

void checkValue(const StepKind& kind, const StepField& field, const StepValue& value) {
    const std::string of = "\"" + field.key + "\" of the step \"" + kind.name + "\"";
    if (!typeFits(field.type, value)) refuse(of + " has a value of the wrong type");
    if (const auto* number = std::get_if<double>(&value)) {
        if (!std::isfinite(*number) || *number < field.low || *number > field.high)
            refuse(of + " must lie between " + readableText(field.low) + " and " + readableText(field.high));
        if (field.type == FieldType::whole && *number != std::floor(*number))
            refuse(of + " must be a whole number");
    }
    if (const auto* numbers = std::get_if<std::vector<double>>(&value))
        for (const double number : *numbers)
            if (!std::isfinite(number)) refuse(of + " holds a number that is not finite");
    if (field.type == FieldType::choice && std::find(field.choices.begin(), field.choices.end(),
                                                     std::get<std::string>(value)) == field.choices.end())
        refuse(of + " is \"" + std::get<std::string>(value) + "\"",
               "Known are " + nameList(field.choices, 20) + ".");
    if (field.type == FieldType::columns && std::get<std::vector<std::string>>(value).empty())
        refuse(of + " names no column", "Choose at least one.");
    if (field.type == FieldType::column && std::get<std::string>(value).empty() && !field.fallback)
        refuse(of + " names no column", "Choose one.");
}

} // namespace

void checkStep(const Step& step) {
    const StepKind* kind = findStepKind(step.kind);
    if (!kind) {
        std::vector<std::string> known;
        for (const StepKind& k : stepKinds())
            known.push_back("\"" + k.name + "\"");
        refuse("there is no step \"" + step.kind + "\"", "Known are " + nameList(known, known.size()) + ".");
    }
    for (const auto& [key, value] : step.fields)
        if (std::none_of(kind->fields.begin(), kind->fields.end(),
                         [&](const StepField& f) { return f.key == key; }))
            refuse("the step \"" + kind->name + "\" has no \"" + key + "\"");
    for (const StepField& field : kind->fields) {
        const auto own = step.fields.find(field.key);
        if (own != step.fields.end())
            checkValue(*kind, field, own->second);
        else if (!field.fallback)
            refuse("the step \"" + kind->name + "\" lacks \"" + field.key + "\"");
    }
}

std::string stepSentence(const Step& step) {
    const StepKind* kind = findStepKind(step.kind);
    return kind ? kind->sentence(step) : step.kind;
}

std::vector<std::string> columnsOfStep(const Step& step) {
    std::vector<std::string> names;
    const StepKind* kind = findStepKind(step.kind);
    if (!kind) return names;
    for (const StepField& field : kind->fields) {
        const auto own = step.fields.find(field.key);
        if (own == step.fields.end()) continue;
        if (field.type == FieldType::column && !std::get<std::string>(own->second).empty())
            names.push_back(std::get<std::string>(own->second));
        if (field.type == FieldType::columns)
            for (const auto& name : std::get<std::vector<std::string>>(own->second))
                names.push_back(name);
    }
    return names;
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

StepField columnField(std::vector<ColumnKind> kinds, std::string key, std::string label) {
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::column,
            .kinds = std::move(kinds)};
}

StepField columnsField(std::vector<ColumnKind> kinds) {
    return {.key = "columns", .label = "Columns", .type = FieldType::columns, .kinds = std::move(kinds)};
}

StepField choiceField(std::string key, std::string label, std::vector<std::string> choices) {
    const std::string first = choices.front();
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::choice,
            .fallback = first,
            .choices = std::move(choices)};
}

StepField numberField(std::string key, std::string label, double fallback, double low, double high) {
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::number,
            .fallback = fallback,
            .low = low,
            .high = high};
}

StepField wholeField(std::string key, std::string label, double fallback, double low, double high) {
    StepField field = numberField(std::move(key), std::move(label), fallback, low, high);
    field.type = FieldType::whole;
    return field;
}

StepField textField(std::string key, std::string label, std::optional<StepValue> fallback) {
    return {.key = std::move(key), .label = std::move(label), .fallback = std::move(fallback)};
}

StepField flagField(std::string key, std::string label, bool fallback) {
    return {.key = std::move(key), .label = std::move(label), .type = FieldType::flag, .fallback = fallback};
}

std::string newName(const Step& step, const std::string& column, const std::string& ending) {
    const std::string& name = step.text("name");
    return name.empty() ? column + ending : name;
}

} // namespace oxgoad
