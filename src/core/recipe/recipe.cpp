#include "recipe/recipe.h"

#include "base/error.h"
#include "base/file.h"
#include "base/text.h"
#include "estimate/penalised/penalised.h"
#include "recipe/json_reader.h"
#include "recipe/model_parts.h"
#include "recipe/recipe_parts.h"
#include "recipe/validity.h"

#include <algorithm>
#include <array>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

constexpr std::array roles{Role::predictor,  Role::weight,   Role::time,  Role::group,
                           Role::identifier, Role::setAside, Role::offset};

void parseModel(JsonObject& object, Recipe& recipe) {
    recipe.response = object.at("response").text();
    object.at("terms").eachItem([&](const JsonValue& item) { recipe.terms.push_back(parseTerm(item)); });
    object.optional("intercept", [&](const JsonValue& v) { recipe.intercept = v.boolean(); });
    object.optional("reference", [&](const JsonValue& v) {
        v.eachMember([&](const std::string& column, const JsonValue& level) {
            recipe.reference[column] = level.text();
        });
    });
    object.optional("estimator", [&](const JsonValue& v) { recipe.estimator = parseEstimator(v); });
    object.optional("errors", [&](const JsonValue& v) { recipe.errors = parseErrors(v); });
    object.optional("response_in_logs", [&](const JsonValue& v) { recipe.logResponse = v.boolean(); });
    object.optional("level", [&](const JsonValue& v) { recipe.level = v.number(0, 1); });
}

void parseRest(JsonObject& object, Recipe& recipe) {
    object.optional("steps", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) { recipe.steps.push_back(parseStep(item)); });
        if (recipe.steps.size() > 1000) v.refuse("are more than 1,000");
    });
    object.optional("roles", [&](const JsonValue& v) {
        v.eachMember([&](const std::string& column, const JsonValue& role) {
            const auto named = roleNamed(role.text());
            if (!named)
                role.refuse("is \"" + role.text() + "\"",
                            "Known are predictor, weight, time, group, identifier, set aside and offset.");
            recipe.roles[column] = *named;
        });
    });
    object.optional("set_aside", [&](const JsonValue& v) { recipe.setAside = parseSetAside(v); });
    object.optional("judge", [&](const JsonValue& v) { recipe.judge = parseFoldPlan(v); });
    object.optional("choose", [&](const JsonValue& v) { recipe.choose = parseChoosePlan(v); });
    object.optional("forecast", [&](const JsonValue& v) { recipe.forecast = parseForecast(v); });
    object.optional("scenarios", [&](const JsonValue& v) { recipe.scenarios = parseScenarios(v); });
    object.optional("rows_by_hand", [&](const JsonValue& v) { recipe.handRows = parseHandRows(v); });
    object.optional("clearance", [&](const JsonValue& v) { recipe.clearance = parseClearance(v); });
    object.optional("deliveries", [&](const JsonValue& v) { recipe.deliveries = parseDeliveries(v); });
    object.optional("leave_out", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) {
            JsonObject row(item);
            recipe.leaveOut.push_back({row.at("row").whole(1, UINT32_MAX), row.at("reason").text()});
            row.finish();
        });
    });
    object.optional("accepted", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) {
            JsonObject goad(item);
            AcceptedGoad accepted{goad.at("goad").text(), goad.at("reason").text()};
            goad.optional("size", [&](const JsonValue& size) { accepted.size = size.number(-1e300, 1e300); });
            recipe.accepted.push_back(std::move(accepted));
            goad.finish();
        });
    });
    object.optional("noted", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) {
            JsonObject note(item);
            recipe.noted.push_back({note.at("column").text(), note.at("says").text()});
            note.finish();
        });
    });
    object.optional("checks", [&](const JsonValue& v) {
        v.eachMember([&](const std::string& name, const JsonValue& value) {
            JsonObject check(value);
            CheckSetting setting;
            check.optional("off", [&](const JsonValue& off) { setting.off = off.boolean(); });
            check.optional("reason", [&](const JsonValue& reason) { setting.reason = reason.text(); });
            check.optional("threshold", [&](const JsonValue& threshold) {
                setting.threshold = threshold.number(-1e300, 1e300);
            });
            check.finish();
            if (setting.off && setting.reason.empty())
                value.refuse("is off without a reason", "Say why in \"reason\".");
            if (!setting.off && !setting.threshold)
                value.refuse("says neither \"off\" nor a \"threshold\"", "Give one of them.");
            recipe.checks[name] = std::move(setting);
        });
    });
    object.optional("chosen", [&](const JsonValue& v) { recipe.chosen = parseChosen(v); });
    object.optional("units", [&](const JsonValue& v) {
        v.eachMember(
            [&](const std::string& column, const JsonValue& unit) { recipe.units[column] = unit.text(); });
    });
}

} // namespace

std::string_view roleName(Role role) {
    switch (role) {
    case Role::predictor:
        return "predictor";
    case Role::weight:
        return "weight";
    case Role::time:
        return "time";
    case Role::group:
        return "group";
    case Role::identifier:
        return "identifier";
    case Role::setAside:
        return "set aside";
    case Role::offset:
        return "offset";
    }
    return "predictor";
}

std::optional<Role> roleNamed(std::string_view name) {
    for (const Role role : roles)
        if (roleName(role) == name) return role;
    return std::nullopt;
}

Role roleOf(const Recipe& recipe, const std::string& column) {
    const auto found = recipe.roles.find(column);
    return found == recipe.roles.end() ? Role::predictor : found->second;
}

bool isOffered(const Recipe& recipe, const std::string& column) {
    const Role role = roleOf(recipe, column);
    return role != Role::weight && role != Role::identifier && role != Role::setAside && role != Role::offset;
}

std::string columnWith(const Recipe& recipe, Role role) {
    for (const auto& [column, has] : recipe.roles)
        if (has == role && column != recipe.response) return column;
    return {};
}

std::string estimatorText(const Settings& estimator) {
    return kindOf(estimator).sentence(estimator);
}

std::string errorsText(const Errors& errors) {
    switch (errors.kind) {
    case CovarianceKind::homoskedastic:
        return "errors for equal spread";
    case CovarianceKind::clustered:
        return "errors by " + errors.column;
    case CovarianceKind::clusteredFewGroups:
        return "errors by " + errors.column + ", corrected for few groups";
    case CovarianceKind::autocorrelated:
        return errors.lags >= 0
                   ? "errors for " + plural(static_cast<std::size_t>(errors.lags), "lag", "lags") + " of " +
                         errors.column
                   : "errors for serial dependence over " + errors.column;
    default:
        break;
    }
    return std::string(covarianceKindName(errors.kind)) + " errors";
}

Recipe parseRecipe(std::string_view text, const std::string& name) {
    const nlohmann::json parsed = parseJson(text, name);
    JsonObject object{JsonValue(parsed, "", name)};
    if (!object.has("recipe")) object.refuse("lacks the key \"recipe\", which says its version, 1");
    const JsonValue version = object.at("recipe");
    if (version.whole(1, UINT32_MAX) > 1)
        throw Error(ErrorCode::newerVersion,
                    "the recipe is of a newer form than this program knows, which is 1", {.file = name},
                    "Use a newer Oxgoad.");
    Recipe recipe;
    recipe.rows = parsePlan(object.at("rows"));
    parseModel(object, recipe);
    parseRest(object, recipe);
    object.finish();
    if (const auto problem = problemOf(recipe))
        throw Error(ErrorCode::badRecipe, problem->key + " " + problem->says, {.file = name}, problem->hint);
    return recipe;
}

Recipe readRecipe(const std::filesystem::path& path) {
    return parseRecipe(readFile(path), path.filename().string());
}

std::string recipeText(const Recipe& recipe) {
    ordered_json out;
    out["recipe"] = 1;
    out["rows"] = planJson(recipe.rows);
    for (const Step& step : recipe.steps)
        out["steps"].push_back(stepJson(step));
    for (const auto& [column, role] : recipe.roles)
        out["roles"][column] = roleName(role);
    out["response"] = recipe.response;
    out["terms"] = ordered_json::array();
    for (const Term& term : recipe.terms)
        out["terms"].push_back(termJson(term));
    out["intercept"] = recipe.intercept;
    if (!recipe.reference.empty()) out["reference"] = recipe.reference;
    out["estimator"] = estimatorJson(recipe.estimator);
    if (recipe.errors.kind != CovarianceKind::homoskedastic) out["errors"] = errorsJson(recipe.errors);
    if (recipe.logResponse) out["response_in_logs"] = true;
    if (recipe.level != 0.95) out["level"] = recipe.level;
    if (recipe.setAside) out["set_aside"] = setAsideJson(*recipe.setAside);
    if (recipe.judge) out["judge"] = foldPlanJson(*recipe.judge);
    if (recipe.choose) out["choose"] = choosePlanJson(*recipe.choose);
    if (recipe.forecast) out["forecast"] = forecastJson(*recipe.forecast);
    if (!recipe.scenarios.empty()) out["scenarios"] = scenariosJson(recipe.scenarios);
    if (!recipe.handRows.empty()) out["rows_by_hand"] = handRowsJson(recipe.handRows);
    if (recipe.clearance) out["clearance"] = clearanceJson(*recipe.clearance);
    if (!recipe.deliveries.empty()) out["deliveries"] = deliveriesJson(recipe.deliveries);
    for (const LeftOutRow& row : recipe.leaveOut)
        out["leave_out"].push_back({{"row", row.row}, {"reason", row.reason}});
    for (const AcceptedGoad& goad : recipe.accepted) {
        out["accepted"].push_back({{"goad", goad.goad}, {"reason", goad.reason}});
        if (goad.size) out["accepted"].back()["size"] = *goad.size;
    }
    for (const NotedGoad& note : recipe.noted)
        out["noted"].push_back({{"column", note.column}, {"says", note.says}});
    for (const auto& [name, setting] : recipe.checks) {
        auto& check = out["checks"][name];
        if (setting.off) check["off"] = true;
        if (setting.threshold) check["threshold"] = *setting.threshold;
        if (!setting.reason.empty()) check["reason"] = setting.reason;
    }
    if (recipe.chosen) out["chosen"] = chosenJson(*recipe.chosen);
    if (!recipe.units.empty()) out["units"] = recipe.units;
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

std::vector<Goad> notedGoads(const Recipe& recipe) {
    std::vector<Goad> goads;
    for (const NotedGoad& note : recipe.noted) {
        Goad goad;
        goad.key = "noted: " + note.column + ": " + note.says;
        goad.title = "Seen in " + note.column;
        goad.reading = note.says;
        goad.threshold = "the analyst's eye";
        goad.source = "noted while looking";
        goad.station = "look";
        goad.column = note.column;
        goad.noted = true;
        goad.moves.push_back({.label = "see column", .shows = Move::Shows::column});
        goad.moves.push_back({.label = "drop the note", .edit = [note](Recipe& edited, const std::string&) {
                                  std::erase(edited.noted, note);
                              }});
        markAccepted(recipe, goad);
        goads.push_back(std::move(goad));
    }
    return goads;
}

const CheckSetting* checkSetting(const Recipe& recipe, std::string_view reading) {
    auto found = recipe.checks.find(std::string(reading));
    if (found == recipe.checks.end()) {
        const auto colon = reading.find(": ");
        if (colon == std::string_view::npos) return nullptr;
        found = recipe.checks.find(std::string(reading.substr(0, colon)));
    }
    return found == recipe.checks.end() ? nullptr : &found->second;
}

void markAccepted(const Recipe& recipe, Goad& goad) {
    constexpr double clearlyWorse = 1.5;
    goad.accepted.reset();
    goad.acceptedBefore.clear();
    for (const AcceptedGoad& accepted : recipe.accepted) {
        if (accepted.goad != goad.key) continue;
        if (accepted.size && goad.size && *goad.size > clearlyWorse * *accepted.size && *accepted.size > 0)
            goad.acceptedBefore = accepted.reason;
        else
            goad.accepted = accepted.reason;
    }
}

bool sameModel(const Recipe& a, const Recipe& b) {
    Recipe other = b;
    other.accepted = a.accepted;
    other.noted = a.noted;
    other.chosen = a.chosen;
    if (!kindOf(a.estimator).readsUnits) other.units = a.units;
    other.clearance = a.clearance;
    other.deliveries = a.deliveries;
    other.handRows = a.handRows;
    other.roles = a.roles;
    const bool series = kindOf(a.estimator).series;
    for (const Role role : {Role::time, Role::group})
        if (series && columnWith(a, role) != columnWith(b, role)) return false;
    return a == other && columnWith(a, Role::weight) == columnWith(b, Role::weight) &&
           columnWith(a, Role::offset) == columnWith(b, Role::offset);
}

bool learnsTheSame(const Recipe& a, const Recipe& b) {
    const bool bounds = kindOf(a.estimator).quantile;
    if (bounds && (a.forecast.has_value() != b.forecast.has_value() ||
                   (a.forecast && a.forecast->level != b.forecast->level)))
        return false;
    Recipe other = b;
    other.forecast = a.forecast;
    other.scenarios = a.scenarios;
    other.level = a.level;
    other.checks = a.checks;
    // Terms and penalties are chosen by folds that are dealt as the model is judged.
    const bool byFolds = a.choose && a.choose->criterion == ChooseCriterion::crossValidated;
    if (!byFolds && !isSought(a.estimator)) other.judge = a.judge;
    return sameModel(a, other);
}

} // namespace oxgoad
