#pragma once
// Programs written in the notations of others. Each refuses what it cannot hold (badTerm), with the way out.
#include "hand_on/program.h"

#include <string>
#include <vector>

namespace oxgoad {

/// Rows that a self-test goes through, with what the program says of them.
struct TestRows {
    std::vector<ProgramRow> rows;
    std::vector<ProgramResult> results;
};
TestRows testRowsOf(const Program& program, std::vector<ProgramRow> rows);

/// One standard SELECT over a table: its columns, prediction, lower, upper; null where there is none. Names
/// are quoted, so that nothing in the data is code. Dates are texts as 2024-05-01 or of the engine's own
/// type.
std::string sqlOf(const Program& program, const std::string& table = "rows");
/// C (C99, nothing but its own library): a function of a row, a main() that scores a text file or, without
/// arguments, tests itself and ends with 0 when all rows agree.
std::string cOf(const Program& program, const TestRows& tests);
/// Python 3, nothing but its own library; the same.
std::string pythonOf(const Program& program, const TestRows& tests);
/// The equation as ordinary text, and in MathML (version 3, presentation).
std::string equationOf(const Program& program);
std::string mathmlOf(const Program& program);

/// How many coefficients' intervals a format has room for.
inline constexpr std::size_t mostInSql = 60, mostInCode = 200, mostInWorkbook = 40;

} // namespace oxgoad
