#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/network/network.h"
#include "kernels/kernels.h"

#include <algorithm>
#include <cmath>
#include <new>
#include <numeric>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// Rows whose derivatives are summed together before those of others are added.
constexpr Index rowsOfPart = 256;
constexpr std::size_t mostPoints = 500, mostSpreads = 40;

/// Memory that begins at a multiple of 64 bytes: what the arithmetic works on in pieces, and what one by one,
/// hangs on where it lies, and with it the last bits.
template <class T> struct AlignedMemory {
    using value_type = T;
    AlignedMemory() = default;
    template <class U> explicit AlignedMemory(const AlignedMemory<U>&) {}
    T* allocate(std::size_t n) {
        return static_cast<T*>(::operator new (n * sizeof(T), std::align_val_t{64}));
    }
    void deallocate(T* at, std::size_t) { ::operator delete (at, std::align_val_t{64}); }
    bool operator==(const AlignedMemory&) const { return true; }
};
using Doubles = std::vector<double, AlignedMemory<double>>;

OxgoadNetwork kernelOf(const NetworkShape& shape, const Doubles& parameters) {
    return {static_cast<int>(shape.sizes.size()) - 1,
            shape.sizes.data(),
            static_cast<int>(shape.activation),
            static_cast<int>(shape.loss),
            shape.share,
            parameters.data()};
}

std::size_t room(const NetworkShape& shape, Index rows) {
    return static_cast<std::size_t>(rows * std::accumulate(shape.sizes.begin(), shape.sizes.end(), Index{0}));
}

/// Weights uniform within ±√(6/(in + out)), constants 0.
Doubles drawnParameters(const NetworkShape& shape, RandomStream& stream) {
    Doubles parameters;
    for (std::size_t l = 0; l + 1 < shape.sizes.size(); ++l) {
        const auto in = shape.sizes[l], out = shape.sizes[l + 1];
        const double half = std::sqrt(6 / static_cast<double>(in + out));
        for (std::ptrdiff_t k = 0; k < in * out; ++k)
            parameters.push_back(half * (2 * stream.uniform() - 1));
        parameters.resize(parameters.size() + static_cast<std::size_t>(out), 0);
    }
    return parameters;
}

/// Calls use(l, first, weights, constants) with where each layer's parameters lie.
template <class Use> void eachLayer(const NetworkShape& shape, Use use) {
    std::size_t at = 0;
    for (std::size_t l = 0; l + 1 < shape.sizes.size(); ++l) {
        const auto weights = static_cast<std::size_t>(shape.sizes[l] * shape.sizes[l + 1]),
                   constants = static_cast<std::size_t>(shape.sizes[l + 1]);
        use(l, at, weights, constants);
        at += weights + constants;
    }
}

class Trainer {
public:
    Trainer(const NetworkShape& shape, const NetworkOptions& options, const NetworkRows& learning,
            const NetworkRows& unseen, double unit, Threads threads, Progress& progress)
        : m_shape(shape), m_options(options), m_learning(learning), m_unseen(unseen), m_unit(unit),
          m_threads(threads), m_progress(progress), m_stream(options.seed, "training of a network") {
        for (std::size_t i = 0; i < learning.y.size(); ++i)
            m_whole += learning.weights.empty() ? 1 : learning.weights[i];
    }

    TrainedNetwork run() {
        TrainedNetwork out;
        out.run.name = m_options.name;
        m_parameters = drawnParameters(m_shape, m_stream);
        const std::size_t count = m_parameters.size();
        m_first.assign(count, 0);
        m_second.assign(count, 0);
        eachLayer(m_shape, [&](std::size_t l, std::size_t, std::size_t, std::size_t) {
            out.spreads.push_back({"weights of layer " + std::to_string(l + 1), {}, {}});
            out.spreads.push_back({"constants of layer " + std::to_string(l + 1), {}, {}});
        });
        out.parameters.assign(m_parameters.begin(), m_parameters.end());
        out.learningLoss = out.unseenLoss = INFINITY;
        note(out, 0);
        const std::size_t every = std::max<std::size_t>(1, m_options.passes / mostPoints);
        const std::size_t spreadsEvery = std::max<std::size_t>(1, m_options.passes / mostSpreads);
        for (std::size_t pass = 1; pass <= m_options.passes; ++pass) {
            if (m_progress.stopRequested()) {
                if (!m_progress.serveStop()) throw Stopped{};
                out.ended = "stopped after pass " + std::to_string(pass - 1);
                break;
            }
            if (!onePass(pass)) {
                out.ended = "the loss was no number in step " + std::to_string(m_steps) + " (pass " +
                            std::to_string(pass) + ")";
                break;
            }
            const bool last = pass == m_options.passes;
            if (pass % every == 0 || last) {
                note(out, pass);
                m_progress.report(static_cast<double>(pass) / static_cast<double>(m_options.passes),
                                  "Pass " + std::to_string(pass) + " of " + std::to_string(m_options.passes));
            }
            if (pass % spreadsEvery == 0 || last) noteSpreads(out, pass);
            if (m_options.patience > 0 && !m_unseen.y.empty() && pass >= out.bestPass + m_options.patience)
                break;
        }
        return out;
    }

private:
    double loss(const NetworkRows& rows) const {
        const auto n = static_cast<Index>(rows.y.size());
        const Index parts = (n + rowsOfPart - 1) / rowsOfPart;
        std::vector<double> sums(static_cast<std::size_t>(parts), 0),
            wholes(static_cast<std::size_t>(parts), 0);
        const OxgoadNetwork net = kernelOf(m_shape, m_parameters);
        parallelFor(static_cast<std::size_t>(parts), {parts > 8 ? m_threads.count : 1}, [&](std::size_t p) {
            const Index begin = static_cast<Index>(p) * rowsOfPart, count = std::min(rowsOfPart, n - begin);
            Doubles work(room(m_shape, count)), said(static_cast<std::size_t>(count));
            const Doubles x(rows.x.col(begin).data(), rows.x.col(begin).data() + rows.x.rows() * count);
            oxgoad_network_says(&net, x.data(), count, work.data(), said.data());
            for (Index i = 0; i < count; ++i) {
                const auto at = static_cast<std::size_t>(begin + i);
                const double w = rows.weights.empty() ? 1 : rows.weights[at];
                const double e = said[static_cast<std::size_t>(i)] - rows.y[at];
                sums[p] += w * (m_shape.loss == NetworkShape::Loss::squared    ? e * e
                                : m_shape.loss == NetworkShape::Loss::absolute ? std::fabs(e)
                                : e > 0                                        ? (1 - m_shape.share) * e
                                                                               : -m_shape.share * e);
                wholes[p] += w;
            }
        });
        double sum = 0, whole = 0;
        for (std::size_t p = 0; p < sums.size(); ++p)
            sum += sums[p], whole += wholes[p];
        return sum / whole;
    }

    /// What it is missed by now; the best so far is kept.
    void note(TrainedNetwork& out, std::size_t pass) {
        const double learning = loss(m_learning), unseen = m_unseen.y.empty() ? nan : loss(m_unseen);
        out.run.step.push_back(static_cast<double>(pass));
        const auto told = [&](double mean) {
            return m_unit * (m_shape.loss == NetworkShape::Loss::squared ? std::sqrt(mean) : mean);
        };
        out.run.learning.push_back(told(learning));
        out.run.unseen.push_back(told(unseen));
        m_progress.course(out.run.name, static_cast<double>(pass), told(learning), told(unseen));
        const bool better = std::isnan(unseen) ? learning < out.learningLoss : unseen < out.unseenLoss;
        if (!better) return;
        out.learningLoss = learning;
        if (!std::isnan(unseen)) out.unseenLoss = unseen;
        out.bestPass = pass;
        out.parameters.assign(m_parameters.begin(), m_parameters.end());
    }

    void noteSpreads(TrainedNetwork& out, std::size_t pass) const {
        eachLayer(m_shape, [&](std::size_t l, std::size_t at, std::size_t weights, std::size_t constants) {
            const auto spread = [&](std::size_t from, std::size_t count, LearningCourse::Spread& to) {
                std::vector<double> sorted(m_parameters.begin() + static_cast<std::ptrdiff_t>(from),
                                           m_parameters.begin() + static_cast<std::ptrdiff_t>(from + count));
                std::sort(sorted.begin(), sorted.end());
                const auto part = [&](double share) {
                    return sorted[static_cast<std::size_t>(share * static_cast<double>(count - 1))];
                };
                to.step.push_back(static_cast<double>(pass));
                to.values.push_back({part(0), part(0.25), part(0.5), part(0.75), part(1)});
            };
            spread(at, weights, out.spreads[2 * l]);
            spread(at + weights, constants, out.spreads[2 * l + 1]);
        });
    }

    bool onePass(std::size_t pass) {
        const auto n = static_cast<Index>(m_learning.y.size());
        const Index usual = std::clamp<Index>(n / 50, 32, 1024);
        const Index batch =
            std::min<Index>(n, m_options.batch > 0 ? static_cast<Index>(m_options.batch) : usual);
        const std::vector<std::uint32_t> order = shuffled(static_cast<std::uint32_t>(n), m_stream);
        const double rate = m_options.rate / (1 + m_options.decay * static_cast<double>(pass - 1));
        for (Index begin = 0; begin < n; begin += batch) {
            if (begin > 0 && m_progress.stopRequested()) return true; // run() sees to it
            if (!step(order, begin, std::min(batch, n - begin), rate)) return false;
        }
        return true;
    }

    bool step(const std::vector<std::uint32_t>& order, Index begin, Index count, double rate) {
        ++m_steps;
        const std::size_t parameters = m_parameters.size();
        const auto parts = static_cast<std::size_t>((count + rowsOfPart - 1) / rowsOfPart);
        m_gradients.assign(parts * parameters, 0);
        m_losses.assign(parts, 0);
        m_works.resize(parts);
        drop(count);
        const OxgoadNetwork net = kernelOf(m_shape, m_parameters);
        const Index hidden = hiddenUnits();
        parallelFor(parts, {parts > 1 ? m_threads.count : 1}, [&](std::size_t p) {
            const Index first = static_cast<Index>(p) * rowsOfPart,
                        rows = std::min(rowsOfPart, count - first);
            Work& work = m_works[p];
            const Index inputs = m_learning.x.rows();
            work.x.resize(static_cast<std::size_t>(inputs * rows));
            work.y.resize(static_cast<std::size_t>(rows));
            work.weights.resize(m_learning.weights.empty() ? 0 : static_cast<std::size_t>(rows));
            for (Index i = 0; i < rows; ++i) {
                const auto row = order[static_cast<std::size_t>(begin + first + i)];
                std::copy_n(m_learning.x.col(static_cast<Index>(row)).data(), inputs,
                            work.x.data() + i * inputs);
                work.y[static_cast<std::size_t>(i)] = m_learning.y[row];
                if (!work.weights.empty())
                    work.weights[static_cast<std::size_t>(i)] = m_learning.weights[row];
            }
            work.room.resize(2 * room(m_shape, rows));
            oxgoad_network_learn(&net, work.x.data(), work.y.data(),
                                 work.weights.empty() ? nullptr : work.weights.data(), rows,
                                 m_kept.empty() ? nullptr : m_kept.data() + first * hidden, work.room.data(),
                                 m_gradients.data() + p * parameters, &m_losses[p]);
        });
        double whole = 0, sum = 0;
        for (std::size_t p = 0; p < parts; ++p) {
            sum += m_losses[p];
            for (std::size_t k = 0; k < parameters && p > 0; ++k)
                m_gradients[k] += m_gradients[p * parameters + k];
        }
        // A step counts as its share of all rows' weight.
        whole = m_whole * static_cast<double>(count) / static_cast<double>(m_learning.y.size());
        if (!std::isfinite(sum)) return false;
        for (std::size_t k = 0; k < parameters; ++k)
            m_gradients[k] /= whole;
        eachLayer(m_shape, [&](std::size_t, std::size_t at, std::size_t weights, std::size_t) {
            for (std::size_t k = at; k < at + weights; ++k)
                m_gradients[k] += 2 * m_options.weightPenalty * m_parameters[k];
        });
        oxgoad_adam(m_parameters.data(), m_first.data(), m_second.data(), m_gradients.data(),
                    static_cast<std::ptrdiff_t>(parameters), rate, static_cast<double>(m_steps));
        return true;
    }

    Index hiddenUnits() const {
        Index units = 0;
        for (std::size_t l = 1; l + 1 < m_shape.sizes.size(); ++l)
            units += m_shape.sizes[l];
        return units;
    }

    /// What hidden units are multiplied by, part by part, and within a part layer by layer.
    void drop(Index count) {
        const Index hidden = hiddenUnits();
        if (!(m_options.dropout > 0) || hidden == 0) return;
        m_kept.resize(static_cast<std::size_t>(count * hidden));
        for (double& kept : m_kept)
            kept = m_stream.uniform() < m_options.dropout ? 0 : 1 / (1 - m_options.dropout);
    }

    struct Work {
        Doubles x, y, weights, room;
    };
    const NetworkShape& m_shape;
    const NetworkOptions& m_options;
    const NetworkRows& m_learning;
    const NetworkRows& m_unseen;
    double m_unit;
    Threads m_threads;
    Progress& m_progress;
    RandomStream m_stream;
    double m_whole = 0;
    std::size_t m_steps = 0;
    Doubles m_parameters, m_first, m_second, m_gradients, m_losses, m_kept;
    std::vector<Work> m_works;
};

} // namespace

std::size_t NetworkShape::parameters() const {
    std::size_t count = 0;
    eachLayer(*this, [&](std::size_t, std::size_t, std::size_t weights, std::size_t constants) {
        count += weights + constants;
    });
    return count;
}

VectorXd NetworkShape::says(const std::vector<double>& parameters, const MatrixXd& x) const {
    VectorXd said(x.cols());
    const Doubles own(parameters.begin(), parameters.end());
    const OxgoadNetwork net = kernelOf(*this, own);
    for (Index begin = 0; begin < x.cols(); begin += rowsOfPart) {
        const Index count = std::min(rowsOfPart, x.cols() - begin);
        Doubles work(room(*this, count));
        const Doubles columns(x.col(begin).data(), x.col(begin).data() + x.rows() * count);
        oxgoad_network_says(&net, columns.data(), count, work.data(), said.data() + begin);
    }
    return said;
}

double NetworkShape::lossOf(const std::vector<double>& parameters, const MatrixXd& x,
                            std::span<const double> y, std::span<const double> weights,
                            std::vector<double>& gradient) const {
    const Doubles own(parameters.begin(), parameters.end()), columns(x.data(), x.data() + x.size());
    Doubles work(2 * room(*this, x.cols())), found(own.size(), 0);
    double loss = 0;
    const OxgoadNetwork net = kernelOf(*this, own);
    oxgoad_network_learn(&net, columns.data(), y.data(), weights.empty() ? nullptr : weights.data(), x.cols(),
                         nullptr, work.data(), found.data(), &loss);
    gradient.assign(found.begin(), found.end());
    return loss;
}

TrainedNetwork train(const NetworkShape& shape, const NetworkOptions& options, const NetworkRows& learning,
                     const NetworkRows& unseen, double unit, Threads threads, Progress& progress) {
    return Trainer(shape, options, learning, unseen, unit, threads, progress).run();
}

} // namespace oxgoad
