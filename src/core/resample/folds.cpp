#include "resample/folds.h"

#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "resample/strata.h"

#include <algorithm>
#include <array>
#include <numeric>
#include <set>

namespace oxgoad {

namespace {

constexpr std::array<std::pair<FoldKind, std::string_view>, 7> foldKinds{
    {{FoldKind::kFolds, "k folds"},
     {FoldKind::leaveOneOut, "leave one out"},
     {FoldKind::groups, "groups"},
     {FoldKind::inProportion, "in proportion"},
     {FoldKind::rollingOrigin, "rolling origin"},
     {FoldKind::column, "column"},
     {FoldKind::bootstrap, "bootstrap"}}};

std::size_t count(int n) {
    return static_cast<std::size_t>(n);
}

} // namespace

std::string_view foldKindName(FoldKind kind) {
    return foldKinds[static_cast<std::size_t>(kind)].second;
}

std::optional<FoldKind> foldKindNamed(std::string_view name) {
    for (const auto& [kind, known] : foldKinds)
        if (known == name) return kind;
    return std::nullopt;
}

bool FoldPlan::hasSeed() const {
    return kind == FoldKind::kFolds || kind == FoldKind::groups || kind == FoldKind::inProportion ||
           kind == FoldKind::bootstrap;
}

bool FoldPlan::goesByColumn() const {
    return kind == FoldKind::groups || kind == FoldKind::inProportion || kind == FoldKind::rollingOrigin ||
           kind == FoldKind::column;
}

bool FoldPlan::repeatsWell() const {
    return hasSeed() && kind != FoldKind::bootstrap;
}

std::string foldPlanText(const FoldPlan& plan) {
    const std::string folds = plural(count(plan.folds), "fold", "folds");
    const std::string seed = plan.repeats > 1 && plan.repeatsWell()
                                 ? ", dealt " + std::to_string(plan.repeats) + " times, seeds " +
                                       std::to_string(plan.seed) + " to " +
                                       std::to_string(plan.seed + count(plan.repeats) - 1)
                                 : ", seed " + std::to_string(plan.seed);
    switch (plan.kind) {
    case FoldKind::kFolds:
        return folds + seed;
    case FoldKind::leaveOneOut:
        return "leaving out one row at a time";
    case FoldKind::groups:
        return folds + " by whole " + plan.column + seed;
    case FoldKind::inProportion:
        return folds + " in proportion to " + plan.column + seed;
    case FoldKind::rollingOrigin:
        return plural(count(plan.folds), "origin", "origins") + " rolling over " + plan.column + ", " +
               plural(count(plan.horizon), "period", "periods") + " ahead" +
               (plan.gap > 0 ? " after a gap of " + std::to_string(plan.gap) : "");
    case FoldKind::column:
        return "folds as " + plan.column + " says";
    case FoldKind::bootstrap:
        return plural(count(plan.draws), "bootstrap draw", "bootstrap draws") + ", seed " +
               std::to_string(plan.seed);
    }
    return folds;
}

void checkFoldPlan(const FoldPlan& plan) {
    const auto refuse = [](const std::string& what, const std::string& remedy) {
        throw Error(ErrorCode::badParts, what, {}, remedy);
    };
    const bool parts = plan.repeatsWell();
    if (parts && plan.folds < 2)
        refuse("rows cannot be judged by " + plural(count(std::max(0, plan.folds)), "fold", "folds"),
               "Use 2 or more; 5 and 10 are usual.");
    if (plan.kind == FoldKind::rollingOrigin && (plan.folds < 1 || plan.horizon < 1 || plan.gap < 0))
        refuse("a rolling origin needs at least one origin and one period ahead", "Correct the numbers.");
    if (parts && plan.repeats < 1) refuse("rows cannot be dealt less than once", "Use 1 or more.");
    // A model for each is more than anybody waits for.
    constexpr double mostModels = 100000;
    const double models = parts                              ? 1.0 * plan.folds * plan.repeats
                          : plan.kind == FoldKind::bootstrap ? plan.draws
                                                             : 0;
    if (models > mostModels)
        refuse(shortText(models) + " models are more than the " + shortText(mostModels) +
                   " that can be judged by",
               "Deal the rows fewer times; 10 or 20 times are usual.");
    if (plan.kind == FoldKind::bootstrap && plan.draws < 2)
        refuse("the bootstrap needs at least 2 draws", "200 are usual.");
    if (plan.goesByColumn() && plan.column.empty())
        refuse("no column is named that the folds go by", "Name one.");
}

std::string Dealing::nameOf(std::size_t fold) const {
    return m_folds[fold % m_folds.size()].name;
}

std::vector<std::uint32_t> Dealing::timesDrawn(std::size_t fold) const {
    std::vector<std::uint32_t> times(m_rows.size(), 0);
    RandomStream stream(m_seed, "bootstrap draw " + std::to_string(fold + 1));
    for (std::size_t i = 0; i < m_rows.size(); ++i)
        ++times[stream.below(m_rows.size())];
    return times;
}

Fold Dealing::fold(std::size_t fold) const {
    Fold made;
    made.name = nameOf(fold);
    if (m_draws > 0) {
        const auto times = timesDrawn(fold);
        for (std::size_t i = 0; i < m_rows.size(); ++i) {
            if (times[i] == 0) made.judged.push_back(m_rows[i]);
            made.learning.insert(made.learning.end(), times[i], m_rows[i]);
        }
        return made;
    }
    made.repeat = fold / m_folds.size();
    const auto& cells = m_cells[made.repeat];
    const std::size_t own = fold % m_folds.size();
    const bool always = m_folds[own].learnAfter;
    for (std::size_t i = 0; i < m_rows.size(); ++i) {
        if (judges(own, cells[i]))
            made.judged.push_back(m_rows[i]);
        else if (learns(own, cells[i]) || (always && cells[i] == m_cellCount))
            made.learning.push_back(m_rows[i]);
    }
    return made;
}

/// Deals by one plan.
class Dealer {
public:
    Dealer(const FoldPlan& plan, const Table& table, std::vector<std::uint32_t> rows, const std::string& file)
        : m_plan(plan), m_file(file) {
        checkFoldPlan(plan);
        m_dealt.m_rows = std::move(rows);
        m_dealt.m_seed = plan.seed;
        if (plan.goesByColumn()) m_column = &table.at(plan.column, file);
    }

    Dealing deal() {
        const std::size_t n = m_dealt.m_rows.size();
        if (n < 2) refuse(plural(n, "row", "rows") + " cannot be dealt into folds", "Bring more rows.");
        switch (m_plan.kind) {
        case FoldKind::kFolds:
        case FoldKind::groups:
        case FoldKind::inProportion:
            if (count(m_plan.folds) > n)
                refuse(plural(n, "row", "rows") + " cannot be dealt into " + std::to_string(m_plan.folds) +
                           " folds",
                       "Use fewer folds, or leave out one row at a time.");
            number(count(m_plan.folds));
            for (int repeat = 0; repeat < m_plan.repeats; ++repeat)
                m_dealt.m_cells.push_back(dealOnce(m_plan.seed + static_cast<std::uint64_t>(repeat)));
            break;
        case FoldKind::leaveOneOut: {
            std::vector<std::uint32_t> cells(n);
            std::iota(cells.begin(), cells.end(), 0U);
            m_dealt.m_cells.push_back(std::move(cells));
            for (std::size_t i = 0; i < n; ++i)
                m_dealt.m_folds.push_back({std::to_string(m_dealt.m_rows[i] + 1), i, i, i + 1});
            m_dealt.m_cellCount = n;
            break;
        }
        case FoldKind::rollingOrigin:
            dealPeriods();
            break;
        case FoldKind::column:
            dealByValue();
            break;
        case FoldKind::bootstrap:
            m_dealt.m_draws = count(m_plan.draws);
            number(m_dealt.m_draws);
            m_dealt.m_cellCount = 0; // draws have no pieces in common
            break;
        }
        return std::move(m_dealt);
    }

private:
    [[noreturn]] void refuse(const std::string& what, const std::string& remedy) const {
        throw Error(ErrorCode::badParts, what, {.file = m_file, .column = m_plan.column}, remedy);
    }

    void number(std::size_t folds) {
        for (std::size_t f = 0; f < folds; ++f)
            m_dealt.m_folds.push_back({std::to_string(f + 1), f, f, f + 1});
        m_dealt.m_cellCount = folds;
    }

    /// The stratum of each dealt row, and how many there can be.
    std::vector<std::uint32_t> strata(int bands, std::size_t& strata) const {
        const auto all = stratumOf(*m_column, bands, strata);
        std::vector<std::uint32_t> own;
        own.reserve(m_dealt.m_rows.size());
        for (const auto row : m_dealt.m_rows)
            own.push_back(all[row]);
        return own;
    }

    std::vector<std::uint32_t> dealOnce(std::uint64_t seed) const {
        RandomStream stream(seed, "folds");
        const auto n = static_cast<std::uint32_t>(m_dealt.m_rows.size());
        const auto folds = static_cast<std::uint32_t>(m_plan.folds);
        std::vector<std::uint32_t> cells(n);
        if (m_plan.kind == FoldKind::groups) {
            dealGroups(stream, cells);
            return cells;
        }
        const auto order = shuffled(n, stream);
        if (m_plan.kind == FoldKind::kFolds) {
            for (std::uint32_t i = 0; i < n; ++i)
                cells[order[i]] = i % folds;
            return cells;
        }
        std::size_t many = 0;
        const auto stratum = strata(m_plan.bands, many);
        std::vector<std::vector<std::uint32_t>> places(many);
        for (const auto place : order)
            places[stratum[place]].push_back(place);
        std::uint32_t next = 0;
        for (const auto s : shuffled(static_cast<std::uint32_t>(many), stream))
            for (const auto place : places[s])
                cells[place] = next++ % folds;
        return cells;
    }

    void dealGroups(RandomStream& stream, std::vector<std::uint32_t>& cells) const {
        std::size_t many = 0;
        const auto group = strata(0, many);
        std::vector<std::size_t> sizes(many, 0);
        for (const auto g : group)
            ++sizes[g];
        std::vector<std::uint32_t> present;
        for (std::uint32_t g = 0; g < many; ++g)
            if (sizes[g] > 0) present.push_back(g);
        if (present.size() < count(m_plan.folds))
            refuse("there " + std::string(present.size() == 1 ? "is " : "are ") +
                       plural(present.size(), "group", "groups") + " of " + m_plan.column + " for " +
                       std::to_string(m_plan.folds) + " folds",
                   present.size() < 2 ? "Judge by another column, or by folds at random."
                                      : "Use " + std::to_string(present.size()) + " folds or fewer.");
        std::vector<std::size_t> rows(count(m_plan.folds), 0);
        std::vector<std::uint32_t> foldOf(many, 0);
        for (const auto i : shuffled(static_cast<std::uint32_t>(present.size()), stream)) {
            const auto least = std::min_element(rows.begin(), rows.end());
            foldOf[present[i]] = static_cast<std::uint32_t>(least - rows.begin());
            *least += sizes[present[i]];
        }
        for (std::size_t i = 0; i < group.size(); ++i)
            cells[i] = foldOf[group[i]];
    }

    void dealByValue() {
        const auto& rows = m_dealt.m_rows;
        // Levels in the column's order, numbers and dates ascending, texts in the order of their letters.
        std::vector<std::uint32_t> first; // a row of each value
        std::vector<std::uint32_t> cells(rows.size());
        std::size_t many = 0;
        const auto stratum = strata(0, many);
        std::vector<std::int64_t> rowOf(many, -1);
        for (std::size_t i = 0; i < rows.size(); ++i)
            if (rowOf[stratum[i]] < 0) rowOf[stratum[i]] = rows[i];
        std::vector<std::uint32_t> present;
        for (std::uint32_t s = 1; s < many; ++s)
            if (rowOf[s] >= 0) present.push_back(s);
        if (m_column->kind() == ColumnKind::number || m_column->kind() == ColumnKind::date)
            std::sort(present.begin(), present.end(), [&](auto a, auto b) {
                return m_column->asNumber(static_cast<std::size_t>(rowOf[a])) <
                       m_column->asNumber(static_cast<std::size_t>(rowOf[b]));
            });
        if (present.size() < 2)
            refuse("has " + plural(present.size(), "value", "values") + ", which makes no folds",
                   "Judge by another column, or by folds at random.");
        if (present.size() > 10000)
            refuse("has " + countText(present.size()) + " values, and each would be a fold",
                   "Judge by groups: whole values are dealt into a few folds.");
        std::vector<std::uint32_t> cellOfStratum(many, static_cast<std::uint32_t>(present.size()));
        for (std::uint32_t c = 0; c < present.size(); ++c) {
            cellOfStratum[present[c]] = c;
            m_dealt.m_folds.push_back(
                {m_column->cellText(static_cast<std::size_t>(rowOf[present[c]])), c, c, c + std::size_t{1}});
        }
        for (std::size_t i = 0; i < rows.size(); ++i) {
            cells[i] = cellOfStratum[stratum[i]];
            if (stratum[i] == 0) ++m_dealt.withoutValue;
        }
        m_dealt.m_cellCount = present.size();
        m_dealt.m_cells.push_back(std::move(cells));
    }

    void dealPeriods() {
        if (m_column->kind() != ColumnKind::date && m_column->kind() != ColumnKind::number)
            throw Error(ErrorCode::wrongType, "periods are told by a date or a number",
                        {.file = m_file, .column = m_column->name()}, "Choose a date column.");
        const auto& rows = m_dealt.m_rows;
        std::vector<double> times;
        for (const auto row : rows)
            if (!m_column->isMissing(row)) times.push_back(m_column->asNumber(row));
        std::sort(times.begin(), times.end());
        times.erase(std::unique(times.begin(), times.end()), times.end());
        const std::size_t periods = times.size();
        const std::size_t judged = count(m_plan.folds) * count(m_plan.horizon);
        const std::size_t gap = count(m_plan.gap);
        if (judged + gap + 1 > periods)
            refuse("has " + plural(periods, "period", "periods") + ", and " +
                       plural(count(m_plan.folds), "origin", "origins") + " of " +
                       plural(count(m_plan.horizon), "period", "periods") + " ahead need " +
                       countText(judged + gap + 1) + " or more",
                   "Use fewer origins, a shorter horizon or a smaller gap.");
        // Cells end where a fold's learning, its gap or its judging ends.
        std::set<std::size_t> ends{periods};
        for (std::size_t f = 0; f < count(m_plan.folds); ++f) {
            const std::size_t from = periods - judged + f * count(m_plan.horizon);
            ends.insert(from);
            ends.insert(from - gap);
        }
        const std::vector<std::size_t> limits(ends.begin(), ends.end());
        const auto cellOfPeriod = [&](std::size_t period) {
            return static_cast<std::size_t>(std::upper_bound(limits.begin(), limits.end(), period) -
                                            limits.begin());
        };
        const auto periodText = [&](std::size_t period) {
            const double time = times[period];
            return m_column->kind() == ColumnKind::date ? dateText(static_cast<std::int32_t>(time))
                                                        : shortText(time);
        };
        for (std::size_t f = 0; f < count(m_plan.folds); ++f) {
            const std::size_t from = periods - judged + f * count(m_plan.horizon);
            const std::size_t to = from + count(m_plan.horizon);
            std::string name = periodText(from);
            if (to - from > 1) name += " to " + periodText(to - 1);
            m_dealt.m_folds.push_back({std::move(name), cellOfPeriod(from - gap), cellOfPeriod(from),
                                       to == periods ? limits.size() : cellOfPeriod(to), false});
        }
        std::vector<std::uint32_t> cells(rows.size());
        m_dealt.m_cellCount = limits.size();
        for (std::size_t i = 0; i < rows.size(); ++i) {
            if (m_column->isMissing(rows[i])) {
                cells[i] = static_cast<std::uint32_t>(m_dealt.m_cellCount);
                ++m_dealt.withoutValue;
                continue;
            }
            const auto period = static_cast<std::size_t>(
                std::lower_bound(times.begin(), times.end(), m_column->asNumber(rows[i])) - times.begin());
            cells[i] = static_cast<std::uint32_t>(cellOfPeriod(period));
        }
        m_dealt.m_cells.push_back(std::move(cells));
    }

    const FoldPlan& m_plan;
    const std::string& m_file;
    const Column* m_column = nullptr;
    Dealing m_dealt;
};

Dealing dealRows(const FoldPlan& plan, const Table& table, std::vector<std::uint32_t> rows,
                 const std::string& file) {
    return Dealer(plan, table, std::move(rows), file).deal();
}

} // namespace oxgoad
