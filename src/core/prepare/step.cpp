#include "prepare/step.h"

#include "base/error.h"
#include "base/text.h"
#include "prepare/steps/kinds.h"

#include <algorithm>
#include <cassert>

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
    const StepKind* found = findStepKind(kind);
    assert(found);
    return fieldValue(found->fields, fields, key);
}

void checkStep(const Step& step) {
    const StepKind* kind = findStepKind(step.kind);
    if (!kind) {
        std::vector<std::string> known, names;
        for (const StepKind& k : stepKinds()) {
            known.push_back("\"" + k.name + "\"");
            names.push_back(k.name);
        }
        const std::string meant = didYouMean(step.kind, names);
        throw Error(ErrorCode::badStep, "there is no step \"" + step.kind + "\"", {},
                    (meant.empty() ? "" : meant + " ") + "Known are " + nameList(known, known.size()) + ".");
    }
    checkFields("the step \"" + kind->name + "\"", kind->fields, step.fields);
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

StepField columnField(std::vector<ColumnKind> kinds, std::string key, std::string label) {
    return {.key = std::move(key),
            .label = std::move(label),
            .type = FieldType::column,
            .kinds = std::move(kinds)};
}

StepField columnsField(std::vector<ColumnKind> kinds) {
    return {.key = "columns", .label = "Columns", .type = FieldType::columns, .kinds = std::move(kinds)};
}

StepField textField(std::string key, std::string label, std::optional<StepValue> fallback) {
    return {.key = std::move(key), .label = std::move(label), .fallback = std::move(fallback)};
}

std::string newName(const Step& step, const std::string& column, const std::string& ending) {
    const std::string& name = step.text("name");
    return name.empty() ? column + ending : name;
}

} // namespace oxgoad
