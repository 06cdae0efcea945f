#include "study/study.h"

namespace oxgoad {

Applied apply(const Study& study, const Table& table, const std::string& file,
              std::span<const std::uint32_t> rows, Threads threads, Progress& progress) {
    const BoundModel bound = study.bind(table, file);
    Applied applied;
    applied.said = bound.predict(rows, threads, progress);
    applied.predicted.reserve(rows.size());
    for (std::size_t i = 0; i < rows.size(); ++i)
        applied.predicted.push_back(bound.toResponseScale(applied.said[i], rows[i]));
    return applied;
}

Prepared prepareFor(const Study& study, const Table& raw, const std::string& file, Progress& progress) {
    return applySteps(raw, study.recipe.steps, study.steps, file, progress);
}

} // namespace oxgoad
