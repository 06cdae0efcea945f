#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/distributions.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::size_t mostGroups = 200;

struct Groups {
    /// Sizes of distances from the median, a level each.
    std::vector<std::vector<double>> distances;
    std::vector<std::string> levels;
    std::size_t alone = 0;
};

Groups groupsOf(const CheckContext& context, const Column& column) {
    Groups groups;
    std::vector<std::vector<double>> errors(column.levels().size());
    for (std::size_t i = 0; i < context.errors.size(); ++i)
        if (const auto code = column.codes()[context.errorRows[i]]; code >= 0)
            errors[static_cast<std::size_t>(code)].push_back(context.errors[i]);
    for (std::size_t level = 0; level < errors.size(); ++level) {
        auto& of = errors[level];
        if (of.empty()) continue;
        if (of.size() <= 2) { // two are as far from their median as each other: no spread within the level
            ++groups.alone;
            continue;
        }
        std::sort(of.begin(), of.end());
        const std::size_t m = of.size();
        const double median = m % 2 == 1 ? of[m / 2] : (of[m / 2 - 1] + of[m / 2]) / 2;
        for (double& e : of)
            e = std::fabs(e - median);
        groups.distances.push_back(std::move(of));
        groups.levels.push_back(column.levels()[level]);
    }
    return groups;
}

void judge(const CheckContext& context, const Column& column, Findings& findings) {
    const std::string name = "spread by group: " + column.name();
    const std::string source = "Brown and Forsythe 1974";
    const Groups groups = groupsOf(context, column);
    const auto k = static_cast<double>(groups.distances.size());
    double n = 0, total = 0;
    for (const auto& of : groups.distances)
        for (const double z : of) {
            ++n;
            total += z;
        }
    if (k < 2 || n <= k) {
        findings.readings.push_back(noReading(name, "fewer than two levels have three rows"));
        return;
    }
    double between = 0, within = 0;
    std::vector<double> means;
    for (const auto& of : groups.distances) {
        double sum = 0;
        for (const double z : of)
            sum += z;
        const double mean = sum / static_cast<double>(of.size());
        means.push_back(mean);
        between += static_cast<double>(of.size()) * (mean - total / n) * (mean - total / n);
        for (const double z : of)
            within += (z - mean) * (z - mean);
    }
    if (!(within > 0)) {
        findings.readings.push_back(noReading(name, "errors do not differ within its levels"));
        return;
    }
    const double f = between / (k - 1) / (within / (n - k));
    const double p = fisherUpper(f, k - 1, n - k);
    const double limit = context.limitOf(name, pLimit);
    std::string says = "distances from the median of each level: " + fText(f, k - 1, n - k);
    if (groups.alone > 0)
        says += "; " + plural(groups.alone, "level", "levels") + " of one row or two passed over";
    findings.readings.push_back(madeReading(name, f, limit, p, says, source));
    if (!(p < limit) || (context.robustToSpread && context.reach.empty())) return;
    const auto widest =
        static_cast<std::size_t>(std::max_element(means.begin(), means.end()) - means.begin());
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "Errors spread differently by " + column.name();
    goad.reading = "most in " + groups.levels[widest] + ", " + readableText(means[widest] / (total / n), 2) +
                   " times the usual distance from the median; F " + readableText(f, 3) + ", p " +
                   probabilityText(p);
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = column.name();
    double off = 0;
    for (std::size_t g = 0; g < means.size(); ++g)
        off += static_cast<double>(groups.distances[g].size()) / n * std::fabs(1 - means[g] / (total / n));
    goad.cost = off;
    goad.costSays =
        "by this share intervals of single values are too wide or too narrow, on average over the rows";
    goad.size = f;
    goad.family = "spread";
    goad.familyTitle = "# signs of unequal spread";
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (!context.robustToSpread && context.kind.leastSquares)
        goad.moves.push_back(
            {.label = "errors that stand it",
             .edit = [](Recipe& recipe, const std::string&) { recipe.errors.kind = CovarianceKind::hc3; }});
    findings.goads.push_back(std::move(goad));
}

} // namespace

void checkSpreadByGroup(const CheckContext& context, Findings& findings) {
    std::size_t judged = 0;
    for (const Column& column : context.table.columns()) {
        const bool input = findInput(context.inputs.inputs(), column.name()).has_value();
        if (column.kind() != ColumnKind::factor || column.name() == context.response() ||
            (!input && (!isOffered(context.recipe, column.name()) || column.levels().size() > mostGroups)))
            continue;
        stopIfTold(*context.progress);
        judge(context, column, findings);
        ++judged;
    }
    if (judged == 0) findings.readings.push_back(noReading("spread by group", "no column is a factor"));
}

} // namespace oxgoad
