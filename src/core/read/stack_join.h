#pragma once
// Tables below one another, and tables beside one another by key.
#include "read/text_reader.h"

#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

struct StackedRows {
    std::string name;
    RowsRead rows;
};

/// The rows of all tables, in their order. Columns go by name: those a table lacks are missing there, those
/// the first has not are added; numbers and dates that are something else in another table become factors
/// there. All of it is told in the notes. With a name for it, a factor says which table a row came from.
/// Faults keep their lines and are counted on. Errors: badStep when the name is taken.
RowsRead stackRows(std::vector<StackedRows> parts, const std::string& originColumn);

/// Adds the columns of `second` where the keys are equal; rows without a match have missing values there. Of
/// rows of `second` with equal keys the first counts. Unmatched rows, doubled keys and keys nobody asked for
/// are counted in the notes. A column whose name is taken gets the second table's name in front. Errors:
/// unknownColumn, badJoin (keys of different types, no key, no match at all).
RowsRead joinRows(RowsRead first, const RowsRead& second, const std::string& secondName,
                  const std::vector<std::pair<std::string, std::string>>& keys, Threads threads,
                  Progress& progress);

} // namespace oxgoad
