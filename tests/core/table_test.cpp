#include "base/text.h"
#include "support/support.h"
#include "table/dictionary.h"
#include "table/selection.h"
#include "table/summary.h"
#include "table/values.h"

#include <algorithm>
#include <random>

using namespace oxgoad;
using namespace oxgoad::test;

TEST(Values, NumbersReadToTheNearestDoubleLikeTheStandardLibrary) {
    std::mt19937_64 random(1);
    for (int i = 0; i < 20000; ++i) {
        const int whole = static_cast<int>(random() % 12), decimals = static_cast<int>(random() % 12);
        std::string text = random() % 2 ? "-" : "";
        for (int k = 0; k <= whole; ++k)
            text += static_cast<char>('0' + random() % 10);
        text += '.';
        for (int k = 0; k < decimals; ++k)
            text += static_cast<char>('0' + random() % 10);
        if (random() % 4 == 0) text += "e" + std::to_string(static_cast<int>(random() % 80) - 40);
        ASSERT_EQ(parseNumber(text, '.').value(), std::strtod(text.c_str(), nullptr)) << text;
    }
}

TEST(Values, OnlyPlainNumbersAreNumbers) {
    EXPECT_EQ(parseNumber(" 12.5 ", '.'), 12.5);
    EXPECT_EQ(parseNumber("12,5", ','), 12.5);
    EXPECT_EQ(parseNumber("+3", '.'), 3);
    EXPECT_EQ(parseNumber("1e3", '.'), 1000);
    EXPECT_EQ(parseNumber("1e-999", '.'), 0);
    for (const auto* text : {"", "-", ".", "12,5", "1.2.3", "0x10", "inf", "nan", "1e999", "12 EUR", "1,234",
                             "--1", "+-1", "1e", "e5"})
        EXPECT_FALSE(parseNumber(text, '.')) << text;
}

TEST(Values, DatesInTheFormsThatAreNotAmbiguous) {
    EXPECT_EQ(parseDate("2025-03-01"), daysFromCivil(2025, 3, 1));
    EXPECT_EQ(parseDate("2025/3/1"), daysFromCivil(2025, 3, 1));
    EXPECT_EQ(parseDate("01.03.2025"), daysFromCivil(2025, 3, 1));
    EXPECT_EQ(parseDate("2025-03"), daysFromCivil(2025, 3, 1));
    for (const auto* text : {"", "2025", "03/01/2025", "2025-13-01", "2025-02-30", "2025-03-01x",
                             "2025-03/01", "20250301", "2025-"})
        EXPECT_FALSE(parseDate(text)) << text;
}

TEST(Dictionary, CodesComeInOrderOfFirstAppearance) {
    Dictionary dictionary;
    std::vector<std::string> keys;
    for (int i = 0; i < 5000; ++i)
        keys.push_back("key " + std::to_string(i * 7919 % 5000));
    for (int i = 0; i < 5000; ++i)
        ASSERT_EQ(dictionary.code(keys[static_cast<std::size_t>(i)]), i);
    for (int i = 0; i < 5000; ++i)
        ASSERT_EQ(dictionary.code(keys[static_cast<std::size_t>(i)]), i);
    EXPECT_EQ(dictionary.size(), 5000u);
}

TEST(Dictionary, NamesAreInNaturalOrder) {
    std::vector<std::string> names{"depot 12", "depot 9", "b", "a", "depot 09", "B"};
    std::sort(names.begin(), names.end(), naturallyLess);
    EXPECT_EQ(names, (std::vector<std::string>{"B", "a", "b", "depot 09", "depot 9", "depot 12"}));
}

TEST(Column, ConversionCountsWhatIsLost) {
    const Column text = sortedFactor("x", {0, 1, 2, Column::missingCode}, {"12", "n.v.", "7"});
    const auto numbers = text.converted(ColumnKind::number);
    EXPECT_EQ(numbers.lost, 1u);
    EXPECT_EQ(numbers.column.missingCount(), 2u);
    const auto back = numbers.column.converted(ColumnKind::factor);
    EXPECT_EQ(back.column.levels(), (std::vector<std::string>{"7", "12"}));
}

TEST(Summary, QuantilesFollowDefinitionSevenOfHyndmanAndFan) {
    // Interpolated at (n - 1)p: the quartiles of 1..4 are 1.75, 2.5, 3.25 (Hyndman and Fan 1996, definition
    // 7).
    const auto s = summarizeNumbers({4, 1, 3, 2, std::nan("")});
    EXPECT_EQ(s->lowerQuartile, 1.75);
    EXPECT_EQ(s->median, 2.5);
    EXPECT_EQ(s->upperQuartile, 3.25);
    EXPECT_NEAR(s->standardDeviation, std::sqrt(5.0 / 3), 1e-15);
}

TEST(Summary, StandardDeviationKeepsDigitsFarFromZero) {
    // As in NIST's NumAcc4: 1e7 + 0.2 and alternating +-0.1 about it, n = 1001; the certified standard
    // deviation is 0.1 (data from memory of its definition).
    std::vector<double> values{10000000.2};
    for (int i = 0; i < 500; ++i)
        values.insert(values.end(), {10000000.1, 10000000.3});
    EXPECT_GE(digits(summarizeNumbers(values)->standardDeviation, 0.1),
              8); // the data themselves hold 0.1 to 8 digits
}

TEST(Table, ColumnsOfThousandsAreFoundByTheirNameAlone) {
    std::vector<Column> columns;
    for (int i = 0; i < 3000; ++i) // not in the order of their names
        columns.push_back(Column::ofNumbers("c" + std::to_string(i * 7919 % 3000), {double(i)}));
    columns.push_back(Column::ofNumbers("", {-1.0}));
    columns.push_back(Column::ofNumbers("Ünits", {-2.0}));
    Table table(columns);
    const Table copy = table; // a copy finds its own columns
    for (const Column& column : columns) {
        const Column* found = copy.find(column.name());
        ASSERT_NE(found, nullptr) << column.name();
        EXPECT_TRUE(found->sharesValues(column));
        EXPECT_GE(found, copy.columns().data());
        EXPECT_LT(found, copy.columns().data() + copy.columns().size());
    }
    for (const char* other : {"c", "c3000", "C1", "c1 ", "Ünit"})
        EXPECT_EQ(table.find(other), nullptr) << other;
    EXPECT_EQ(Table().find("c1"), nullptr);
    // Another column in the place of one, and one more: the table before stays as it was.
    const Table changed =
        table.withColumn(Column::ofNumbers("c42", {1e9})).withColumn(Column::ofNumbers("more", {5.0}));
    EXPECT_EQ(changed.columns().size(), columns.size() + 1);
    EXPECT_EQ(changed.find("c42")->numbers()[0], 1e9);
    EXPECT_EQ(changed.find("c42") - changed.columns().data(), table.find("c42") - table.columns().data());
    EXPECT_EQ(changed.find("more")->numbers()[0], 5);
    EXPECT_NE(table.find("c42")->numbers()[0], 1e9);
    EXPECT_EQ(table.find("more"), nullptr);
}

TEST(Summary, QuantilesBySelectionAreThoseOfSortedValues) {
    std::mt19937_64 random(5);
    for (int size = 1; size < 70; ++size)
        for (int few : {2, 1000000}) { // with ties and without
            std::vector<double> values;
            for (int i = 0; i < size; ++i)
                values.push_back(static_cast<double>(random() % static_cast<unsigned>(few)) / 7 - 3);
            std::vector<double> sorted = values;
            std::sort(sorted.begin(), sorted.end());
            for (const double share :
                 {0.0, 0.05, 0.25, 0.5, 0.75, 0.99, 1.0}) // one after the other, as they lie
                EXPECT_EQ(quantileBySelection(values, share), quantileOfSorted(sorted, share))
                    << size << " " << share;
            std::sort(values.begin(), values.end());
            EXPECT_EQ(values, sorted) << "nothing is lost";
        }
}
