#include "estimate/model_kind.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/linear_kinds.h"
#include "estimate/model_text.h"
#include "estimate/neighbours/neighbours.h"
#include "estimate/penalised/penalised.h"

#include <algorithm>
#include <cassert>

namespace oxgoad {

const std::vector<ModelKind>& modelKinds() {
    static const std::vector<ModelKind> kinds{leastSquaresKind(), robustKind(), quantileKind(),
                                              penalisedKind(), neighboursKind()};
    return kinds;
}

const ModelKind* findModelKind(std::string_view name) {
    const auto& kinds = modelKinds();
    const auto found =
        std::find_if(kinds.begin(), kinds.end(), [&](const ModelKind& k) { return k.name == name; });
    return found == kinds.end() ? nullptr : &*found;
}

const ModelKind& kindOf(const Settings& settings) {
    const ModelKind* kind = findModelKind(settings.kind);
    assert(kind);
    return *kind;
}

const FieldValue& Settings::value(std::string_view key) const {
    return fieldValue(kindOf(*this).fields, fields, key);
}

/// A field that is left out is its fallback.
bool Settings::operator==(const Settings& other) const {
    if (kind != other.kind) return false;
    if (fields == other.fields) return true;
    const ModelKind* known = findModelKind(kind);
    return known && std::all_of(known->fields.begin(), known->fields.end(), [&](const Field& field) {
               return fieldValue(known->fields, fields, field.key) ==
                      fieldValue(known->fields, other.fields, field.key);
           });
}

void checkSettings(const Settings& settings) {
    const ModelKind* kind = findModelKind(settings.kind);
    if (!kind) {
        std::vector<std::string> known;
        for (const ModelKind& k : modelKinds())
            known.push_back(k.name);
        throw Error(ErrorCode::badStep, "there is no kind of model \"" + settings.kind + "\"", {},
                    didYouMean(settings.kind, known) + (didYouMean(settings.kind, known).empty() ? "" : " ") +
                        "Known are " + nameList(known, known.size()) + ".");
    }
    checkFields("the estimator \"" + kind->name + "\"", kind->fields, settings.fields);
}

std::shared_ptr<const LearnedModel> readModel(std::string_view text) {
    return guardedRead([&] {
        const nlohmann::json json = nlohmann::json::parse(text);
        const ModelKind* kind = findModelKind(json.at("kind").get<std::string>());
        if (!kind) throw std::out_of_range("kind");
        return kind->read(text);
    });
}

} // namespace oxgoad
