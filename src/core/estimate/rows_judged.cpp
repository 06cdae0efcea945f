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

namespace {

/// Some of the learning rows.
struct SomeRows {
    std::vector<std::uint32_t> places{}, rows{};
    std::vector<double> y{}, weights{};

    void take(const TrainingData& training) {
        std::sort(places.begin(), places.end());
        for (const auto place : places) {
            rows.push_back(training.rows[place]);
            y.push_back(training.y[place]);
            if (!training.weights.empty()) weights.push_back(training.weights[place]);
        }
    }
    TrainingData of(const TrainingData& training) const {
        return {.inputs = training.inputs,
                .rows = rows,
                .y = y,
                .weights = weights,
                .terms = training.terms,
                .notSelected = training.notSelected,
                .intercept = training.intercept,
                .unitsName = training.unitsName,
                .unitOf = training.unitOf,
                .unseen = false,
                .seed = training.seed,
                .file = training.file,
                .threads = training.threads};
    }
};

} // namespace

void forEachPart(const TrainingData& training, std::uint32_t parts, std::uint32_t take,
                 std::string_view purpose,
                 const std::function<void(const TrainingData& others, const TrainingData& left,
                                          std::span<const std::uint32_t> places)>& use) {
    const auto n = static_cast<std::uint32_t>(training.rows.size());
    RandomStream stream(training.seed, std::string(purpose));
    const std::vector<std::uint32_t> order = shuffled(n, stream);
    for (std::uint32_t k = 0; k < take; ++k) {
        SomeRows others, left;
        for (std::uint32_t i = 0; i < n; ++i)
            (i % parts == k ? left : others).places.push_back(order[i]);
        others.take(training);
        left.take(training);
        use(others.of(training), left.of(training), left.places);
    }
}

void judgeByParts(const TrainingData& training, std::size_t fewest, TrainingResults& out, Progress& progress,
                  const std::function<std::shared_ptr<const LearnedModel>(const TrainingData& part,
                                                                          const TrainingData& left)>& learn) {
    constexpr std::uint32_t parts = 5, many = 20000;
    const auto n = static_cast<std::uint32_t>(training.rows.size());
    if (!training.unseen || n < fewest || n < 10) return;
    out.unseenOf = IntervalsByErrors::Of::outOfFold;
    std::vector<std::pair<std::uint32_t, double>> errors;
    double share = 0.5;
    forEachPart(
        training, parts, n > many ? 1 : parts, "parts of a tree's rows",
        [&](const TrainingData& others, const TrainingData& left, std::span<const std::uint32_t> places) {
            progress.checkpoint(share, "Learning from a part of the rows");
            share += 0.1;
            const auto model = learn(others, left);
            const VectorXd said = fittedBy(*model, left, progress);
            for (std::size_t i = 0; i < places.size(); ++i)
                errors.emplace_back(places[i], left.y[i] - said[static_cast<Index>(i)]);
        });
    std::sort(errors.begin(), errors.end());
    for (const auto& [place, error] : errors) {
        out.unseenRows.push_back(place);
        out.unseen.push_back(error);
    }
}

} // namespace oxgoad
