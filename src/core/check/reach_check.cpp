#include "base/text.h"
#include "check/checks.h"

#include <map>

namespace oxgoad {

void checkReach(const CheckContext& context, Findings& findings) {
    if (context.reach.empty()) return;
    std::size_t outside = 0;
    std::map<std::string, std::size_t> subjects;
    for (const Reach& reach : context.reach) {
        if (reach.grade != ReachGrade::outside) continue;
        ++outside;
        if (!reach.subject.empty()) ++subjects[reach.subject];
    }
    const double share = static_cast<double>(outside) / static_cast<double>(context.reach.size());
    findings.readings.push_back({"rows to forecast outside",
                                 static_cast<double>(outside),
                                 0,
                                 {},
                                 readableText(100 * share, 2) + " % of " + countText(context.reach.size()),
                                 "Montgomery, Peck and Vining 2012, §3.8"});
    if (outside == 0) return;
    std::string most;
    std::size_t count = 0;
    for (const auto& [subject, rows] : subjects)
        if (rows > count) {
            most = subject;
            count = rows;
        }
    Goad goad;
    goad.key = "reach";
    goad.severity = Severity::alarm;
    goad.title = countText(outside) + " of " +
                 plural(context.reach.size(), "row to forecast is", "rows to forecast are") +
                 " outside what was learned from";
    goad.reading = "most often because of " + most + ", in " + plural(count, "row", "rows");
    goad.threshold = "any row";
    goad.source = "Montgomery, Peck and Vining 2012, §3.8";
    goad.station = "forecast";
    if (context.table.find(most)) goad.column = most;
    goad.moves.push_back({.label = "see rows", .shows = Move::Shows::rowsToForecast});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
