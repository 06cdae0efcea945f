#include "recipe/recipe_parts.h"

#include "base/error.h"

#include <algorithm>
#include <array>
#include <limits>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

constexpr double beyond = std::numeric_limits<double>::infinity();
constexpr std::array encodings{Encoding::utf8, Encoding::utf16LittleEndian, Encoding::utf16BigEndian,
                               Encoding::latin1};
constexpr std::array orders{DateOrder::yearFirst, DateOrder::dayFirst, DateOrder::monthFirst};
constexpr std::array<std::pair<NumberDress::Percent, std::string_view>, 3> percents{
    {{NumberDress::Percent::share, "share"},
     {NumberDress::Percent::number, "number"},
     {NumberDress::Percent::refused, "refused"}}};

std::vector<std::string> textList(const JsonValue& value) {
    std::vector<std::string> texts;
    value.eachItem([&](const JsonValue& item) { texts.push_back(item.text()); });
    return texts;
}

TextOptions parseTextOptions(JsonObject& object) {
    TextOptions options;
    object.optional("delimiter", [&](const JsonValue& v) { options.delimiter = v.character(); });
    object.optional("quote", [&](const JsonValue& v) { options.quote = v.character(); });
    object.optional("header", [&](const JsonValue& v) { options.header = v.boolean(); });
    object.optional("skip_lines", [&](const JsonValue& v) { options.skipLines = v.whole(0, 1000000); });
    object.optional("decimal_mark", [&](const JsonValue& v) {
        options.decimalMark = v.character();
        if (*options.decimalMark != '.' && *options.decimalMark != ',') v.refuse("must be \".\" or \",\"");
    });
    object.optional("thousands_marks", [&](const JsonValue& v) {
        options.thousandsMarks = v.text();
        if (options.thousandsMarks->find_first_of("0123456789+-") != std::string::npos)
            v.refuse("holds digits or signs, which are parts of numbers",
                     "Use marks such as , ' or a space.");
    });
    object.optional("currency", [&](const JsonValue& v) { options.currency = v.boolean(); });
    object.optional("percent", [&](const JsonValue& v) {
        const std::string name = v.text();
        const auto* found =
            std::find_if(percents.begin(), percents.end(), [&](const auto& p) { return p.second == name; });
        if (found == percents.end()) v.refuse("is \"" + name + "\"", "Known are share, number and refused.");
        options.percent = found->first;
    });
    object.optional("date_order", [&](const JsonValue& v) {
        const std::string name = v.text();
        const auto* found =
            std::find_if(orders.begin(), orders.end(), [&](DateOrder o) { return dateOrderName(o) == name; });
        if (found == orders.end())
            v.refuse("is \"" + name + "\"", "Known are year first, day first and month first.");
        options.dateOrder = *found;
    });
    object.optional("encoding", [&](const JsonValue& v) {
        const std::string name = v.text();
        const auto* found = std::find_if(encodings.begin(), encodings.end(),
                                         [&](Encoding e) { return encodingName(e) == name; });
        if (found == encodings.end())
            v.refuse("is \"" + name + "\"", "Known are utf-8, utf-16le, utf-16be and latin-1.");
        options.encoding = *found;
    });
    object.optional("missing_marks", [&](const JsonValue& v) { options.missingMarks = textList(v); });
    object.optional("kinds", [&](const JsonValue& v) {
        v.eachMember([&](const std::string& column, const JsonValue& kind) {
            const std::string name = kind.text();
            const auto found = AskedKind::named(name);
            if (!found)
                kind.refuse("is \"" + name + "\"",
                            "Known are number, factor, date, date and time, and text.");
            options.kinds[column] = *found;
        });
    });
    return options;
}

void writeTextOptions(ordered_json& out, const TextOptions& options) {
    if (options.delimiter) out["delimiter"] = std::string(1, *options.delimiter);
    if (options.quote) out["quote"] = std::string(1, *options.quote);
    if (options.header) out["header"] = *options.header;
    if (options.skipLines) out["skip_lines"] = *options.skipLines;
    if (options.decimalMark) out["decimal_mark"] = std::string(1, *options.decimalMark);
    if (options.thousandsMarks) out["thousands_marks"] = *options.thousandsMarks;
    if (!options.currency) out["currency"] = false;
    for (const auto& [percent, name] : percents)
        if (percent == options.percent && percent != NumberDress::Percent::share) out["percent"] = name;
    if (options.dateOrder) out["date_order"] = dateOrderName(*options.dateOrder);
    if (options.encoding) out["encoding"] = encodingName(*options.encoding);
    if (options.missingMarks != TextOptions{}.missingMarks) out["missing_marks"] = options.missingMarks;
    for (const auto& [column, kind] : options.kinds)
        out["kinds"][column] = kind.name();
}

bool isWorkbookName(std::string file) {
    for (char& c : file)
        c = c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
    return file.ends_with(".xlsx") || file.ends_with(".xlsm") || file.ends_with(".ods");
}

} // namespace

RowsSource parseSource(JsonObject& object) {
    RowsSource source;
    source.text = parseTextOptions(object);
    object.optional("gather", [&](const JsonValue& v) {
        JsonObject gather(v);
        GatherPlan plan;
        gather.optional("columns", [&](const JsonValue& x) { plan.columns = textList(x); });
        gather.optional("from", [&](const JsonValue& x) { plan.from = x.text(); });
        gather.optional("to", [&](const JsonValue& x) { plan.to = x.text(); });
        gather.optional("names", [&](const JsonValue& x) { plan.names = x.text(); });
        gather.optional("values", [&](const JsonValue& x) { plan.values = x.text(); });
        gather.finish();
        if (plan.columns.empty() ? plan.from.empty() || plan.to.empty()
                                 : !plan.from.empty() || !plan.to.empty())
            v.refuse("must name its columns", "Give either \"columns\", or \"from\" and \"to\".");
        if (plan.names.empty() || plan.values.empty()) v.refuse("has an empty name");
        source.gather = std::move(plan);
    });
    object.optional("server", [&](const JsonValue& v) {
        JsonObject server(v);
        source.kind = SourceKind::postgres;
        server.optional("host", [&](const JsonValue& x) { source.server.host = x.text(); });
        server.optional("port", [&](const JsonValue& x) { source.server.port = x.integer(1, 65535); });
        source.server.database = server.at("database").text();
        source.server.user = server.at("user").text();
        if (server.has("password"))
            v.refuse("holds a password, which a recipe must not", "Take it out; it is asked for.");
        server.finish();
    });
    if (source.kind == SourceKind::postgres) {
        source.query = object.at("query").text();
        return source;
    }
    source.file = object.at("file").text();
    if (source.file.find('\0') != std::string::npos)
        object.at("file").refuse("holds a character that no file name has (NUL)", "Correct the name.");
    object.optional("query", [&](const JsonValue& v) {
        source.query = v.text();
        source.kind = SourceKind::sqlite;
    });
    object.optional("sheet", [&](const JsonValue& v) { source.sheet = v.text(); });
    object.optional("range", [&](const JsonValue& v) { source.range = v.text(); });
    if (source.kind != SourceKind::sqlite && isWorkbookName(source.file)) source.kind = SourceKind::workbook;
    return source;
}

void writeSource(ordered_json& out, const RowsSource& source) {
    if (source.kind == SourceKind::postgres) {
        out["server"] = {{"host", source.server.host},
                         {"port", source.server.port},
                         {"database", source.server.database},
                         {"user", source.server.user}};
        out["query"] = source.query;
    } else {
        out["file"] = source.file;
        if (source.kind == SourceKind::sqlite) out["query"] = source.query;
        if (!source.sheet.empty()) out["sheet"] = source.sheet;
        if (!source.range.empty()) out["range"] = source.range;
    }
    writeTextOptions(out, source.text);
    if (source.gather) {
        ordered_json gather;
        if (source.gather->columns.empty()) {
            gather["from"] = source.gather->from;
            gather["to"] = source.gather->to;
        } else {
            gather["columns"] = source.gather->columns;
        }
        gather["names"] = source.gather->names;
        gather["values"] = source.gather->values;
        out["gather"] = gather;
    }
}

RowsPlan parsePlan(const JsonValue& value) {
    JsonObject object(value);
    RowsPlan plan;
    static_cast<RowsSource&>(plan) = parseSource(object);
    object.optional("stack", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) {
            JsonObject source(item);
            plan.stacked.push_back(parseSource(source));
            source.finish();
        });
    });
    object.optional("origin", [&](const JsonValue& v) { plan.originColumn = v.text(); });
    object.optional("join", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) {
            JsonObject source(item);
            JoinedSource join;
            join.source = parseSource(source);
            source.at("keys").eachItem([&](const JsonValue& pair) {
                const auto names = textList(pair);
                if (names.size() != 2)
                    pair.refuse("must name a column of the rows and one of the second table");
                join.keys.emplace_back(names[0], names[1]);
            });
            if (join.keys.empty()) item.refuse("names no key");
            source.finish();
            plan.joins.push_back(std::move(join));
        });
    });
    object.finish();
    return plan;
}

ordered_json planJson(const RowsPlan& plan) {
    ordered_json out;
    writeSource(out, plan);
    for (const RowsSource& source : plan.stacked) {
        ordered_json each;
        writeSource(each, source);
        out["stack"].push_back(each);
    }
    if (!plan.originColumn.empty()) out["origin"] = plan.originColumn;
    for (const JoinedSource& join : plan.joins) {
        ordered_json each;
        writeSource(each, join.source);
        for (const auto& [left, right] : join.keys)
            each["keys"].push_back({left, right});
        out["join"].push_back(each);
    }
    return out;
}

namespace {

/// A number, or {"tuned": {"rule": …}} or {"tuned": {"values": […]}}.
FieldValue parseSought(const Field& field, const JsonValue& value) {
    if (value.isNumber()) return value.number(-beyond, beyond);
    FieldValue found = std::string(field.choices.empty() ? "" : field.choices.front());
    JsonObject object(value);
    const JsonValue tuned = object.at("tuned");
    JsonObject how(tuned);
    if (field.choices.empty()) {
        std::vector<double> values;
        how.at("values").eachItem(
            [&](const JsonValue& item) { values.push_back(item.number(-beyond, beyond)); });
        found = values;
    } else {
        std::string rule = field.choices.front();
        how.optional("rule", [&](const JsonValue& v) { rule = v.text(); });
        how.optional("by", [&](const JsonValue& v) {
            if (v.text() == "held out")
                rule += onHeldOutRows;
            else if (v.text() != "folds")
                v.refuse("is \"" + v.text() + "\"", "Known are \"folds\" and \"held out\".");
        });
        found = rule;
    }
    how.finish();
    object.finish();
    return found;
}

} // namespace

FieldValue parseField(const Field& field, const JsonValue& value) {
    switch (field.type) {
    case FieldType::column:
    case FieldType::text:
    case FieldType::choice:
    case FieldType::expression:
    case FieldType::level:
        return value.text();
    case FieldType::number:
    case FieldType::whole:
        return value.number(-beyond, beyond);
    case FieldType::sought:
        return parseSought(field, value);
    case FieldType::flag:
        return value.boolean();
    case FieldType::columns:
    case FieldType::levels:
    case FieldType::texts:
        return textList(value);
    case FieldType::numbers: {
        std::vector<double> numbers;
        value.eachItem([&](const JsonValue& item) { numbers.push_back(item.number(-beyond, beyond)); });
        return numbers;
    }
    case FieldType::pairs: {
        TextPairs pairs;
        value.eachItem([&](const JsonValue& item) {
            const auto pair = textList(item);
            if (pair.size() != 2) item.refuse("must be a value and what replaces it");
            pairs.emplace_back(pair[0], pair[1]);
        });
        return pairs;
    }
    }
    return std::string();
}

FieldValues parseFields(JsonObject& object, std::span<const Field> fields) {
    FieldValues values;
    for (const Field& field : fields)
        object.optional(field.key, [&](const JsonValue& v) { values[field.key] = parseField(field, v); });
    return values;
}

ordered_json fieldJson(const FieldValue& value) {
    return std::visit(
        [](const auto& v) {
            if constexpr (std::is_same_v<std::decay_t<decltype(v)>, TextPairs>) {
                ordered_json pairs = ordered_json::array();
                for (const auto& [from, to] : v)
                    pairs.push_back(ordered_json::array({from, to}));
                return pairs;
            } else {
                return ordered_json(v);
            }
        },
        value);
}

Step parseStep(const JsonValue& value) {
    JsonObject object(value);
    Step step;
    step.kind = object.at("do").text();
    const StepKind* kind = findStepKind(step.kind);
    if (!kind) {
        std::vector<std::string> known;
        for (const StepKind& each : stepKinds())
            known.push_back("\"" + each.name + "\"");
        object.at("do").refuse("is \"" + step.kind + "\"",
                               "Known are " + nameList(known, known.size()) + ".");
    }
    object.optional("off", [&](const JsonValue& v) { step.on = !v.boolean(); });
    step.fields = parseFields(object, kind->fields);
    object.finish();
    try {
        checkStep(step);
    } catch (const Error& error) {
        value.refuse("is wrong: " + error.message(), error.remedy());
    }
    return step;
}

ordered_json stepJson(const Step& step) {
    ordered_json out{{"do", step.kind}};
    if (!step.on) out["off"] = true;
    for (const auto& [key, value] : step.fields)
        out[key] = fieldJson(value);
    return out;
}

SetAside parseSetAside(const JsonValue& value) {
    JsonObject object(value);
    SetAside aside;
    const JsonValue kind = object.at("kind");
    const auto named = setAsideNamed(kind.text());
    if (!named)
        kind.refuse("is \"" + kind.text() + "\"", "Known are \"random\", \"in proportion\", \"first rows\", "
                                                  "\"column\", \"groups\" and \"latest\".");
    aside.kind = *named;
    const bool byColumn = aside.kind == SetAsideKind::column;
    if (!byColumn) aside.share = object.at("share").number(0, 1);
    if (!byColumn)
        object.optional("test_share", [&](const JsonValue& v) { aside.testShare = v.number(0, 1); });
    if (aside.share + aside.testShare >= 1)
        value.refuse("has shares that leave nothing to learn from",
                     "Choose shares that are below 1 together.");
    if (aside.kind == SetAsideKind::random || aside.kind == SetAsideKind::proportionate ||
        aside.kind == SetAsideKind::groups)
        aside.seed = object.at("seed").whole(0, UINT64_MAX);
    if (aside.kind != SetAsideKind::random && aside.kind != SetAsideKind::firstRows)
        aside.column = object.at("column").text();
    if (aside.kind == SetAsideKind::proportionate)
        object.optional("bands", [&](const JsonValue& v) { aside.bands = v.integer(2, 1000); });
    if (byColumn) {
        aside.heldOutValues = textList(object.at("held_out"));
        object.optional("test", [&](const JsonValue& v) { aside.testValues = textList(v); });
    }
    object.optional("held_out_learn", [&](const JsonValue& v) { aside.heldOutLearn = v.boolean(); });
    object.finish();
    return aside;
}

ordered_json setAsideJson(const SetAside& aside) {
    ordered_json out{{"kind", setAsideName(aside.kind)}};
    if (aside.kind == SetAsideKind::column) {
        out["column"] = aside.column;
        out["held_out"] = aside.heldOutValues;
        if (!aside.testValues.empty()) out["test"] = aside.testValues;
        if (aside.heldOutLearn) out["held_out_learn"] = true;
        return out;
    }
    if (!aside.column.empty()) out["column"] = aside.column;
    out["share"] = aside.share;
    if (aside.testShare > 0) out["test_share"] = aside.testShare;
    if (aside.kind == SetAsideKind::random || aside.kind == SetAsideKind::proportionate ||
        aside.kind == SetAsideKind::groups)
        out["seed"] = aside.seed;
    if (aside.kind == SetAsideKind::proportionate && aside.bands != 5) out["bands"] = aside.bands;
    if (aside.heldOutLearn) out["held_out_learn"] = true;
    return out;
}

} // namespace oxgoad
