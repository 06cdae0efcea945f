#pragma once
// Least squares of rows by the levels of one factor, whose columns are eliminated first.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_levels.h"
#include "estimate/linear/grouped_rows.h"

#include <Eigen/Core>

#include <memory>
#include <span>
#include <utility>
#include <vector>

namespace oxgoad {

/// The rows of a fit, level by level of its largest factor, with a copy of the other columns and of y. One
/// reflection of the rows of a level takes its column out of all others, whatever their number; what they
/// leave goes into one triangle (block angular least squares, see TriangularFactor). Sums are taken in the
/// order of levels: the same for any number of threads.
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

    const std::vector<Eigen::Index>& columns() const { return m_levels->columns; }
    /// R of [1, X~, y~] with the fit's shifts and scales, in one triangle.
    Eigen::MatrixXd reduceWhole(const LeastSquaresFit& fit);
    /// Decides the rank in the order of columns and leaves the factor and Q'y in the fit: of a dependency the
    /// last of its columns is left out, as in one triangle. The fit's levels have the shift 0 and the
    /// scale 1.
    void eliminate(LeastSquaresFit& fit, const std::vector<char>& constantColumn);

    Eigen::VectorXd crossProducts(const LeastSquaresFit& fit, const Extended& solution,
                                  bool careful) const override;
    long double finish(LeastSquaresFit& fit, const Eigen::VectorXd& solution) const override;

private:
    using Index = Eigen::Index;
    Index levels() const { return static_cast<Index>(m_levels->columns.size()); }
    Index rest() const { return static_cast<Index>(m_levels->rest.size()); }
    Index begin(Index level) const { return static_cast<Index>(m_begin[static_cast<std::size_t>(level)]); }
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
    template <class Each> void forLevels(const Batch& batch, Each&& each) const;
    template <class Each> void forBatches(double from, double to, const char* what, Each&& each) const;
    /// The rest's columns shifted and scaled, of consecutive rows in the order of `m_order`.
    Eigen::MatrixXd shiftedRest(const LeastSquaresFit& fit, Index from, Index count) const;
    /// Shifted coefficients: of each level (with the constant), 0 for those without one, and of the rest.
    struct Spread {
        Extended ofLevel, ofRest;
    };
    Spread spread(const LeastSquaresFit& fit, const Extended& solution) const;
    /// Of [1, rest], places that span them all beside the levels.
    std::vector<Index> independent(const LeastSquaresFit& fit) const;
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
    /// n × (rest + 1): the columns as they are, then y.
    Eigen::MatrixXd m_values;
    /// Roots of weights; empty without.
    Eigen::VectorXd m_roots;

    /// Levels taken into the rows of none, as their columns were found to depend on others.
    std::vector<char> m_without;
    /// What reduce() leaves: lengths, what [1, rest, y] share with each level, and the triangle of
    /// [1, rest, y].
    Eigen::VectorXd m_lengths;
    Eigen::MatrixXd m_shared;
    Eigen::MatrixXd m_left;
};

} // namespace oxgoad
