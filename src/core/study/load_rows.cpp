#include "study/load_rows.h"

#include "study/make_rows.h"

namespace oxgoad {

RowsRead loadForecastRows(const Recipe& recipe, const Table& learning, const std::filesystem::path& folder,
                          Threads threads, Progress& progress, const PasswordFor& password) {
    if (recipe.forecast->made) {
        RowsRead made;
        made.table = makeRows(*recipe.forecast->made, learning, recipe.response, recipe.rows.file);
        made.report.file = sourceName(*recipe.forecast);
        return made;
    }
    RowsPlan plan;
    static_cast<RowsSource&>(plan) = *recipe.forecast;
    plan.text.kindsMayBeAbsent = true;
    for (const Column& column : learning.columns())
        if (column.name() != recipe.response && !plan.text.kinds.contains(column.name()))
            plan.text.kinds[column.name()] = column.asked();
    plan.joins = recipe.rows.joins;
    return readRows(plan, folder, password, threads, progress);
}

StudyRows loadRows(const Recipe& recipe, const std::filesystem::path& folder, Threads threads,
                   Progress& progress, const PasswordFor& password) {
    StudyRows rows;
    {
        ProgressStage stage(progress, 0, recipe.forecast ? 0.8 : 1);
        rows.learning = readRows(recipe.rows, folder, password, threads, stage);
    }
    if (recipe.forecast) {
        ProgressStage stage(progress, 0.8, 1);
        rows.forecast = loadForecastRows(recipe, rows.learning.table, folder, threads, stage, password);
    }
    return rows;
}

} // namespace oxgoad
