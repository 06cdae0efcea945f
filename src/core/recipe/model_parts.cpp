#include "recipe/model_parts.h"

#include "base/error.h"
#include "recipe/recipe_parts.h"

#include <algorithm>
#include <array>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

constexpr std::array<std::pair<CovarianceKind, std::string_view>, 7> errorKinds{
    {{CovarianceKind::homoskedastic, "equal spread"},
     {CovarianceKind::hc0, "HC0"},
     {CovarianceKind::hc1, "HC1"},
     {CovarianceKind::hc2, "HC2"},
     {CovarianceKind::hc3, "HC3"},
     {CovarianceKind::clustered, "by group"},
     {CovarianceKind::autocorrelated, "serial"}}};

/// How a part says what it is, and the keys that go with it.
struct FormWords {
    Form form;
    std::string_view as;
    /// Key of `count`: "degree", "knots", "pairs"; empty without.
    std::string_view count;
    int most;
};
constexpr std::array<FormWords, 9> forms{{{Form::centred, "centred", "", 0},
                                          {Form::standardised, "standardised", "", 0},
                                          {Form::polynomial, "polynomial", "degree", 12},
                                          {Form::pieces, "straight pieces", "knots", 40},
                                          {Form::spline, "curve", "knots", 40},
                                          {Form::wave, "wave", "pairs", 26},
                                          {Form::deviations, "deviations", "", 0},
                                          {Form::scores, "scores", "", 0},
                                          {Form::trend, "trend", "degree", 40}}};

void parseForm(JsonObject& object, const JsonValue& as, TermPart& part) {
    const std::string name = as.text();
    const auto* words =
        std::find_if(forms.begin(), forms.end(), [&](const FormWords& f) { return f.as == name; });
    if (words == forms.end())
        as.refuse(
            "is \"" + name + "\"",
            "Known are centred, standardised, polynomial, straight pieces, curve, wave, deviations, scores "
            "and trend.");
    part.form = words->form;
    if (!words->count.empty())
        object.optional(std::string(words->count), [&](const JsonValue& v) {
            if ((part.form == Form::pieces || part.form == Form::spline) && v.isList()) {
                v.eachItem([&](const JsonValue& knot) { part.knots.push_back(knot.number(-1e300, 1e300)); });
                if (part.knots.empty()) v.refuse("names no knot");
            } else {
                part.count = v.integer(1, words->most);
            }
        });
    if (part.form == Form::wave)
        object.optional("period", [&](const JsonValue& v) { part.period = v.number(0, 1e300); });
    if (part.form != Form::scores && part.form != Form::trend) return;
    object.optional("order", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& level) { part.order.push_back(level.text()); });
    });
    object.optional("scores", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& score) { part.scores.push_back(score.number(-1e300, 1e300)); });
        if (part.scores.size() != part.order.size()) v.refuse("must be as many as the levels of \"order\"");
    });
}

TermPart parsePart(const JsonValue& value) {
    if (value.isText()) return {value.text()};
    JsonObject object(value);
    TermPart part;
    if (object.has("log")) {
        part.column = object.at("log").text();
        part.logarithm = true;
    } else {
        part.column = object.at("column").text();
        if (object.has("as"))
            parseForm(object, object.at("as"), part);
        else
            object.optional("power", [&](const JsonValue& v) {
                part.power = v.integer(-30, 30);
                if (part.power == 0) v.refuse("must not be 0");
            });
    }
    object.finish();
    return part;
}

ordered_json partJson(const TermPart& part) {
    if (part.logarithm) return {{"log", part.column}};
    if (part.form == Form::plain)
        return part.power == 1 ? ordered_json(part.column)
                               : ordered_json{{"column", part.column}, {"power", part.power}};
    ordered_json out = {{"column", part.column}};
    for (const FormWords& words : forms) {
        if (words.form != part.form) continue;
        out["as"] = words.as;
        if (!part.knots.empty())
            out[std::string(words.count)] = part.knots;
        else if (part.count > 0)
            out[std::string(words.count)] = part.count;
    }
    if (part.period > 0) out["period"] = part.period;
    if (!part.order.empty()) out["order"] = part.order;
    if (!part.scores.empty()) out["scores"] = part.scores;
    return out;
}

} // namespace

Term parseTerm(const JsonValue& value) {
    if (!value.isText()) {
        JsonObject object(value);
        if (object.has("product")) {
            Term term;
            const JsonValue product = object.at("product");
            product.eachItem([&](const JsonValue& item) { term.parts.push_back(parsePart(item)); });
            if (term.parts.size() < 2 || term.parts.size() > 8) product.refuse("must have from 2 to 8 parts");
            object.finish();
            return term;
        }
    }
    return {{parsePart(value)}};
}

ordered_json termJson(const Term& term) {
    if (term.parts.size() == 1) return partJson(term.parts[0]);
    ordered_json parts = ordered_json::array();
    for (const TermPart& part : term.parts)
        parts.push_back(partJson(part));
    return {{"product", parts}};
}

namespace {

/// One of the fields that stand within an object: {"leaves": 7}, {"complexity": 12.5}; what is to be found
/// stands there without its name: {"tuned": {…}}.
FieldValues parseWithin(const JsonValue& value, const ModelKind& kind, const std::string& within) {
    JsonObject object(value);
    FieldValues found;
    for (const Field& field : kind.fields) {
        if (field.within != within) continue;
        if (field.type == FieldType::sought && object.has("tuned"))
            found[field.key] = parseField(field, value);
        else
            found.merge(parseFields(object, std::span(&field, 1)));
    }
    if (object.has("tuned")) object.at("tuned");
    object.finish();
    // Settings that exclude each other have one that can be sought among them.
    const bool one = std::any_of(kind.fields.begin(), kind.fields.end(), [&](const Field& field) {
        return field.within == within && field.type == FieldType::sought;
    });
    if (found.empty() || (one && found.size() != 1))
        value.refuse("says " + std::to_string(found.size()) + " things", "Give one of them.");
    return found;
}

} // namespace

Settings parseEstimator(const JsonValue& value) {
    JsonObject object(value);
    Settings estimator;
    const JsonValue name = object.at("kind");
    estimator.kind = name.text();
    const ModelKind* kind = findModelKind(estimator.kind);
    if (!kind) {
        std::vector<std::string> known;
        for (const ModelKind& each : modelKinds())
            known.push_back(each.name);
        name.refuse("is \"" + estimator.kind + "\"", "Known are " + nameList(known, known.size()) + ".");
    }
    std::vector<Field> outside;
    for (const Field& field : kind->fields)
        if (field.within.empty()) outside.push_back(field);
    estimator.fields = parseFields(object, outside);
    for (const Field& field : kind->fields)
        if (!field.within.empty() && object.has(field.within)) {
            estimator.fields.merge(parseWithin(object.at(field.within), *kind, field.within));
            break;
        }
    object.finish();
    try {
        checkSettings(estimator);
    } catch (const Error& error) {
        value.refuse("is wrong: " + error.message(), error.remedy());
    }
    return estimator;
}

Errors parseErrors(const JsonValue& value) {
    JsonObject object(value);
    Errors errors;
    const JsonValue kind = object.at("kind");
    const auto* found = std::find_if(errorKinds.begin(), errorKinds.end(),
                                     [&](const auto& known) { return known.second == kind.text(); });
    if (found == errorKinds.end())
        kind.refuse("is \"" + kind.text() + "\"",
                    "Known are equal spread, HC0, HC1, HC2, HC3, by group and serial.");
    errors.kind = found->first;
    if (errors.kind == CovarianceKind::clustered || errors.kind == CovarianceKind::autocorrelated)
        errors.column = object.at("column").text();
    if (errors.kind == CovarianceKind::clustered)
        object.optional("correction", [&](const JsonValue& v) {
            if (v.text() != "few groups") v.refuse("is \"" + v.text() + "\"", "Known is few groups.");
            errors.kind = CovarianceKind::clusteredFewGroups;
        });
    if (errors.kind == CovarianceKind::autocorrelated)
        object.optional("lags", [&](const JsonValue& v) { errors.lags = v.integer(0, 10000); });
    object.finish();
    return errors;
}

namespace {

bool isEmptyList(const FieldValue& value) {
    return std::visit(
        [](const auto& held) {
            if constexpr (requires { held.empty(); } &&
                          !std::is_same_v<std::decay_t<decltype(held)>, std::string>)
                return held.empty();
            else
                return false;
        },
        value);
}

/// A rule by which a value is found, and by which rows.
ordered_json ruleJson(const std::string& rule) {
    if (!rule.ends_with(onHeldOutRows)) return {{"rule", rule}};
    return {{"rule", rule.substr(0, rule.size() - std::string_view(onHeldOutRows).size())},
            {"by", "held out"}};
}

} // namespace

ordered_json estimatorJson(const Settings& estimator) {
    ordered_json out = {{"kind", estimator.kind}};
    for (const Field& field : kindOf(estimator).fields) {
        const FieldValue& value = fieldValue(kindOf(estimator).fields, estimator.fields, field.key);
        const bool usual = value == FieldValue(0.0) && field.fallback == FieldValue(0.0) &&
                           (field.low > 0 || !field.within.empty());
        if (usual || isEmptyList(value)) continue;
        if (!field.within.empty() && field.type == FieldType::sought &&
            !std::holds_alternative<double>(value)) {
            const bool rule = std::holds_alternative<std::string>(value);
            if (rule)
                out[field.within]["tuned"] = ruleJson(std::get<std::string>(value));
            else
                out[field.within]["tuned"]["values"] = fieldJson(value);
            continue;
        }
        if (!field.within.empty()) {
            out[field.within][field.key] = fieldJson(value);
            continue;
        }
        if (field.type == FieldType::sought && std::holds_alternative<std::string>(value))
            out[field.key]["tuned"] = ruleJson(std::get<std::string>(value));
        else if (field.type == FieldType::sought && !std::holds_alternative<double>(value))
            out[field.key]["tuned"]["values"] = fieldJson(value);
        else
            out[field.key] = fieldJson(value);
    }
    return out;
}

ordered_json errorsJson(const Errors& errors) {
    ordered_json out;
    const bool few = errors.kind == CovarianceKind::clusteredFewGroups;
    out["kind"] = covarianceKindName(few ? CovarianceKind::clustered : errors.kind);
    if (!errors.column.empty()) out["column"] = errors.column;
    if (few) out["correction"] = "few groups";
    if (errors.lags >= 0) out["lags"] = errors.lags;
    return out;
}

ChosenTerms parseChosen(const JsonValue& value) {
    JsonObject object(value);
    ChosenTerms chosen;
    chosen.how = object.at("how").text();
    chosen.tried = object.at("tried").whole(0, 1000000);
    const auto named = [&](const char* key, std::vector<std::pair<std::string, double>>& into) {
        object.optional(key, [&](const JsonValue& v) {
            v.eachMember([&](const std::string& name, const JsonValue& number) {
                into.emplace_back(name, number.number(-1e-9, 1 + 1e-9));
            });
        });
    };
    named("shares", chosen.shares);
    named("passed_over", chosen.notSelected);
    object.finish();
    return chosen;
}

ordered_json chosenJson(const ChosenTerms& chosen) {
    ordered_json out = {{"how", chosen.how}, {"tried", chosen.tried}};
    for (const auto& [name, share] : chosen.shares)
        out["shares"][name] = share;
    for (const auto& [name, p] : chosen.notSelected)
        out["passed_over"][name] = p;
    return out;
}

std::string_view covarianceKindName(CovarianceKind kind) {
    for (const auto& [known, name] : errorKinds)
        if (known == kind) return name;
    return {};
}

} // namespace oxgoad
