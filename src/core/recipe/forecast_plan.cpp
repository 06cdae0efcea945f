#include "recipe/forecast_plan.h"

#include "base/text.h"
#include "recipe/json_reader.h"
#include "recipe/recipe_parts.h"
#include "table/fields.h"

#include <algorithm>
#include <array>
#include <set>
#include <span>
#include <utility>

namespace oxgoad {

using nlohmann::ordered_json;

namespace {

template <class E> using Names = std::span<const std::pair<E, std::string_view>>;

constexpr std::array<std::pair<IntervalWay, std::string_view>, 5> ways{
    {{IntervalWay::theory, "theory"},
     {IntervalWay::quantiles, "quantiles"},
     {IntervalWay::resampled, "resampled"},
     {IntervalWay::outOfFold, "out of fold"},
     {IntervalWay::usual, "usual"}}};
constexpr std::array<std::pair<Stretch, std::string_view>, 6> stretches{{{Stretch::none, ""},
                                                                         {Stretch::day, "day"},
                                                                         {Stretch::week, "week"},
                                                                         {Stretch::month, "month"},
                                                                         {Stretch::quarter, "quarter"},
                                                                         {Stretch::year, "year"}}};
constexpr std::array<std::pair<CrossMeasure, std::string_view>, 9> measures{
    {{CrossMeasure::sumOfPredicted, "sum of predicted"},
     {CrossMeasure::meanOfPredicted, "mean of predicted"},
     {CrossMeasure::shareOfPredicted, "share of predicted"},
     {CrossMeasure::sumOfActual, "sum of actual"},
     {CrossMeasure::meanOfActual, "mean of actual"},
     {CrossMeasure::sumOfDifference, "sum of difference"},
     {CrossMeasure::meanOfDifference, "mean of difference"},
     {CrossMeasure::rows, "rows"},
     {CrossMeasure::interval, "interval"}}};

constexpr std::array<std::pair<CarriedColumn::How, std::string_view>, 4> carriedBy{
    {{CarriedColumn::How::lastValue, "last value"},
     {CarriedColumn::How::yearBefore, "same period last year"},
     {CarriedColumn::How::usualValue, "usual value"},
     {CarriedColumn::How::given, "given"}}};

template <class E> std::string_view nameOf(Names<E> names, E value) {
    for (const auto& [known, name] : names)
        if (known == value) return name;
    return {};
}

template <class E> E named(Names<E> names, const JsonValue& value) {
    const std::string text = value.text();
    std::vector<std::string> known;
    for (const auto& [each, name] : names) {
        if (name == text && !name.empty()) return each;
        if (!name.empty()) known.emplace_back(name);
    }
    value.refuse("is \"" + text + "\"", "Known are " + nameList(known) + ".");
}

Segment parseSegment(const JsonValue& value) {
    if (value.isText()) return {.column = value.text()};
    JsonObject object(value);
    Segment segment;
    if (object.has("number")) {
        segment.column = object.at("number").text();
        segment.bands = object.at("bands").integer(2, 100);
    } else {
        segment.column = object.at("date").text();
        segment.stretch = named<Stretch>(stretches, object.at("period"));
    }
    object.finish();
    return segment;
}

ordered_json segmentJson(const Segment& segment) {
    if (segment.bands > 0) return {{"number", segment.column}, {"bands", segment.bands}};
    if (segment.stretch != Stretch::none)
        return {{"date", segment.column}, {"period", stretchName(segment.stretch)}};
    return segment.column;
}

std::string conditionText(const std::string& where) {
    return where.empty() ? std::string() : " where " + where;
}

} // namespace

std::string_view intervalWayName(IntervalWay way) {
    return nameOf<IntervalWay>(ways, way);
}
std::string_view stretchName(Stretch stretch) {
    return nameOf<Stretch>(stretches, stretch);
}
std::string_view crossMeasureName(CrossMeasure measure) {
    return nameOf<CrossMeasure>(measures, measure);
}

std::string segmentText(const Segment& segment) {
    if (segment.bands > 0) return std::to_string(segment.bands) + " bands of " + segment.column;
    if (segment.stretch != Stretch::none)
        return std::string(stretchName(segment.stretch)) + " of " + segment.column;
    return segment.column;
}

std::string scenarioText(const Scenario& scenario) {
    std::vector<std::string> changes;
    for (const ColumnChange& change : scenario.change) {
        const auto* number = std::get_if<double>(&change.value);
        const std::string value =
            number ? shortText(std::fabs(*number)) : std::get<std::string>(change.value);
        if (change.how == ColumnChange::How::to)
            changes.push_back(change.column + " = " + (number ? shortText(*number) : value));
        else
            changes.push_back(change.column + (number && *number < 0 ? " − " : " + ") + value +
                              (change.how == ColumnChange::How::byPercent ? " %" : ""));
    }
    return (changes.empty() ? std::string("nothing changed") : nameList(changes)) +
           conditionText(scenario.where);
}

namespace {

std::variant<double, std::string> parseHandValue(const JsonValue& value) {
    if (value.isText()) return value.text();
    return value.number(-1e300, 1e300);
}

MadeRows parseMade(const JsonValue& value) {
    JsonObject object(value);
    MadeRows made{.date = object.at("date").text()};
    object.optional("every",
                    [&](const JsonValue& v) { made.every = stretchName(named<Stretch>(stretches, v)); });
    made.periods = object.at("periods").integer(1, 10000);
    object.optional("by", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) { made.by.push_back(item.text()); });
    });
    object.optional("columns", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) {
            JsonObject column(item);
            CarriedColumn carried{.column = column.at("column").text()};
            column.optional(
                "by", [&](const JsonValue& how) { carried.how = named<CarriedColumn::How>(carriedBy, how); });
            if (carried.how == CarriedColumn::How::given) carried.value = parseHandValue(column.at("value"));
            column.finish();
            made.columns.push_back(std::move(carried));
        });
    });
    object.finish();
    return made;
}

ordered_json madeJson(const MadeRows& made) {
    ordered_json out{{"date", made.date}, {"every", made.every}, {"periods", made.periods}};
    if (!made.by.empty()) out["by"] = made.by;
    for (const CarriedColumn& carried : made.columns) {
        ordered_json one{{"column", carried.column},
                         {"by", nameOf<CarriedColumn::How>(carriedBy, carried.how)}};
        if (carried.how == CarriedColumn::How::given)
            std::visit([&](const auto& v) { one["value"] = v; }, carried.value);
        out["columns"].push_back(std::move(one));
    }
    return out;
}

} // namespace

ForecastRequest parseForecast(const JsonValue& value) {
    JsonObject object(value);
    ForecastRequest request;
    if (object.has("made"))
        request.made = parseMade(object.at("made"));
    else
        static_cast<RowsSource&>(request) = parseSource(object);
    object.optional("level", [&](const JsonValue& v) { request.level = v.number(0, 1); });
    object.optional("intervals",
                    [&](const JsonValue& v) { request.intervals = named<IntervalWay>(ways, v); });
    object.optional("totals", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) {
            JsonObject total(item);
            TotalRequest asked;
            total.at("by").eachItem([&](const JsonValue& by) { asked.by.push_back(parseSegment(by)); });
            total.finish();
            request.totals.push_back(std::move(asked));
        });
        if (request.totals.size() > 100) v.refuse("are more than 100");
    });
    object.optional("cross_table", [&](const JsonValue& v) {
        JsonObject table(v);
        CrossTable asked{.down = parseSegment(table.at("down")), .across = parseSegment(table.at("across"))};
        table.optional("measure",
                       [&](const JsonValue& m) { asked.measure = named<CrossMeasure>(measures, m); });
        table.finish();
        request.crossTable = std::move(asked);
    });
    object.optional("test_reach", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& item) { request.testReach.push_back(item.text()); });
    });
    object.optional("reach", [&](const JsonValue& v) {
        JsonObject rules(v);
        ReachRules& reach = request.reach;
        rules.optional("edge_share", [&](const JsonValue& e) { reach.edgeShare = e.number(0, 100); });
        rules.optional("edge_distance", [&](const JsonValue& e) { reach.edgeDistance = e.number(1, 1e6); });
        rules.optional("outside_distance",
                       [&](const JsonValue& e) { reach.outsideDistance = e.number(1, 1e6); });
        rules.optional("hull", [&](const JsonValue& e) { reach.hull = e.boolean(); });
        rules.optional("nearest", [&](const JsonValue& e) {
            reach.nearest = e.number(-1, 1);
            if (reach.nearest < 0) e.refuse("is below 0");
        });
        rules.finish();
    });
    object.finish();
    return request;
}

ordered_json forecastJson(const ForecastRequest& request) {
    ordered_json out;
    if (request.made)
        out["made"] = madeJson(*request.made);
    else
        writeSource(out, request);
    out["level"] = request.level;
    if (request.intervals != IntervalWay::usual) out["intervals"] = intervalWayName(request.intervals);
    for (const TotalRequest& total : request.totals) {
        ordered_json by = ordered_json::array();
        for (const Segment& segment : total.by)
            by.push_back(segmentJson(segment));
        out["totals"].push_back({{"by", std::move(by)}});
    }
    if (request.crossTable)
        out["cross_table"] = {{"down", segmentJson(request.crossTable->down)},
                              {"across", segmentJson(request.crossTable->across)},
                              {"measure", crossMeasureName(request.crossTable->measure)}};
    if (!request.testReach.empty()) out["test_reach"] = request.testReach;
    if (!(request.reach == ReachRules{}))
        out["reach"] = {{"edge_share", request.reach.edgeShare},
                        {"edge_distance", request.reach.edgeDistance},
                        {"outside_distance", request.reach.outsideDistance},
                        {"hull", request.reach.hull},
                        {"nearest", request.reach.nearest}};
    return out;
}

namespace {

ColumnChange parseChange(const JsonValue& value) {
    JsonObject object(value);
    ColumnChange change{.column = object.at("column").text()};
    int said = 0;
    const auto take = [&](const char* key, ColumnChange::How how) {
        object.optional(key, [&](const JsonValue& v) {
            change.how = how;
            if (how == ColumnChange::How::to && v.isText())
                change.value = v.text();
            else
                change.value = v.number(-1e300, 1e300);
            ++said;
        });
    };
    take("by", ColumnChange::How::by);
    take("by_per_cent", ColumnChange::How::byPercent);
    take("to", ColumnChange::How::to);
    object.finish();
    if (said != 1)
        value.refuse("says " + std::to_string(said) + " changes", "Give one of by, by_per_cent and to.");
    return change;
}

} // namespace

std::vector<Scenario> parseScenarios(const JsonValue& value) {
    std::vector<Scenario> scenarios;
    std::set<std::string> names;
    value.eachItem([&](const JsonValue& item) {
        JsonObject object(item);
        Scenario scenario{.name = object.at("name").text()};
        object.optional("where", [&](const JsonValue& v) { scenario.where = v.text(); });
        object.at("change").eachItem(
            [&](const JsonValue& change) { scenario.change.push_back(parseChange(change)); });
        object.finish();
        if (!names.insert(scenario.name).second) item.refuse("has the name of another scenario");
        scenarios.push_back(std::move(scenario));
    });
    if (scenarios.size() > 100) value.refuse("are more than 100");
    return scenarios;
}

ordered_json scenariosJson(const std::vector<Scenario>& scenarios) {
    ordered_json out = ordered_json::array();
    for (const Scenario& scenario : scenarios) {
        ordered_json each{{"name", scenario.name}};
        if (!scenario.where.empty()) each["where"] = scenario.where;
        each["change"] = ordered_json::array();
        for (const ColumnChange& change : scenario.change) {
            ordered_json one{{"column", change.column}};
            const char* key = change.how == ColumnChange::How::by          ? "by"
                              : change.how == ColumnChange::How::byPercent ? "by_per_cent"
                                                                           : "to";
            std::visit([&](const auto& v) { one[key] = v; }, change.value);
            each["change"].push_back(std::move(one));
        }
        out.push_back(std::move(each));
    }
    return out;
}

std::vector<HandRow> parseHandRows(const JsonValue& value) {
    std::vector<HandRow> rows;
    std::set<std::string> names;
    value.eachItem([&](const JsonValue& item) {
        JsonObject object(item);
        HandRow row{.name = object.at("name").text()};
        object.optional("values", [&](const JsonValue& v) {
            v.eachMember([&](const std::string& column, const JsonValue& each) {
                row.values.emplace_back(column, parseHandValue(each));
            });
        });
        object.optional("target", [&](const JsonValue& v) {
            JsonObject target(v);
            row.target =
                HandRow::Target{target.at("column").text(), target.at("prediction").number(-1e300, 1e300)};
            target.finish();
        });
        object.finish();
        if (!names.insert(row.name).second) item.refuse("has the name of another row");
        rows.push_back(std::move(row));
    });
    if (rows.size() > 100) value.refuse("are more than 100");
    return rows;
}

ordered_json handRowsJson(const std::vector<HandRow>& rows) {
    ordered_json out = ordered_json::array();
    for (const HandRow& row : rows) {
        ordered_json each{{"name", row.name}};
        for (const auto& [column, value] : row.values)
            std::visit([&, name = column](const auto& v) { each["values"][name] = v; }, value);
        if (row.target)
            each["target"] = {{"column", row.target->column}, {"prediction", row.target->prediction}};
        out.push_back(std::move(each));
    }
    return out;
}

Clearance parseClearance(const JsonValue& value) {
    JsonObject object(value);
    Clearance clearance;
    object.optional("by", [&](const JsonValue& v) { clearance.by = v.text(); });
    object.optional("on", [&](const JsonValue& v) { clearance.on = v.text(); });
    object.optional("says", [&](const JsonValue& v) { clearance.says = v.text(); });
    object.finish();
    return clearance;
}

ordered_json clearanceJson(const Clearance& clearance) {
    return {{"by", clearance.by}, {"on", clearance.on}, {"says", clearance.says}};
}

std::vector<Delivery> parseDeliveries(const JsonValue& value) {
    std::vector<Delivery> deliveries;
    const auto part = [](const JsonValue& v) {
        JsonObject object(v);
        Delivery::Part out;
        constexpr std::uint64_t most = 1000000000000;
        out.rows = object.at("rows").whole(0, most);
        out.withIntervals = object.at("with_intervals").whole(0, out.rows);
        out.inside = object.at("in_intervals").whole(0, out.withIntervals);
        out.errors = object.at("errors").number(-1e300, 1e300);
        out.squares = object.at("squared_errors").number(-1, 1e300);
        if (out.squares < 0) v.refuse("has squared errors below 0");
        object.finish();
        return out;
    };
    value.eachItem([&](const JsonValue& item) {
        JsonObject object(item);
        Delivery delivery;
        delivery.file = object.at("file").text();
        object.optional("on", [&](const JsonValue& v) { delivery.on = v.text(); });
        delivery.fingerprint = object.at("fingerprint").text();
        delivery.level = object.at("level").number(0, 1);
        object.optional("expected_rmse",
                        [&](const JsonValue& v) { delivery.expected = v.number(-1e300, 1e300); });
        delivery.all = part(object.at("all"));
        delivery.outside = part(object.at("outside"));
        object.finish();
        deliveries.push_back(std::move(delivery));
    });
    if (deliveries.size() > 10000) value.refuse("are more than 10,000");
    return deliveries;
}

ordered_json deliveriesJson(const std::vector<Delivery>& deliveries) {
    ordered_json out = ordered_json::array();
    const auto part = [](const Delivery::Part& of) -> ordered_json {
        return {{"rows", of.rows},
                {"with_intervals", of.withIntervals},
                {"in_intervals", of.inside},
                {"errors", of.errors},
                {"squared_errors", of.squares}};
    };
    for (const Delivery& each : deliveries) {
        ordered_json one{{"file", each.file}};
        if (!each.on.empty()) one["on"] = each.on;
        one["fingerprint"] = each.fingerprint;
        one["level"] = each.level;
        if (each.expected) one["expected_rmse"] = *each.expected;
        one["all"] = part(each.all);
        one["outside"] = part(each.outside);
        out.push_back(std::move(one));
    }
    return out;
}

} // namespace oxgoad
