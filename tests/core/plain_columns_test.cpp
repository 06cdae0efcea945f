// What the ledger says of columns that hold nothing odd, by simulation; and of the faults planted in them.
#include "base/random.h"
#include "base/text.h"
#include "ledger/drift.h"
#include "ledger/ledger.h"
#include "study/prepare_rows.h"
#include "support/support.h"
#include "table/summary.h"
#include "table/tails.h"

#include <cstdlib>
#include <numbers>

using namespace oxgoad;
using namespace oxgoad::test;

namespace plain_columns_test {

const std::filesystem::path cases = OXGOAD_CASES;

Ledger ledgerOf(const Table& table, const std::string& response = "y", const std::string& origin = {}) {
    return makeLedger({.table = table, .used = {}, .response = response, .originColumn = origin}, {},
                      quietly());
}

Ledger ledgerOfCase(const std::string& path) {
    return ledgerOf(readText(cases / path, {}, {}, quietly()).table);
}

const Goad* goadOf(const LedgerLine& line, const std::string& kind) {
    for (const Goad& goad : line.goads)
        if (goad.key.starts_with(kind + ":")) return &goad;
    return nullptr;
}

const Goad* remarkOf(const LedgerLine& line, const std::string& kind) {
    for (const Goad& goad : line.remarks)
        if (goad.key.starts_with(kind + ":")) return &goad;
    return nullptr;
}

Table oneColumn(std::vector<double> values) {
    return Table({Column::ofNumbers("x", std::move(values))});
}

double exponential(RandomStream& random) {
    return -std::log1p(-random.uniform());
}

struct Plain {
    const char* name;
    double (*draw)(RandomStream&);
};

/// Twelve distributions that business columns have, from bounded to heavy-tailed, smooth and whole.
constexpr std::array plainDistributions{
    Plain{"normal, mean 0, sd 1", [](RandomStream& r) { return r.normal(); }},
    Plain{"normal, mean 3, sd 1", [](RandomStream& r) { return 3 + r.normal(); }},
    Plain{"uniform on 0 to 1", [](RandomStream& r) { return r.uniform(); }},
    Plain{"lognormal, sd of logs 1", [](RandomStream& r) { return std::exp(r.normal()); }},
    Plain{"exponential", [](RandomStream& r) { return exponential(r); }},
    Plain{"gamma, shape 1/2", [](RandomStream& r) { return std::pow(r.normal(), 2) / 2; }},
    Plain{"Student's t, 3 degrees",
          [](RandomStream& r) {
              const double z = r.normal();
              return z /
                     std::sqrt((std::pow(r.normal(), 2) + std::pow(r.normal(), 2) + std::pow(r.normal(), 2)) /
                               3);
          }},
    Plain{"Pareto, exponent 2", [](RandomStream& r) { return std::exp(exponential(r) / 2); }},
    Plain{"Poisson, mean 3",
          [](RandomStream& r) {
              double sum = 0;
              int count = -1;
              while (sum < 3) {
                  sum += exponential(r);
                  ++count;
              }
              return static_cast<double>(count);
          }},
    Plain{"score of 1 to 5", [](RandomStream& r) { return static_cast<double>(1 + r.below(5)); }},
    Plain{"half 0, half lognormal",
          [](RandomStream& r) { return r.uniform() < 0.5 ? 0.0 : std::exp(r.normal()); }},
    Plain{"0 or 1, three in ten", [](RandomStream& r) { return r.uniform() < 0.3 ? 1.0 : 0.0; }},
};

// Clean columns
// -----------------------------------------------------------------------------------------------------

TEST(PlainColumns, RaiseNoGoadsButByStatedChance) {
    // OXGOAD_COLUMNS columns of each distribution and size; with OXGOAD_MILLION also a million rows.
    const std::size_t columns = wanted("OXGOAD_COLUMNS", 60);
    std::vector<std::size_t> sizes{100, 10000};
    if (wanted("OXGOAD_MILLION", 0) > 0) sizes.push_back(1000000);
    std::printf("[ goads    ] a column, %zu columns each\n", columns);
    for (const Plain& plain : plainDistributions) {
        std::printf("[ goads    ] %-26s", plain.name);
        for (const std::size_t rows : sizes) {
            const std::size_t repeats = rows > 100000 ? wanted("OXGOAD_MILLION", 0)
                                        : rows > 1000 ? columns
                                                      : 10 * columns;
            std::size_t goads = 0;
            std::string first;
            RandomStream random(rows, plain.name);
            for (std::size_t c = 0; c < repeats; ++c) {
                std::vector<double> values(rows);
                for (double& value : values)
                    value = plain.draw(random);
                const Ledger ledger = ledgerOf(oneColumn(std::move(values)));
                goads += ledger.goads().size();
                if (first.empty() && !ledger.goads().empty())
                    first = ledger.goads()[0].key + " " + ledger.goads()[0].reading;
            }
            const double each = static_cast<double>(goads) / static_cast<double>(repeats);
            std::printf("  %8zu rows %.4f", rows, each);
            // Both ends of a column at apartChance, and as much again for chance in the count itself.
            EXPECT_LE(each, 2 * apartChance + 3 * std::sqrt(2 * apartChance / static_cast<double>(repeats)))
                << plain.name << " " << rows << ": " << first;
        }
        std::printf("\n");
    }
}

TEST(PlainColumns, OfOneTableRaiseNoGoadsOfTheTable) {
    for (const std::size_t rows : {std::size_t{100}, std::size_t{10000}}) {
        RandomStream random(rows, "small integers");
        std::vector<double> a(rows), b(rows);
        for (std::size_t i = 0; i < rows; ++i) {
            a[i] = static_cast<double>(random.below(6));
            b[i] = random.uniform() < 0.8 ? 0 : static_cast<double>(random.below(9));
        }
        const Ledger ledger = ledgerOf(Table({Column::ofNumbers("a", a), Column::ofNumbers("b", b)}));
        EXPECT_TRUE(ledger.table.empty()) << rows;
        ASSERT_EQ(ledger.tableRemarks.size(), 1u) << "equal rows are said";
        EXPECT_NE(ledger.tableRemarks[0].title.find("in every column"), std::string::npos);
    }
    // Rows that measure something are not equal by chance.
    RandomStream random(7, "measured");
    std::vector<double> y(300), g(300);
    for (std::size_t i = 0; i < 300; ++i) {
        y[i] = random.normal();
        g[i] = static_cast<double>(random.below(2));
    }
    y[200] = y[20];
    g[200] = g[20];
    const Ledger ledger = ledgerOf(Table({Column::ofNumbers("y", y), Column::ofNumbers("g", g)}));
    ASSERT_EQ(ledger.table.size(), 1u);
    EXPECT_NE(ledger.table[0].reading.find("row 201 is row 21 again"), std::string::npos);
}

// Planted faults
// ----------------------------------------------------------------------------------------------------

TEST(PlantedFaults, AreFoundInEveryPlainColumn) {
    struct Fault {
        const char* distribution;
        double value;
        const char* kind;
    };
    for (const Fault& fault : {Fault{"normal, mean 3, sd 1", 300, "far out"},
                               {"uniform on 0 to 1", 99, "far out"},
                               {"lognormal, sd of logs 1", 1e6, "far out"},
                               {"exponential", 9999, "far out"},
                               {"exponential", -5, "sign"},
                               {"Poisson, mean 3", 999, "far out"},
                               {"score of 1 to 5", 55, "far out"},
                               {"half 0, half lognormal", 1e7, "far out"},
                               {"normal, mean 0, sd 1", -99, "far out"}})
        for (const std::size_t rows : {std::size_t{300}, std::size_t{20000}}) {
            const auto plain =
                std::find_if(plainDistributions.begin(), plainDistributions.end(),
                             [&](const Plain& p) { return std::string(p.name) == fault.distribution; });
            RandomStream random(rows + 1, plain->name);
            std::vector<double> values(rows);
            for (double& value : values)
                value = plain->draw(random);
            values[rows / 3] = fault.value;
            const Ledger ledger = ledgerOf(oneColumn(values));
            const Goad* goad = goadOf(ledger.columns[0], fault.kind);
            if (fault.value == -99)
                goad = ledger.columns[0].goads.empty() ? nullptr : &ledger.columns[0].goads[0];
            ASSERT_NE(goad, nullptr) << fault.distribution << " " << rows << " " << fault.value;
            EXPECT_EQ(goad->row, rows / 3) << fault.distribution;
            EXPECT_EQ(ledger.columns[0].goads.size(), 1u) << "one fault, one goad: " << fault.distribution;
        }
}

TEST(PlantedFaults, MarksOfNoValueThatRepeatAreFound) {
    RandomStream random(11, "marks");
    std::vector<double> values(5000);
    for (double& value : values)
        value = random.uniform() < 0.02 ? 9999 : 50 + 10 * random.normal();
    const Ledger ledger = ledgerOf(oneColumn(values));
    const Goad* goad = goadOf(ledger.columns[0], "far out");
    ASSERT_NE(goad, nullptr);
    EXPECT_EQ(ledger.columns[0].summary.apartHigh.count,
              static_cast<std::size_t>(std::count(values.begin(), values.end(), 9999.0)));
}

TEST(PlantedFaults, ADateFarBeyondTheOthersIsOdd) {
    std::vector<std::int32_t> days;
    for (std::int32_t i = 0; i < 400; ++i)
        days.push_back(18000 + 7 * i);
    EXPECT_TRUE(ledgerOf(Table({Column::ofDates("d", days)})).goads().empty());
    days[33] = *daysFromCivil(2205, 1, 1);
    const Ledger ledger = ledgerOf(Table({Column::ofDates("d", days)}));
    const Goad* goad = goadOf(ledger.columns[0], "far out");
    ASSERT_NE(goad, nullptr);
    EXPECT_NE(goad->reading.find("row 34: 2205-01-01"), std::string::npos) << goad->reading;
    EXPECT_EQ(goad->threshold.find("72,"), std::string::npos) << "days as dates: " << goad->threshold;
}

TEST(Tails, AreTestedAtTheStatedChanceAndAtNoEdge) {
    EXPECT_EQ(apartAbove(std::vector<double>{}).count, 0u);
    EXPECT_EQ(apartAbove(std::vector<double>(19, 1.0)).count, 0u);
    EXPECT_EQ(apartAbove(std::vector<double>(1000, 5.0)).count, 0u) << "a constant";
    std::vector<double> two(1000, 1.0);
    two.back() = 2;
    EXPECT_EQ(apartAbove(two).count, 0u) << "nothing to measure a gap by";
    std::vector<double> rising;
    for (int i = 0; i < 1000; ++i)
        rising.push_back(i);
    EXPECT_EQ(apartAbove(rising).count, 0u);
    EXPECT_EQ(apartBelow(rising).count, 0u);
    rising.back() = 1e300;
    EXPECT_EQ(apartAbove(rising).count, 1u);
    EXPECT_EQ(apartAbove(rising).nearest, 1e300);
    std::vector<double> turned;
    for (auto it = rising.rbegin(); it != rising.rend(); ++it)
        turned.push_back(-*it);
    EXPECT_EQ(apartBelow(turned).count, 1u) << "both ends by the same rule";
    EXPECT_EQ(apartBelow(turned).p, apartAbove(rising).p);
    // A power tail is the case the test is exact for: no more than the stated chance, and not nearly never.
    RandomStream random(3, "power tail");
    std::size_t called = 0;
    constexpr std::size_t samples = 4000;
    for (std::size_t s = 0; s < samples; ++s) {
        std::vector<double> values(400);
        for (double& value : values)
            value = std::exp(exponential(random) / 1.5);
        std::sort(values.begin(), values.end());
        called += apartAbove(values).count > 0;
    }
    EXPECT_LE(static_cast<double>(called) / samples, apartChance + 3 * std::sqrt(apartChance / samples));
    EXPECT_GT(called, 2u);
}

// Cases
// -------------------------------------------------------------------------------------------------------------

TEST(LedgerCase, AlikeLevels) {
    const Ledger ledger = ledgerOfCase("alike_levels/a.csv");
    EXPECT_EQ(goadOf(*ledger.find("rating"), "alike levels"), nullptr) << "A, A+ and A- are three ratings";
    EXPECT_EQ(goadOf(*ledger.find("ageband"), "alike levels"), nullptr);
    EXPECT_NE(goadOf(*ledger.find("accent"), "alike levels"), nullptr) << "case is folded for all letters";
    for (const auto& [a, b] : std::vector<std::pair<std::string, std::string>>{{"North-East ", "north east"},
                                                                               {"St. Ives", "st ives"},
                                                                               {"ÉVORA", "évora"},
                                                                               {"ΑΘΗΝΑ", "αθηνα"},
                                                                               {"МОСТ", "мост"},
                                                                               {"O'Neil", "oneil"},
                                                                               {"e\u0301vora", "évora"},
                                                                               {"Straße", "STRASSE"}})
        EXPECT_EQ(bareLevel(a), bareLevel(b)) << a << " " << b;
    for (const auto& [a, b] : std::vector<std::pair<std::string, std::string>>{{"A", "A+"},
                                                                               {"A+", "A-"},
                                                                               {"<5", ">5"},
                                                                               {"C", "C++"},
                                                                               {"C#", "C"},
                                                                               {"1.5", "15"},
                                                                               {"1-5", "15"},
                                                                               {"-5", "5"},
                                                                               {"évora", "evora"},
                                                                               {"10 %", "10"},
                                                                               {"1/2", "12"}})
        EXPECT_NE(bareLevel(a), bareLevel(b)) << a << " " << b;
    EXPECT_FALSE(bareLevel("\xff\xfe bad").empty());
}

TEST(LedgerCase, IdentifierYear) {
    EXPECT_EQ(goadOf(*ledgerOfCase("identifier_year/a.csv").find("year"), "identifier"), nullptr);
    EXPECT_EQ(goadOf(*ledgerOfCase("identifier_year/gap.csv").find("x"), "identifier"), nullptr)
        << "it has gaps";
    std::vector<double> ids(60);
    for (std::size_t i = 0; i < 60; ++i)
        ids[i] = 5000 + static_cast<double>((i * 7) % 60);
    EXPECT_NE(goadOf(ledgerOf(oneColumn(ids)).columns[0], "identifier"), nullptr);
    // As a factor it is said what it would cost before it is one.
    std::vector<std::int32_t> codes;
    std::vector<std::string> names;
    for (int i = 0; i < 60; ++i) {
        codes.push_back(i);
        names.push_back("invoice " + std::to_string(500 + i * 7));
    }
    const Ledger named = ledgerOf(Table({Column::ofFactor("invoice", codes, names)}));
    const Goad* goad = goadOf(named.columns[0], "identifier");
    ASSERT_NE(goad, nullptr);
    EXPECT_EQ(goad->reading,
              "a value of its own in each of 60 rows; as a factor it would take 59 coefficients, fit "
              "every row by itself and leave none to judge by");
}

TEST(LedgerCase, CodeThreshold) {
    const Ledger ledger = ledgerOfCase("code_threshold/a.csv");
    const LedgerLine& line = *ledger.find("x");
    EXPECT_EQ(goadOf(line, "code"), nullptr) << "what a plain distribution brings is no goad";
    const bool rule = line.summary.distinct >= 3 && line.summary.distinct <= 12 && line.summary.rarest >= 10;
    EXPECT_EQ(remarkOf(line, "code") != nullptr, rule)
        << "each whole number in 10 rows at least, as the text says";
    std::vector<double> scores;
    for (int i = 0; i < 50; ++i)
        scores.push_back(1 + i % 5);
    EXPECT_NE(remarkOf(ledgerOf(oneColumn(scores)).columns[0], "code"), nullptr);
    scores.push_back(6); // one row only
    EXPECT_EQ(remarkOf(ledgerOf(oneColumn(scores)).columns[0], "code"), nullptr);
}

TEST(LedgerCase, SignOneOfTwenty) {
    // One of twenty lies no farther off than chance puts it: the gap decides, as the text says.
    const Ledger ledger = ledgerOfCase("sign_one_of_20/a.csv");
    EXPECT_EQ(goadOf(*ledger.find("x"), "sign"), nullptr);
    std::vector<double> prices;
    for (int i = 0; i < 200; ++i)
        prices.push_back(20 + i % 13);
    prices[50] = -21;
    const Ledger turned = ledgerOf(oneColumn(prices));
    const Goad* goad = goadOf(turned.columns[0], "sign");
    ASSERT_NE(goad, nullptr);
    EXPECT_NE(goad->threshold.find("one value, or at most 1 % of rows"), std::string::npos);
    for (int i = 0; i < 4; ++i)
        prices[static_cast<std::size_t>(60 + i)] = -21;
    EXPECT_EQ(goadOf(ledgerOf(oneColumn(prices)).columns[0], "sign"), nullptr)
        << "5 of 200 are more than 1 %";
}

TEST(LedgerCase, SkewNotTold) {
    const Ledger ledger = ledgerOfCase("skew_not_told/a.csv");
    const LedgerLine& line = *ledger.find("x");
    ASSERT_GT(std::fabs(line.summary.numbers->skewness), 2);
    EXPECT_NE(remarkOf(line, "skew"), nullptr) << "said whenever it is above 2 either way";
    EXPECT_EQ(goadOf(line, "skew"), nullptr);
    EXPECT_NE(goadOf(line, "far out"), nullptr) << "the one value that makes it is the finding";
}

TEST(LedgerCase, SdShifted) {
    const auto rows = readText(cases / "sd_shifted/a.csv", {}, {}, quietly());
    const ColumnSummary s = summarize(rows.table.at("x", ""));
    // Welford's sums of differences from 1e9, exact to the last digits the values have.
    const auto x = rows.table.at("x", "").numbers();
    long double sum = 0, squares = 0;
    for (const double v : x)
        sum += v - 1e9L;
    const long double mean = sum / static_cast<long double>(x.size());
    for (const double v : x)
        squares += (v - 1e9L - mean) * (v - 1e9L - mean);
    const double right = static_cast<double>(std::sqrt(squares / static_cast<long double>(x.size() - 1)));
    EXPECT_GT(digits(s.numbers->standardDeviation, right), 14);
    const auto constant = summarizeNumbers(std::vector<double>(1000, 7e200));
    EXPECT_EQ(constant->standardDeviation, 0);
    EXPECT_EQ(constant->mean, 7e200);
    EXPECT_TRUE(std::isnan(constant->skewness));
    const auto tenth = summarizeNumbers(std::vector<double>(1000003, 0.1));
    EXPECT_EQ(tenth->standardDeviation, 0);
    EXPECT_EQ(tenth->mean, 0.1);
    EXPECT_TRUE(std::isnan(summarizeNumbers({4.0})->standardDeviation));
}

TEST(LedgerCase, SourcesOrderAndConstant) {
    auto ledgerOfRecipe = [](const std::string& path) {
        const Recipe recipe = readRecipe(cases / path);
        const StudyRows rows = loadRows(recipe, (cases / path).parent_path(), {}, quietly());
        return prepareRows(recipe, rows, {}, quietly())->ledger;
    };
    auto has = [](const Ledger& ledger, const std::string& key) {
        return std::any_of(ledger.table.begin(), ledger.table.end(),
                           [&](const Goad& g) { return g.key == key; });
    };
    const Ledger order = ledgerOfRecipe("sources_order/recipe.json");
    EXPECT_TRUE(has(order, "distant sources: x")) << "the first against the third";
    EXPECT_FALSE(has(order, "distant sources: y"));
    EXPECT_TRUE(has(ledgerOfRecipe("sources_constant/recipe.json"), "distant sources: x"))
        << "1 against 1,000";
    // A year that is another in each file is no change of units.
    std::string text = "y,year,src\n";
    for (int i = 0; i < 100; ++i)
        text += std::to_string(i % 17) + "," + (i < 50 ? "2023,a" : "2024,b") + "\n";
    EXPECT_FALSE(has(ledgerOf(readBytes(text).table, "y", "src"), "distant sources: year"));
}

TEST(LedgerCase, CodesAreNoNumbersAsText) {
    std::string text = "y,zip\n";
    for (int i = 0; i < 100; ++i)
        text += std::to_string(i * 0.5) + ",0" + std::to_string(1000 + i) + "\n";
    const auto rows = readBytes(text);
    EXPECT_EQ(goadOf(*ledgerOf(rows.table).find("zip"), "number as text"), nullptr);
}

// Rows for the test
// -------------------------------------------------------------------------------------------------

TEST(TestRows, EnterNoStatisticThatIsShown) {
    std::string text = "y,x\n";
    for (int i = 0; i < 200; ++i)
        text += std::to_string(i % 23) + ".5," + (i >= 160 ? "1000000" : std::to_string(i % 7)) + "\n";
    const TemporaryFolder folder;
    folder.write("a.csv", text);
    Recipe recipe = parseRecipe(R"({"recipe": 1, "rows": {"file": "a.csv"}, "response": "y", "terms": [],
        "set_aside": {"kind": "first rows", "share": 0.1, "test_share": 0.2}})",
                                "r");
    const StudyRows rows = loadRows(recipe, folder.path(), {}, quietly());
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    const ColumnSummary& s = prepared->ledger.find("x")->summary;
    EXPECT_EQ(s.rows, 160u);
    EXPECT_EQ(s.numbers->largest, 6);
    for (const PartSummary& part : prepared->partSummaries)
        EXPECT_EQ(std::isnan(part.mean), part.part == Part::test);
    // Without a test part the same rows count.
    recipe.setAside.reset();
    EXPECT_EQ(prepareRows(recipe, rows, {}, quietly())->ledger.find("x")->summary.numbers->largest, 1e6);
    // The ledger of before is not kept when other rows count.
    EXPECT_EQ(prepareRows(recipe, rows, {}, quietly(), prepared.get())->ledger.find("x")->summary.rows, 200u);
}

} // namespace plain_columns_test
