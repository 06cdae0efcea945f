#include "study/forecast_answers.h"

#include "study/reach_measures.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "prepare/expression.h"
#include "study/sum_errors.h"
#include "table/values.h"
#include "write/csv.h"

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <map>
#include <set>

namespace oxgoad {

namespace {

/// Sorted by the first of the pair, written as the second.
using Label = std::pair<double, std::string>;

std::string padded(const char* form, int first, int second) {
    char text[32];
    std::snprintf(text, sizeof text, form, first, second);
    return text;
}

Label stretchLabel(double day, Stretch stretch) {
    using namespace std::chrono;
    const sys_days at{days{static_cast<int>(std::floor(day))}};
    const year_month_day date{at};
    const int y = static_cast<int>(date.year());
    const auto m = static_cast<int>(static_cast<unsigned>(date.month()));
    switch (stretch) {
    case Stretch::year:
        return {y, std::to_string(y)};
    case Stretch::quarter:
        return {y * 4 + (m - 1) / 3, padded("%04d-Q%d", y, (m - 1) / 3 + 1)};
    case Stretch::month:
        return {y * 12 + m, padded("%04d-%02d", y, m)};
    case Stretch::week: {
        // ISO 8601: the week has the year of its Thursday.
        const int weekday = static_cast<int>(std::chrono::weekday{at}.iso_encoding());
        const sys_days thursday = at + days{4 - weekday};
        const int weekYear = static_cast<int>(year_month_day{thursday}.year());
        const sys_days first{year{weekYear} / January / 1};
        const int week = static_cast<int>((thursday - first).count()) / 7 + 1;
        return {weekYear * 100.0 + week, padded("%04d-W%02d", weekYear, week)};
    }
    case Stretch::day:
    case Stretch::none:
        break;
    }
    return {std::floor(day), dateText(static_cast<std::int32_t>(std::floor(day)))};
}

/// Which value of a segment each row has.
struct Segmented {
    std::vector<std::int32_t> of;
    std::vector<std::string> labels;
};

Segmented bySortedLabels(const std::vector<Label>& labels) {
    std::map<Label, std::int32_t> places;
    for (const Label& label : labels)
        places.emplace(label, 0);
    Segmented out;
    for (auto& [label, place] : places) {
        place = static_cast<std::int32_t>(out.labels.size());
        out.labels.push_back(label.second);
    }
    for (const Label& label : labels)
        out.of.push_back(places.at(label));
    return out;
}

Segmented segmentRows(const Segment& segment, const Table& table, const std::string& file) {
    const Column& column = table.at(segment.column, file);
    const bool number = column.kind() == ColumnKind::number;
    const bool dated = column.kind() == ColumnKind::date || column.moments();
    if (segment.stretch != Stretch::none && !dated)
        throw Error(ErrorCode::wrongType,
                    "totals by " + std::string(stretchName(segment.stretch)) + " need a date",
                    {.file = file, .column = column.name()}, "Name a date, or take the column as it is.");
    if (segment.bands > 0 && !number)
        throw Error(ErrorCode::wrongType, "bands are made of numbers only",
                    {.file = file, .column = column.name()}, "Name a number, or take the column as it is.");
    std::vector<double> cuts;
    if (segment.bands > 0) {
        std::vector<double> sorted;
        for (const double value : column.numbers())
            if (!std::isnan(value)) sorted.push_back(value);
        std::sort(sorted.begin(), sorted.end());
        for (int k = 1; k < segment.bands && !sorted.empty(); ++k)
            cuts.push_back(sorted[sorted.size() * static_cast<std::size_t>(k) /
                                  static_cast<std::size_t>(segment.bands)]);
        cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
    }
    std::vector<Label> labels;
    labels.reserve(column.size());
    for (std::size_t i = 0; i < column.size(); ++i) {
        if (column.isMissing(i)) {
            labels.emplace_back(std::numeric_limits<double>::infinity(), "");
        } else if (segment.stretch != Stretch::none) {
            labels.push_back(stretchLabel(column.asNumber(i), segment.stretch));
        } else if (segment.bands > 0) {
            const double value = column.numbers()[i];
            const auto k =
                static_cast<std::size_t>(std::upper_bound(cuts.begin(), cuts.end(), value) - cuts.begin());
            const std::string from = k > 0 ? exactText(cuts[k - 1]) : "",
                              to = k < cuts.size() ? exactText(cuts[k]) : "";
            labels.emplace_back(static_cast<double>(k), from.empty() ? "below " + to
                                                        : to.empty() ? "from " + from
                                                                     : from + " to below " + to);
        } else if (number || dated) {
            labels.emplace_back(column.asNumber(i), column.cellText(i));
        } else {
            labels.emplace_back(0, column.cellText(i));
        }
    }
    return bySortedLabels(labels);
}

constexpr std::size_t mostTotals = 20000;

/// All segments together: which combination each row has, in the order of the segments' values.
struct Combined {
    std::vector<std::int32_t> of;
    std::vector<std::vector<std::string>> labels;
};

Combined combine(const std::vector<Segment>& by, const Table& table, const std::string& file) {
    Combined out;
    out.of.assign(table.rows(), 0);
    if (by.empty()) {
        out.labels.emplace_back();
        return out;
    }
    std::vector<Segmented> each;
    for (const Segment& segment : by)
        each.push_back(segmentRows(segment, table, file));
    std::map<std::vector<std::int32_t>, std::int32_t> places;
    std::vector<std::vector<std::int32_t>> keys(table.rows());
    for (std::size_t i = 0; i < table.rows(); ++i) {
        for (const Segmented& segment : each)
            keys[i].push_back(segment.of[i]);
        places.emplace(keys[i], 0);
    }
    if (places.size() > mostTotals)
        throw Error(ErrorCode::badForecastRows,
                    countText(places.size()) + " totals are asked for, by " + segmentText(by.front()) + " …",
                    {.file = file}, "Ask for totals by less: " + countText(mostTotals) + " at most.");
    for (auto& [key, place] : places) {
        place = static_cast<std::int32_t>(out.labels.size());
        auto& labels = out.labels.emplace_back();
        for (std::size_t s = 0; s < each.size(); ++s)
            labels.push_back(each[s].labels[static_cast<std::size_t>(key[s])]);
    }
    for (std::size_t i = 0; i < table.rows(); ++i)
        out.of[i] = places.at(keys[i]);
    return out;
}

/// Sums of the response by group; NaN where a predicted row has none.
std::vector<double> actualSums(const Table& table, const std::string& response,
                               const ForecastEvidence& forecast, std::span<const std::int32_t> group,
                               std::size_t groups) {
    std::vector<double> sums(groups, nan);
    const Column* column = table.find(response);
    if (!column || column->kind() != ColumnKind::number) return sums;
    std::vector<std::uint8_t> any(groups), lacks(groups);
    for (std::size_t i = 0; i < group.size(); ++i) {
        if (std::isnan(forecast.prediction[i])) continue;
        const auto g = static_cast<std::size_t>(group[i]);
        if (column->isMissing(i)) {
            lacks[g] = 1;
            continue;
        }
        sums[g] = (any[g] ? sums[g] : 0) + column->numbers()[i];
        any[g] = 1;
    }
    for (std::size_t g = 0; g < groups; ++g)
        if (lacks[g]) sums[g] = nan;
    return sums;
}

class Answering {
public:
    Answering(const Recipe& recipe, const StudyRows& rows, const PreparedRows& prepared,
              const Evidence& evidence, Threads threads, Progress& progress)
        : m_recipe(recipe), m_rows(rows), m_prepared(prepared), m_evidence(evidence),
          m_file(rows.forecast->report.file), m_table(prepared.forecast->table), m_threads(threads),
          m_progress(progress), m_level(recipe.forecast->level) {}

    ForecastAnswers run(bool questioned) {
        const ForecastRequest& asked = *m_recipe.forecast;
        if (!asked.totals.empty() || asked.crossTable || !m_recipe.scenarios.empty()) {
            ProgressStage stage(m_progress, 0, 0.6);
            stage.checkpoint(0, "Totals");
            m_errors.emplace(m_recipe, m_prepared, m_evidence, m_rows.learning.report.file, m_table,
                             m_threads, stage);
            m_out.sumsBy = m_errors->how();
            m_out.shared = m_errors->sharedText();
        }
        for (const TotalRequest& total : asked.totals)
            m_out.totals.push_back(totals(total));
        if (asked.crossTable) m_out.crossTable = crossTable(*asked.crossTable);
        for (const Scenario& scenario : m_recipe.scenarios) {
            stopIfTold(m_progress);
            m_out.scenarios.push_back(answer(scenario));
        }
        m_out.came = whatCame(m_recipe, m_evidence);
        m_out.damped = dampedTrend(m_evidence, m_prepared, m_rows.learning.report.file, m_progress);
        ProgressStage last(m_progress, 0.6, 1);
        if (questioned || !asked.testReach.empty())
            m_out.reach =
                testReach(m_recipe, m_prepared, m_evidence, m_rows.learning.report.file, m_threads, last);
        if (questioned || asked.intervals != IntervalWay::usual)
            m_out.coverage = reachedCoverage(m_recipe, m_prepared, m_evidence, m_rows.learning.report.file,
                                             m_threads, last);
        return std::move(m_out);
    }

private:
    std::vector<PredictionSum> sums(std::span<const std::int32_t> group, std::size_t groups) {
        const SumErrors::Side side{m_table, 1};
        return m_errors->sums({&side, 1}, group, groups, m_progress);
    }

    Totals totals(const TotalRequest& asked) {
        const ForecastEvidence& forecast = *m_evidence.forecast;
        Totals out{.by = asked.by};
        const Combined combined = combine(asked.by, m_table, m_file);
        const std::size_t groups = combined.labels.size();
        const std::vector<PredictionSum> found = sums(combined.of, groups);
        const std::vector<double> actual =
            actualSums(m_table, m_recipe.response, forecast, combined.of, groups);
        for (std::size_t g = 0; g < groups; ++g) {
            TotalLine line{.by = combined.labels[g], .rows = found[g].rows, .actual = actual[g]};
            const SumInterval bounds = m_errors->interval(found[g], m_level);
            line.predicted = line.rows > 0 ? found[g].value : nan;
            line.lower = line.rows > 0 ? bounds.lower : nan;
            line.upper = line.rows > 0 ? bounds.upper : nan;
            out.lines.push_back(std::move(line));
        }
        for (std::size_t i = 0; i < combined.of.size(); ++i) {
            TotalLine& line = out.lines[static_cast<std::size_t>(combined.of[i])];
            if (std::isnan(forecast.prediction[i]))
                ++line.unpredicted;
            else
                line.outside += forecast.reach[i].grade == ReachGrade::outside;
        }
        return out;
    }

    CrossTableFound crossTable(const CrossTable& asked) {
        CrossTableFound out{.asked = asked};
        const Segmented down = segmentRows(asked.down, m_table, m_file),
                        across = segmentRows(asked.across, m_table, m_file);
        out.down = down.labels, out.across = across.labels;
        const std::size_t groups = out.down.size() * out.across.size();
        if (groups > mostTotals)
            throw Error(ErrorCode::badForecastRows,
                        "the cross table of " + segmentText(asked.down) + " and " +
                            segmentText(asked.across) + " has " + countText(groups) + " cells",
                        {.file = m_file},
                        "Ask for bands or longer periods: " + countText(mostTotals) + " at most.");
        std::vector<std::int32_t> group(m_table.rows());
        for (std::size_t i = 0; i < group.size(); ++i)
            group[i] = down.of[i] * static_cast<std::int32_t>(out.across.size()) + across.of[i];
        const std::vector<PredictionSum> found = sums(group, groups);
        const std::vector<std::int32_t> all(m_table.rows(), 0);
        const PredictionSum whole = sums(all, 1).front();
        const std::vector<double> actual =
            actualSums(m_table, m_recipe.response, *m_evidence.forecast, group, groups);
        for (std::size_t g = 0; g < groups; ++g)
            out.cells.push_back(cell(asked.measure, found[g], whole, actual[g]));
        return out;
    }

    CrossCell cell(CrossMeasure measure, const PredictionSum& sum, const PredictionSum& whole,
                   double actual) {
        CrossCell out{sum.rows, nan, nan, nan};
        if (measure == CrossMeasure::rows) out.value = static_cast<double>(sum.rows);
        if (sum.rows == 0 || measure == CrossMeasure::rows) return out;
        const auto rows = static_cast<double>(sum.rows);
        const SumInterval bounds = m_errors->interval(sum, m_level);
        const auto put = [&](double value, double lower, double upper, double over) {
            out.value = value / over, out.lower = lower / over, out.upper = upper / over;
        };
        switch (measure) {
        case CrossMeasure::sumOfPredicted:
            put(sum.value, bounds.lower, bounds.upper, 1);
            break;
        case CrossMeasure::meanOfPredicted:
            put(sum.value, bounds.lower, bounds.upper, rows);
            break;
        case CrossMeasure::shareOfPredicted: {
            // A ratio by the delta method: (sum − share · whole) / whole.
            const double share = sum.value / whole.value;
            const SumInterval apart = m_errors->interval(sum.minusShareOf(whole, share), m_level);
            const double half = (apart.upper - apart.lower) / 2 / std::fabs(whole.value);
            put(share, share - half, share + half, 1);
            break;
        }
        case CrossMeasure::sumOfActual:
        case CrossMeasure::meanOfActual:
            out.value = actual / (measure == CrossMeasure::meanOfActual ? rows : 1);
            break;
        case CrossMeasure::sumOfDifference:
        case CrossMeasure::meanOfDifference:
            put(sum.value - actual, bounds.lower - actual, bounds.upper - actual,
                measure == CrossMeasure::meanOfDifference ? rows : 1);
            break;
        case CrossMeasure::interval:
            out.value = bounds.upper - bounds.lower;
            break;
        case CrossMeasure::rows:
            break;
        }
        return out;
    }

    ScenarioFound answer(const Scenario& scenario) {
        ScenarioFound out{.scenario = scenario};
        try {
            work(out);
        } catch (const Error& error) {
            out.problem = error.what();
            out.total = out.changed = out.difference = out.lower = out.upper = nan;
        }
        return out;
    }

    void work(ScenarioFound& out) {
        const Table& raw = *m_prepared.rawForecast;
        std::vector<std::uint8_t> chosen(raw.rows(), 1);
        if (!out.scenario.where.empty()) {
            const Expression condition = Expression::parse(out.scenario.where, raw.columns());
            const std::vector<double> holds = condition.evaluate(raw.columns());
            for (std::size_t i = 0; i < chosen.size(); ++i)
                chosen[i] = holds[i] == 1;
        }
        out.rows = static_cast<std::size_t>(std::count(chosen.begin(), chosen.end(), 1));
        Table changed = raw;
        for (const ColumnChange& change : out.scenario.change)
            changed = changed.withColumn(changedColumn(changed.at(change.column, m_file), change, chosen));
        const Table after = applySteps(changed, m_recipe.steps, m_prepared.steps, m_file, m_progress).table;
        const std::array<SumErrors::Side, 2> sides{SumErrors::Side{after, 1}, {m_table, -1}};
        const std::vector<std::int32_t> all(raw.rows(), 0);
        const auto one = [&](std::span<const SumErrors::Side> of) {
            return m_errors->sums(of, all, 1, m_progress).front();
        };
        const PredictionSum difference = one(sides);
        out.unpredicted = raw.rows() - difference.rows;
        out.difference = difference.value;
        const SumInterval bounds = m_errors->interval(difference, m_level);
        out.lower = bounds.lower, out.upper = bounds.upper;
        predict(out, after, chosen);
    }

    /// Totals of rows that have predictions both ways, and how far the changed rows reach.
    void predict(ScenarioFound& out, const Table& after, const std::vector<std::uint8_t>& chosen) {
        const Study& study = *m_evidence.study;
        const std::string& learnedFile = m_rows.learning.report.file;
        const std::vector<Term> terms = study.terms();
        const BoundModel bound = study.bind(m_prepared.table, learnedFile);
        const LearnedRows learned{m_prepared.table,
                                  learnedFile,
                                  m_prepared.table.at(m_recipe.response, learnedFile).numbers(),
                                  bound,
                                  terms,
                                  study.rows,
                                  {},
                                  reachOptionsOf(m_recipe)};
        const ForecastEvidence with = forecastRows(learned, after, m_file, m_level, m_threads, m_progress);
        const ForecastEvidence& before = *m_evidence.forecast;
        for (std::size_t i = 0; i < chosen.size(); ++i) {
            if (std::isfinite(with.prediction[i]) && std::isfinite(before.prediction[i])) {
                out.total += before.prediction[i];
                out.changed += with.prediction[i];
            }
            if (!chosen[i]) continue;
            out.outside += with.reach[i].grade == ReachGrade::outside;
            out.outsideBefore += before.reach[i].grade == ReachGrade::outside;
        }
    }

    Column changedColumn(const Column& column, const ColumnChange& change,
                         const std::vector<std::uint8_t>& chosen) {
        const auto refuse = [&](const std::string& what, const std::string& remedy) {
            throw Error(ErrorCode::wrongType, what, {.file = m_file, .column = column.name()}, remedy);
        };
        const auto* number = std::get_if<double>(&change.value);
        const bool to = change.how == ColumnChange::How::to;
        if (column.kind() == ColumnKind::number) {
            if (!number)
                refuse("a number cannot become \"" + std::get<std::string>(change.value) + "\"",
                       "Give a number.");
            std::vector<double> values(column.numbers().begin(), column.numbers().end());
            for (std::size_t i = 0; i < values.size(); ++i)
                if (chosen[i])
                    values[i] = to                                    ? *number
                                : change.how == ColumnChange::How::by ? values[i] + *number
                                                                      : values[i] * (1 + *number / 100);
            return Column::ofNumbersLike(column, column.name(), std::move(values));
        }
        if (column.kind() == ColumnKind::date) {
            std::vector<std::int32_t> values(column.days().begin(), column.days().end());
            std::optional<std::int32_t> day;
            if (to && !number) day = parseDate(std::get<std::string>(change.value));
            if ((to && !day) || change.how == ColumnChange::How::byPercent || (!to && !number))
                refuse("a date is changed by days or to a date",
                       "Write \"by\": 30 or \"to\": \"2026-03-01\".");
            for (std::size_t i = 0; i < values.size(); ++i)
                if (chosen[i] && (to || !column.isMissing(i)))
                    values[i] = to ? *day : values[i] + static_cast<std::int32_t>(std::lround(*number));
            return Column::ofDates(column.name(), std::move(values));
        }
        if (!to) refuse("a text cannot be changed by an amount", "Write \"to\" with a level.");
        const std::string level = number ? exactText(*number) : std::get<std::string>(change.value);
        if (column.kind() == ColumnKind::text) {
            TextCells cells;
            for (std::size_t i = 0; i < column.size(); ++i)
                cells.add(chosen[i] ? std::string_view(level) : column.text(i));
            return Column::ofText(column.name(), std::move(cells));
        }
        std::vector<std::string> levels = column.levels();
        auto place = std::find(levels.begin(), levels.end(), level);
        if (place == levels.end()) place = levels.insert(levels.end(), level);
        const auto code = static_cast<std::int32_t>(place - levels.begin());
        std::vector<std::int32_t> codes(column.codes().begin(), column.codes().end());
        for (std::size_t i = 0; i < codes.size(); ++i)
            if (chosen[i]) codes[i] = code;
        return Column::ofFactor(column.name(), std::move(codes), std::move(levels));
    }

    const Recipe& m_recipe;
    const StudyRows& m_rows;
    const PreparedRows& m_prepared;
    const Evidence& m_evidence;
    const std::string& m_file;
    const Table& m_table;
    Threads m_threads;
    Progress& m_progress;
    double m_level;
    std::optional<SumErrors> m_errors;
    ForecastAnswers m_out;
};

} // namespace

void answerForecast(Evidence& evidence, const Recipe& recipe, const StudyRows& rows,
                    const PreparedRows& prepared, bool questioned, Threads threads, Progress& progress) {
    remakeIntervals(*evidence.forecast, recipe, prepared, evidence, rows.learning.report.file, threads,
                    progress);
    evidence.answers = std::make_shared<const ForecastAnswers>(
        Answering(recipe, rows, prepared, evidence, threads, progress).run(questioned));
}

std::string totalsCsv(const ForecastAnswers& answers) {
    // A column for each of all segments, in the order they are asked for first.
    std::vector<Segment> all;
    for (const Totals& totals : answers.totals)
        for (const Segment& segment : totals.by)
            if (std::find(all.begin(), all.end(), segment) == all.end()) all.push_back(segment);
    std::vector<std::string> names;
    for (const Segment& segment : all) {
        const auto same = std::count_if(all.begin(), all.end(),
                                        [&](const Segment& s) { return s.column == segment.column; });
        names.push_back(same > 1 ? segmentText(segment) : segment.column);
    }
    CsvWriter out;
    out.text("total");
    for (const std::string& name : names)
        out.text(name);
    for (const auto* name :
         {"rows", "rows_outside", "rows_unpredicted", "predicted", "lower", "upper", "actual"})
        out.text(name);
    out.endRow();
    for (std::size_t t = 0; t < answers.totals.size(); ++t)
        for (const TotalLine& line : answers.totals[t].lines) {
            out.count(t + 1);
            const std::vector<Segment>& by = answers.totals[t].by;
            for (const Segment& segment : all) {
                const auto at = std::find(by.begin(), by.end(), segment);
                out.text(at == by.end() ? std::string() : line.by[static_cast<std::size_t>(at - by.begin())]);
            }
            out.count(line.rows).count(line.outside).count(line.unpredicted);
            for (const double value : {line.predicted, line.lower, line.upper, line.actual})
                out.number(value);
            out.endRow();
        }
    return out.bytes();
}

std::string crossTableCsv(const CrossTableFound& table) {
    CsvWriter out;
    for (const auto* name : {"down", "across", "value", "lower", "upper", "rows"})
        out.text(name);
    out.endRow();
    for (std::size_t i = 0; i < table.down.size(); ++i)
        for (std::size_t j = 0; j < table.across.size(); ++j) {
            const CrossCell& cell = table.at(i, j);
            out.text(table.down[i])
                .text(table.across[j])
                .number(cell.value)
                .number(cell.lower)
                .number(cell.upper);
            out.count(cell.rows);
            out.endRow();
        }
    return out.bytes();
}

std::string scenariosCsv(const ForecastAnswers& answers) {
    CsvWriter out;
    for (const auto* name : {"scenario", "rows", "total", "total_changed", "difference", "lower", "upper"})
        out.text(name);
    out.endRow();
    for (const ScenarioFound& found : answers.scenarios) {
        out.text(found.scenario.name).count(found.rows);
        for (const double value : {found.total, found.changed, found.difference, found.lower, found.upper})
            out.number(value);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
