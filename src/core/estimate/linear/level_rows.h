#pragma once
// Least squares of rows by the levels of one factor, whose columns are eliminated first.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_levels.h"
#include "estimate/linear/grouped_rows.h"

#include <Eigen/Core>

#include <algorithm>
#include <atomic>
#include <cstdint>
#include <memory>
#include <span>
#include <utility>
#include <vector>

namespace oxgoad {

/// The rows of a fit, level by level of its largest factor, with a copy of the other columns and of y. A
/// reflection of the rows of a level for each of its own columns takes these out of all others, whatever the
/// number of levels; what they leave goes into one triangle (block angular least squares, see
/// TriangularFactor). Where a second factor makes many of the other columns, rows that have both levels in
/// common leave one row there (see level_meetings.cpp). Sums are taken in the order of levels: the same for
/// any number of threads.
class LevelRows final : public GroupedRows {
public:
    /// Up to so many columns all are put into one triangle in the end.
    static constexpr Eigen::Index mostTogether = 1000;
    /// Levels worth it beside all rows as they are, or any. Null where there are none.
    static std::shared_ptr<const RowLevels> worthwhile(const RowSource& x, bool any);
    /// What the reduction costs, in products of numbers; infinite where their copy would be too large.
    static double costOf(const RowLevels& levels, Eigen::Index rows);

    /// References outlive it.
    LevelRows(std::shared_ptr<const RowLevels> levels, std::span<const double> y,
              std::span<const double> weights, Threads threads, Progress& progress);

    Extent extent() const override;

    /// Of levels, rising.
    std::vector<Eigen::Index> columns() const;
    /// R of [1, X~, y~] with the fit's shifts and scales, in one triangle.
    Eigen::MatrixXd triangleOf(const LeastSquaresFit& fit) override;
    /// Decides the rank in the order of columns and leaves the factor and Q'y in the fit: of a dependency the
    /// last of its columns is left out, as in one triangle. The fit's levels have the shift 0 and the
    /// scale 1.
    void eliminate(LeastSquaresFit& fit, const std::vector<char>& constantColumn);

    /// What the rows leave: of level and slot (a row each) the triangle of the level's own columns (0 where
    /// its rows weigh nothing), what [1, rest, y] share with it, and their triangle.
    struct Reduced {
        const Eigen::MatrixXd &own, &shared, &left;
    };
    Reduced reduced(const LeastSquaresFit& fit) {
        reduce(fit);
        return {m_ownTriangles, m_shared, m_left};
    }

    Eigen::VectorXd crossProducts(const LeastSquaresFit& fit, const Extended& solution,
                                  bool careful) const override;
    ResidualSums finish(LeastSquaresFit& fit, const Eigen::VectorXd& solution) const override;

private:
    using Index = Eigen::Index;
    Index levels() const { return m_levels->levels; }
    Index perLevel() const { return m_levels->perLevel; }
    Index rest() const { return static_cast<Index>(m_levels->rest.size()); }
    Index begin(Index level) const { return static_cast<Index>(m_begin[static_cast<std::size_t>(level)]); }
    void sortRows();
    /// The second factor's columns, shifted and scaled: its levels × columns.
    Eigen::MatrixXd shiftedSecond(const LeastSquaresFit& fit) const;
    /// Reduces the rows with the fit's shifts and scales. Levels whose rows weigh nothing have the length 0.
    void reduce(const LeastSquaresFit& fit);
    double weight(Index i) const {
        return m_weights.empty() ? 1 : m_weights[m_order[static_cast<std::size_t>(i)]];
    }
    /// Rows of a batch: those of some levels, or a part of one level that has many.
    struct Batch {
        Index firstLevel, lastLevel, from, to;
    };
    std::vector<Batch> batches() const;
    /// each(level, first, count) for the levels of a batch, `first` counted from the batch's first row.
    template <class Each> void forLevels(const Batch& batch, Each&& each) const {
        for (Index level = batch.firstLevel; level < batch.lastLevel; ++level) {
            const Index first = std::max(begin(level), batch.from),
                        last = std::min(begin(level + 1), batch.to);
            if (first < last) each(level, first - batch.from, last - first);
        }
    }
    template <class Each> void forBatches(double from, double to, const char* what, Each&& each) const {
        const auto all = batches();
        std::atomic<std::size_t> done{0};
        parallelFor(all.size(), m_threads, [&](std::size_t b) {
            m_progress.checkpoint(
                from + (to - from) * static_cast<double>(done) / static_cast<double>(all.size()), what);
            each(b, all[b]);
            ++done;
        });
    }
    /// A column of the rest as it is, or y after them, of consecutive rows in the order of `m_order`.
    Eigen::VectorXd column(Index j, Index from, Index count) const;
    Eigen::VectorXd shiftedColumn(const LeastSquaresFit& fit, Index j, Index from, Index count) const;
    /// y less what the rest's columns say, and the products of these with some residuals, of such rows.
    Eigen::VectorXd lessRest(const LeastSquaresFit& fit, const Eigen::VectorXd& ofRest, Index from,
                             Index count) const;
    Eigen::VectorXd restTimes(const LeastSquaresFit& fit, const Eigen::VectorXd& residuals, Index from) const;
    /// A row's own columns less their value at the level's first row of a weight, where the level has 1 too,
    /// of consecutive rows in the order of `m_order`: rows × slots.
    Eigen::MatrixXd centredOwn(const Batch& batch) const;
    /// The slots that a level has a column in and has not lost.
    std::vector<Index> present(Index level) const;
    bool hasOnes(Index level) const { return m_levels->ones && isPresent(level, 0); }
    bool isPresent(Index level, Index slot) const {
        return m_levels->column(level, slot) >= 0 &&
               !m_without[static_cast<std::size_t>(level * perLevel() + slot)];
    }
    /// Shifted coefficients: what all rows of a level have (levels + 1, the last of those without one), of
    /// the centred slots beside 1 (levels × slots), and of the rest.
    struct Spread {
        Extended ofLevel;
        Eigen::Matrix<long double, Eigen::Dynamic, Eigen::Dynamic> ofOwn;
        Extended ofRest;
    };
    Spread spread(const LeastSquaresFit& fit, const Extended& solution) const;
    /// X~'Wr of a batch: of the rest's columns, and of each level the sum and those with its own columns.
    struct Products {
        struct Level {
            Index level;
            long double sum;
            Extended own; // by slot
        };
        Extended ofRest;
        std::vector<Level> ofLevels;
    };
    /// Of residuals times their weights, and what they are times the rest's columns.
    void addProducts(const Batch& batch, const Eigen::MatrixXd& own, const Extended& residuals,
                     Extended ofRest, Products& into) const;
    /// By place, of all batches.
    Eigen::VectorXd products(const LeastSquaresFit& fit, const std::vector<Products>& ofBatches) const;
    /// Rows of a batch as they are reduced: consecutive rows or what is left of them, [1, rest, y] times the
    /// roots of the weights, and whose they are.
    struct Worked {
        struct Span {
            Index level, first, count;
        };
        Eigen::MatrixXd block;
        Eigen::VectorXd roots;
        std::vector<Span> spans;
    };
    Worked worked(const LeastSquaresFit& fit, const Batch& batch) const;
    /// The same where there is a second factor: rows of one level of both are one row, and what they leave of
    /// the columns that are neither's, in one triangle after all.
    Worked met(const LeastSquaresFit& fit, const Batch& batch) const;
    /// Where rows of a batch begin that have the same level of both factors.
    std::vector<Index> meetings(const Batch& batch) const;
    /// Squared lengths of the rows of a batch in the basis of levels and `own`, `shared`: leverages.
    Eigen::VectorXd lengths(const LeastSquaresFit& fit, const Batch& batch, const std::vector<Index>& places,
                            const Eigen::MatrixXd& own, const Eigen::MatrixXd& shared) const;
    /// The same where there is a second factor, of which only the first row of those that meet is worked out
    /// whole, and others by how they differ.
    Eigen::VectorXd lengthsMet(const LeastSquaresFit& fit, const Batch& batch,
                               const std::vector<Index>& places, const Eigen::MatrixXd& own,
                               const Eigen::MatrixXd& shared) const;
    /// Takes what a solution says of a level from the residuals of n of its rows.
    void takeOwn(Eigen::VectorXd& residuals, const Eigen::MatrixXd& own, const Spread& b, Index level,
                 Index first, Index n) const;
    /// Of [1, rest], places that span them all beside the levels.
    std::vector<Index> independent(const LeastSquaresFit& fit) const;
    /// R⁻¹z of a level's triangle, by slot; 0 at those not present.
    Eigen::VectorXd solveOwn(Index level, const Eigen::VectorXd& z) const;
    /// Leaves out what depends on a level's other columns, or is 0 at all its rows. False where nothing is.
    bool leaveOutWithin(LeastSquaresFit& fit, std::vector<char>& leftOut);
    /// A combination of columns that is 0: of 1, and of the shifted, scaled columns of the model matrix.
    struct Null {
        double one = 0;
        Eigen::VectorXd columns;
    };
    /// Of each of [1, rest] that depends on those before it and on the levels.
    std::vector<Null> nulls(const LeastSquaresFit& fit, const std::vector<char>& out,
                            std::vector<Index>& kept) const;

    std::shared_ptr<const RowLevels> m_levels;
    std::span<const double> m_weights;
    Threads m_threads;
    Progress& m_progress;
    /// Rows level by level, those of none last.
    std::vector<std::uint32_t> m_order;
    std::vector<std::uint32_t> m_begin;
    /// The second factor by whose levels rows are sorted within theirs, in the order of `m_order`; null
    /// without.
    std::shared_ptr<const RowLevels::Second> m_second;
    std::vector<std::uint32_t> m_meets;
    /// Places in the rest of the columns that m_values holds, and of each place its column there, or that of
    /// the second factor's values after them.
    std::vector<Index> m_held, m_columnOf;
    /// n × (held + 1): the columns as they are, then y; and n × slots, empty where the only slot is 1.
    Eigen::MatrixXd m_values, m_own;
    /// levels × slots: what own columns are counted from.
    Eigen::MatrixXd m_centres;
    /// Roots of weights; empty without.
    Eigen::VectorXd m_roots;

    /// Of level and slot: left out, as the column was found to depend on others.
    std::vector<char> m_without;
    /// What reduce() leaves; see Reduced.
    Eigen::MatrixXd m_ownTriangles;
    Eigen::MatrixXd m_shared;
    Eigen::MatrixXd m_left;
};

} // namespace oxgoad
