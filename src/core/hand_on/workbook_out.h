#pragma once
// A workbook in which a program calculates: rows are put into a sheet, and cell formulas follow.
#include "hand_on/program.h"

#include <filesystem>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

/// A sheet of plain cells, the first row a head.
struct PlainSheet {
    std::string name;
    std::vector<std::vector<std::string>> cells;
};

/// `rows` stand in the first sheet as examples; formulas go on below them, as many as fit in some megabytes
/// (from 20 to 1,000 rows). Errors: badTerm where a formula would be longer than a workbook allows (8,192
/// characters, 255 of a text); cannotWrite.
void writeXlsx(const std::filesystem::path& file, const Program& program, const std::vector<ProgramRow>& rows,
               const std::vector<PlainSheet>& more);
void writeOds(const std::filesystem::path& file, const Program& program, const std::vector<ProgramRow>& rows,
              const std::vector<PlainSheet>& more);

} // namespace oxgoad
