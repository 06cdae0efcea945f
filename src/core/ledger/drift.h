#pragma once
// What changed between two readings of the same source.
#include "ledger/ledger.h"

#include <string>
#include <vector>

namespace oxgoad {

struct ColumnDrift {
    std::string column;
    /// A sentence for each thing that changed.
    std::vector<std::string> changes;
    /// Two-sample Kolmogorov–Smirnov statistic and its p for numbers and dates; NaN otherwise.
    double distance = 0;
    double p = 0;
    /// Values are some power of ten of what they were, as in another unit.
    bool otherUnit = false;
    /// The share of missing values now, less that before.
    double missingMore = 0;
};

struct Drift {
    std::size_t rowsBefore = 0, rowsNow = 0;
    std::vector<std::string> columnsGone, columnsNew;
    /// Columns of both with something to say, those that moved most first.
    std::vector<ColumnDrift> columns;
    /// The whole as sentences; one that says so when nothing changed.
    std::vector<std::string> sentences() const;
};

/// Compares rows read before with rows read now: columns, kinds, levels, missing shares, distributions. A
/// distribution has moved when the Kolmogorov–Smirnov test says p < 0.001 and the distance is above 0.1 (with
/// many rows any difference is significant; the second threshold is common practice, no source). Throws
/// Stopped.
Drift compareReadings(const Table& before, const Table& now, Progress& progress);

/// D = sup |F₁ − F₂| of two sorted samples without NaN (Smirnov 1939), and the asymptotic p with the
/// correction of Stephens (1970), J. Roy. Statist. Soc. B 32: Q((√N + 0.12 + 0.11/√N)·D), N = mn/(m + n).
std::pair<double, double> kolmogorovSmirnov(const std::vector<double>& a, const std::vector<double>& b);

} // namespace oxgoad
