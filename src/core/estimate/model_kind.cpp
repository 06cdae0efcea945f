#include "estimate/model_kind.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/average/average.h"
#include "estimate/boosted/boosted.h"
#include "estimate/forest/forest.h"
#include "estimate/formula/formula.h"
#include "estimate/generalised/generalised.h"
#include "estimate/linear/linear_kinds.h"
#include "estimate/model_text.h"
#include "estimate/neighbours/neighbours.h"
#include "estimate/network/network.h"
#include "estimate/ordered/ordered.h"
#include "estimate/penalised/penalised.h"
#include "estimate/tree/tree.h"
#include "estimate/two_parts/two_parts.h"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace oxgoad {

namespace {

std::vector<ModelKind>& allKinds() {
    static std::vector<ModelKind> kinds{leastSquaresKind(),
                                        robustKind(),
                                        quantileKind(),
                                        autoregressiveKind(),
                                        penalisedKind(),
                                        neighboursKind(),
                                        treeKind(),
                                        forestKind(),
                                        quantileForestKind(),
                                        boostedKind(),
                                        boostedQuantileKind(),
                                        networkKind(),
                                        networkQuantileKind(),
                                        formulaKind(),
                                        averageKind(),
                                        gammaKind(),
                                        inverseGaussianKind(),
                                        countsKind(),
                                        tweedieKind(),
                                        twoPartsKind(),
                                        orderedKind()};
    return kinds;
}

} // namespace

const std::vector<ModelKind>& modelKinds() {
    return allKinds();
}

void addModelKind(ModelKind kind) {
    allKinds().push_back(std::move(kind));
}

std::optional<std::string> soughtKey(const Settings& settings) {
    const std::vector<Field>& fields = kindOf(settings).fields;
    for (const Field& field : fields)
        if (field.type == FieldType::sought &&
            !std::holds_alternative<double>(fieldValue(fields, settings.fields, field.key)))
            return field.key;
    return std::nullopt;
}

namespace {

void requireResponse(const ModelKind& kind, const TrainingData& training) {
    using Response = Capabilities::Response;
    const Response response = kind.can.response;
    if (response == Response::number) return;
    for (std::size_t i = 0; i < training.y.size(); ++i) {
        const double y = training.y[i];
        const bool fits = response == Response::positive      ? y > 0
                          : response == Response::notNegative ? y >= 0
                                                              : y == std::floor(y);
        if (fits) continue;
        throw Error(ErrorCode::wrongType,
                    "the response is " + shortText(y) + " in row " + countText(training.rows[i] + 1) +
                        ", and " + kind.title + " needs " +
                        (response == Response::positive      ? "values above 0"
                         : response == Response::notNegative ? "values of 0 or more"
                                                             : "whole numbers in an order"),
                    {.file = training.file}, "Choose another kind of model, or leave such rows out.");
    }
}

} // namespace

void requireCapable(const ModelKind& kind, const Settings& settings, const TrainingData& training,
                    const Link& link, bool offset) {
    const std::string who = kind.sentence(settings);
    if (kind.can.terms == Capabilities::Terms::columns) {
        if (training.terms.empty())
            throw Error(ErrorCode::badTerm, who + ": there is no column to learn from",
                        {.file = training.file}, "Add a term.");
        for (const Term& term : training.terms)
            if (term.parts.size() != 1 || !(term.parts[0] == TermPart{term.parts[0].column}))
                throw Error(ErrorCode::badTerm,
                            who + ": columns are read as they are, so not the term " + termName(term),
                            {.file = training.file,
                             .column = term.parts.empty() ? std::string() : term.parts[0].column},
                            "Take it out, make a column of it by a step, or fit by least squares.");
    }
    if (kind.can.weights == WeightUse::refused && !training.weights.empty())
        throw Error(ErrorCode::badWeights, who + ": rows cannot weigh differently", {.file = training.file},
                    "Take the role of the weight away, or choose another kind of model.");
    if (!kind.can.offset && offset)
        throw Error(ErrorCode::badTerm, who + ": an offset cannot be used", {.file = training.file},
                    "Take the role of the offset away, or choose another kind of model.");
    if (!kind.can.logResponse && link.kind == Link::Kind::logarithm)
        throw Error(ErrorCode::badTerm, who + ": the response is learned as it is, not its logarithm",
                    {.file = training.file}, "Take the logarithm away, or choose another kind of model.");
    requireResponse(kind, training);
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
