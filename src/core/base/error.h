#pragma once
// The one error type for what a user can put right, and the outcome "stopped".
#include <cstddef>
#include <stdexcept>
#include <string>

namespace oxgoad {

/// What went wrong, as a code a program can act on.
enum class ErrorCode {
    fileNotFound,
    notAFile,
    cannotRead,
    cannotWrite,
    emptyFile,
    binaryFile,
    badText,
    noRows,
    badRecipe,
    badProject,
    damagedProject,
    newerVersion,
    unknownColumn,
    wrongType,
    badTerm,
    noSpread,
    tooFewRows,
    badForecastRows,
    badExpression,
    badStep,
    badWorkbook,
    badDatabase,
    badQuery,
    badPassword,
    badJoin,
    badParts,
    badWeights,
    noConvergence,
};

/// Where it went wrong. Empty or zero members are unknown. Lines, cells and characters are counted from 1.
struct Where {
    std::string file{};
    std::size_t line = 0;
    std::size_t cell = 0;
    std::string column{};
    /// Place in an expression or a query that was typed.
    std::size_t character = 0;
    /// Sheet of a workbook.
    std::string sheet{};
};

/// Thrown for everything a user can put right. Programming errors are assertions instead; a stopped
/// computation throws Stopped. Caught at the boundary of a job or of the headless command.
class Error : public std::runtime_error {
public:
    Error(ErrorCode code, std::string what, Where where = {}, std::string remedy = {});

    ErrorCode code() const { return m_code; }
    const std::string& message() const { return m_message; }
    const Where& where() const { return m_where; }
    const std::string& remedy() const { return m_remedy; }

private:
    ErrorCode m_code;
    std::string m_message;
    Where m_where;
    std::string m_remedy;
};

/// Thrown by Progress::checkpoint when somebody asked for a stop. Not an error.
struct Stopped {};

} // namespace oxgoad
