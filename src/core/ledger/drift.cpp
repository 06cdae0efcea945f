#include "ledger/drift.h"

#include "base/text.h"
#include "table/fields.h"
#include "table/summary.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

constexpr double movedP = 0.001;
constexpr double movedDistance = 0.1;

std::vector<double> sortedNumbers(const Column& column) {
    std::vector<double> values;
    for (std::size_t i = 0; i < column.size(); ++i)
        if (!column.isMissing(i)) values.push_back(column.asNumber(i));
    sortNumbers(values);
    return values;
}

double missingShare(const Column& column) {
    return column.size() == 0
               ? 0
               : static_cast<double>(column.missingCount()) / static_cast<double>(column.size());
}

std::map<std::string, double> levelShares(const Column& column) {
    std::map<std::string, double> shares;
    const double each =
        1.0 / static_cast<double>(std::max<std::size_t>(1, column.size() - column.missingCount()));
    for (std::size_t i = 0; i < column.size(); ++i)
        if (!column.isMissing(i))
            shares[column.levels()[static_cast<std::size_t>(column.codes()[i])]] += each;
    return shares;
}

void compareLevels(const Column& before, const Column& now, ColumnDrift& drift) {
    const auto old = levelShares(before);
    const auto fresh = levelShares(now);
    std::vector<std::string> added, gone;
    double total = 0; // half the sum of differences: the share of rows that would have to move
    for (const auto& [level, share] : fresh) {
        const auto at = old.find(level);
        if (at == old.end()) added.push_back(level);
        total += std::fabs(share - (at == old.end() ? 0 : at->second));
    }
    for (const auto& [level, share] : old)
        if (!fresh.contains(level)) {
            gone.push_back(level);
            total += share;
        }
    if (!added.empty())
        drift.changes.push_back(plural(added.size(), "new level", "new levels") + ": " + nameList(added));
    if (!gone.empty())
        drift.changes.push_back(plural(gone.size(), "level is", "levels are") + " gone: " + nameList(gone));
    if (total / 2 > movedDistance)
        drift.changes.push_back("the shares of its levels moved by " + readableText(50 * total, 2) + " %");
}

void compareNumbers(const Column& before, const Column& now, ColumnDrift& drift) {
    const auto a = sortedNumbers(before);
    const auto b = sortedNumbers(now);
    if (a.empty() || b.empty()) return;
    std::tie(drift.distance, drift.p) = kolmogorovSmirnov(a, b);
    const double times = quantileOfSorted(b, 0.5) / quantileOfSorted(a, 0.5);
    const double power = times > 0 ? std::log10(times) : 0;
    if (before.kind() == ColumnKind::number && drift.distance > 0.5 && std::fabs(power) > 0.7 &&
        std::fabs(power - std::round(power)) < 0.2) {
        drift.otherUnit = true;
        drift.changes.push_back("its values are some " +
                                (power > 0 ? groupedText(std::pow(10, std::round(power))) + " times"
                                           : "1/" + groupedText(std::pow(10, -std::round(power))) + " of") +
                                " what they were, as in another unit");
    }
    auto text = [&](double value) {
        return before.kind() == ColumnKind::date ? dateText(static_cast<std::int32_t>(value))
                                                 : readableText(value);
    };
    if (b.back() > a.back() || b.front() < a.front())
        drift.changes.push_back("its range was " + text(a.front()) + " to " + text(a.back()) + " and is " +
                                text(b.front()) + " to " + text(b.back()));
    if (drift.p < movedP && drift.distance > movedDistance)
        drift.changes.push_back("its distribution moved: median " + text(quantileOfSorted(a, 0.5)) +
                                " before, " + text(quantileOfSorted(b, 0.5)) +
                                " now (Kolmogorov–Smirnov distance " + readableText(drift.distance, 2) +
                                ", p " + probabilityText(drift.p) + ")");
}

} // namespace

std::pair<double, double> kolmogorovSmirnov(const std::vector<double>& a, const std::vector<double>& b) {
    const auto m = static_cast<double>(a.size());
    const auto n = static_cast<double>(b.size());
    double distance = 0;
    for (std::size_t i = 0, j = 0; i < a.size() && j < b.size();) {
        const double at = std::min(a[i], b[j]);
        while (i < a.size() && a[i] == at)
            ++i;
        while (j < b.size() && b[j] == at)
            ++j;
        distance = std::max(distance, std::fabs(static_cast<double>(i) / m - static_cast<double>(j) / n));
    }
    const double root = std::sqrt(m * n / (m + n));
    const double x = (root + 0.12 + 0.11 / root) * distance;
    if (x < 0.2) return {distance, 1.0};
    double p = 0;
    for (int k = 1; k <= 100; ++k) {
        const double term = 2 * std::exp(-2.0 * k * k * x * x);
        p += k % 2 == 1 ? term : -term;
        if (term < 1e-18) break;
    }
    return {distance, std::clamp(p, 0.0, 1.0)};
}

Drift compareReadings(const Table& before, const Table& now, Progress& progress) {
    Drift drift;
    drift.rowsBefore = before.rows();
    drift.rowsNow = now.rows();
    for (const Column& column : now.columns())
        if (!before.find(column.name())) drift.columnsNew.push_back(column.name());
    std::size_t done = 0;
    for (const Column& old : before.columns()) {
        progress.checkpoint(static_cast<double>(done++) / static_cast<double>(before.columns().size()),
                            "Comparing with the rows before");
        const Column* column = now.find(old.name());
        if (!column) {
            drift.columnsGone.push_back(old.name());
            continue;
        }
        ColumnDrift each{old.name(), {}, std::nan(""), std::nan("")};
        if (column->kind() != old.kind())
            each.changes.push_back("was a " + std::string(kindName(old.kind())) + " and is a " +
                                   std::string(kindName(column->kind())));
        else if (old.kind() == ColumnKind::factor)
            compareLevels(old, *column, each);
        else if (old.kind() != ColumnKind::text)
            compareNumbers(old, *column, each);
        const double was = missingShare(old);
        const double is = missingShare(*column);
        each.missingMore = is - was;
        if (std::fabs(was - is) > 0.01)
            each.changes.push_back("missing values were " + readableText(100 * was, 2) + " % and are " +
                                   readableText(100 * is, 2) + " %");
        if (!each.changes.empty()) drift.columns.push_back(std::move(each));
    }
    std::stable_sort(
        drift.columns.begin(), drift.columns.end(), [](const ColumnDrift& a, const ColumnDrift& b) {
            return (std::isnan(a.distance) ? 2 : a.distance) > (std::isnan(b.distance) ? 2 : b.distance);
        });
    return drift;
}

std::vector<std::string> Drift::sentences() const {
    std::vector<std::string> all;
    if (rowsBefore != rowsNow)
        all.push_back(plural(rowsBefore, "row", "rows") + " before, " + countText(rowsNow) + " now");
    if (!columnsGone.empty()) all.push_back("gone: " + nameList(columnsGone, 10));
    if (!columnsNew.empty()) all.push_back("new: " + nameList(columnsNew, 10));
    for (const ColumnDrift& column : columns)
        for (const std::string& change : column.changes)
            all.push_back(column.column + ": " + change);
    if (all.empty()) all.emplace_back("nothing changed");
    return all;
}

} // namespace oxgoad
