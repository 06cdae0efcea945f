#include "estimate/rows_judged.h"

#include "base/random.h"

#include <algorithm>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

Eigen::VectorXd fittedBy(const LearnedModel& model, const TrainingData& training, const Progress& progress) {
    const std::size_t n = training.rows.size();
    VectorXd fitted(static_cast<Index>(n));
    constexpr std::size_t block = 4096;
    parallelFor((n + block - 1) / block, training.threads, [&](std::size_t b) {
        stopIfTold(progress);
        const std::size_t begin = b * block, count = std::min(block, n - begin);
        MatrixXd inputs(static_cast<Index>(count), static_cast<Index>(training.inputs.inputs().size()));
        training.inputs.fill(training.rows.subspan(begin, count), inputs);
        fitted.segment(static_cast<Index>(begin), static_cast<Index>(count)) = model.predict(inputs).col(0);
    });
    return fitted;
}

void judgeByParts(const TrainingData& training, std::size_t fewest, TrainingResults& out, Progress& progress,
                  const std::function<std::shared_ptr<const LearnedModel>(const TrainingData& part,
                                                                          const TrainingData& left)>& learn) {
    constexpr std::uint32_t parts = 5, many = 20000;
    const auto n = static_cast<std::uint32_t>(training.rows.size());
    if (!training.unseen || n < fewest || n < 10) return;
    RandomStream stream(training.seed, "parts of a tree's rows");
    const std::vector<std::uint32_t> order = shuffled(n, stream);
    out.unseenOf = IntervalsByErrors::Of::outOfFold;
    std::vector<std::pair<std::uint32_t, double>> errors;
    for (std::uint32_t k = 0; k < (n > many ? 1 : parts); ++k) {
        progress.checkpoint(0.5 + 0.1 * k, "Learning from a part of the rows");
        std::vector<std::uint32_t> places, left;
        for (std::uint32_t i = 0; i < n; ++i)
            (i % parts == k ? left : places).push_back(order[i]);
        std::sort(places.begin(), places.end());
        std::sort(left.begin(), left.end());
        std::vector<std::uint32_t> rows, others;
        std::vector<double> y, weights, otherY, otherWeights;
        for (const auto place : places) {
            rows.push_back(training.rows[place]);
            y.push_back(training.y[place]);
            if (!training.weights.empty()) weights.push_back(training.weights[place]);
        }
        for (const auto place : left) {
            others.push_back(training.rows[place]);
            otherY.push_back(training.y[place]);
            if (!training.weights.empty()) otherWeights.push_back(training.weights[place]);
        }
        const auto partOf = [&](const std::vector<std::uint32_t>& of, const std::vector<double>& response,
                                const std::vector<double>& weighing) {
            return TrainingData{.inputs = training.inputs,
                                .rows = of,
                                .y = response,
                                .weights = weighing,
                                .terms = training.terms,
                                .unitsName = training.unitsName,
                                .seed = training.seed,
                                .file = training.file,
                                .threads = training.threads};
        };
        const TrainingData unseen = partOf(others, otherY, otherWeights);
        const auto model = learn(partOf(rows, y, weights), unseen);
        const VectorXd said = fittedBy(*model, unseen, progress);
        for (std::size_t i = 0; i < left.size(); ++i)
            errors.emplace_back(left[i], training.y[left[i]] - said[static_cast<Index>(i)]);
    }
    std::sort(errors.begin(), errors.end());
    for (const auto& [place, error] : errors) {
        out.unseenRows.push_back(place);
        out.unseen.push_back(error);
    }
}

} // namespace oxgoad
