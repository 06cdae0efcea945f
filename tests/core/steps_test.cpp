#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "prepare/preparation.h"
#include "resample/parts.h"
#include "support/support.h"

using namespace oxgoad;
using namespace oxgoad::test;

namespace steps_test {

constexpr double none = std::numeric_limits<double>::quiet_NaN();
using Names = std::vector<std::string>;

Step step(const std::string& kind, std::map<std::string, StepValue> fields) {
    Step made{kind, true, std::move(fields)};
    checkStep(made);
    return made;
}

/// Twelve rows, the last four of which do not learn.
Table rows() {
    std::vector<std::int32_t> months, depot, grade;
    for (int i = 0; i < 12; ++i) {
        months.push_back(*daysFromCivil(2024 + i / 6, static_cast<unsigned>(i % 6) * 2 + 1, 1));
        depot.push_back(i % 2);
        grade.push_back(i % 5 == 4 ? 2 : i % 2);
    }
    return Table({Column::ofNumbers("x", {1, 2, 3, 4, 5, none, 7, 8, 900, none, -5, 12}),
                  Column::ofNumbers("price", {10, 10, 20, 20, 20, 30, none, 40, 50, 60, 70, none}),
                  Column::ofFactor("depot", depot, {"Cinder", "Dunlin"}),
                  Column::ofFactor("grade", grade, {"low", "high", "rare"}),
                  Column::ofDates("month", months)});
}

const std::vector<std::uint8_t> learning{1, 1, 1, 1, 1, 1, 1, 1, 0, 0, 0, 0};

Prepared run(const std::vector<Step>& steps, const Table& table = rows()) {
    return learnSteps(table, steps, {}, learning, "rows.csv", quietly());
}

std::vector<double> numbers(const Prepared& prepared, const std::string& column) {
    const auto values = prepared.table.at(column, "").numbers();
    return {values.begin(), values.end()};
}

void expectNumbers(const std::vector<double>& values, const std::vector<double>& expected) {
    ASSERT_EQ(values.size(), expected.size());
    for (std::size_t i = 0; i < values.size(); ++i)
        EXPECT_TRUE(values[i] == expected[i] || (std::isnan(values[i]) && std::isnan(expected[i])))
            << "row " << i << ": " << values[i] << ", expected " << expected[i];
}

std::vector<std::size_t> leftOut(const Prepared& prepared) {
    std::vector<std::size_t> out;
    for (std::size_t i = 0; i < prepared.leftOut.size(); ++i)
        if (prepared.leftOut[i] != 0) out.push_back(i + 1);
    return out;
}

TEST(Steps, MediansAndMeansAreLearnedFromLearningRowsOnly) {
    const auto prepared =
        run({step("fill missing", {{"columns", Names{"x"}}, {"indicator", true}}),
             step("fill missing", {{"columns", Names{"price"}}, {"with", std::string("mean")}})});
    // Learning values of x are 1 2 3 4 5 7 8: their median is 4, the 900 of a held-out row notwithstanding.
    expectNumbers(numbers(prepared, "x"), {1, 2, 3, 4, 5, 4, 7, 8, 900, 4, -5, 12});
    expectNumbers(numbers(prepared, "x was missing"), {0, 0, 0, 0, 0, 1, 0, 0, 0, 1, 0, 0});
    const double mean = (10 + 10 + 20 + 20 + 20 + 30 + 40) / 7.0;
    EXPECT_DOUBLE_EQ(numbers(prepared, "price")[6], mean);
    EXPECT_DOUBLE_EQ(numbers(prepared, "price")[11], mean);
    EXPECT_EQ(prepared.outcomes[0].learned, (std::vector<LearnedValue>{{"x", "median", {4}, {}}}));
    EXPECT_EQ(prepared.outcomes[0].changedCells, 12u + 2u);
}

TEST(Steps, ChangingHeldOutRowsChangesNothingThatIsLearned) {
    const std::vector<Step> steps{
        step("fill missing", {{"columns", Names{"x", "price"}}}),
        step("leave out beyond fences", {{"columns", Names{"price"}}}),
        step("lump rare levels", {{"columns", Names{"grade"}}, {"rows", 3.0}}),
        step("standardise", {{"columns", Names{"x"}}}),
        step("cut into bands", {{"column", std::string("price")}, {"bands", 3.0}}),
        step("parts of date", {{"column", std::string("month")}, {"running", true}})};
    const auto before = run(steps);
    Table other = rows();
    std::vector<double> x(other.at("x", "").numbers().begin(), other.at("x", "").numbers().end());
    std::vector<double> price(other.at("price", "").numbers().begin(), other.at("price", "").numbers().end());
    std::vector<std::int32_t> grade(other.at("grade", "").codes().begin(),
                                    other.at("grade", "").codes().end());
    std::vector<std::int32_t> month(other.at("month", "").days().begin(), other.at("month", "").days().end());
    for (std::size_t i = 8; i < 12; ++i) {
        x[i] = 1e9 + static_cast<double>(i);
        price[i] = -1e9;
        grade[i] = 2;
        month[i] = 0;
    }
    other = other.withColumn(Column::ofNumbers("x", x)).withColumn(Column::ofNumbers("price", price));
    other = other.withColumn(Column::ofFactor("grade", grade, {"low", "high", "rare"}))
                .withColumn(Column::ofDates("month", month));
    const auto after = run(steps, other);
    ASSERT_EQ(before.outcomes.size(), after.outcomes.size());
    for (std::size_t i = 0; i < steps.size(); ++i) {
        EXPECT_TRUE(before.outcomes[i].problem.empty()) << before.outcomes[i].problem;
        EXPECT_EQ(before.outcomes[i].learned, after.outcomes[i].learned) << stepSentence(steps[i]);
        EXPECT_FALSE(before.outcomes[i].learned.empty()) << stepSentence(steps[i]);
    }
    // And learning rows look the same after the steps.
    for (const auto* column : {"x", "grade", "price band", "month running month"})
        for (std::size_t i = 0; i < 8; ++i)
            EXPECT_EQ(before.table.at(column, "").cellText(i), after.table.at(column, "").cellText(i))
                << column;
}

TEST(Steps, WhatWasLearnedIsAppliedToOtherRows) {
    const std::vector<Step> steps{step("fill missing", {{"columns", Names{"x"}}}),
                                  step("standardise", {{"columns", Names{"x"}}}),
                                  step("leave out where", {{"condition", std::string("price > 100")}}),
                                  step("lump rare levels", {{"columns", Names{"grade"}}, {"rows", 3.0}})};
    const auto learned = run(steps);
    const Table coming({Column::ofNumbers("x", {none, 4}), Column::ofNumbers("price", {500, 1}),
                        Column::ofFactor("grade", {0, 1}, {"never seen", "rare"})});
    const auto applied = applySteps(coming, steps, learned.outcomes, "plan.csv", quietly());
    EXPECT_EQ(numbers(applied, "x")[0],
              numbers(applied, "x")[1]); // filled with the learned median, which is 4
    EXPECT_EQ(numbers(applied, "x")[1], numbers(learned, "x")[3]);
    EXPECT_EQ(applied.leftOut, (std::vector<LeftOutBy>{3, 0})); // marked, not removed
    EXPECT_EQ(applied.table.at("grade", "").cellText(0), "never seen");
    EXPECT_EQ(applied.table.at("grade", "").cellText(1), "other");
}

TEST(Steps, LeaveRowsOutByConditionFencesAndLimits) {
    EXPECT_EQ(leftOut(run({step("leave out where", {{"condition", std::string("x < 0 or x > 100")}})})),
              (std::vector<std::size_t>{9, 11}));
    EXPECT_EQ(leftOut(run({step("leave out missing", {{"columns", Names{"x", "price"}}})})),
              (std::vector<std::size_t>{6, 7, 10, 12}));
    // Quartiles of 1 2 3 4 5 7 8 are 2.5 and 6 (definition 7 of Hyndman and Fan), fences −2.75 and 11.25.
    const auto fenced = run({step("leave out beyond fences", {{"columns", Names{"x"}}})});
    EXPECT_EQ(fenced.outcomes[0].learned[0].numbers, (std::vector<double>{2.5, 6}));
    EXPECT_EQ(leftOut(fenced), (std::vector<std::size_t>{9, 11, 12}));
    EXPECT_EQ(fenced.outcomes[0].rowsIn, 12u);
    EXPECT_EQ(fenced.outcomes[0].rowsOut, 9u);
    const auto wide = run({step("leave out beyond fences", {{"columns", Names{"x"}}, {"width", 3.0}})});
    EXPECT_EQ(leftOut(wide), (std::vector<std::size_t>{9})); // −8 to 16.5
    const auto z = run({step("leave out beyond z", {{"columns", Names{"x"}}, {"limit", 2.0}})});
    EXPECT_EQ(leftOut(z), (std::vector<std::size_t>{9, 11, 12})); // mean 4.2857, sd 2.563
    EXPECT_NE(z.outcomes[0].notes.back().find("outliers stretch"), std::string::npos);
    // Shiffler 1988: no |z| of 7 values exceeds 6/√7 = 2.27.
    const auto never = run({step("leave out beyond z", {{"columns", Names{"x"}}})});
    EXPECT_NE(never.outcomes[0].notes.front().find("no value can lie"), std::string::npos);
    const auto listed = run(
        {step("leave out rows", {{"rows", std::vector<double>{2, 5}}, {"reason", std::string("moved")}})});
    EXPECT_EQ(leftOut(listed), (std::vector<std::size_t>{2, 5}));
    // Rows left out before a step teach it nothing.
    const auto chained = run({step("leave out where", {{"condition", std::string("x > 4")}}),
                              step("fill missing", {{"columns", Names{"x"}}})});
    EXPECT_EQ(chained.outcomes[1].learned[0].numbers, (std::vector<double>{2.5}));
    EXPECT_EQ(chained.leftOut[4], 1);
}

TEST(Steps, ThatCannotRunSayWhyAndLeaveTheRestAlone) {
    const auto prepared =
        run({step("leave out where", {{"condition", std::string("price > 0 or missing(price)")}}),
             step("transform", {{"columns", Names{"x"}}}), step("fill missing", {{"columns", Names{"gone"}}}),
             step("fill missing", {{"columns", Names{"grade"}}, {"with", std::string("median")}}),
             step("leave out rows", {{"rows", std::vector<double>{99}}, {"reason", std::string("?")}}),
             step("derive", {{"name", std::string("x")}, {"expression", std::string("1")}}),
             step("fill missing", {{"columns", Names{"x"}}})});
    const auto& o = prepared.outcomes;
    EXPECT_NE(o[0].problem.find("leaves no rows"), std::string::npos) << o[0].problem;
    EXPECT_NE(o[1].problem.find("1 value has no ln; the first is −5 in row 11"), std::string::npos)
        << o[1].problem;
    EXPECT_NE(o[2].problem.find("no column \"gone\""), std::string::npos) << o[2].problem;
    EXPECT_NE(o[3].problem.find("a factor has no median"), std::string::npos) << o[3].problem;
    EXPECT_NE(o[4].problem.find("there is no row 99"), std::string::npos) << o[4].problem;
    EXPECT_NE(o[5].problem.find("already"), std::string::npos) << o[5].problem;
    EXPECT_TRUE(o[6].done);
    EXPECT_TRUE(leftOut(prepared).empty());
    EXPECT_EQ(prepared.table.columns().size(), 5u);
}

TEST(Steps, SwitchedOffDoNothing) {
    Step off = step("fill missing", {{"columns", Names{"x"}}});
    off.on = false;
    const auto prepared = run({off});
    EXPECT_FALSE(prepared.outcomes[0].done);
    EXPECT_TRUE(prepared.outcomes[0].problem.empty());
    EXPECT_EQ(prepared.table.at("x", "").missingCount(), 2u);
}

TEST(Steps, ChangeValuesAndLevels) {
    const auto prepared =
        run({step("replace values",
                  {{"column", std::string("x")}, {"pairs", TextPairs{{"900", "9"}, {"-5", ""}}}}),
             step("merge levels", {{"column", std::string("grade")},
                                   {"levels", Names{"high", "rare"}},
                                   {"into", std::string("high")}}),
             step("order levels",
                  {{"column", std::string("grade")}, {"levels", Names{"high", "low"}}, {"scores", true}}),
             step("reference level", {{"column", std::string("depot")}, {"level", std::string("Dunlin")}}),
             step("combine", {{"columns", Names{"depot", "grade"}}, {"name", std::string("both")}}),
             step("change type", {{"columns", Names{"price"}}, {"to", std::string("factor")}}),
             step("rename", {{"column", std::string("x")}, {"to", std::string("y")}})});
    for (const auto& outcome : prepared.outcomes)
        EXPECT_TRUE(outcome.done) << outcome.problem;
    EXPECT_EQ(numbers(prepared, "y")[8], 9);
    EXPECT_TRUE(std::isnan(numbers(prepared, "y")[10]));
    EXPECT_EQ(prepared.table.at("grade", "").levels(), (Names{"high", "low"}));
    EXPECT_EQ(prepared.table.at("grade", "").cellText(4), "high");
    expectNumbers({numbers(prepared, "grade score")[0], numbers(prepared, "grade score")[4]}, {2, 1});
    EXPECT_EQ(prepared.table.at("depot", "").levels().front(), "Dunlin");
    EXPECT_EQ(prepared.table.at("depot", "").cellText(0), "Cinder");
    EXPECT_EQ(prepared.table.at("both", "").cellText(0), "Cinder / low");
    EXPECT_EQ(prepared.table.at("price", "").kind(), ColumnKind::factor);
    EXPECT_EQ(prepared.table.find("x"), nullptr);
}

TEST(Steps, ChangeNumbers) {
    const auto prepared = run(
        {step("transform", {{"columns", Names{"price"}}, {"by", std::string("square root")}}),
         step("transform",
              {{"columns", Names{"price"}}, {"by", std::string("power")}, {"power", -1.0}, {"keep", false}}),
         step("cut into bands", {{"column", std::string("x")},
                                 {"at", std::string("given limits")},
                                 {"limits", std::vector<double>{5, 2}}}),
         step("derive", {{"name", std::string("twice")}, {"expression", std::string("2 × x")}}),
         step("standardise", {{"columns", Names{"x"}}, {"by", std::string("median and quartile spread")}})});
    for (const auto& outcome : prepared.outcomes)
        EXPECT_TRUE(outcome.done) << outcome.problem;
    EXPECT_DOUBLE_EQ(numbers(prepared, "root price")[2], std::sqrt(20));
    EXPECT_DOUBLE_EQ(numbers(prepared, "price")[2], 0.05);
    const Column& band = prepared.table.at("x band", "");
    EXPECT_EQ(band.levels(), (Names{"below 2", "2 to 5", "from 5"}));
    EXPECT_EQ(band.cellText(0) + "|" + band.cellText(1) + "|" + band.cellText(4) + "|" + band.cellText(5),
              "below 2|2 to 5|from 5|");
    EXPECT_DOUBLE_EQ(numbers(prepared, "twice")[3], 8);
    EXPECT_DOUBLE_EQ(numbers(prepared, "x")[6], (7 - 4) / 3.5);
}

TEST(Steps, LookBackByGroupAndTime) {
    // Two depots, four months with a gap: Cinder lacks March.
    std::vector<std::int32_t> months, depot;
    std::vector<double> value;
    auto add = [&](unsigned month, int d, double v) {
        months.push_back(*daysFromCivil(2024, month, 1));
        depot.push_back(d);
        value.push_back(v);
    };
    add(4, 0, 14); // out of order on purpose
    add(1, 0, 11);
    add(2, 0, 12);
    add(1, 1, 21);
    add(2, 1, 22);
    add(3, 1, 23);
    add(4, 1, 24);
    const Table table({Column::ofNumbers("v", value), Column::ofFactor("depot", depot, {"Cinder", "Dunlin"}),
                       Column::ofDates("month", months)});
    const std::map<std::string, StepValue> common{
        {"column", std::string("v")}, {"time", std::string("month")}, {"group", std::string("depot")}};
    auto rolling = common;
    rolling["periods"] = 2.0;
    rolling["name"] = std::string("mean");
    const std::vector<Step> steps{step("lag", common), step("rolling mean", rolling)};
    const auto prepared = learnSteps(table, steps, {}, {}, "r", quietly());
    for (const auto& outcome : prepared.outcomes)
        EXPECT_TRUE(outcome.done) << outcome.problem;
    // A month that is not there has no value: the row before it is another month's.
    expectNumbers(numbers(prepared, "v 1 before"), {none, none, 11, none, 21, 22, 23});
    expectNumbers(numbers(prepared, "mean"), {12, none, 11, none, 21, 21.5, 22.5});
    // Rows to be forecast look back into the rows learned from.
    const Table coming({Column::ofNumbers("v", {none, none}), Column::ofFactor("depot", {0, 0}, {"Dunlin"}),
                        Column::ofDates("month", {*daysFromCivil(2024, 5, 1), *daysFromCivil(2024, 6, 1)})});
    const auto applied = applySteps(coming, steps, prepared.outcomes, "p", quietly());
    expectNumbers(numbers(applied, "v 1 before"), {24, none});
    expectNumbers(numbers(applied, "mean"), {23.5, 24});
}

TEST(Steps, PartsOfDates) {
    const auto prepared = run({step("parts of date", {{"column", std::string("month")},
                                                      {"quarter", true},
                                                      {"year", true},
                                                      {"weekday", true},
                                                      {"running", true}})});
    ASSERT_TRUE(prepared.outcomes[0].done) << prepared.outcomes[0].problem;
    expectNumbers({numbers(prepared, "month month")[1], numbers(prepared, "month quarter")[1],
                   numbers(prepared, "month year")[6]},
                  {3, 1, 2025});
    EXPECT_EQ(prepared.table.at("month weekday", "").cellText(0), "Monday"); // 1 January 2024: any calendar
    expectNumbers({numbers(prepared, "month running month")[0], numbers(prepared, "month running month")[6]},
                  {1, 13});
}

TEST(Steps, EveryKindReadsAloudAndKnowsItsFields) {
    for (const StepKind& kind : stepKinds()) {
        Step made{kind.name, true, {}};
        for (const StepField& field : kind.fields) {
            EXPECT_FALSE(field.label.empty()) << kind.name;
            if (field.fallback) continue;
            if (field.type == FieldType::columns || field.type == FieldType::levels)
                made.fields[field.key] = Names{"a", "b"};
            else if (field.type == FieldType::numbers)
                made.fields[field.key] = std::vector<double>{1, 2};
            else if (field.type == FieldType::pairs)
                made.fields[field.key] = TextPairs{{"1", "2"}};
            else
                made.fields[field.key] = std::string("a");
        }
        EXPECT_NO_THROW(checkStep(made)) << kind.name;
        EXPECT_GT(stepSentence(made).size(), 4u) << kind.name;
        EXPECT_NE(stepSentence(made).find('a'), std::string::npos) << kind.name;
    }
    EXPECT_THROW(checkStep({"dance", true, {}}), Error);
    EXPECT_THROW(checkStep({"fill missing", true, {}}), Error);
    EXPECT_THROW(checkStep({"fill missing", true, {{"columns", std::string("x")}}}), Error);
    EXPECT_THROW(checkStep({"fill missing", true, {{"columns", Names{"x"}}, {"with", std::string("luck")}}}),
                 Error);
    EXPECT_THROW(checkStep({"leave out beyond fences", true, {{"columns", Names{"x"}}, {"width", -1.0}}}),
                 Error);
}

std::size_t count(const std::vector<Part>& parts, Part part) {
    return static_cast<std::size_t>(std::count(parts.begin(), parts.end(), part));
}

Table partRows() {
    std::vector<double> y;
    std::vector<std::int32_t> group, kind, day, said;
    for (int i = 0; i < 1000; ++i) {
        y.push_back((i * 37) % 1000);
        group.push_back(i % 20);
        kind.push_back(i % 10 == 0 ? 1 : 0);
        day.push_back(i / 50);
        said.push_back(i % 3);
    }
    std::vector<std::string> groups;
    for (int g = 0; g < 20; ++g)
        groups.push_back("g" + std::to_string(g));
    return Table({Column::ofNumbers("y", y), Column::ofFactor("group", group, groups),
                  Column::ofFactor("kind", kind, {"many", "few"}), Column::ofDates("day", day),
                  Column::ofFactor("said", said, {"learn", "judge", "lock"}),
                  Column::ofFactor("one", std::vector<std::int32_t>(1000, 0), {"only"})});
}

TEST(Parts, HaveTheirSharesAndNoRowIsInTwo) {
    const Table table = partRows();
    for (const SetAside& aside :
         {SetAside{.share = 0.2, .testShare = 0.1, .seed = 4},
          SetAside{.kind = SetAsideKind::proportionate, .share = 0.2, .testShare = 0.1, .column = "kind"},
          SetAside{.kind = SetAsideKind::proportionate, .share = 0.2, .testShare = 0.1, .column = "y"},
          SetAside{.kind = SetAsideKind::firstRows, .share = 0.2, .testShare = 0.1},
          SetAside{.kind = SetAsideKind::groups, .share = 0.2, .testShare = 0.1, .column = "group"},
          SetAside{.kind = SetAsideKind::latest, .share = 0.2, .testShare = 0.1, .column = "day"}}) {
        const auto parts = assignParts(table, aside, "r");
        EXPECT_EQ(count(parts, Part::heldOut), 200u) << setAsideText(aside);
        EXPECT_EQ(count(parts, Part::test), 100u) << setAsideText(aside);
        EXPECT_EQ(assignParts(table, aside, "r"), parts);
    }
}

TEST(Parts, KeepTheMixAndWholeGroupsAndTheOrderOfTime) {
    const Table table = partRows();
    auto parts = assignParts(
        table,
        SetAside{.kind = SetAsideKind::proportionate, .share = 0.2, .testShare = 0.1, .column = "kind"}, "r");
    std::map<Part, std::size_t> few;
    for (std::size_t i = 0; i < parts.size(); ++i)
        few[parts[i]] += static_cast<std::size_t>(table.at("kind", "").codes()[i]);
    EXPECT_EQ(few[Part::heldOut], 20u);
    EXPECT_EQ(few[Part::test], 10u);
    parts = assignParts(
        table,
        SetAside{.kind = SetAsideKind::groups, .share = 0.3, .testShare = 0.1, .seed = 9, .column = "group"},
        "r");
    for (std::size_t i = 20; i < parts.size(); ++i)
        EXPECT_EQ(parts[i], parts[i % 20]) << "group in two parts";
    parts = assignParts(
        table, SetAside{.kind = SetAsideKind::latest, .share = 0.2, .testShare = 0.1, .column = "day"}, "r");
    EXPECT_TRUE(std::is_sorted(parts.begin(), parts.end())); // learning, then held out, then test
    parts = assignParts(table,
                        SetAside{.kind = SetAsideKind::column,
                                 .column = "said",
                                 .heldOutValues = {"judge"},
                                 .testValues = {"lock"}},
                        "r");
    EXPECT_EQ(parts[0], Part::learning);
    EXPECT_EQ(parts[1], Part::heldOut);
    EXPECT_EQ(parts[2], Part::test);
    const auto summaries = summarizeParts(table, parts, std::vector<std::uint8_t>(1000, 1), "y");
    ASSERT_EQ(summaries.size(), 3u);
    EXPECT_EQ(summaries[1].unseenLevels, (Names{"said: judge"}));
    EXPECT_EQ(summaries[0].rows + summaries[1].rows + summaries[2].rows, 1000u);
}

TEST(Parts, ThatCannotBeAreRefused) {
    const Table table = partRows();
    auto refused = [&](const SetAside& aside, const std::string& words) {
        try {
            assignParts(table, aside, "r");
            ADD_FAILURE() << words;
        } catch (const Error& error) {
            EXPECT_NE(std::string(error.what()).find(words), std::string::npos) << error.what();
        }
    };
    refused({.share = 0.7, .testShare = 0.4}, "nothing to learn from");
    refused({.kind = SetAsideKind::groups, .column = "one"}, "one group");
    refused({.kind = SetAsideKind::latest, .column = "one"}, "date or a number");
    refused({.kind = SetAsideKind::column, .column = "said", .heldOutValues = {"nobody"}},
            "no row has the value");
    refused(
        {.kind = SetAsideKind::column, .column = "said", .heldOutValues = {"judge"}, .testValues = {"judge"}},
        "cannot mean");
    refused({.kind = SetAsideKind::proportionate, .column = "gone"}, "no column");
}

} // namespace steps_test
