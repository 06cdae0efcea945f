// What the headless command says of some recipes over all that it can do, kept as files. Nothing here says
// that a number is right (other tests do); it says that a change of the house changed none unless its commit
// says why.
//
// Numbers are compared to 12 digits of the largest number near them, since the C library takes other paths on
// other processors; everything else is compared as it stands. OXGOAD_WRITE_GOLDEN=1 writes the files anew.
#include "support/support.h"

#include <cctype>
#include <charconv>
#include <cstdlib>
#include <optional>
#include <set>
#include <sys/wait.h>

using namespace oxgoad;
using namespace oxgoad::test;

namespace fs = std::filesystem;

namespace golden_test {

const fs::path golden = OXGOAD_GOLDEN;

std::vector<std::string> namesIn(const fs::path& folder) {
    std::set<std::string> names;
    if (fs::is_directory(folder))
        for (const auto& entry : fs::directory_iterator(folder))
            names.insert(entry.path().filename().string());
    return {names.begin(), names.end()};
}

std::vector<std::string> caseNames() {
    std::vector<std::string> names;
    for (const std::string& name : namesIn(golden))
        if (fs::exists(golden / name / "recipe.json")) names.push_back(name);
    return names;
}

/// A text cut into numbers and what stands between them.
struct Piece {
    std::string text;
    std::optional<double> number;
};

std::vector<Piece> piecesOf(const std::string& line) {
    std::vector<Piece> pieces;
    std::string between;
    for (std::size_t i = 0; i < line.size();) {
        const bool within =
            i > 0 && (std::isalnum(static_cast<unsigned char>(line[i - 1])) != 0 || line[i - 1] == '_');
        const bool starts = std::isdigit(static_cast<unsigned char>(line[i])) != 0 ||
                            (line[i] == '-' && i + 1 < line.size() &&
                             std::isdigit(static_cast<unsigned char>(line[i + 1])) != 0);
        double value = 0;
        if (!within && starts) {
            const auto [end, failure] = std::from_chars(line.data() + i, line.data() + line.size(), value);
            if (failure == std::errc{}) {
                pieces.push_back({std::exchange(between, {}), std::nullopt});
                pieces.push_back({line.substr(i, static_cast<std::size_t>(end - line.data()) - i), value});
                i = static_cast<std::size_t>(end - line.data());
                continue;
            }
        }
        between += line[i++];
    }
    pieces.push_back({between, std::nullopt});
    return pieces;
}

std::vector<std::string> linesOf(const std::string& text) {
    std::vector<std::string> lines;
    std::size_t from = 0;
    while (from < text.size()) {
        const std::size_t end = std::min(text.find('\n', from), text.size());
        lines.push_back(text.substr(from, end - from));
        from = end + 1;
    }
    return lines;
}

/// How close numbers have to be: to the arithmetic the files were written with, and to that of wide
/// instructions, which rounds otherwise. Of Filip's polynomial, whose columns are nearly dependent, what
/// rests on single rows has four digits.
struct Closeness {
    double relative = 2e-12, absolute = 0;
};
constexpr Closeness likeKept{};
Closeness likeOtherArithmetic(const std::string& name) {
    return {name == "filip" ? 1e-4 : 1e-9, 1e-15};
}

/// What a number may differ by: so many digits of itself, or of the largest number at its place in the lines
/// around it (in a table of comma-separated numbers residuals are differences of larger ones).
class Tolerance {
public:
    explicit Tolerance(const std::vector<std::vector<Piece>>& lines, bool table, Closeness wanted)
        : m_wanted(wanted) {
        if (!table) return;
        for (const auto& pieces : lines)
            for (const Piece& piece : pieces)
                if (piece.number && std::isfinite(*piece.number))
                    m_largest = std::max(m_largest, std::fabs(*piece.number));
    }
    bool close(double a, double b) const {
        if (a == b || (std::isnan(a) && std::isnan(b))) return true;
        return std::fabs(a - b) <=
               m_wanted.relative * (std::max(std::fabs(a), std::fabs(b)) + 1e-3 * m_largest) +
                   m_wanted.absolute;
    }

private:
    Closeness m_wanted;
    double m_largest = 0;
};

/// The first few places where two files differ.
std::string differences(const std::string& now, const std::string& kept, bool table,
                        Closeness wanted = likeKept) {
    const auto nowLines = linesOf(now), keptLines = linesOf(kept);
    std::string out;
    int told = 0;
    if (nowLines.size() != keptLines.size())
        out += std::to_string(nowLines.size()) + " lines, " + std::to_string(keptLines.size()) + " kept\n";
    std::vector<std::vector<Piece>> nowPieces, keptPieces;
    for (const auto& line : nowLines)
        nowPieces.push_back(piecesOf(line));
    for (const auto& line : keptLines)
        keptPieces.push_back(piecesOf(line));
    const Tolerance tolerance(keptPieces, table, wanted);
    for (std::size_t i = 0; i < std::min(nowLines.size(), keptLines.size()) && told < 5; ++i) {
        bool same = nowPieces[i].size() == keptPieces[i].size();
        for (std::size_t j = 0; same && j < nowPieces[i].size(); ++j) {
            const Piece &a = nowPieces[i][j], &b = keptPieces[i][j];
            same = a.number && b.number ? tolerance.close(*a.number, *b.number) : a.text == b.text;
        }
        if (same) continue;
        ++told;
        out +=
            "line " + std::to_string(i + 1) + "\n  now  " + nowLines[i] + "\n  kept " + keptLines[i] + "\n";
    }
    return out;
}

class Golden : public testing::TestWithParam<std::string> {};

/// Runs the case into a folder, with the arithmetic of any machine or with what the loader takes.
void runInto(const std::string& name, const TemporaryFolder& temporary, const std::string& out,
             bool anyMachine) {
    const fs::path folder = golden / name;
    std::string args = "--out";
    if (fs::exists(folder / "args")) {
        args = bytesOf(folder / "args");
        args.erase(args.find_last_not_of('\n') + 1);
        args += " --out";
    }
    const std::string command = "cd " + folder.string() + " && " +
                                (anyMachine ? "LD_PRELOAD=" OXGOAD_KERNELS "/liboxgoad_kernels.so " : "") +
                                OXGOAD_RUN + " recipe.json " + args + " " + temporary.file(out).string() +
                                " --quiet 2>" + temporary.file("err").string();
    const int status = std::system(command.c_str());
    ASSERT_TRUE(WIFEXITED(status) && WEXITSTATUS(status) == 0) << bytesOf(temporary.file("err"));
}

/// A sanitizer has to be loaded before anything else.
#if defined(__SANITIZE_ADDRESS__) || defined(__SANITIZE_THREAD__)
constexpr bool anyMachineRuns = false;
#else
constexpr bool anyMachineRuns = true;
#endif

TEST_P(Golden, OutputsAreAsTheyWere) {
    const TemporaryFolder temporary;
    if (anyMachineRuns) {
        ASSERT_NO_FATAL_FAILURE(runInto(GetParam(), temporary, "out", true));
    }
    ASSERT_NO_FATAL_FAILURE(runInto(GetParam(), temporary, "here", false));
    const fs::path kept = golden / GetParam() / "expected";
    const char* write = std::getenv("OXGOAD_WRITE_GOLDEN");
    if (write && *write == '1') {
        fs::remove_all(kept);
        fs::copy(temporary.file("out"), kept);
        GTEST_SKIP() << "written anew";
    }
    const auto compare = [&](const std::string& out, Closeness wanted) {
        ASSERT_EQ(namesIn(temporary.file(out)), namesIn(kept));
        for (const std::string& name : namesIn(kept))
            EXPECT_EQ(differences(bytesOf(temporary.file(out) / name), bytesOf(kept / name),
                                  name.ends_with(".csv"), wanted),
                      "")
                << GetParam() << "/" << name;
    };
    if (anyMachineRuns) compare("out", likeKept);
    compare("here", likeOtherArithmetic(GetParam()));
}

INSTANTIATE_TEST_SUITE_P(Recipes, Golden, testing::ValuesIn(caseNames()),
                         [](const auto& tested) { return tested.param; });

class GoldenProject : public testing::TestWithParam<const char*> {};

TEST_P(GoldenProject, OfAnEarlierFormSaysTheSame) {
    // Saved by the program before projects kept models, when it is fitted again as it is asked, and before
    // they kept what folds found.
    const TemporaryFolder temporary;
    const std::string command = std::string(OXGOAD_RUN) + " --project-evidence " +
                                (golden / "data" / GetParam()).string() + " --out " +
                                temporary.file("out").string() + " --read-aloud --quiet";
    ASSERT_EQ(std::system(command.c_str()), 0);
    // A kept model says what it knew: condition numbers had ten digits then.
    const auto asNow = [](std::string text) {
        for (const auto& [then, now] : {std::pair{"136.4437986365939", "136.44379864761018"},
                                        std::pair{"13.819635968397693", "13.819635968362629"}})
            for (std::size_t at = text.find(then); at != std::string::npos; at = text.find(then, at + 1))
                text.replace(at, std::string_view(then).size(), now);
        return text;
    };
    for (const auto* name :
         {"evidence.json", "coefficients.csv", "rows.csv", "forecast.csv", "effects.csv", "reading.txt"})
        EXPECT_EQ(differences(asNow(bytesOf(temporary.file("out") / name)),
                              bytesOf(golden / "products/expected" / name),
                              std::string(name).ends_with(".csv")),
                  "")
            << name;
}

INSTANTIATE_TEST_SUITE_P(Forms, GoldenProject, testing::Values("form3.oxgoad", "form4.oxgoad"),
                         [](const auto& tested) { return std::string(tested.param).substr(0, 5); });

TEST(GoldenComparison, SeesADigitAndAWordAndForgivesTheLastOnes) {
    EXPECT_EQ(differences("a,1.5\n", "a,1.5\n", true), "");
    EXPECT_EQ(differences("{\"x^3\": 1.2345678901234567}", "{\"x^3\": 1.2345678901234561}", false), "");
    EXPECT_NE(differences("{\"x\": 1.23456789012}", "{\"x\": 1.23456789013}", false), "");
    EXPECT_NE(differences("b,1.5\n", "a,1.5\n", true), "");
    EXPECT_NE(differences("a,1.5\n", "a,1.5\nb,1\n", true), "");
    EXPECT_NE(differences("x1,2", "x2,2", true), "") << "a number within a name is text";
    EXPECT_EQ(differences("100000,0.00000000000000001\n", "100000,0.00000000000000002\n", true), "");
    EXPECT_GE(caseNames().size(), 15U);
}

} // namespace golden_test
