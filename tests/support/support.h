#pragma once
// Helpers of the core tests.
#include "base/progress.h"
#include "study/evaluate.h"

#include <gtest/gtest.h>
#include <nlohmann/json.hpp>

#include <cmath>
#include <cstdlib>
#include <filesystem>
#include <fstream>
#include <string>
#include <unistd.h>
#include <vector>

namespace oxgoad::test {

inline Progress& quietly() {
    static Progress progress;
    return progress;
}

/// How many of something a test makes: more by hand, with a variable of the environment.
inline std::size_t wanted(const char* variable, std::size_t otherwise) {
    const char* said = std::getenv(variable);
    return said ? static_cast<std::size_t>(std::strtoul(said, nullptr, 10)) : otherwise;
}

/// The fit and what is said of it, without the checks.
inline Evidence unchecked(const Recipe& recipe, const StudyRows& rows) {
    const auto prepared = prepareRows(recipe, rows, {}, quietly());
    return evaluate(recipe, rows, *prepared, {.checks = ChecksWanted::none}, quietly());
}

/// Where the published data and values are.
inline std::filesystem::path published(const std::string& name) {
    return std::filesystem::path(OXGOAD_PUBLISHED) / name;
}
inline nlohmann::json publishedJson(const std::string& name) {
    std::ifstream in(published("json/" + name + ".json"));
    return nlohmann::json::parse(in);
}

/// Significant digits to which a value agrees with a reference, 16 at most.
inline double digits(double value, double reference) {
    if (value == reference) return 16;
    const double scale = reference == 0 ? 1 : std::fabs(reference);
    return std::min(16.0, -std::log10(std::fabs(value - reference) / scale));
}

/// A folder that goes away with the test.
class TemporaryFolder {
public:
    TemporaryFolder() {
        std::string pattern = (std::filesystem::temp_directory_path() / "oxgoad-test-XXXXXX").string();
        m_path = ::mkdtemp(pattern.data());
    }
    ~TemporaryFolder() {
        std::error_code ignored;
        std::filesystem::permissions(m_path, std::filesystem::perms::owner_all, ignored);
        std::filesystem::remove_all(m_path, ignored);
    }
    TemporaryFolder(const TemporaryFolder&) = delete;
    TemporaryFolder& operator=(const TemporaryFolder&) = delete;
    std::filesystem::path file(const std::string& name) const { return m_path / name; }
    const std::filesystem::path& path() const { return m_path; }
    std::filesystem::path write(const std::string& name, const std::string& bytes) const {
        std::ofstream(file(name), std::ios::binary) << bytes;
        return file(name);
    }

private:
    std::filesystem::path m_path;
};

inline std::string bytesOf(const std::filesystem::path& path) {
    std::ifstream in(path, std::ios::binary);
    return {std::istreambuf_iterator<char>(in), {}};
}

inline RowsRead readBytes(const std::string& bytes, const TextOptions& options = {}, unsigned threads = 1) {
    return readTextBytes(bytes, "rows.csv", options, {threads}, quietly());
}

/// Rows of a published file, all of them.
inline StudyRows publishedRows(const std::string& name) {
    StudyRows rows;
    rows.learning = readText(published("csv/" + name + ".csv"), {}, {}, quietly());
    return rows;
}

inline ForecastRequest forecastOf(const std::string& file, double level) {
    ForecastRequest request;
    request.file = file;
    request.level = level;
    return request;
}

inline Recipe recipeOf(const std::string& response, const std::vector<std::string>& columns) {
    Recipe recipe;
    recipe.rows.file = "rows.csv";
    recipe.response = response;
    for (const auto& column : columns)
        recipe.terms.push_back(plainTerm(column));
    return recipe;
}

/// The text of the error that `act` throws; "" when it throws none.
template <class Act> std::string errorOf(Act&& act) {
    try {
        act();
    } catch (const Error& error) {
        return error.what();
    }
    return {};
}

} // namespace oxgoad::test
