#include "study/prepare_rows.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "table/same_table.h"

#include <algorithm>
#include <set>

namespace oxgoad {

namespace {

std::vector<LeftOutBy> byHand(const Recipe& recipe, std::size_t rows, const std::string& file) {
    std::vector<LeftOutBy> leftOut(rows, 0);
    for (const LeftOutRow& row : recipe.leaveOut) {
        if (row.row > rows)
            throw Error(ErrorCode::badRecipe,
                        "leave_out names row " + countText(row.row) + ", but there are " +
                            plural(rows, "row", "rows"),
                        {.file = file});
        leftOut[row.row - 1] = -1;
    }
    return leftOut;
}

Prepared applied(const PreparedRows& prepared, const std::vector<Step>& steps, const RowsRead& forecast,
                 Progress& progress) {
    // Steps that look back at the response find it missing where it is not known yet.
    const std::string& response = prepared.response;
    const bool lookBack = std::any_of(steps.begin(), steps.end(),
                                      [&](const Step& step) { return looksBackAtResponse(step, response); });
    const Table table = lookBack && !forecast.table.find(response) && prepared.raw.find(response)
                            ? forecast.table.withColumn(Column::ofNumbers(
                                  response, std::vector<double>(forecast.table.rows(), nan)))
                            : forecast.table;
    return applySteps(table, steps, prepared.steps, forecast.report.file, progress);
}

Ledger ledgerOf(const PreparedRows& prepared, const Recipe& recipe, const ReadReport& report, Threads threads,
                Progress& progress) {
    const auto used = prepared.counted();
    LedgerInput input{.table = prepared.table,
                      .used = used,
                      .response = recipe.response,
                      .misfits = report.faultsByColumn,
                      .originColumn = recipe.rows.originColumn};
    for (const CellFault& fault : report.faults) {
        auto& texts = input.misfitTexts[fault.column];
        if (texts.size() < 3 && std::find(texts.begin(), texts.end(), fault.text) == texts.end())
            texts.push_back(fault.text);
    }
    input.quiet = prepared.quiet;
    return makeLedger(input, threads, progress);
}

/// 1 for rows of weight 0; empty when there are none.
std::vector<std::uint8_t> weightlessRows(const Table& table, const std::string& name) {
    const Column* column = name.empty() ? nullptr : table.find(name);
    if (!column || column->kind() != ColumnKind::number) return {};
    const auto weights = column->numbers();
    if (std::find(weights.begin(), weights.end(), 0.0) == weights.end()) return {};
    std::vector<std::uint8_t> none(weights.size());
    std::transform(weights.begin(), weights.end(), none.begin(), [](double w) { return w == 0; });
    return none;
}

std::vector<std::uint8_t> teachersOfSteps(const PreparedRows& prepared, const Table& raw) {
    const auto none = weightlessRows(raw, prepared.weight);
    std::vector<std::uint8_t> learning(raw.rows());
    for (std::size_t i = 0; i < learning.size(); ++i)
        learning[i] = prepared.parts[i] == Part::learning && (none.empty() || none[i] == 0);
    // A row without a response teaches no fit and is in no fold: steps learn from the same rows.
    if (const Column* response = raw.find(prepared.response);
        response && response->missingCount() < response->size())
        for (std::size_t i = 0; i < learning.size() && response->missingCount() > 0; ++i)
            if (response->isMissing(i)) learning[i] = 0;
    return learning;
}

} // namespace

namespace {

std::vector<std::string> ranksOf(const Recipe& recipe) {
    const ModelKind& kind = kindOf(recipe.estimator);
    if (kind.can.response != Capabilities::Response::ordered) return {};
    return std::get<std::vector<std::string>>(recipe.estimator.get(std::string_view("order")));
}

/// A response of levels as numbers, 1 for the lowest. Errors: badRecipe for a level that the order lacks.
Table ranked(const Table& table, const Recipe& recipe, const std::string& file) {
    const ModelKind& kind = kindOf(recipe.estimator);
    const Column* column = table.find(recipe.response);
    if (kind.can.response != Capabilities::Response::ordered || !column ||
        column->kind() == ColumnKind::number || column->kind() == ColumnKind::date)
        return table;
    const std::vector<std::string> order = ranksOf(recipe);
    std::vector<double> ranks(column->size(), nan);
    for (std::size_t i = 0; i < ranks.size(); ++i) {
        if (column->isMissing(i)) continue;
        const std::string level = column->cellText(i);
        const auto at = std::find(order.begin(), order.end(), level);
        if (at == order.end())
            throw Error(ErrorCode::badRecipe,
                        order.empty() ? "the response has levels and the recipe does not say their order"
                                      : "the order of levels lacks \"" + level + "\"",
                        {.file = file, .column = recipe.response},
                        "Name all levels from low to high as \"order\" of the estimator.");
        ranks[i] = static_cast<double>(at - order.begin()) + 1;
    }
    return table.withColumn(Column::ofNumbers(recipe.response, std::move(ranks)));
}

} // namespace

bool looksBackAtResponse(const Step& step, const std::string& response) {
    return step.on && (step.kind == "lag" || step.kind == "rolling mean") && step.text("column") == response;
}

std::vector<std::uint8_t> PreparedRows::used() const {
    std::vector<std::uint8_t> used(leftOut.size());
    for (std::size_t i = 0; i < used.size(); ++i)
        used[i] = leftOut[i] == 0;
    return used;
}

std::vector<std::uint8_t> PreparedRows::counted() const {
    std::vector<std::uint8_t> counted = used();
    for (std::size_t i = 0; i < counted.size(); ++i)
        counted[i] = counted[i] != 0 && parts[i] != Part::test;
    return counted;
}

std::shared_ptr<const PreparedRows> prepareRows(const Recipe& recipe, const StudyRows& rows, Threads threads,
                                                Progress& progress, const PreparedRows* before) {
    const Table& raw = rows.learning.table;
    const std::string& file = rows.learning.report.file;
    auto prepared = std::make_shared<PreparedRows>();
    progress.checkpoint(0, "Setting rows aside");
    const bool goesByColumn = recipe.setAside && !recipe.setAside->column.empty();
    if (goesByColumn && !recipe.steps.empty()) {
        Progress quiet;
        prepared->parts = assignParts(withoutLearning(raw, recipe.steps, file, quiet), recipe.setAside, file);
    } else {
        prepared->parts = assignParts(raw, recipe.setAside, file);
    }
    prepared->weight = columnWith(recipe, Role::weight);
    prepared->response = recipe.response;
    const auto learning = teachersOfSteps(*prepared, raw);
    {
        ProgressStage stage(progress, 0.05, 0.5);
        Prepared done =
            learnSteps(raw, recipe.steps, byHand(recipe, raw.rows(), file), learning, file, stage);
        prepared->table = ranked(done.table, recipe, file);
        prepared->ranks = ranksOf(recipe);
        prepared->leftOut = std::move(done.leftOut);
        prepared->steps = std::move(done.outcomes);
    }
    prepared->weightless = weightlessRows(prepared->table, prepared->weight);
    prepared->raw = raw;
    prepared->madeBy = recipe.steps;
    prepared->setAside = recipe.setAside;
    prepared->leftOutByHand = recipe.leaveOut;
    if (rows.forecast) {
        ProgressStage stage(progress, 0.5, 0.55);
        prepared->forecast = applied(*prepared, recipe.steps, *rows.forecast, stage);
        prepared->forecast->table = ranked(prepared->forecast->table, recipe, rows.forecast->report.file);
        prepared->rawForecast = rows.forecast->table;
    }
    for (const auto& [column, role] : recipe.roles)
        if (role == Role::identifier || role == Role::setAside) prepared->quiet.insert(column);
    ProgressStage stage(progress, 0.55, 1);
    const bool sameLedger = before && before->response == recipe.response &&
                            before->quiet == prepared->quiet && before->leftOut == prepared->leftOut &&
                            before->counted() == prepared->counted() && sameTable(before->raw, raw) &&
                            sameTable(before->table, prepared->table);
    prepared->ledger =
        sameLedger ? before->ledger : ledgerOf(*prepared, recipe, rows.learning.report, threads, stage);
    prepared->partSummaries =
        summarizeParts(prepared->table, prepared->parts, prepared->used(), recipe.response, progress);
    if (recipe.setAside && recipe.setAside->kind == SetAsideKind::latest && !prepared->partSummaries.empty())
        if (const Column* time = raw.find(recipe.setAside->column); time && time->missingCount() > 0)
            prepared->partSummaries.front().note =
                countText(time->missingCount()) + " without " + time->name();
    return prepared;
}

bool isPreparedFor(const PreparedRows& prepared, const Recipe& recipe, const StudyRows& rows) {
    std::set<std::string> quiet;
    for (const auto& [column, role] : recipe.roles)
        if (role == Role::identifier || role == Role::setAside) quiet.insert(column);
    return prepared.quiet == quiet && prepared.weight == columnWith(recipe, Role::weight) &&
           prepared.madeBy == recipe.steps && prepared.setAside == recipe.setAside &&
           prepared.leftOutByHand == recipe.leaveOut && prepared.ranks == ranksOf(recipe) &&
           prepared.response == recipe.response && sameTable(prepared.raw, rows.learning.table);
}

std::shared_ptr<const PreparedRows> withForecast(const PreparedRows& prepared, const Recipe& recipe,
                                                 const StudyRows& rows, Progress& progress) {
    auto next = std::make_shared<PreparedRows>(prepared);
    next->forecast.reset();
    next->rawForecast.reset();
    if (rows.forecast) {
        next->forecast = applied(prepared, recipe.steps, *rows.forecast, progress);
        next->forecast->table = ranked(next->forecast->table, recipe, rows.forecast->report.file);
        next->rawForecast = rows.forecast->table;
    }
    return next;
}

StepEffect stepEffect(const PreparedRows& prepared, std::size_t index, const std::vector<Step>& steps,
                      Progress& progress, StepOutcome* outcome) {
    StepEffect effect;
    if (index >= steps.size()) return effect;
    const auto learning = teachersOfSteps(prepared, prepared.raw);
    std::vector<LeftOutBy> hand(prepared.raw.rows(), 0);
    for (const LeftOutRow& row : prepared.leftOutByHand)
        if (row.row >= 1 && row.row <= hand.size()) hand[row.row - 1] = -1;
    const auto upTo = [&](std::size_t count) {
        return learnSteps(prepared.raw, {steps.begin(), steps.begin() + static_cast<std::ptrdiff_t>(count)},
                          hand, learning, {}, progress);
    };
    const Prepared before = upTo(index);
    const Prepared after = upTo(index + 1);
    if (outcome) *outcome = after.outcomes[index];
    std::set<std::string> names(after.outcomes[index].touched.begin(), after.outcomes[index].touched.end());
    for (const std::string& name : columnsOfStep(steps[index]))
        names.insert(name);
    auto describe = [&](const Prepared& rows, std::vector<ColumnSummary>& into) {
        std::vector<std::uint8_t> used(rows.leftOut.size());
        for (std::size_t i = 0; i < used.size(); ++i)
            used[i] = rows.leftOut[i] == 0 && (i >= prepared.parts.size() || prepared.parts[i] != Part::test);
        for (const std::string& name : names)
            if (const Column* column = rows.table.find(name)) into.push_back(summarize(*column, used));
    };
    describe(before, effect.before);
    describe(after, effect.after);
    return effect;
}

} // namespace oxgoad
