#pragma once
// Rows of width: many numbers, factors of many levels.
#include "base/random.h"
#include "bench_support.h"
#include "study/prepare_rows.h"
#include "study/rows_used.h"
#include "study/study.h"

#include <memory>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

struct Made {
    StudyRows rows;
    Recipe recipe;
};

/// y of `numbers` columns, the first five of which matter, and of factors of so many levels; none with 0.
inline Made made(std::size_t n, int numbers, int levels, int others = 0) {
    RandomStream random(5, "width");
    Made m;
    std::vector<Column> columns;
    std::vector<double> y(n);
    for (double& value : y)
        value = random.normal();
    for (int j = 0; j < numbers; ++j) {
        std::vector<double> x(n);
        for (std::size_t i = 0; i < n; ++i) {
            x[i] = random.normal();
            if (j < 5) y[i] += x[i] / (j + 1);
        }
        columns.push_back(Column::ofNumbers("x" + std::to_string(j), std::move(x)));
        m.recipe.terms.push_back(plainTerm("x" + std::to_string(j)));
    }
    const auto addFactor = [&](const std::string& name, int count) {
        if (count == 0) return;
        std::vector<std::string> names;
        for (int l = 0; l < count; ++l)
            names.push_back(name + " " + std::to_string(l));
        std::vector<std::int32_t> codes(n);
        for (std::size_t i = 0; i < n; ++i) {
            codes[i] = static_cast<std::int32_t>(random.below(static_cast<std::uint64_t>(count)));
            y[i] += 2.0 * codes[i] / count;
        }
        columns.push_back(Column::ofFactor(name, std::move(codes), std::move(names)));
        m.recipe.terms.push_back(plainTerm(name));
    };
    addFactor("article", levels);
    addFactor("site", others);
    columns.push_back(Column::ofNumbers("y", std::move(y)));
    m.rows.learning.table = Table(std::move(columns));
    m.recipe.response = "y";
    m.recipe.setAside = SetAside{.share = 0.2, .seed = 1};
    return m;
}

inline std::shared_ptr<const Study> learnOnce(const Made& m, Progress& progress) {
    const auto prepared = prepareRows(m.recipe, m.rows, {2}, progress);
    const auto used = rowsUsed(m.recipe, *prepared, {});
    return learn(m.recipe, prepared->table, prepared->steps, {}, used.learning, {2}, progress);
}

} // namespace oxgoad
