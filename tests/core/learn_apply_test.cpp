// What was learned predicts any rows later: as text, from a project, at another level, for other rows; and
// every judged row is judged.
#include "base/random.h"
#include "share/exports.h"
#include "study/effects.h"
#include "study/project.h"
#include "study/study.h"
#include "support/support.h"

#include <algorithm>
#include <bit>

using namespace oxgoad;
using namespace oxgoad::test;

namespace learn_apply_test {

/// Rows with everything: numbers, a factor, a date, missing cells, weights, an offset, groups.
std::string mixedRows(int n, bool response, std::uint64_t seed = 1) {
    RandomStream random(seed, "mixed");
    std::string text = "x,z,g,day,w,off,site" + std::string(response ? ",y" : "") + "\n";
    for (int i = 0; i < n; ++i) {
        const double x = 1 + 4 * random.uniform(), z = random.normal();
        const int level = static_cast<int>(random.below(3));
        char line[200];
        std::snprintf(line, sizeof line, "%.6g,%s,%c,2024-%02d-%02d,%.3g,%.3g,s%d", x,
                      random.below(40) == 0 ? "" : std::to_string(z).c_str(), 'a' + level, 1 + i % 12,
                      1 + i % 28, 0.5 + random.uniform(), 0.1 * random.normal(), i % 25);
        text += line;
        if (response)
            text += "," + std::to_string(std::exp(0.3 * x + 0.2 * z + 0.4 * level + 0.1 * random.normal()));
        text += "\n";
    }
    return text;
}

StudyRows mixedStudy(int n = 300) {
    StudyRows rows;
    rows.learning = readBytes(mixedRows(n, true));
    rows.forecast = readTextBytes(mixedRows(40, false, 2), "plan.csv", {}, {1}, quietly());
    return rows;
}

TermPart formOf(const std::string& column, Form form, int count = 0) {
    TermPart part{column};
    part.form = form;
    part.count = count;
    return part;
}

Recipe base() {
    Recipe recipe = recipeOf("y", {"x", "g"});
    recipe.setAside = SetAside{.share = 0.25, .seed = 4};
    recipe.forecast = ForecastRequest{};
    recipe.forecast->file = "plan.csv";
    recipe.forecast->level = 0.9;
    return recipe;
}

/// Recipes over every kind of model, form of a term, estimator, and step that learns.
std::vector<std::pair<std::string, Recipe>> everything() {
    std::vector<std::pair<std::string, Recipe>> all;
    const auto add = [&](const std::string& name, const std::function<void(Recipe&)>& change) {
        Recipe recipe = base();
        change(recipe);
        all.emplace_back(name, recipe);
    };
    add("plain", [](Recipe&) {});
    add("forms", [](Recipe& r) {
        r.terms = {Term{{formOf("x", Form::spline, 4)}}, Term{{formOf("z", Form::pieces, 2)}},
                   Term{{formOf("day", Form::wave, 2)}}, Term{{formOf("g", Form::deviations)}}};
    });
    add("more forms", [](Recipe& r) {
        TermPart trend = formOf("g", Form::trend);
        trend.order = {"a", "b", "c"};
        r.terms = {Term{{formOf("x", Form::polynomial, 3)}}, Term{{formOf("z", Form::standardised)}},
                   Term{{trend}}};
    });
    add("scores and logs of a column", [](Recipe& r) {
        TermPart log{"x"}, scores = formOf("g", Form::scores);
        log.logarithm = true;
        scores.order = {"b", "a", "c"};
        scores.scores = {1, 2, 4};
        r.terms = {Term{{log}}, Term{{scores}}, Term{{formOf("z", Form::centred)}}};
    });
    add("products, dependent columns, no constant", [](Recipe& r) {
        r.terms = {plainTerm("x"), plainTerm("z"), plainTerm("g"), Term{{TermPart{"x"}, TermPart{"g"}}},
                   Term{{formOf("x", Form::centred)}}};
        r.intercept = false;
    });
    add("powers", [](Recipe& r) {
        for (const int power : {2, 3, -1, 4, 5, 6, 7, 8}) {
            TermPart part{"x"};
            part.power = power;
            r.terms.push_back({{part}});
        }
    });
    add("log response", [](Recipe& r) { r.logResponse = true; });
    add("weights and offset", [](Recipe& r) {
        r.roles = {{"w", Role::weight}, {"off", Role::offset}};
        r.logResponse = true;
    });
    for (const auto kind : {CovarianceKind::hc0, CovarianceKind::hc3, CovarianceKind::clustered,
                            CovarianceKind::clusteredFewGroups})
        add("errors " + std::to_string(static_cast<int>(kind)), [&](Recipe& r) {
            r.errors.kind = kind;
            if (kind == CovarianceKind::clustered || kind == CovarianceKind::clusteredFewGroups)
                r.errors.column = "site";
        });
    add("serial errors", [](Recipe& r) { r.errors = {CovarianceKind::autocorrelated, "day", 2}; });
    add("Huber", [](Recipe& r) { r.estimator = {"robust", {}}; });
    add("bisquare", [](Recipe& r) {
        r.estimator = {"robust", {{"function", std::string("bisquare")}, {"tuning", 4.0}}};
    });
    add("quantile", [](Recipe& r) { r.estimator = {"quantile", {{"share", 0.3}}}; });
    add("neighbours", [](Recipe& r) { r.estimator = {"neighbours", {{"count", 4.0}}}; });
    add("neighbours in logs", [](Recipe& r) {
        r.estimator = {"neighbours", {{"weights", std::string("by distance")}}};
        r.logResponse = true;
        r.roles = {{"w", Role::weight}};
    });
    add("steps that learn", [](Recipe& r) {
        r.terms.push_back(plainTerm("z"));
        r.steps = {
            {"fill missing", true, {{"columns", std::vector<std::string>{"z"}}}},
            {"lag",
             true,
             {{"column", std::string("x")}, {"time", std::string("day")}, {"name", std::string("before")}}},
            {"lump rare levels", true, {{"columns", std::vector<std::string>{"g"}}, {"rows", 20.0}}},
            {"leave out beyond fences", true, {{"columns", std::vector<std::string>{"z"}}}}};
    });
    return all;
}

std::uint64_t bits(double value) {
    return std::bit_cast<std::uint64_t>(value);
}

Evidence evaluated(const Recipe& recipe, const StudyRows& rows, const EvaluateOptions& options = {}) {
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    return evaluate(recipe, rows, *prepared, options, quietly());
}

/// Everything that is said, as one text.
std::string allSaid(const Evidence& e, const Recipe& recipe, const StudyRows& rows) {
    return evidenceText(e, recipe) + coefficientsCsv(e) + rowsCsv(e) +
           (e.forecast ? forecastCsv(e, rows.forecast->table) : std::string());
}

TEST(Learned, ReadsBackFromItsTextToTheSameBits) {
    const StudyRows rows = mixedStudy();
    for (const auto& [name, recipe] : everything()) {
        const Evidence e = evaluated(recipe, rows);
        const std::string text = studyText(*e.study);
        const auto back = readStudy(text);
        EXPECT_EQ(studyText(*back), text) << name;
        EXPECT_EQ(back->model->text(), e.study->model->text()) << name;
        // Rows it has never seen, prepared by what it learned itself.
        const Prepared coming = prepareFor(*back, rows.forecast->table, "plan.csv", quietly());
        const BoundModel bound = back->bind(coming.table, "plan.csv");
        for (std::uint32_t i = 0; i < coming.table.rows(); ++i) {
            if (!bound.complete(i)) continue;
            const Applied applied =
                apply(*back, coming.table, "plan.csv", std::vector<std::uint32_t>{i}, {1}, quietly());
            EXPECT_EQ(bits(applied.predicted[0]), bits(e.forecast->prediction[i])) << name << " row " << i;
        }
    }
}

TEST(Learned, ApplyOfAnyRowsIsWhatEvaluationGaveForThem) {
    const StudyRows rows = mixedStudy();
    for (const auto& [name, recipe] : everything()) {
        const auto prepared = prepareRows(recipe, rows, {}, quietly());
        const Evidence e = evaluate(recipe, rows, *prepared, {.lookAtTest = true}, quietly());
        const BoundModel bound = e.study->bind(prepared->table, "rows.csv");
        std::vector<std::uint32_t> complete;
        for (std::uint32_t i = 0; i < prepared->table.rows(); ++i)
            if (bound.complete(i) && bound.hasOffset(i)) complete.push_back(i);
        const Applied applied = apply(*e.study, prepared->table, "rows.csv", complete, {2}, quietly());
        std::size_t compared = 0;
        for (std::size_t i = 0; i < complete.size(); ++i) {
            const double fitted = e.rows.fitted[complete[i]];
            if (std::isnan(fitted)) continue;
            ++compared;
            // Fitted values are worked out to twice the precision where the terms are nearly dependent.
            const double lost = e.study->linear() ? 1e-15 * e.study->linear()->fit.conditionNumber : 0;
            EXPECT_NEAR(applied.predicted[i], fitted, std::max(1e-11, lost) * std::fabs(fitted))
                << name << " row " << complete[i];
        }
        EXPECT_GT(compared, 250U) << name;
    }
}

TEST(Learned, AReopenedProjectSaysTheSameWithoutFitting) {
    const TemporaryFolder folder;
    const StudyRows rows = mixedStudy();
    for (const auto& [name, recipe] : everything()) {
        Project project;
        project.rows = rows;
        project.recipe = recipe;
        const Evidence before = evaluated(recipe, rows);
        project.current = project.trail.add(recipe, before, 0);
        project.studies[project.current] = before.study;
        saveProject(folder.file("p.oxgoad"), project, quietly());
        const Project opened = openProject(folder.file("p.oxgoad"), quietly());
        ASSERT_EQ(opened.studies.size(), 1U) << name;
        const auto study = opened.studies.at(opened.current);
        const Evidence after = evaluated(opened.recipe, opened.rows, {.study = study});
        EXPECT_EQ(after.study, study) << name << ": nothing was learned again";
        EXPECT_EQ(allSaid(after, recipe, rows), allSaid(before, recipe, rows)) << name;
        const auto prepared = prepareRows(recipe, rows, {}, quietly());
        const Effect a = effectOf(before, prepared->table, "x", {}, quietly());
        const Effect b = effectOf(after, prepared->table, "x", {}, quietly());
        for (std::size_t i = 0; i < a.lines[0].mean.size(); ++i)
            EXPECT_EQ(bits(a.lines[0].mean[i]), bits(b.lines[0].mean[i])) << name;
    }
}

TEST(Learned, AnotherLevelAndOtherRowsAreApplied) {
    const StudyRows rows = mixedStudy();
    for (const auto& [name, recipe] : everything()) {
        const Evidence before = evaluated(recipe, rows);
        Recipe other = recipe;
        other.level = 0.8;
        other.forecast->level = 0.5;
        other.forecast->file = "other.csv";
        StudyRows otherRows = rows;
        otherRows.forecast = readTextBytes(mixedRows(60, false, 9), "other.csv", {}, {1}, quietly());
        const Evidence again = evaluated(other, otherRows, {.study = before.study, .before = &before});
        const bool quantile = recipe.estimator.kind == "quantile";
        EXPECT_EQ(again.study == before.study, !quantile)
            << name << ": only bounds by quantiles are learned anew";
        EXPECT_EQ(allSaid(again, other, otherRows), allSaid(evaluated(other, otherRows), other, otherRows))
            << name;
        const Evidence looked =
            evaluated(recipe, rows, {.lookAtTest = true, .study = before.study, .before = &before});
        EXPECT_EQ(looked.study, before.study) << name;
    }
}

TEST(Learned, OfOtherRowsOrAnotherRecipeItIsNotTaken) {
    const StudyRows rows = mixedStudy();
    const Recipe recipe = base();
    const Evidence before = evaluated(recipe, rows);
    for (const auto& change : std::vector<std::function<void(Recipe&)>>{
             [](Recipe& r) { r.terms.pop_back(); }, [](Recipe& r) { r.logResponse = true; },
             [](Recipe& r) { r.setAside->seed = 5; },
             [](Recipe& r) {
                 r.leaveOut = {{3, "odd"}};
             },
             [](Recipe& r) { r.errors.kind = CovarianceKind::hc3; },
             [](Recipe& r) { r.reference["g"] = "b"; }, [](Recipe& r) { r.roles["w"] = Role::weight; },
             [](Recipe& r) { r.estimator.kind = "robust"; }}) {
        Recipe other = recipe;
        change(other);
        const Evidence e = evaluated(other, rows, {.study = before.study, .before = &before});
        EXPECT_NE(e.study, before.study);
        EXPECT_EQ(allSaid(e, other, rows), allSaid(evaluated(other, rows), other, rows));
    }
}

TEST(Judged, ARowThatAStepLeavesOutIsStillPredictedAndScored) {
    std::string text = "x,part,y\n";
    for (int i = 0; i < 30; ++i)
        text += std::to_string(i) + ",learn," + std::to_string(2 * i + (i % 3)) + "\n";
    text += "10,judge,20\n11,judge,500\n12,learn,700\n,judge,3\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"x"});
    recipe.setAside = SetAside{.kind = SetAsideKind::column, .column = "part", .heldOutValues = {"judge"}};
    recipe.steps = {{"leave out where", true, {{"condition", std::string("y > 100")}}},
                    {"leave out missing", true, {{"columns", std::vector<std::string>{"x"}}}}};
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(e.rowsHeldOut, 2U);
    EXPECT_EQ(e.rows.state[31], RowState::heldOut);
    EXPECT_EQ(e.rows.leftOutBy[31], 1) << "the step marks it all the same";
    EXPECT_EQ(e.rows.state[32], RowState::leftOut) << "a learning row is left out";
    EXPECT_EQ(e.rows.state[33], RowState::leftOut)
        << "what cannot be predicted for want of a value stays out";
    EXPECT_NEAR(e.rows.residual[31], 500 - e.rows.fitted[31], 1e-9);
    EXPECT_EQ(e.heldOut.rows, 2U);
    ASSERT_TRUE(e.heldOutKept);
    EXPECT_EQ(e.heldOutKept->rows, 1U);
    EXPECT_GT(e.heldOut.rmse, 100) << "the row that was left out of learning counts";
    EXPECT_LT(e.heldOutKept->rmse, 10);
    EXPECT_EQ(e.rowsMissing, 0U);
    // By hand a row is left out of judging too.
    recipe.leaveOut = {{32, "mistyped"}};
    const Evidence by = evaluate(recipe, rows, {}, quietly());
    EXPECT_EQ(by.rowsHeldOut, 1U);
    EXPECT_EQ(by.rows.state[31], RowState::leftOut);
    EXPECT_FALSE(by.heldOutKept);
}

TEST(Judged, AStepThatReadsTheResponseOfJudgedRowsIsAGoad) {
    std::string text = "month,y,x\n";
    for (int i = 0; i < 60; ++i)
        text += "20" + std::to_string(20 + i / 12) + "-" + (i % 12 < 9 ? "0" : "") +
                std::to_string(1 + i % 12) + "-01," + std::to_string(10 + i % 7) + "," +
                std::to_string(i % 5) + "\n";
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {"x", "before"});
    recipe.steps = {
        {"lag",
         true,
         {{"column", std::string("y")}, {"time", std::string("month")}, {"name", std::string("before")}}}};
    const auto has = [&] {
        const Evidence e = evaluate(recipe, rows, {}, quietly());
        return std::any_of(e.goads.begin(), e.goads.end(),
                           [](const Goad& goad) { return goad.key.starts_with("judged response read"); });
    };
    EXPECT_FALSE(has()) << "no row is judged";
    recipe.setAside = SetAside{.share = 0.25, .seed = 1};
    EXPECT_TRUE(has());
    recipe.steps[0].fields["column"] = std::string("x");
    EXPECT_FALSE(has()) << "another column than the response";
}

TEST(Learned, SpoiltTextsAreRefusedAndNothingElseHappens) {
    const StudyRows rows = mixedStudy(120);
    RandomStream random(6, "spoilt");
    int refused = 0, tried = 0;
    for (const auto& [name, recipe] : everything()) {
        const std::string text = studyText(*evaluated(recipe, rows).study);
        for (int i = 0; i < 30; ++i) {
            std::string spoilt = text;
            switch (random.below(4)) {
            case 0:
                spoilt.resize(random.below(spoilt.size()));
                break;
            case 1:
                spoilt[random.below(spoilt.size())] = static_cast<char>(random.below(256));
                break;
            case 2: { // another digit somewhere
                const std::size_t at = spoilt.find_first_of("0123456789", random.below(spoilt.size()));
                if (at != std::string::npos) spoilt[at] = static_cast<char>('0' + random.below(10));
                break;
            }
            default: { // a stretch is gone
                const std::size_t at = random.below(spoilt.size());
                spoilt.erase(at, 1 + random.below(40));
            }
            }
            ++tried;
            try {
                const auto study = readStudy(spoilt); // what reads as a model predicts, whatever it says
                const Prepared coming = prepareFor(*study, rows.forecast->table, "plan.csv", quietly());
                const BoundModel bound = study->bind(coming.table, "plan.csv");
                for (std::uint32_t row = 0; row < 5; ++row)
                    if (bound.complete(row)) bound.predict(std::vector<std::uint32_t>{row}, {1}, quietly());
            } catch (const Error& error) {
                EXPECT_NE(std::string(error.what()), "");
                ++refused;
            }
        }
    }
    EXPECT_GT(refused, tried / 4);
}

} // namespace learn_apply_test
