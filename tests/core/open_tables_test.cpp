// Every open table that comes with the tests (tests/reference/published, sources in its README): cell by cell
// against a reader of ten lines, the ledger's statistics against plain loops, and every look taken once. Put
// more tables into the folder named by OXGOAD_OPEN_TABLES to try others.
#include "base/text.h"
#include "ledger/ledger.h"
#include "study/look_at.h"
#include "study/prepare_rows.h"
#include "support/support.h"
#include "table/summary.h"

#include <algorithm>
#include <cstdlib>

using namespace oxgoad;
using namespace oxgoad::test;

namespace open_tables_test {

std::vector<std::filesystem::path> openTables() {
    const char* more = std::getenv("OXGOAD_OPEN_TABLES");
    std::vector<std::filesystem::path> files;
    for (const std::filesystem::path& folder : {published("csv"), std::filesystem::path(more ? more : "")}) {
        if (folder.empty() || !std::filesystem::is_directory(folder)) continue;
        for (const auto& entry : std::filesystem::directory_iterator(folder))
            if (entry.path().extension() == ".csv") files.push_back(entry.path());
    }
    std::sort(files.begin(), files.end());
    return files;
}

/// Cells of RFC 4180 text, the plain way.
std::vector<std::vector<std::string>> plainCells(const std::string& text) {
    std::vector<std::vector<std::string>> rows(1, std::vector<std::string>(1));
    bool quoted = false;
    for (std::size_t i = 0; i < text.size(); ++i) {
        const char c = text[i];
        if (c == '"' && quoted && i + 1 < text.size() && text[i + 1] == '"')
            rows.back().back() += text[i++];
        else if (c == '"')
            quoted = !quoted;
        else if (c == ',' && !quoted)
            rows.back().emplace_back();
        else if (c == '\n' && !quoted)
            rows.emplace_back(1);
        else if (c != '\r')
            rows.back().back() += c;
    }
    if (rows.back().size() == 1 && rows.back()[0].empty()) rows.pop_back();
    return rows;
}

/// Definition 7 of Hyndman and Fan (1996), written out.
double quantile(const std::vector<double>& sorted, double share) {
    const double h = (static_cast<double>(sorted.size()) - 1) * share;
    const double below = std::floor(h);
    const double low = sorted[static_cast<std::size_t>(below)];
    const double high = sorted[std::min(sorted.size() - 1, static_cast<std::size_t>(below) + 1)];
    return low + (h - below) * (high - low);
}

TEST(OpenTables, AreReadCellByCellAndCountedAsPlainLoopsCount) {
    std::size_t tables = 0, cells = 0, statistics = 0, goads = 0;
    for (const auto& file : openTables()) {
        const auto rows = readText(file, {}, {}, quietly());
        const auto plain = plainCells(bytesOf(file));
        const std::string name = file.filename().string();
        ASSERT_EQ(rows.table.rows() + 1, plain.size()) << name;
        ASSERT_EQ(rows.table.columns().size(), plain[0].size()) << name;
        EXPECT_TRUE(rows.report.format.header) << name;
        EXPECT_TRUE(rows.report.doubts.empty() || rows.table.columns().size() == 1)
            << name << ": " << rows.report.doubts[0].said;
        Ledger ledger = makeLedger({.table = rows.table, .used = {}, .response = {}}, {}, quietly());
        for (std::size_t c = 0; c < plain[0].size(); ++c) {
            const Column& column = rows.table.columns()[c];
            EXPECT_EQ(column.name(), trimmed(plain[0][c])) << name;
            std::vector<double> values;
            for (std::size_t r = 0; r + 1 < plain.size(); ++r, ++cells) {
                const std::string& cell = plain[r + 1][c];
                if (column.kind() == ColumnKind::number) {
                    char* end = nullptr;
                    const double value = std::strtod(cell.c_str(), &end);
                    const bool number = !cell.empty() && *end == '\0';
                    ASSERT_EQ(!column.isMissing(r), number) << name << " " << column.name() << " " << r;
                    if (!number) continue;
                    ASSERT_EQ(column.numbers()[r], value) << name << " " << column.name() << " " << r;
                    values.push_back(value);
                } else if (column.kind() == ColumnKind::date) {
                    ASSERT_FALSE(column.isMissing(r)) << name << " " << column.name() << " " << r;
                } else {
                    ASSERT_EQ(column.cellText(r), trimmed(cell)) << name << " " << column.name() << " " << r;
                }
            }
            if (values.size() < 2) continue;
            std::sort(values.begin(), values.end());
            const auto n = static_cast<long double>(values.size());
            long double sum = 0, squares = 0;
            for (const double v : values)
                sum += v;
            for (const double v : values)
                squares += (v - sum / n) * (v - sum / n);
            const ColumnSummary& s = ledger.columns[c].summary;
            const double sd = static_cast<double>(std::sqrt(squares / (n - 1)));
            EXPECT_EQ(s.numbers->smallest, values.front());
            EXPECT_EQ(s.numbers->largest, values.back());
            EXPECT_NEAR(s.numbers->mean, static_cast<double>(sum / n),
                        2e-16 * (std::fabs(s.numbers->mean) + sd))
                << name << " " << column.name();
            EXPECT_GT(digits(s.numbers->standardDeviation, sd), 13) << name << " " << column.name();
            for (const auto& [share, said] : {std::pair{0.25, s.numbers->lowerQuartile},
                                              {0.5, s.numbers->median},
                                              {0.75, s.numbers->upperQuartile}})
                EXPECT_GT(digits(said, quantile(values, share)), 15) << name << " " << column.name();
            EXPECT_EQ(s.distinct,
                      static_cast<std::size_t>(std::unique(values.begin(), values.end()) - values.begin()));
            statistics += 8;
        }
        goads += ledger.goads().size();
        ++tables;
    }
    EXPECT_GE(tables, 20u);
    std::printf("[ tables   ] %zu read, %zu cells and %zu statistics compared, %zu goads\n", tables, cells,
                statistics, goads);
}

TEST(OpenTables, GoThroughPreparationAFitAndEveryExport) {
    std::size_t fits = 0;
    for (const auto& file : openTables()) {
        StudyRows rows;
        rows.learning = readText(file, {}, {}, quietly());
        std::vector<std::string> numbers;
        for (const Column& column : rows.learning.table.columns())
            if (column.kind() == ColumnKind::number) numbers.push_back(column.name());
        if (numbers.size() < 2) continue;
        const Recipe recipe = recipeOf(numbers[0], {numbers[1]});
        const auto prepared = prepareRows(recipe, rows, {}, quietly());
        const Evidence evidence = evaluate(recipe, rows, *prepared, {}, quietly());
        EXPECT_TRUE(std::isfinite(evidence.linear->coefficients[0].estimate)) << file;
        const LookScope scope = lookScope(recipe, *prepared, &evidence, Against::residual);
        EXPECT_EQ(scope.rows, rows.learning.table.rows()) << file;
        ++fits;
    }
    EXPECT_GE(fits, 18u);
}

} // namespace open_tables_test
