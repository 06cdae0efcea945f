#include "base/text.h"
#include "check/check_tools.h"

#include <algorithm>
#include <cmath>
#include <optional>

namespace oxgoad {

void checkImpossible(const CheckContext& context, Findings& findings) {
    const std::string name = "impossible predictions";
    const std::string source = "common practice, no source";
    const auto response = context.table.at(context.response(), context.file).numbers();
    double low = INFINITY, high = -INFINITY;
    for (const auto row : context.learningRows) {
        low = std::min(low, response[row]);
        high = std::max(high, response[row]);
    }
    const bool share = low >= 0 && high <= 1;
    if (low < 0) {
        findings.readings.push_back(noReading(name, "the response itself is below 0 in places"));
        return;
    }
    std::size_t learning = 0, unseen = 0, coming = 0, all = 0;
    double worst = 0;
    std::optional<std::size_t> worstRow;
    const auto impossible = [&](double v, std::optional<std::size_t> row) {
        if (std::isnan(v)) return false;
        ++all;
        const double beyond = v < 0 ? -v : share && v > 1 ? v - 1 : 0;
        if (!(beyond > 0)) return false;
        if (beyond > worst) {
            worst = beyond;
            worstRow = row;
        }
        return true;
    };
    for (std::size_t i = 0; i < context.fitted.size(); ++i)
        learning += impossible(context.fitted[i], context.learningRows[i]);
    for (std::size_t i = 0; i < context.unseen.rows.size(); ++i)
        if (context.unseen.heldOut) unseen += impossible(context.unseen.predicted[i], context.unseen.rows[i]);
    for (const double v : context.forecast)
        coming += impossible(v, {});
    const std::size_t count = learning + unseen + coming;
    const double limit = context.limitOf(name, 0);
    std::string where;
    const auto add = [&](std::size_t rows, const char* of) {
        if (rows > 0) where += (where.empty() ? "" : ", ") + countText(rows) + " of " + of;
    };
    add(learning, "learning rows");
    add(unseen, "held-out rows");
    add(coming, "rows to be forecast");
    findings.readings.push_back(madeReading(name, static_cast<double>(count), limit, {},
                                            std::string(share ? "beyond 0 and 1, which the response never is"
                                                              : "below 0, which the response never is") +
                                                ", of " + countText(all) + " predictions" +
                                                (where.empty() ? "" : ": " + where),
                                            source));
    if (!(static_cast<double>(count) > limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = coming > 0 ? Severity::alarm : Severity::caution;
    goad.title = plural(count, "prediction is", "predictions are") +
                 (share ? " beyond what a share can be" : " below 0, which the response never is");
    goad.reading = where + "; the furthest by " + readableText(worst, 3);
    goad.threshold = limit > 0 ? "more than " + shortText(limit) : "any such prediction";
    goad.source = source;
    goad.station = "check";
    goad.size = static_cast<double>(count) / static_cast<double>(std::max<std::size_t>(all, 1));
    if (worstRow) {
        goad.row = worstRow;
        goad.moves.push_back(seeRow(*worstRow));
    }
    if (!share && low > 0 && !context.logResponse)
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
