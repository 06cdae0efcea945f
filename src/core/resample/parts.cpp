#include "resample/parts.h"

#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "resample/strata.h"
#include "table/summary.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

constexpr std::array<std::pair<SetAsideKind, std::string_view>, 6> kindNames{
    {{SetAsideKind::random, "random"},
     {SetAsideKind::proportionate, "in proportion"},
     {SetAsideKind::firstRows, "first rows"},
     {SetAsideKind::column, "column"},
     {SetAsideKind::groups, "groups"},
     {SetAsideKind::latest, "latest"}}};

[[noreturn]] void refuse(const std::string& what, const std::string& file, const std::string& column,
                         const std::string& remedy) {
    throw Error(ErrorCode::badParts, what, {.file = file, .column = column}, remedy);
}

/// How many of `rows` rows are held out and how many are test.
std::pair<std::size_t, std::size_t> countsOf(const SetAside& aside, std::size_t rows) {
    const auto n = static_cast<double>(rows);
    const auto heldOut = static_cast<std::size_t>(std::llround(aside.share * n));
    const auto both = static_cast<std::size_t>(std::llround((aside.share + aside.testShare) * n));
    return {std::min(heldOut, rows), std::min(both, rows) - std::min(heldOut, rows)};
}

/// Deals the rows in their order: the first are held out, those after them are test.
void deal(std::span<const std::uint32_t> order, const SetAside& aside, std::vector<Part>& parts) {
    const auto [heldOut, test] = countsOf(aside, order.size());
    for (std::size_t i = 0; i < heldOut + test; ++i)
        parts[order[i]] = i < heldOut ? Part::heldOut : Part::test;
}

/// Systematic selection with a random start (Madow and Madow 1944, "On the theory of systematic sampling,
/// I"): each row of the line has the chance `share`, and any stretch of m rows gives share · m of them,
/// rounded down or up.
void takeSystematically(std::span<const std::uint32_t> line, double share, double start, Part part,
                        std::vector<Part>& parts) {
    double before = std::floor(start);
    for (std::size_t i = 0; i < line.size(); ++i) {
        const double after = std::floor(start + share * static_cast<double>(i + 1));
        if (after > before) parts[line[i]] = part;
        before = after;
    }
}

/// The strata one after the other, in random order and each in a random order of its rows, as one line that
/// is dealt out evenly.
void dealInProportion(const Column& column, const SetAside& aside, std::vector<Part>& parts) {
    std::size_t count = 0;
    const auto stratum = stratumOf(column, aside.bands, count);
    RandomStream stream(aside.seed, "set aside in proportion");
    const auto order = shuffled(static_cast<std::uint32_t>(parts.size()), stream);
    std::vector<std::vector<std::uint32_t>> rows(count);
    for (const auto row : order)
        rows[stratum[row]].push_back(row);
    std::vector<std::uint32_t> line;
    line.reserve(parts.size());
    for (const auto s : shuffled(static_cast<std::uint32_t>(count), stream))
        line.insert(line.end(), rows[s].begin(), rows[s].end());
    const double heldOutStart = stream.uniform(), testStart = stream.uniform();
    takeSystematically(line, aside.share, heldOutStart, Part::heldOut, parts);
    std::erase_if(line, [&parts](std::uint32_t row) { return parts[row] == Part::heldOut; });
    if (aside.testShare > 0)
        takeSystematically(line, aside.testShare / (1 - aside.share), testStart, Part::test, parts);
}

/// Deals whole groups in a given order until each part has its share, as near as whole groups come.
void dealGroups(std::span<const std::size_t> order, std::span<const std::size_t> sizes,
                std::span<const std::uint32_t> groupOf, const SetAside& aside, bool testFirst,
                std::vector<Part>& parts) {
    const auto [heldOutWanted, testWanted] = countsOf(aside, parts.size());
    std::vector<Part> partOf(sizes.size(), Part::learning);
    std::size_t next = 0;
    auto take = [&](Part part, std::size_t wanted) {
        std::size_t taken = 0;
        while (wanted > 0 && next < order.size()) {
            const std::size_t size = sizes[order[next]];
            // Stop where one group more would overshoot by more than stopping falls short, but take one at
            // least.
            if (taken > 0 && taken + size > wanted && taken + size - wanted > wanted - taken) break;
            if (taken >= wanted) break;
            partOf[order[next++]] = part;
            taken += size;
        }
    };
    take(testFirst ? Part::test : Part::heldOut, testFirst ? testWanted : heldOutWanted);
    take(testFirst ? Part::heldOut : Part::test, testFirst ? heldOutWanted : testWanted);
    for (std::size_t i = 0; i < parts.size(); ++i)
        parts[i] = partOf[groupOf[i]];
}

void dealByGroup(const Column& column, const SetAside& aside, const std::string& file,
                 std::vector<Part>& parts) {
    std::size_t count = 0;
    const auto group = stratumOf(column, 0, count);
    std::vector<std::size_t> sizes(count, 0);
    for (const auto g : group)
        ++sizes[g];
    std::vector<std::size_t> present;
    for (std::size_t g = 0; g < count; ++g)
        if (sizes[g] > 0) present.push_back(g);
    if (present.size() < 2)
        refuse("all rows are of one group, which cannot be in two parts", file, column.name(),
               "Set rows aside by another column, or at random.");
    RandomStream stream(aside.seed, "set aside groups");
    const auto order = shuffled(static_cast<std::uint32_t>(present.size()), stream);
    std::vector<std::size_t> groups;
    for (const auto i : order)
        groups.push_back(present[i]);
    dealGroups(groups, sizes, group, aside, false, parts);
}

void dealLatest(const Column& column, const SetAside& aside, const std::string& file,
                std::vector<Part>& parts) {
    if (column.kind() != ColumnKind::date && column.kind() != ColumnKind::number)
        throw Error(ErrorCode::wrongType, "the latest periods are told by a date or a number",
                    {.file = file, .column = column.name()}, "Choose a date column.");
    std::map<double, std::uint32_t> periods;
    for (std::size_t i = 0; i < parts.size(); ++i)
        if (!column.isMissing(i)) periods.emplace(column.asNumber(i), 0);
    if (periods.size() < 2)
        refuse("all rows are of one period, which cannot be in two parts", file, column.name(),
               "Set rows aside by another column, or at random.");
    std::uint32_t next = 1; // 0 is for rows without a date, which learn
    for (auto& [time, place] : periods)
        place = next++;
    std::vector<std::uint32_t> group(parts.size(), 0);
    std::vector<std::size_t> sizes(periods.size() + 1, 0);
    for (std::size_t i = 0; i < parts.size(); ++i) {
        if (!column.isMissing(i)) group[i] = periods[column.asNumber(i)];
        ++sizes[group[i]];
    }
    std::vector<std::size_t> order;
    for (std::size_t g = periods.size(); g > 0; --g)
        order.push_back(g);
    dealGroups(order, sizes, group, aside, true, parts);
}

void dealByColumn(const Column& column, const SetAside& aside, const std::string& file,
                  std::vector<Part>& parts) {
    std::map<std::string, Part> meaning;
    for (const auto& value : aside.heldOutValues)
        meaning[value] = Part::heldOut;
    for (const auto& value : aside.testValues)
        if (!meaning.emplace(value, Part::test).second)
            refuse("the value \"" + value + "\" cannot mean held out and test", file, column.name(),
                   "Take it out of one.");
    if (meaning.empty()) refuse("no value is named that means held out", file, column.name(), "Name one.");
    std::map<std::string, std::size_t> found;
    for (std::size_t i = 0; i < parts.size(); ++i) {
        if (column.isMissing(i)) continue;
        const auto at = meaning.find(column.cellText(i));
        if (at == meaning.end()) continue;
        parts[i] = at->second;
        ++found[at->first];
    }
    for (const auto& [value, part] : meaning)
        if (!found.contains(value))
            refuse("no row has the value \"" + value + "\"", file, column.name(),
                   "Look at its levels in the ledger.");
}

} // namespace

std::string_view partName(Part part) {
    switch (part) {
    case Part::learning:
        return "learning";
    case Part::heldOut:
        return "held out";
    case Part::test:
        return "test";
    }
    return "learning";
}

std::string_view setAsideName(SetAsideKind kind) {
    for (const auto& [k, name] : kindNames)
        if (k == kind) return name;
    return "random";
}

std::string judgedText(const SetAside& aside) {
    if (aside.heldOutLearn) return "held out: they learn too, now that the model is chosen";
    const std::string seed = ", seed " + std::to_string(aside.seed);
    switch (aside.kind) {
    case SetAsideKind::random:
        return "held out at random" + seed;
    case SetAsideKind::proportionate:
        return "held out in proportion to " + aside.column + seed;
    case SetAsideKind::firstRows:
        return "held out, the last ones";
    case SetAsideKind::groups:
        return "held out by whole " + aside.column + seed;
    case SetAsideKind::latest:
        return "held out, the latest by " + aside.column;
    case SetAsideKind::column:
        return "held out as " + aside.column + " says";
    }
    return "held out";
}

std::string setAsideText(const SetAside& aside) {
    const std::string test =
        aside.testShare > 0 ? " (and " + percentText(aside.testShare) + " for the test)" : "";
    if (aside.heldOutLearn) return "held-out rows learn too" + test;
    if (aside.kind == SetAsideKind::column) return judgedText(aside);
    return percentText(aside.share) + " " + judgedText(aside) + test;
}

std::optional<SetAsideKind> setAsideNamed(std::string_view name) {
    for (const auto& [kind, n] : kindNames)
        if (n == name) return kind;
    return std::nullopt;
}

std::vector<Part> assignParts(const Table& table, const std::optional<SetAside>& aside,
                              const std::string& file) {
    std::vector<Part> parts(table.rows(), Part::learning);
    if (!aside) return parts;
    const bool shares = aside->kind != SetAsideKind::column;
    if (shares && !(aside->share >= 0 && aside->testShare >= 0 && aside->share + aside->testShare < 1))
        refuse("held out " + percentText(aside->share) + " and test " + percentText(aside->testShare) +
                   " leave nothing to learn from",
               file, {}, "Choose shares that are below 100 % together.");
    switch (aside->kind) {
    case SetAsideKind::random: {
        RandomStream stream(aside->seed, "set aside");
        deal(shuffled(static_cast<std::uint32_t>(parts.size()), stream), *aside, parts);
        break;
    }
    case SetAsideKind::firstRows: {
        const auto [heldOut, test] = countsOf(*aside, parts.size());
        for (std::size_t i = parts.size() - heldOut - test; i < parts.size(); ++i)
            parts[i] = i < parts.size() - test ? Part::heldOut : Part::test;
        break;
    }
    case SetAsideKind::proportionate:
        dealInProportion(table.at(aside->column, file), *aside, parts);
        break;
    case SetAsideKind::groups:
        dealByGroup(table.at(aside->column, file), *aside, file, parts);
        break;
    case SetAsideKind::latest:
        dealLatest(table.at(aside->column, file), *aside, file, parts);
        break;
    case SetAsideKind::column:
        dealByColumn(table.at(aside->column, file), *aside, file, parts);
        break;
    }
    if (aside->heldOutLearn) std::replace(parts.begin(), parts.end(), Part::heldOut, Part::learning);
    if (!parts.empty() && std::find(parts.begin(), parts.end(), Part::learning) == parts.end())
        refuse("no row is left to learn from", file, aside->column, "Set fewer rows aside.");
    return parts;
}

std::vector<PartSummary> summarizeParts(const Table& table, std::span<const Part> parts,
                                        std::span<const std::uint8_t> used, const std::string& response,
                                        const Progress& progress) {
    std::vector<PartSummary> summaries;
    const Column* y = table.find(response);
    for (const Part part : {Part::learning, Part::heldOut, Part::test}) {
        PartSummary s{.part = part};
        std::vector<double> values;
        for (std::size_t i = 0; i < parts.size(); ++i) {
            if (parts[i] != part || used[i] == 0) continue;
            ++s.rows;
            if (y && y->kind() == ColumnKind::number && !y->isMissing(i)) values.push_back(y->numbers()[i]);
        }
        if (s.rows == 0) continue;
        s.withResponse = values.size();
        const auto summary = summarizeNumbers(std::move(values), progress);
        const bool shown = summary && part != Part::test;
        s.mean = shown ? summary->mean : std::nan("");
        s.standardDeviation = shown ? summary->standardDeviation : std::nan("");
        if (part != Part::learning)
            for (const Column& column : table.columns()) {
                if (column.kind() != ColumnKind::factor) continue;
                stopIfTold(progress);
                std::vector<std::uint8_t> seen(column.levels().size(), 0);
                for (std::size_t i = 0; i < parts.size(); ++i) {
                    if (column.codes()[i] < 0 || used[i] == 0) continue;
                    auto& mark = seen[static_cast<std::size_t>(column.codes()[i])];
                    mark = static_cast<std::uint8_t>(mark | (parts[i] == Part::learning ? 1
                                                             : parts[i] == part         ? 2
                                                                                        : 0));
                }
                for (std::size_t level = 0; level < seen.size(); ++level)
                    if (seen[level] == 2)
                        s.unseenLevels.push_back(column.name() + ": " + column.levels()[level]);
            }
        summaries.push_back(std::move(s));
    }
    return summaries;
}

Scores score(std::span<const double> actual, std::span<const double> predicted, double learningMean) {
    Scores s;
    s.rows = actual.size();
    if (actual.empty()) {
        s.rmse = s.mae = s.rSquared = s.relativeAbsoluteError = s.relativeSquaredError = s.rmseError =
            s.meanActual = std::nan("");
        return s;
    }
    const auto n = static_cast<long double>(actual.size());
    long double sum = 0;
    for (const double y : actual)
        sum += y;
    const long double mean = sum / n;
    long double squared = 0, absolute = 0, aboutMean = 0, aboutLearning = 0, absoluteLearning = 0;
    for (std::size_t i = 0; i < actual.size(); ++i) {
        const long double e = static_cast<long double>(actual[i]) - predicted[i];
        const long double d = actual[i] - mean;
        const long double l = static_cast<long double>(actual[i]) - learningMean;
        squared += e * e;
        absolute += std::fabs(e);
        aboutMean += d * d;
        aboutLearning += l * l;
        absoluteLearning += std::fabs(l);
    }
    auto ratio = [](long double a, long double b) {
        return b > 0 ? static_cast<double>(a / b) : std::nan("");
    };
    const long double mse = squared / n;
    s.rmse = static_cast<double>(std::sqrt(mse));
    s.mae = static_cast<double>(absolute / n);
    s.rSquared = aboutMean > 0 ? static_cast<double>(1 - squared / aboutMean) : std::nan("");
    s.relativeAbsoluteError = ratio(absolute, absoluteLearning);
    s.relativeSquaredError = ratio(squared, aboutLearning);
    s.meanActual = static_cast<double>(mean);
    s.rmseError = std::nan("");
    if (actual.size() > 1 && s.rmse > 0) {
        long double spread = 0;
        for (std::size_t i = 0; i < actual.size(); ++i) {
            const long double e = static_cast<long double>(actual[i]) - predicted[i];
            spread += (e * e - mse) * (e * e - mse);
        }
        s.rmseError = static_cast<double>(std::sqrt(spread / (n - 1) / n) / (2 * std::sqrt(mse)));
    }
    return s;
}

} // namespace oxgoad
