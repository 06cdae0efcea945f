#pragma once
// Rows to be forecast that no file holds: the next periods, made of the rows there are.
#include "read/source.h"
#include "table/table.h"

#include <string>
#include <variant>
#include <vector>

namespace oxgoad {

/// A row for each series (each combination of the columns `by` that has a row with a response) and each of
/// the next periods after the last date of any row with a response. Days of the month are kept (the last day
/// where a month is shorter, and where all dates are last days). Columns are carried on from the series' own
/// rows: by the value of its last date (the mean of a number where there are several rows, otherwise the last
/// row's), by that of the same period a year before (missing where there is none), by the median or most
/// frequent level, or as given; without a rule by the last value, or by the date where each month of the
/// year, or each day of the week, has a value of its own. The response is left out. Errors: unknownColumn,
/// wrongType (a date that is none), badForecastRows (no date with a response; above 1,000,000 rows).
Table makeRows(const MadeRows& made, const Table& learning, const std::string& response,
               const std::string& file);

/// A column of the same kind and name with one value in all rows, or of a number or date with `at`, one a
/// row: a number (days for dates), or the text of a level, which may be a new one; missing where the value is
/// none of its kind.
Column columnOfValue(const Column& like, const std::variant<double, std::string>& value, std::size_t rows,
                     const std::vector<double>* at);

} // namespace oxgoad
