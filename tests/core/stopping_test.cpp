// Long work stops when it is told, wherever it is, leaves nothing half changed, and gives the same
// afterwards.
#include "base/random.h"
#include "study/choose_terms.h"
#include "study/effects.h"
#include "study/marginal_effects.h"
#include "study/what_helps.h"
#include "support/support.h"

#include <atomic>
#include <functional>

using namespace oxgoad;
using namespace oxgoad::test;

namespace stopping_test {

/// Asks for a stop once it was asked so often, and counts how often it was asked in all.
class StopsAfter final : public Progress {
public:
    explicit StopsAfter(long after) : m_after(after) {}
    bool stopRequested() const override { return m_asked.fetch_add(1) >= m_after; }
    long asked() const { return m_asked.load(); }

private:
    long m_after;
    mutable std::atomic<long> m_asked{0};
};

StudyRows someRows(std::size_t n, std::size_t coming) {
    RandomStream random(21, "stopping");
    const auto draw = [&](std::size_t count, bool response) {
        std::vector<std::vector<double>> values(6, std::vector<double>(count));
        for (std::size_t i = 0; i < count; ++i) {
            double y = 0;
            for (std::size_t j = 0; j < 5; ++j) {
                values[j][i] = random.normal();
                y += values[j][i] * static_cast<double>(j);
            }
            values[5][i] = y + random.normal();
        }
        std::vector<Column> columns;
        for (std::size_t j = 0; j < (response ? 6U : 5U); ++j)
            columns.push_back(Column::ofNumbers(j == 5 ? "y" : "x" + std::to_string(j), values[j]));
        return Table(std::move(columns));
    };
    StudyRows rows;
    rows.learning.table = draw(n, true);
    rows.forecast.emplace();
    rows.forecast->table = draw(coming, false);
    return rows;
}

Recipe someRecipe() {
    Recipe recipe = recipeOf("y", {"x0", "x1", "x2", "x3"});
    recipe.setAside = SetAside{.share = 0.2, .seed = 3};
    recipe.forecast.emplace();
    return recipe;
}

/// Runs the work without a stop to learn how often it asks, then stops it early, in the middle and near the
/// end.
void expectStops(const std::string& name, const std::function<std::string(Progress&)>& work) {
    StopsAfter never(1L << 40);
    const std::string whole = work(never);
    ASSERT_GT(never.asked(), 3) << name << " never asks whether to stop";
    for (const double share : {0.0, 0.1, 0.5, 0.9}) {
        const auto after = static_cast<long>(share * static_cast<double>(never.asked()));
        StopsAfter soon(after);
        EXPECT_THROW(work(soon), Stopped) << name << " after " << after << " of " << never.asked();
    }
    StopsAfter again(1L << 40);
    EXPECT_EQ(work(again), whole) << name << " says something else after stops";
}

std::string evaluated(const Recipe& recipe, const StudyRows& rows, Progress& progress) {
    return evidenceText(evaluate(recipe, rows, {2}, progress), recipe);
}

TEST(Stopping, OfEvaluationsByEveryKindOfModel) {
    const StudyRows many = someRows(2500, 1000), few = someRows(500, 200);
    for (const ModelKind& kind : modelKinds()) {
        const StudyRows& rows = kind.costly ? few : many;
        expectStops(kind.name, [&](Progress& progress) {
            Recipe recipe = someRecipe();
            recipe.estimator.kind = kind.name;
            for (const auto& [key, value] : {std::pair{"passes", 20.0},
                                             {"restarts", 1.0},
                                             {"trees", 20.0},
                                             {"rounds", 20.0},
                                             {"generations", 4.0}})
                if (std::any_of(kind.fields.begin(), kind.fields.end(),
                                [key = key](const Field& field) { return field.key == key; }))
                    recipe.estimator.fields[key] = value;
            // A response that the kind can have: above 0, with zeros, or ranks.
            StudyRows own = rows;
            if (kind.can.response != Capabilities::Response::number) {
                const Column& response = rows.learning.table.at(recipe.response, {});
                std::vector<double> y(response.numbers().begin(), response.numbers().end());
                for (std::size_t i = 0; i < y.size(); ++i)
                    y[i] = kind.can.response == Capabilities::Response::ordered
                               ? std::clamp(std::round(y[i] / 2), -2.0, 2.0)
                           : kind.name == "two parts" && i % 3 == 0 ? 0
                                                                    : std::exp(0.1 * y[i]);
                own.learning.table =
                    rows.learning.table.withColumn(Column::ofNumbers(recipe.response, std::move(y)));
            }
            if (kind.series) { // and a time of its own for every row
                recipe.roles["t"] = Role::time;
                double next = 0;
                for (Table* table : {&own.learning.table, &own.forecast->table}) {
                    std::vector<double> t(table->rows());
                    for (double& at : t)
                        at = next++;
                    *table = table->withColumn(Column::ofNumbers("t", std::move(t)));
                }
            }
            return evaluated(recipe, own, progress);
        });
    }
}

TEST(Stopping, OfErrorsOfEveryKind) {
    const StudyRows rows = someRows(6000, 100);
    for (const auto kind :
         {CovarianceKind::hc3, CovarianceKind::clustered, CovarianceKind::clusteredFewGroups})
        expectStops("errors " + std::to_string(static_cast<int>(kind)), [&](Progress& progress) {
            StudyRows grouped = rows;
            std::vector<Column> columns = rows.learning.table.columns();
            std::vector<double> groups(rows.learning.table.rows());
            for (std::size_t i = 0; i < groups.size(); ++i)
                groups[i] = static_cast<double>(i % 12);
            columns.push_back(Column::ofNumbers("g", groups));
            grouped.learning.table = Table(std::move(columns));
            Recipe recipe = someRecipe();
            recipe.errors = {kind, kind == CovarianceKind::hc3 ? "" : "g", -1};
            return evaluated(recipe, grouped, progress);
        });
}

TEST(Stopping, OfAForecastWithoutAFit) {
    const StudyRows rows = someRows(2000, 40000);
    const Recipe recipe = someRecipe();
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const Evidence before = evaluate(recipe, rows, *prepared, {}, quietly());
    expectStops("forecast", [&](Progress& progress) {
        return evidenceText(evaluate(recipe, rows, *prepared,
                                     {.threads = {2}, .study = before.study, .before = &before}, progress),
                            recipe);
    });
}

TEST(Stopping, OfChoosingOfWhatWouldHelpAndOfEffects) {
    const StudyRows rows = someRows(5000, 10);
    const Recipe recipe = someRecipe();
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    for (const auto by : {ChooseBy::forward, ChooseBy::backward, ChooseBy::bestSubsets})
        expectStops(std::string(chooseByName(by)), [&](Progress& progress) {
            return choiceJson(chooseTerms(recipe, *prepared, {.by = by}, {2}, progress));
        });
    expectStops("what helps", [&](Progress& progress) {
        return helpsJson(whatHelps(recipe, *prepared, {2}, progress), recipe);
    });
    const Evidence evidence = evaluate(recipe, rows, *prepared, {}, quietly());
    expectStops("marginal effects", [&](Progress& progress) {
        return std::to_string(averageMarginalEffects(evidence, prepared->table, {2}, progress)[0].effect);
    });
}

} // namespace stopping_test
