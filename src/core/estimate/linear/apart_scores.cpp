#include "estimate/linear/apart_scores.h"

#include "estimate/linear/apart_reader.h"
#include "estimate/linear/level_rows.h"

#include <algorithm>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr std::size_t pieceRows = 4096;

} // namespace

ApartScores::ApartScores(const LeastSquaresFit& fit, const RowSource& x, Threads threads, Progress& progress)
    : m_fit(fit), m_x(x), m_threads(threads), m_progress(progress) {}

DirectionRows ApartScores::root(std::span<const double> squaredScores) const {
    const ApartReader reader(m_fit, m_x);
    m_progress.checkpoint(0, "Errors of the coefficients");
    const TriangularFactor::Levels& levels = m_fit.factor.ofLevels();
    const Index rest = m_fit.rank() - levels.count();
    auto turned = std::make_shared<RowLevels>();
    turned->ones = false;
    turned->perLevel = levels.own.cols();
    std::vector<std::uint32_t> levelAt(static_cast<std::size_t>(levels.count())); // by its first direction
    for (Index d = 0; d < levels.count(); d = levels.end(d)) {
        levelAt[static_cast<std::size_t>(d)] = static_cast<std::uint32_t>(turned->levels++);
        for (Index slot = 0; slot < turned->perLevel; ++slot)
            turned->columns.push_back(d + slot < levels.end(d) ? d + slot : -1);
    }
    turned->rest.resize(static_cast<std::size_t>(rest));
    std::iota(turned->rest.begin(), turned->rest.end(), levels.count());
    turned->of.resize(squaredScores.size(), static_cast<std::uint32_t>(turned->levels));
    for (std::size_t i = 0; i < turned->of.size(); ++i)
        if (const Index first = reader.firstOf(i); first >= 0)
            turned->of[i] = levelAt[static_cast<std::size_t>(first)];
    m_progress.checkpoint(0, "Errors of the coefficients");
    turned->fill = [&reader](std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) {
        ApartReader::Rows rows = reader.read(places);
        reader.turn(rows);
        block = rows.rest;
    };
    turned->fillOwn = [&reader](std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) {
        ApartReader::Rows rows = reader.read(places);
        reader.turn(rows);
        block = rows.own;
    };
    LeastSquaresFit plain; // columns as they are
    plain.columns = m_fit.rank();
    plain.intercept = false;
    plain.shift = VectorXd::Zero(plain.columns);
    plain.scale = VectorXd::Ones(plain.columns);
    const std::vector<double> none(squaredScores.size(), 0);
    LevelRows rows(turned, none, squaredScores, m_threads, m_progress);
    const LevelRows::Reduced reduced = rows.reduced(plain);
    TriangularFactor::Levels root{levels.places, levels.firsts,
                                  MatrixXd::Zero(levels.count(), turned->perLevel),
                                  MatrixXd(levels.count(), rest)};
    std::iota(root.places.begin(), root.places.end(), Index{0});
    for (Index level = 0; level < turned->levels; ++level)
        for (Index slot = 0; slot < turned->perLevel; ++slot) {
            const Index d = turned->column(level, slot), from = level * turned->perLevel;
            if (d < 0) continue;
            for (Index k = slot; k < turned->perLevel && turned->column(level, k) >= 0; ++k)
                root.own(d, k - slot) = reduced.own(from + slot, k);
            root.shared.row(d) = reduced.shared.row(from + slot).head(rest);
        }
    return {std::move(root), reduced.left.topLeftCorner(rest, rest)};
}

DirectionRows ApartScores::byUnit(std::span<const double> scores, std::span<const std::uint32_t> units,
                                  std::size_t count) const {
    const ApartReader reader(m_fit, m_x);
    const auto m = static_cast<Index>(count);
    MatrixXd rest = MatrixXd::Zero(m_fit.rank() - m_fit.factor.levels(), m); // a unit a column
    std::vector<Eigen::Triplet<double>> ofLevels;
    ofLevels.reserve(scores.size());
    for (std::size_t begin = 0; begin < scores.size(); begin += pieceRows) {
        m_progress.checkpoint(static_cast<double>(begin) / static_cast<double>(scores.size()),
                              "Errors of the coefficients");
        const std::size_t end = std::min(begin + pieceRows, scores.size());
        ApartReader::Rows rows = reader.read(static_cast<Index>(begin), static_cast<Index>(end - begin));
        reader.turn(rows);
        const MatrixXd turned = rows.rest.transpose();
        for (std::size_t i = begin; i < end; ++i) {
            const auto at = static_cast<Index>(i - begin);
            if (scores[i] == 0) continue;
            rest.col(units[i]) += scores[i] * turned.col(at);
            for (Index k = 0; k < rows.directions[i - begin]; ++k)
                ofLevels.emplace_back(static_cast<int>(units[i]), static_cast<int>(rows.first[i - begin] + k),
                                      scores[i] * rows.own(at, k));
        }
    }
    DirectionRows::Sparse sums(m, m_fit.factor.levels());
    sums.setFromTriplets(ofLevels.begin(), ofLevels.end());
    return {std::move(sums), rest.transpose()};
}

DirectionRows ApartScores::at(std::span<const std::uint32_t> places, std::span<const double> by) const {
    const ApartReader reader(m_fit, m_x);
    const auto m = static_cast<Index>(places.size());
    MatrixXd rest(m, m_fit.rank() - m_fit.factor.levels());
    std::vector<Eigen::Triplet<double>> ofLevels;
    for (std::size_t begin = 0; begin < places.size(); begin += pieceRows) {
        stopIfTold(m_progress);
        const std::size_t count = std::min(pieceRows, places.size() - begin);
        ApartReader::Rows rows = reader.read(places.subspan(begin, count));
        rows.multiply(Eigen::Map<const VectorXd>(by.data() + begin, static_cast<Index>(count)));
        reader.turn(rows);
        rest.middleRows(static_cast<Index>(begin), static_cast<Index>(count)) = rows.rest;
        for (std::size_t i = 0; i < count; ++i)
            for (Index k = 0; k < rows.directions[i]; ++k)
                ofLevels.emplace_back(static_cast<int>(begin + i), static_cast<int>(rows.first[i] + k),
                                      rows.own(static_cast<Index>(i), k));
    }
    DirectionRows::Sparse made(m, m_fit.factor.levels());
    made.setFromTriplets(ofLevels.begin(), ofLevels.end());
    return {std::move(made), std::move(rest)};
}

DirectionRows windowsOf(const DirectionRows& rows, int lags) {
    const auto m = static_cast<int>(rows.rows());
    DirectionRows::Sparse windows(m + lags, m); // row t is in the windows t to t + lags
    std::vector<Eigen::Triplet<double>> entries;
    for (int t = 0; t < m; ++t)
        for (int window = t; window <= t + lags; ++window)
            entries.emplace_back(window, t, 1.0);
    windows.setFromTriplets(entries.begin(), entries.end());
    DirectionRows::Sparse ofLevels = windows * rows.ofLevels();
    return {std::move(ofLevels), windows * rows.rest()};
}

} // namespace oxgoad
