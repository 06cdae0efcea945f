#include "base/text.h"
#include "check/check_tools.h"

#include <algorithm>

namespace oxgoad {

void checkRowsPerCoefficient(const CheckContext& context, Findings& findings) {
    const std::string name = "rows per coefficient";
    const auto rank = static_cast<double>(std::max<Eigen::Index>(context.linear->fit.rank(), 1));
    const double rows = static_cast<double>(context.learningRows.size());
    const double limit = context.limitOf(name, 10);
    const std::string source = "common practice; Harrell 2015, §4.4";
    findings.readings.push_back(
        madeReading(name, rows / rank, limit, {},
                    countText(context.learningRows.size()) + " learning rows, " +
                        plural(static_cast<std::size_t>(rank), "coefficient", "coefficients"),
                    source));
    if (!(rows / rank < limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "Few rows for so many coefficients";
    goad.reading = countText(context.learningRows.size()) + " learning rows for " +
                   plural(static_cast<std::size_t>(rank), "coefficient", "coefficients") +
                   ": the model follows their noise";
    goad.threshold = "fewer than " + shortText(limit) + " rows for each";
    goad.source = source;
    goad.station = "fit";
    // The optimism of the learning error: 2 p/n of the variance, half of that of the standard deviation.
    goad.cost = std::min(1.0, rank / rows);
    goad.costSays =
        "about the share by which the error of new rows exceeds that of learning rows (Mallows 1973)";
    goad.size = rank / rows;
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
