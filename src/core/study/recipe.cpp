#include "study/recipe.h"

#include "base/error.h"
#include "base/file.h"
#include "base/text.h"
#include "study/json_reader.h"

#include <algorithm>
#include <array>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

constexpr std::array encodings{Encoding::utf8, Encoding::utf16LittleEndian, Encoding::utf16BigEndian,
                               Encoding::latin1};
constexpr std::array kinds{ColumnKind::number, ColumnKind::factor, ColumnKind::date, ColumnKind::text};

TextOptions parseTextOptions(JsonObject& object) {
    TextOptions options;
    object.optional("delimiter", [&](const JsonValue& v) { options.delimiter = v.character(); });
    object.optional("quote", [&](const JsonValue& v) { options.quote = v.character(); });
    object.optional("header", [&](const JsonValue& v) { options.header = v.boolean(); });
    object.optional("decimal_mark", [&](const JsonValue& v) {
        options.decimalMark = v.character();
        if (*options.decimalMark != '.' && *options.decimalMark != ',') v.refuse("must be \".\" or \",\"");
    });
    object.optional("encoding", [&](const JsonValue& v) {
        const std::string name = v.text();
        const auto found = std::find_if(encodings.begin(), encodings.end(),
                                        [&](Encoding e) { return encodingName(e) == name; });
        if (found == encodings.end())
            v.refuse("is \"" + name + "\"", "Known are utf-8, utf-16le, utf-16be and latin-1.");
        options.encoding = *found;
    });
    object.optional("missing_marks", [&](const JsonValue& v) {
        options.missingMarks.clear();
        v.eachItem([&](const JsonValue& item) { options.missingMarks.push_back(item.text()); });
    });
    object.optional("kinds", [&](const JsonValue& v) {
        v.eachMember([&](const std::string& column, const JsonValue& kind) {
            const std::string name = kind.text();
            const auto found =
                std::find_if(kinds.begin(), kinds.end(), [&](ColumnKind k) { return kindName(k) == name; });
            if (found == kinds.end())
                kind.refuse("is \"" + name + "\"", "Known are number, factor, date and text.");
            options.kinds[column] = *found;
        });
    });
    return options;
}

void writeTextOptions(ordered_json& out, const TextOptions& options) {
    if (options.delimiter) out["delimiter"] = std::string(1, *options.delimiter);
    if (options.quote) out["quote"] = std::string(1, *options.quote);
    if (options.header) out["header"] = *options.header;
    if (options.decimalMark) out["decimal_mark"] = std::string(1, *options.decimalMark);
    if (options.encoding) out["encoding"] = encodingName(*options.encoding);
    if (options.missingMarks != TextOptions{}.missingMarks) out["missing_marks"] = options.missingMarks;
    for (const auto& [column, kind] : options.kinds)
        out["kinds"][column] = kindName(kind);
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
        object.optional("power", [&](const JsonValue& v) {
            part.power = v.integer(-30, 30);
            if (part.power == 0) v.refuse("must not be 0");
        });
    }
    object.finish();
    return part;
}

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

ordered_json partJson(const TermPart& part) {
    if (part.logarithm) return {{"log", part.column}};
    if (part.power != 1) return {{"column", part.column}, {"power", part.power}};
    return part.column;
}

ordered_json termJson(const Term& term) {
    if (term.parts.size() == 1) return partJson(term.parts[0]);
    ordered_json parts = ordered_json::array();
    for (const TermPart& part : term.parts)
        parts.push_back(partJson(part));
    return {{"product", parts}};
}

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
    object.optional("estimator", [&](const JsonValue& v) {
        JsonObject estimator(v);
        const JsonValue kind = estimator.at("kind");
        if (kind.text() != "least squares")
            kind.refuse("is \"" + kind.text() + "\"", "Known is \"least squares\".");
        estimator.finish();
    });
    object.optional("level", [&](const JsonValue& v) { recipe.level = v.number(0, 1); });
}

void parseRest(JsonObject& object, Recipe& recipe) {
    object.optional("set_aside", [&](const JsonValue& v) {
        JsonObject aside(v);
        const JsonValue kind = aside.at("kind");
        if (kind.text() != "random") kind.refuse("is \"" + kind.text() + "\"", "Known is \"random\".");
        RandomHoldOut holdOut;
        holdOut.share = aside.at("share").number(0, 1);
        holdOut.seed = aside.at("seed").whole(0, UINT64_MAX);
        aside.finish();
        recipe.setAside = holdOut;
    });
    object.optional("forecast", [&](const JsonValue& v) {
        JsonObject forecast(v);
        ForecastRequest request;
        request.file = forecast.at("file").text();
        forecast.optional("level", [&](const JsonValue& level) { request.level = level.number(0, 1); });
        request.text = parseTextOptions(forecast);
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
    object.optional("units", [&](const JsonValue& v) {
        v.eachMember(
            [&](const std::string& column, const JsonValue& unit) { recipe.units[column] = unit.text(); });
    });
}

} // namespace

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
    JsonObject rows(object.at("rows"));
    recipe.rows.file = rows.at("file").text();
    recipe.rows.text = parseTextOptions(rows);
    rows.finish();
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
    out["rows"]["file"] = recipe.rows.file;
    writeTextOptions(out["rows"], recipe.rows.text);
    out["response"] = recipe.response;
    out["terms"] = ordered_json::array();
    for (const Term& term : recipe.terms)
        out["terms"].push_back(termJson(term));
    out["intercept"] = recipe.intercept;
    if (!recipe.reference.empty()) out["reference"] = recipe.reference;
    out["estimator"]["kind"] = "least squares";
    if (recipe.level != 0.95) out["level"] = recipe.level;
    if (recipe.setAside)
        out["set_aside"] = {
            {"kind", "random"}, {"share", recipe.setAside->share}, {"seed", recipe.setAside->seed}};
    if (recipe.forecast) {
        out["forecast"] = {{"file", recipe.forecast->file}, {"level", recipe.forecast->level}};
        writeTextOptions(out["forecast"], recipe.forecast->text);
    }
    for (const LeftOutRow& row : recipe.leaveOut)
        out["leave_out"].push_back({{"row", row.row}, {"reason", row.reason}});
    for (const AcceptedGoad& goad : recipe.accepted)
        out["accepted"].push_back({{"goad", goad.goad}, {"reason", goad.reason}});
    if (!recipe.units.empty()) out["units"] = recipe.units;
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

bool sameModel(const Recipe& a, const Recipe& b) {
    Recipe other = b;
    other.accepted = a.accepted;
    other.units = a.units;
    return a == other;
}

std::string startText(const Recipe& recipe) {
    return recipe.response + " from " + plural(recipe.terms.size(), "term", "terms");
}

std::string changeText(const Recipe& from, const Recipe& to) {
    std::vector<std::string> changes;
    auto in = [](const std::vector<Term>& terms, const Term& term) {
        return std::find(terms.begin(), terms.end(), term) != terms.end();
    };
    if (from.rows != to.rows)
        changes.push_back("rows of " + std::filesystem::path(to.rows.file).filename().string());
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
        changes.push_back(to.setAside ? readableText(100 * to.setAside->share, 3) + " % held out, seed " +
                                            std::to_string(to.setAside->seed)
                                      : "no rows held out");
    if (from.forecast != to.forecast)
        changes.push_back(to.forecast
                              ? "forecast of " + std::filesystem::path(to.forecast->file).filename().string()
                              : "no forecast");
    if (from.level != to.level) changes.push_back(readableText(100 * to.level, 3) + " % intervals");
    if (changes.empty()) return "the same";
    std::string text = changes[0];
    for (std::size_t i = 1; i < std::min<std::size_t>(changes.size(), 3); ++i)
        text += ", " + changes[i];
    if (changes.size() > 3) text += ", …";
    return text;
}

} // namespace oxgoad
