#include "study/input_evidence.h"

#include "base/not_a_number.h"
#include "base/random.h"
#include "design/input_ranges.h"
#include "study/effects.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {
constexpr std::size_t mostJudged = 500;
constexpr int shuffles = 3;
constexpr std::size_t points = 25;

/// Rows that importance is measured on, with what each has beside its inputs.
struct Sample {
    MatrixXd inputs;
    std::vector<double> actual;
    std::vector<std::uint32_t> rows;
};

double meanSquare(const BoundModel& bound, const Sample& sample, const MatrixXd& inputs) {
    const VectorXd said = bound.rule().valuesOf(bound.model(), inputs);
    long double sum = 0;
    for (std::size_t i = 0; i < sample.rows.size(); ++i) {
        const double e =
            sample.actual[i] - bound.toResponseScale(said[static_cast<Index>(i)], sample.rows[i]);
        sum += static_cast<long double>(e) * e;
    }
    return static_cast<double>(sum / static_cast<long double>(sample.rows.size()));
}

void measureImportance(InputEvidence& evidence, std::size_t input, const BoundModel& bound,
                       const Sample& sample, double usual) {
    evidence.importance = evidence.importanceError = nan;
    if (sample.rows.size() < 2 || !(usual > 0)) return;
    std::vector<double> grown;
    for (int s = 0; s < shuffles; ++s) {
        RandomStream random(static_cast<std::uint64_t>(s + 1), "importance");
        const auto order = shuffled(static_cast<std::uint32_t>(sample.rows.size()), random);
        MatrixXd inputs = sample.inputs;
        for (std::size_t i = 0; i < order.size(); ++i)
            inputs(static_cast<Index>(i), static_cast<Index>(input)) =
                sample.inputs(static_cast<Index>(order[i]), static_cast<Index>(input));
        grown.push_back(std::sqrt(meanSquare(bound, sample, inputs) / usual) - 1);
    }
    double mean = 0, squares = 0;
    for (const double g : grown)
        mean += g / shuffles;
    for (const double g : grown)
        squares += (g - mean) * (g - mean);
    evidence.importance = mean;
    evidence.importanceError = std::sqrt(squares / (shuffles - 1) / shuffles);
}

void drawShape(InputEvidence& evidence, std::size_t input, const BoundModel& bound,
               const std::vector<HeldValue>& usual, double offset) {
    const Input& known = bound.inputs().inputs()[input];
    const std::size_t count = known.factor ? known.levels.size() : points;
    MatrixXd inputs(static_cast<Index>(count), static_cast<Index>(usual.size()));
    for (std::size_t j = 0; j < usual.size(); ++j)
        inputs.col(static_cast<Index>(j)).setConstant(usual[j].value);
    for (std::size_t i = 0; i < count; ++i)
        inputs(static_cast<Index>(i), static_cast<Index>(input)) =
            known.factor ? static_cast<double>(i)
                         : evidence.lowest + (evidence.highest - evidence.lowest) * static_cast<double>(i) /
                                                 static_cast<double>(count - 1);
    for (const double said : bound.rule().valuesOf(bound.model(), inputs))
        evidence.shape.push_back(bound.rule().toResponseScale(said + offset));
}

} // namespace

std::vector<InputEvidence> describeInputs(const Study& study, const Table& table, const std::string& file,
                                          std::span<const std::uint32_t> judged,
                                          std::span<const double> actual, Threads threads,
                                          Progress& progress) {
    const BoundModel bound = study.bind(table, file);
    Sample sample;
    const std::size_t stride = std::max<std::size_t>(1, (judged.size() + mostJudged - 1) / mostJudged);
    for (std::size_t i = 0; i < judged.size(); i += stride) {
        sample.rows.push_back(judged[i]);
        sample.actual.push_back(actual[i]);
    }
    sample.inputs.resize(static_cast<Index>(sample.rows.size()), static_cast<Index>(study.inputs.size()));
    bound.inputs().fill(sample.rows, sample.inputs);
    const double usual = sample.rows.empty() ? nan : meanSquare(bound, sample, sample.inputs);
    const std::vector<HeldValue> held = usualValues(study, table);
    const double offset = usualOffset(study, table);
    std::vector<InputEvidence> all(study.inputs.size());
    parallelFor(all.size(), threads, [&](std::size_t i) {
        progress.checkpoint(static_cast<double>(i) / static_cast<double>(all.size()), "Weighing columns");
        const Input& known = study.inputs[i];
        InputEvidence& evidence = all[i];
        evidence.name = known.name;
        evidence.factor = known.factor;
        evidence.levels = known.levels.size();
        const Range range = known.factor ? Range{nan, nan, false} : rangeOver(bound.inputs(), i, study.rows);
        evidence.lowest = range.low;
        evidence.highest = range.high;
        evidence.density = densityOver(bound.inputs(), i, study.rows, range, 24, 20000);
        drawShape(evidence, i, bound, held, offset);
        measureImportance(evidence, i, bound, sample, usual);
    });
    return all;
}

} // namespace oxgoad
