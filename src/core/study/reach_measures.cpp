#include "study/reach_measures.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/neighbours/neighbours.h"
#include "reach/hull.h"
#include "table/fields.h"
#include "write/csv.h"

#include <algorithm>
#include <array>
#include <cmath>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

constexpr std::size_t mostMeasured = 100000, mostLearned = 5000, mostOwn = 1000, mostInHull = 20000,
                      mostHulls = 2000, mostNumbers = 10, nearest = 5;

/// Inputs of some learning rows that have all values, evenly spaced.
MatrixXd wholeRows(const BoundInputs& inputs, std::span<const std::uint32_t> rows, std::size_t most) {
    std::vector<std::uint32_t> some;
    const std::size_t stride = std::max<std::size_t>(1, (rows.size() + most - 1) / most);
    for (std::size_t i = 0; i < rows.size(); i += stride)
        if (inputs.complete(rows[i])) some.push_back(rows[i]);
    MatrixXd values(static_cast<Index>(some.size()), static_cast<Index>(inputs.inputs().size()));
    inputs.fill(some, values);
    return values;
}

} // namespace

ReachMeasures reachMeasures(const Study& study, const Table& learned, const Table& coming, Threads threads,
                            const Progress& progress) {
    ReachMeasures out;
    out.rows.assign(coming.rows(), {nan, nan, {}, {}});
    const BoundInputs from(study.inputs, learned, {}), to(study.inputs, coming, {});
    const MatrixXd known = wholeRows(from, study.rows, mostLearned);
    if (known.rows() < static_cast<Index>(nearest) + 1) {
        out.hull = "too few learning rows have all values";
        return out;
    }
    out.learningRows = static_cast<std::size_t>(known.rows());
    const NeighboursModel near(study.inputs, {.count = nearest, .gower = true}, known,
                               VectorXd::Zero(known.rows()), {});
    const std::size_t own = std::min(mostOwn, out.learningRows);
    std::vector<double> distances(own);
    parallelFor(own, threads, [&](std::size_t i) {
        stopIfTold(progress);
        distances[i] = near.without(static_cast<std::uint32_t>(i * out.learningRows / own)).distance;
    });
    std::sort(distances.begin(), distances.end());

    std::vector<std::size_t> numbers;
    for (std::size_t j = 0; j < study.inputs.size(); ++j)
        if (!study.inputs[j].factor) numbers.push_back(j);
    MatrixXd cloud;
    VectorXd scale;
    if (numbers.empty()) {
        out.hull = "the model reads no number";
    } else if (numbers.size() > mostNumbers) {
        out.hull =
            "in " + countText(numbers.size()) + " numbers nearly every row lies outside, which says nothing";
    } else {
        const MatrixXd whole = wholeRows(from, study.rows, mostInHull);
        cloud.resize(static_cast<Index>(numbers.size()), whole.rows());
        scale.resize(static_cast<Index>(numbers.size()));
        for (std::size_t k = 0; k < numbers.size(); ++k) {
            const auto column = whole.col(static_cast<Index>(numbers[k]));
            const double range = column.maxCoeff() - column.minCoeff();
            scale[static_cast<Index>(k)] = range > 0 ? range : 1;
            cloud.row(static_cast<Index>(k)) = column.transpose() / scale[static_cast<Index>(k)];
        }
        out.hull = countText(numbers.size()) + " numbers, " +
                   countText(static_cast<std::size_t>(whole.rows())) + " learning rows";
    }
    const std::size_t measured = std::min(coming.rows(), mostMeasured);
    constexpr std::size_t block = 64;
    parallelFor((measured + block - 1) / block, threads, [&](std::size_t b) {
        stopIfTold(progress);
        for (std::size_t row = b * block; row < std::min(measured, (b + 1) * block); ++row) {
            if (!to.complete(row)) continue;
            MatrixXd at(1, static_cast<Index>(study.inputs.size()));
            const std::array<std::uint32_t, 1> one{static_cast<std::uint32_t>(row)};
            to.fill(one, at);
            ReachMeasure& said = out.rows[row];
            said.distance = near.distances(at)[0];
            said.share =
                static_cast<double>(distances.end() -
                                    std::upper_bound(distances.begin(), distances.end(), said.distance)) /
                static_cast<double>(distances.size());
            if (cloud.cols() == 0 || row >= mostHulls) continue;
            VectorXd point(cloud.rows());
            for (std::size_t k = 0; k < numbers.size(); ++k)
                point[static_cast<Index>(k)] =
                    at(0, static_cast<Index>(numbers[k])) / scale[static_cast<Index>(k)];
            const HullPlace place = placeInHull(cloud, point);
            said.hull = place.outside ? "outside" : "inside";
            if (!place.outside) continue;
            std::vector<std::size_t> order(numbers.size());
            std::iota(order.begin(), order.end(), std::size_t{0});
            std::stable_sort(order.begin(), order.end(), [&](std::size_t x, std::size_t y) {
                return std::fabs(place.way[static_cast<Index>(x)]) >
                       std::fabs(place.way[static_cast<Index>(y)]);
            });
            const double most = place.way.cwiseAbs().maxCoeff();
            std::vector<std::string> names;
            for (const auto k : order)
                if (std::fabs(place.way[static_cast<Index>(k)]) > 0.3 * most)
                    names.push_back(study.inputs[numbers[k]].name);
            said.leavesBy = nameList(names, 3);
        }
    });
    return out;
}

ReachOptions reachOptionsOf(const Recipe& recipe) {
    if (!recipe.forecast) return {};
    const ReachRules& rules = recipe.forecast->reach;
    return {.edgeShare = rules.edgeShare,
            .edgeDistance = rules.edgeDistance,
            .outsideDistance = rules.outsideDistance};
}

std::string reachRulesText(const Recipe& recipe) {
    if (!recipe.forecast) return {};
    const ReachRules& rules = recipe.forecast->reach;
    std::string text = rules.hull ? "hull" : "";
    for (const double value : {rules.edgeShare, rules.edgeDistance, rules.outsideDistance, rules.nearest})
        text += " " + exactText(value);
    return text;
}

void gradeByMeasures(ForecastEvidence& forecast, const ReachMeasures& measures, const ReachRules& rules) {
    for (std::size_t row = 0; row < forecast.reach.size(); ++row) {
        Reach& reach = forecast.reach[row];
        const ReachMeasure& said = measures.rows[row];
        std::vector<std::string> reasons;
        if (rules.hull && said.hull == "outside")
            reasons.push_back("outside of what the learning rows span together, by " + said.leavesBy);
        if (rules.nearest > 0 && said.share < rules.nearest)
            reasons.push_back("farther from the nearest learning rows than " +
                              readableText(100 * (1 - said.share), 3) + " % of these are from theirs");
        if (reasons.empty()) continue;
        if (reach.grade == ReachGrade::inside) {
            reach.grade = ReachGrade::edge;
            if (reach.subject.empty())
                reach.subject = reasons.front().starts_with("outside") ? "hull" : "distance";
            --forecast.inside;
            ++forecast.edge;
        }
        reach.reasons.insert(reach.reasons.end(), reasons.begin(), reasons.end());
    }
}

std::string reachMeasuresCsv(const ReachMeasures& measures) {
    CsvWriter out;
    for (const auto* name : {"row", "distance", "share_farther", "hull", "leaves_by"})
        out.text(name);
    out.endRow();
    for (std::size_t i = 0; i < measures.rows.size(); ++i) {
        const ReachMeasure& row = measures.rows[i];
        out.count(i + 1).number(row.distance).number(row.share).text(row.hull).text(row.leavesBy);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
