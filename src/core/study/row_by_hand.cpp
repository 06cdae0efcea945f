#include "study/row_by_hand.h"
#include "study/reach_measures.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "prepare/preparation.h"
#include "study/make_rows.h"
#include "table/values.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

namespace {

using nlohmann::ordered_json;

constexpr std::size_t placesSearched = 400;

bool isPlace(const HandColumn& column) {
    return column.kind == ColumnKind::number || column.kind == ColumnKind::date;
}

HandColumn describe(const Column& column, std::span<const std::uint32_t> rows) {
    HandColumn out{.name = column.name(), .kind = column.asked()};
    if (column.kind() == ColumnKind::number || column.kind() == ColumnKind::date) {
        std::vector<double> values;
        for (const auto row : rows)
            if (!column.isMissing(row)) values.push_back(column.asNumber(row));
        if (values.empty()) {
            out.usual = nan;
            return out;
        }
        const auto [low, high] = std::minmax_element(values.begin(), values.end());
        out.low = *low, out.high = *high;
        const auto middle = values.begin() + static_cast<std::ptrdiff_t>(values.size() / 2);
        if (column.kind() == ColumnKind::date || column.moments()) {
            out.usual = out.high;
        } else {
            std::nth_element(values.begin(), middle, values.end());
            out.usual = *middle;
        }
        return out;
    }
    std::map<std::string, std::size_t> counts;
    for (const auto row : rows)
        if (!column.isMissing(row)) ++counts[column.cellText(row)];
    std::size_t most = 0;
    out.usual = std::string();
    for (const auto& [level, count] : counts)
        if (count > most) most = count, out.usual = level;
    if (column.kind() == ColumnKind::factor) out.levels = column.levels();
    return out;
}

} // namespace

RowByHand::RowByHand(const Evidence& evidence, const Recipe& recipe, const PreparedRows& prepared, Threads,
                     const Progress& progress)
    : m_study(evidence.study), m_steps(recipe.steps), m_learned(prepared.steps), m_raw(prepared.raw),
      m_level(recipe.forecast ? recipe.forecast->level : recipe.level) {
    const Table& raw = prepared.raw;
    std::set<std::string> read;
    for (const Input& input : m_study->inputs)
        read.insert(input.name);
    if (!m_study->rule.offset.empty()) read.insert(m_study->rule.offset);
    for (const Step& step : m_steps)
        for (const std::string& column : columnsOfStep(step))
            read.insert(column);
    read.erase(recipe.response);
    for (const Column& column : raw.columns())
        if (read.contains(column.name())) {
            stopIfTold(progress);
            m_columns.push_back(describe(column, m_study->rows));
        }
    if (!m_study->linear()) m_usual = usualValues(*m_study, prepared.table);
    const BoundInputs bound(m_study->inputs, prepared.table, {});
    m_reach.emplace(bound, m_study->rows, m_study->terms(), m_study->model->distanceScale(), progress,
                    reachOptionsOf(recipe));
}

std::vector<HandRow::Value> RowByHand::valuesOf(const HandRow& given) const {
    std::vector<HandRow::Value> values;
    for (const HandColumn& column : m_columns)
        values.push_back(column.usual);
    for (const auto& [name, value] : given.values) {
        const auto at = std::find_if(m_columns.begin(), m_columns.end(),
                                     [&, &wanted = name](const HandColumn& c) { return c.name == wanted; });
        if (at == m_columns.end()) {
            std::vector<std::string> names;
            for (const HandColumn& column : m_columns)
                names.push_back(column.name);
            throw Error(ErrorCode::unknownColumn, "the model reads no such column", {.column = name},
                        "It reads " + nameList(names) + ".");
        }
        HandRow::Value& into = values[static_cast<std::size_t>(at - m_columns.begin())];
        const auto* text = std::get_if<std::string>(&value);
        if (text && at->kind == ColumnKind::date) {
            const auto day = parseDate(*text);
            if (!day)
                throw Error(ErrorCode::wrongType, "\"" + *text + "\" is no date", {.column = name},
                            "Write it as 2026-03-31.");
            into = static_cast<double>(*day);
        } else if (text && isPlace(*at) && !text->empty()) {
            throw Error(ErrorCode::wrongType, "\"" + *text + "\" is no number", {.column = name},
                        "Give a number.");
        } else if (text && isPlace(*at)) {
            into = nan;
        } else if (!text && !isPlace(*at)) {
            into = exactText(std::get<double>(value));
        } else {
            into = value;
        }
    }
    return values;
}

Table RowByHand::rowsOf(const std::vector<HandRow::Value>& values, std::optional<std::size_t> along,
                        const std::vector<double>& at) const {
    const std::size_t rows = along ? at.size() : 1;
    std::vector<Column> columns;
    for (const Column& column : m_raw.columns()) {
        const auto told = std::find_if(m_columns.begin(), m_columns.end(),
                                       [&](const HandColumn& c) { return c.name == column.name(); });
        const auto place = static_cast<std::size_t>(told - m_columns.begin());
        if (told == m_columns.end())
            columns.push_back(columnOfValue(column, nan, rows, nullptr));
        else
            columns.push_back(columnOfValue(column, values[place], rows, along == place ? &at : nullptr));
    }
    return Table(std::move(columns));
}

ForecastEvidence RowByHand::score(const Table& raw, Table* prepared) const {
    Progress quiet;
    const std::string file;
    Prepared done = applySteps(raw, m_steps, m_learned, file, quiet);
    ForecastEvidence out = scoreRows(m_study->inputs, *m_study->model, m_study->rule, *m_reach, done.table,
                                     file, m_level, Threads{1}, quiet);
    markLeftOut(out, done.leftOut);
    if (prepared) *prepared = std::move(done.table);
    return out;
}

HandAnswer RowByHand::ask(const std::vector<HandRow::Value>& values) const {
    Table table;
    ForecastEvidence said = score(rowsOf(values, {}, {}), &table);
    HandAnswer answer{said.prediction[0], said.lower[0], said.upper[0], std::move(said.reach[0]), {}};
    if (std::isnan(answer.prediction)) return answer;
    const std::string file;
    const BoundModel bound = m_study->bind(table, file);
    answer.ladder = ladderOf(*m_study, m_usual, table, file, bound, 0);
    return answer;
}

HandScale RowByHand::along(const std::vector<HandRow::Value>& values, std::size_t column,
                           std::size_t points) const {
    HandScale scale;
    const HandColumn& moved = m_columns[column];
    if (!isPlace(moved) || points < 2) return scale;
    const double width = moved.high > moved.low ? moved.high - moved.low : 1;
    for (std::size_t i = 0; i < points; ++i) {
        const double at =
            moved.low + width * (2 * static_cast<double>(i) / static_cast<double>(points - 1) - 0.5);
        scale.at.push_back(moved.kind == ColumnKind::date ? std::round(at) : at);
    }
    ForecastEvidence said = score(rowsOf(values, column, scale.at));
    scale.prediction = std::move(said.prediction);
    for (const Reach& reach : said.reach)
        scale.grade.push_back(reach.grade);
    return scale;
}

std::vector<double> RowByHand::valuesFor(const std::vector<HandRow::Value>& values, std::size_t column,
                                         double target) const {
    const HandScale scale = along(values, column, placesSearched);
    std::vector<double> found;
    const auto add = [&](double at) {
        if (m_columns[column].kind == ColumnKind::date) at = std::round(at);
        if (found.empty() || at > found.back()) found.push_back(at);
    };
    for (std::size_t i = 0; i + 1 < scale.at.size(); ++i) {
        double low = scale.at[i], high = scale.at[i + 1];
        double below = scale.prediction[i] - target;
        const double above = scale.prediction[i + 1] - target;
        if (!(below * above <= 0)) continue; // not between, or unknown
        if (below == 0) {
            add(low);
            continue;
        }
        if (above == 0 && i + 2 < scale.at.size()) continue; // the next begins with it
        for (int k = 0; k < 12; ++k) {
            const double middle = low + (high - low) / 2;
            const double said = score(rowsOf(values, column, {middle})).prediction[0] - target;
            if (std::isnan(said)) break;
            if ((said < 0) == (below < 0))
                low = middle, below = said;
            else
                high = middle;
        }
        // Between two places where the prediction is told, as good as a line; a step has one side.
        const double lowSaid = score(rowsOf(values, column, {low})).prediction[0] - target,
                     highSaid = score(rowsOf(values, column, {high})).prediction[0] - target;
        add(highSaid == lowSaid ? high : low + (high - low) * lowSaid / (lowSaid - highSaid));
    }
    return found;
}

std::vector<HandRowFound> answerHandRows(const Evidence& evidence, const Recipe& recipe,
                                         const PreparedRows& prepared, Threads threads,
                                         const Progress& progress) {
    std::vector<HandRowFound> out;
    if (recipe.handRows.empty()) return out;
    const RowByHand model(evidence, recipe, prepared, threads, progress);
    for (const HandRow& row : recipe.handRows) {
        stopIfTold(progress);
        HandRowFound found{.row = row, .answer = {nan, nan, nan, {}, {}}, .reached = {}, .problem = {}};
        try {
            const auto values = model.valuesOf(row);
            found.answer = model.ask(values);
            if (row.target) {
                const auto& columns = model.columns();
                const auto at = std::find_if(columns.begin(), columns.end(), [&](const HandColumn& c) {
                    return c.name == row.target->column;
                });
                if (at == columns.end() || !isPlace(*at))
                    throw Error(ErrorCode::unknownColumn, "a target is reached by a number or a date",
                                {.column = row.target->column}, "Name one that the model reads.");
                found.reached = model.valuesFor(values, static_cast<std::size_t>(at - columns.begin()),
                                                row.target->prediction);
            }
        } catch (const Error& error) {
            found.problem = error.what();
        }
        out.push_back(std::move(found));
    }
    return out;
}

std::string handRowsText(const std::vector<HandRowFound>& all) {
    const auto number = [](double value) {
        return std::isfinite(value) ? ordered_json(value) : ordered_json(nullptr);
    };
    ordered_json out = ordered_json::array();
    for (const HandRowFound& found : all) {
        ordered_json each{{"name", found.row.name}};
        if (!found.problem.empty()) {
            each["problem"] = found.problem;
            out.push_back(std::move(each));
            continue;
        }
        const HandAnswer& answer = found.answer;
        each["prediction"] = number(answer.prediction);
        each["lower"] = number(answer.lower);
        each["upper"] = number(answer.upper);
        each["reach"] = gradeName(answer.reach.grade);
        each["reasons"] = answer.reach.reasons;
        each["start"] = number(answer.ladder.start);
        each["contributions"] = ordered_json::array();
        for (const Contribution& step : answer.ladder.steps)
            each["contributions"].push_back(
                {{"of", step.name}, {"values", step.values}, {"amount", number(step.amount)}});
        if (found.row.target)
            each["target"] = {{"column", found.row.target->column},
                              {"prediction", found.row.target->prediction},
                              {"values", found.reached}};
        out.push_back(std::move(each));
    }
    return out.dump(2, ' ', false, nlohmann::json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
