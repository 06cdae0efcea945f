#pragma once
// Folds: rows dealt so that each is judged by models that did not learn from it.
#include "table/table.h"

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

enum class FoldKind {
    /// At random into parts as even as can be.
    kFolds,
    /// Every row is a fold.
    leaveOneOut,
    /// Whole groups: no group is learned from and judged in one fold.
    groups,
    /// At random, the same mix in every fold.
    inProportion,
    /// Periods in order: what lies before learns, the next periods are judged.
    rollingOrigin,
    /// Rows with one value of a column are a fold.
    column,
    /// Rows drawn with replacement learn, those not drawn are judged.
    bootstrap,
};
/// "k folds", "leave one out", "groups", "in proportion", "rolling origin", "column", "bootstrap": the words
/// of recipes.
std::string_view foldKindName(FoldKind kind);
std::optional<FoldKind> foldKindNamed(std::string_view name);

/// How a model is judged by models that learn from some of its rows. Part of the recipe; a value type.
struct FoldPlan {
    FoldKind kind = FoldKind::kFolds;
    /// Parts; for rolling origin the number of origins.
    int folds = 10;
    /// Times the rows are dealt, each with the next seed.
    int repeats = 1;
    std::uint64_t seed = 1;
    /// What it goes by; empty where it goes by nothing.
    std::string column{};
    /// For a number that is kept in proportion.
    int bands = 5;
    /// Rolling origin: periods judged at each origin, and periods between them and those learned from.
    int horizon = 1, gap = 0;
    /// Bootstrap.
    int draws = 200;
    bool operator==(const FoldPlan&) const = default;

    /// Its kind deals at random.
    bool hasSeed() const;
    /// Its kind goes by a column.
    bool goesByColumn() const;
    /// Its kind can be dealt again and still give every row a fold.
    bool repeatsWell() const;
};

/// "10 folds, seed 1"; "10 folds of whole depots"... how it reads after "judged by".
std::string foldPlanText(const FoldPlan& plan);

/// Throws Error (badParts) for numbers that cannot be: fewer than 2 folds, no draws.
void checkFoldPlan(const FoldPlan& plan);

/// One fold: rows of the table.
struct Fold {
    /// Its number from 1, the value of its column, or its periods.
    std::string name;
    std::size_t repeat = 0;
    /// Ascending; of a bootstrap draw rows stand as often as they were drawn.
    std::vector<std::uint32_t> learning;
    std::vector<std::uint32_t> judged;
};

/// Rows as they were dealt. Immutable; folds are made one at a time, so that a million rows dealt a hundred
/// times need little room.
class Dealing {
public:
    const std::vector<std::uint32_t>& rows() const { return m_rows; }
    /// Folds over all repeats.
    std::size_t size() const { return m_folds.size() * repeats(); }
    std::size_t repeats() const { return m_draws > 0 ? 1 : m_cells.size(); }
    std::size_t foldsPerRepeat() const { return m_folds.size(); }
    std::string nameOf(std::size_t fold) const;
    Fold fold(std::size_t fold) const;
    /// Times each row was drawn for the fold; bootstrap only.
    std::vector<std::uint32_t> timesDrawn(std::size_t fold) const;

    /// Rows in pieces that every fold of a repeat takes whole: the piece of each row, none for bootstrap.
    std::span<const std::uint32_t> cellOf(std::size_t repeat) const { return m_cells[repeat]; }
    std::size_t cells() const { return m_cellCount; }
    bool learns(std::size_t foldOfRepeat, std::size_t cell) const {
        const Place& f = m_folds[foldOfRepeat];
        return cell < f.learnTo || (f.learnAfter && cell >= f.judgeTo && cell < m_cellCount);
    }
    bool judges(std::size_t foldOfRepeat, std::size_t cell) const {
        return cell >= m_folds[foldOfRepeat].judgeFrom && cell < m_folds[foldOfRepeat].judgeTo;
    }

    /// Rows that are in no fold for want of a value of the column, and whether they always learn.
    std::size_t withoutValue = 0;

private:
    friend class Dealer;
    struct Place {
        std::string name;
        std::size_t learnTo = 0, judgeFrom = 0, judgeTo = 0;
        bool learnAfter = true;
    };
    std::vector<std::uint32_t> m_rows;
    std::vector<std::vector<std::uint32_t>> m_cells;
    std::size_t m_cellCount = 0;
    std::vector<Place> m_folds;
    std::size_t m_draws = 0;
    std::uint64_t m_seed = 1;
};

/// Deals `rows` of the table. The dealing depends on the plan, the number of rows and the values of its
/// column there, on nothing else. K folds: sizes differ by one at most. Groups: in random order, each to the
/// fold that has the fewest rows. In proportion: strata one after the other, dealt round, so that folds
/// differ by one row and by one row a stratum. Rolling origin (Tashman 2000, "Out-of-sample tests of
/// forecasting accuracy", International Journal of Forecasting 16): the last folds · horizon periods are
/// judged, horizon by horizon, by models of all periods before, less the gap; rows of one period are never
/// parted. Rows without a value of the column are a group or a stratum of their own; they always learn and
/// are never judged where the column says the folds, and are left aside where it says the time. Errors:
/// unknownColumn, wrongType; badParts for more folds than rows or groups, one value only, too few periods.
Dealing dealRows(const FoldPlan& plan, const Table& table, std::vector<std::uint32_t> rows,
                 const std::string& file);

} // namespace oxgoad
