#pragma once
// Everything that was found, as pages to read and to print.
#include "base/progress.h"

#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace oxgoad {

struct HandOnFrom;

/// A piece of a report, whatever it is written as.
struct ReportBlock {
    enum class Kind { title, heading, paragraph, lines, table, plot };
    Kind kind = Kind::paragraph;
    std::string text{};
    /// Of a table, the first row its head; columns that hold numbers stand to the right.
    std::vector<std::vector<std::string>> cells{};
    /// Of a plot: points, and a line through them.
    std::vector<double> x{}, y{}, lineX{}, lineY{};
    std::string xTitle{}, yTitle{};
};

/// Parts that can be left out, in the order of the report: name, and what the window calls it.
std::span<const std::pair<std::string_view, std::string_view>> reportParts();

/// What is told, in order: the summary, and the parts named; all when none is. Errors: badTerm for a part
/// that is not there. Throws Stopped.
std::vector<ReportBlock> reportOf(const HandOnFrom& from, Progress& progress,
                                  const std::vector<std::string>& parts = {});

/// Whether all cells of a column below its head are numbers, which stand to the right.
std::vector<bool> columnsOfNumbers(const std::vector<std::vector<std::string>>& cells);
/// Round numbers along an axis.
std::vector<double> roundTicks(double low, double high);

/// One page of HTML without outside parts and without scripts; the same recipe and rows give the same bytes.
/// Texts of the data are text.
std::string reportHtml(const std::vector<ReportBlock>& blocks);
/// The same on pages of A4. Errors: cannotWrite.
std::string reportPdf(const std::vector<ReportBlock>& blocks);

} // namespace oxgoad
