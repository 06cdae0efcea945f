// How a model is judged and its terms are chosen, as text.
#include "base/error.h"
#include "recipe/recipe_parts.h"

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

constexpr int most = 1000000;

} // namespace

FoldPlan parseFoldPlan(const JsonValue& value) {
    JsonObject object(value);
    FoldPlan plan;
    const JsonValue kind = object.at("kind");
    const auto named = foldKindNamed(kind.text());
    if (!named)
        kind.refuse("is \"" + kind.text() + "\"",
                    "Known are \"k folds\", \"leave one out\", \"groups\", \"in proportion\", \"rolling "
                    "origin\", \"column\" and \"bootstrap\".");
    plan.kind = *named;
    const auto whole = [&](const char* key, int low, int& into) {
        object.optional(key, [&](const JsonValue& v) { into = v.integer(low, most); });
    };
    if (plan.goesByColumn()) plan.column = object.at("column").text();
    if (plan.repeatsWell()) {
        whole("folds", 2, plan.folds);
        whole("repeats", 1, plan.repeats);
    }
    if (plan.kind == FoldKind::inProportion) whole("bands", 2, plan.bands);
    if (plan.kind == FoldKind::rollingOrigin) {
        plan.folds = 6;
        whole("folds", 1, plan.folds);
        whole("horizon", 1, plan.horizon);
        whole("gap", 0, plan.gap);
    }
    if (plan.kind == FoldKind::bootstrap) whole("draws", 2, plan.draws);
    if (plan.hasSeed())
        object.optional("seed", [&](const JsonValue& v) { plan.seed = v.whole(0, UINT64_MAX); });
    object.finish();
    return plan;
}

ordered_json foldPlanJson(const FoldPlan& plan) {
    ordered_json out{{"kind", foldKindName(plan.kind)}};
    if (plan.goesByColumn()) out["column"] = plan.column;
    if (plan.repeatsWell()) {
        out["folds"] = plan.folds;
        out["repeats"] = plan.repeats;
    }
    if (plan.kind == FoldKind::inProportion && plan.bands != 5) out["bands"] = plan.bands;
    if (plan.kind == FoldKind::rollingOrigin) {
        out["folds"] = plan.folds;
        out["horizon"] = plan.horizon;
        out["gap"] = plan.gap;
    }
    if (plan.kind == FoldKind::bootstrap) out["draws"] = plan.draws;
    if (plan.hasSeed()) out["seed"] = plan.seed;
    return out;
}

ChoosePlan parseChoosePlan(const JsonValue& value) {
    JsonObject object(value);
    ChoosePlan plan;
    object.optional("way", [&](const JsonValue& v) {
        const auto by = chooseByNamed(v.text());
        if (!by)
            v.refuse("is \"" + v.text() + "\"", "Known are forward, backward, both ways and best subsets.");
        plan.by = *by;
    });
    object.optional("by", [&](const JsonValue& v) {
        const auto criterion = criterionNamed(v.text());
        if (!criterion)
            v.refuse("is \"" + v.text() + "\"",
                     "Known are cross-validated error, adjusted R2, AICc, BIC and p.");
        plan.criterion = *criterion;
    });
    object.optional("steps", [&](const JsonValue& v) { plan.mostSteps = v.integer(0, most); });
    object.optional("folds", [&](const JsonValue& v) { plan.folds = v.integer(2, 20); });
    object.optional("seed", [&](const JsonValue& v) { plan.seed = v.whole(0, UINT64_MAX); });
    object.optional("enter", [&](const JsonValue& v) { plan.enter = v.number(0, 1); });
    object.optional("leave", [&](const JsonValue& v) { plan.leave = v.number(0, 1); });
    object.finish();
    if (plan.criterion == ChooseCriterion::pValue && !(plan.enter <= plan.leave))
        value.refuse("lets terms in above the p at which they go out, which could go round for ever",
                     "\"enter\" must be at most \"leave\".");
    return plan;
}

ordered_json choosePlanJson(const ChoosePlan& plan) {
    return {{"way", chooseByName(plan.by)},
            {"by", criterionName(plan.criterion)},
            {"steps", plan.mostSteps},
            {"folds", plan.folds},
            {"seed", plan.seed},
            {"enter", plan.enter},
            {"leave", plan.leave}};
}

} // namespace oxgoad
