#include "study/recipe.h"

#include "base/error.h"
#include "base/file.h"
#include "base/text.h"
#include "study/json_reader.h"
#include "study/model_parts.h"
#include "study/recipe_parts.h"

#include <algorithm>
#include <array>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

constexpr std::array roles{Role::predictor,  Role::weight,   Role::time,  Role::group,
                           Role::identifier, Role::setAside, Role::offset};

void parseModel(JsonObject& object, Recipe& recipe) {
    recipe.response = object.at("response").text();
    object.at("terms").eachItem([&](const JsonValue& item) {
        const Term term = parseTerm(item);
        if (std::find(recipe.terms.begin(), recipe.terms.end(), term) != recipe.terms.end())
            item.refuse("is a term that is there before: " + termName(term));
        for (const TermPart& part : term.parts)
            if (part.column == recipe.response)
                item.refuse("uses the response \"" + recipe.response + "\" to explain itself");
        recipe.terms.push_back(term);
    });
    object.optional("intercept", [&](const JsonValue& v) { recipe.intercept = v.boolean(); });
    object.optional("reference", [&](const JsonValue& v) {
        v.eachMember([&](const std::string& column, const JsonValue& level) {
            recipe.reference[column] = level.text();
        });
    });
    object.optional("estimator", [&](const JsonValue& v) { recipe.estimator = parseEstimator(v); });
    object.optional("errors", [&](const JsonValue& v) {
        recipe.errors = parseErrors(v);
        if (recipe.estimator.kind != EstimatorKind::leastSquares)
            v.refuse("go with least squares only",
                     "Other estimators have errors of their own; take the key out.");
    });
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
            if ((*named == Role::weight || *named == Role::offset) && !columnWith(recipe, *named).empty())
                role.refuse("is \"" + role.text() + "\" for a second column", "One column can have it.");
            recipe.roles[column] = *named;
        });
    });
    object.optional("set_aside", [&](const JsonValue& v) { recipe.setAside = parseSetAside(v); });
    object.optional("forecast", [&](const JsonValue& v) {
        JsonObject forecast(v);
        ForecastRequest request;
        static_cast<RowsSource&>(request) = parseSource(forecast);
        forecast.optional("level", [&](const JsonValue& level) { request.level = level.number(0, 1); });
        forecast.finish();
        recipe.forecast = request;
    });
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
            recipe.accepted.push_back({goad.at("goad").text(), goad.at("reason").text()});
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

std::string estimatorText(const Estimator& estimator) {
    switch (estimator.kind) {
    case EstimatorKind::leastSquares:
        break;
    case EstimatorKind::robust: {
        const std::string tuned =
            estimator.tuning > 0 ? " with constant " + shortText(estimator.tuning) : std::string();
        return (estimator.influence == Influence::huber ? "Huber's robust regression"
                                                        : "robust regression with the bisquare") +
               tuned;
    }
    case EstimatorKind::quantile:
        return estimator.share == 0.5 ? "median regression"
                                      : percentText(estimator.share) + " quantile regression";
    }
    return "least squares";
}

std::string errorsText(const Errors& errors) {
    switch (errors.kind) {
    case ErrorsKind::equalSpread:
        return "errors for equal spread";
    case ErrorsKind::byGroup:
        return "errors by " + errors.column;
    case ErrorsKind::byFewGroups:
        return "errors by " + errors.column + ", corrected for few groups";
    case ErrorsKind::serial:
        return errors.lags >= 0
                   ? "errors for " + plural(static_cast<std::size_t>(errors.lags), "lag", "lags") + " of " +
                         errors.column
                   : "errors for serial dependence over " + errors.column;
    default:
        break;
    }
    return std::string(errorsKindName(errors.kind)) + " errors";
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
    if (recipe.errors.kind != ErrorsKind::equalSpread) out["errors"] = errorsJson(recipe.errors);
    if (recipe.logResponse) out["response_in_logs"] = true;
    if (recipe.level != 0.95) out["level"] = recipe.level;
    if (recipe.setAside) out["set_aside"] = setAsideJson(*recipe.setAside);
    if (recipe.forecast) {
        writeSource(out["forecast"], *recipe.forecast);
        out["forecast"]["level"] = recipe.forecast->level;
    }
    for (const LeftOutRow& row : recipe.leaveOut)
        out["leave_out"].push_back({{"row", row.row}, {"reason", row.reason}});
    for (const AcceptedGoad& goad : recipe.accepted)
        out["accepted"].push_back({{"goad", goad.goad}, {"reason", goad.reason}});
    for (const NotedGoad& note : recipe.noted)
        out["noted"].push_back({{"column", note.column}, {"says", note.says}});
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
        goad.moves.push_back({Move::Kind::seeColumn, "see column", note.column, 0});
        goad.moves.push_back({Move::Kind::dropNote, "drop the note", note.says, 0});
        for (const AcceptedGoad& accepted : recipe.accepted)
            if (accepted.goad == goad.key) goad.accepted = accepted.reason;
        goads.push_back(std::move(goad));
    }
    return goads;
}

bool sameModel(const Recipe& a, const Recipe& b) {
    Recipe other = b;
    other.accepted = a.accepted;
    other.noted = a.noted;
    other.chosen = a.chosen;
    other.units = a.units;
    other.roles = a.roles;
    return a == other && columnWith(a, Role::weight) == columnWith(b, Role::weight) &&
           columnWith(a, Role::offset) == columnWith(b, Role::offset);
}

std::string startText(const Recipe& recipe) {
    std::string text = (recipe.logResponse ? "ln " : "") + recipe.response + " from " +
                       plural(recipe.terms.size(), "term", "terms");
    if (recipe.estimator.kind != EstimatorKind::leastSquares)
        text += " by " + estimatorText(recipe.estimator);
    return text;
}

std::string changeText(const Recipe& from, const Recipe& to) {
    std::vector<std::string> changes;
    auto in = [](const std::vector<Term>& terms, const Term& term) {
        return std::find(terms.begin(), terms.end(), term) != terms.end();
    };
    if (from.rows != to.rows) changes.push_back("rows of " + sourceName(to.rows));
    for (const Step& step : to.steps)
        if (step.on && std::find(from.steps.begin(), from.steps.end(), step) == from.steps.end())
            changes.push_back("+ " + stepSentence(step));
    for (const Step& step : from.steps)
        if (step.on && std::find(to.steps.begin(), to.steps.end(), step) == to.steps.end())
            changes.push_back("− " + stepSentence(step));
    if (from.steps != to.steps && changes.empty()) changes.emplace_back("steps in another order");
    if (from.response != to.response) changes.push_back("response " + to.response);
    for (const Term& term : to.terms)
        if (!in(from.terms, term)) changes.push_back("+ " + termName(term));
    for (const Term& term : from.terms)
        if (!in(to.terms, term)) changes.push_back("− " + termName(term));
    if (from.intercept != to.intercept)
        changes.emplace_back(to.intercept ? "with a constant" : "without a constant");
    if (from.reference != to.reference) {
        for (const auto& [factor, level] : to.reference)
            if (!from.reference.contains(factor) || from.reference.at(factor) != level)
                changes.push_back(factor + " against " + level);
    }
    if (from.leaveOut != to.leaveOut) {
        const auto before = from.leaveOut.size();
        const auto after = to.leaveOut.size();
        changes.push_back(after >= before
                              ? "− " + plural(std::max<std::size_t>(after - before, 1), "row", "rows")
                              : "+ " + plural(before - after, "row", "rows"));
    }
    if (from.setAside != to.setAside)
        changes.push_back(to.setAside ? setAsideText(*to.setAside) : "no rows held out");
    if (from.forecast != to.forecast)
        changes.push_back(to.forecast ? "forecast of " + sourceName(*to.forecast) : "no forecast");
    if (from.estimator != to.estimator) changes.push_back("by " + estimatorText(to.estimator));
    if (from.errors != to.errors) changes.push_back(errorsText(to.errors));
    if (from.logResponse != to.logResponse)
        changes.push_back(to.logResponse ? "ln " + to.response : to.response + " as it is");
    for (const Role role : {Role::weight, Role::offset})
        if (const std::string now = columnWith(to, role); now != columnWith(from, role))
            changes.push_back(now.empty() ? "no " + std::string(roleName(role))
                                          : std::string(roleName(role)) + " " + now);
    if (from.level != to.level) changes.push_back(readableText(100 * to.level, 3) + " % intervals");
    if (changes.empty()) return "the same";
    std::string text = changes[0];
    for (std::size_t i = 1; i < std::min<std::size_t>(changes.size(), 3); ++i)
        text += ", " + changes[i];
    if (changes.size() > 3) text += ", …";
    return text;
}

} // namespace oxgoad
