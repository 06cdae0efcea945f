#include "base/random.h"
#include "estimate/formula/formula.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

using Eigen::ArrayXd;
using Eigen::Index;
using Eigen::MatrixXd;

/// What linear scaling adds: a + b · f.
constexpr std::size_t scaling = 4;
constexpr double clearlyBetter = 0.001;

struct Candidate {
    FormulaTree tree;
    double mse = INFINITY;
    bool polished = false;
};

/// The best of each size.
using SizeBests = std::map<std::size_t, Candidate>;

void keepBest(SizeBests& bests, const FormulaTree& tree, double mse) {
    Candidate& best = bests[tree.size()];
    if (mse < best.mse) best = {tree, mse, true};
}

class Island {
public:
    Island(const MatrixXd& columns, std::span<const double> y, std::span<const double> weights,
           const FormulaOptions& options, const std::vector<ValueRange>& ranges, std::size_t place)
        : m_columns(columns), m_y(y), m_weights(weights), m_options(options), m_ranges(ranges),
          m_stream(options.seed, "island " + std::to_string(place) + " of formulas") {
        for (const Operation operation : options.operations)
            (operandsOf(operation) == 2 ? m_binary : m_unary).push_back(operation);
        m_room = options.largest > scaling ? options.largest - scaling : 1;
        const Eigen::Map<const ArrayXd> all(y.data(), columns.rows());
        m_weight = ArrayXd::Ones(columns.rows());
        for (std::size_t i = 0; i < weights.size(); ++i)
            m_weight[static_cast<Index>(i)] = weights[i];
        m_weight /= m_weight.sum();
        m_response = all - (all * m_weight).sum();
    }

    const SizeBests& bests() const { return m_bests; }

    void generation(const Progress& progress) {
        stopIfTold(progress);
        std::vector<Candidate> next;
        if (m_now.empty()) {
            while (next.size() < m_options.population)
                add(next, drawn(1 + m_stream.below(4), m_stream.uniform() < 0.5));
        } else {
            // The best of each size live on.
            for (const Candidate& each : m_elite)
                next.push_back(each);
            while (next.size() < m_options.population) {
                const double what = m_stream.uniform();
                const FormulaTree& one = chosen().tree;
                if (what < 0.55)
                    add(next, crossed(one, chosen().tree));
                else if (what < 0.75)
                    add(next, replaced(one));
                else if (what < 0.9)
                    add(next, changed(one));
                else
                    add(next, drawn(1 + m_stream.below(4), false));
            }
        }
        m_now = std::move(next);
        refine();
        elect();
    }

    void welcome(const Island& from) {
        for (const Candidate& each : from.m_elite)
            if (each.tree.size() <= m_room) m_now.push_back(each);
        elect();
    }

private:
    FormulaNode leaf() {
        if (m_columns.cols() > 0 && m_stream.uniform() < 0.75)
            return {.operation = Operation::column,
                    .column = static_cast<std::uint32_t>(
                        m_stream.below(static_cast<std::uint64_t>(m_columns.cols())))};
        return {.operation = Operation::constant,
                .constant = std::round(20 * (m_stream.uniform() - 0.5)) / 2};
    }

    void grow(FormulaTree& tree, std::size_t depth, bool full) {
        const bool ends =
            depth == 0 || (!full && m_stream.uniform() < 0.3) || (m_binary.empty() && m_unary.empty());
        if (ends) {
            tree.push_back(leaf());
            return;
        }
        const bool binary = m_unary.empty() || (!m_binary.empty() && m_stream.uniform() < 0.7);
        const auto& from = binary ? m_binary : m_unary;
        tree.push_back({.operation = from[m_stream.below(from.size())]});
        for (int k = 0; k < (binary ? 2 : 1); ++k)
            grow(tree, depth - 1, full);
    }

    FormulaTree drawn(std::size_t depth, bool full) {
        FormulaTree tree;
        grow(tree, depth, full);
        return tree;
    }

    /// The better of some, among those no larger than a size that is drawn: small ones have their chance.
    const Candidate& chosen() {
        const std::size_t most = 1 + m_stream.below(m_room);
        const Candidate* best = nullptr;
        for (int k = 0; k < 5; ++k) {
            const Candidate& each = m_now[m_stream.below(m_now.size())];
            if (!best || (each.tree.size() <= most && (each.mse < best->mse || best->tree.size() > most)))
                best = &each;
        }
        return *best;
    }

    FormulaTree spliced(const FormulaTree& tree, std::size_t at, const FormulaTree& part) const {
        FormulaTree out(tree.begin(), tree.begin() + static_cast<std::ptrdiff_t>(at));
        out.insert(out.end(), part.begin(), part.end());
        out.insert(out.end(), tree.begin() + static_cast<std::ptrdiff_t>(endOf(tree, at)), tree.end());
        return out;
    }

    FormulaTree crossed(const FormulaTree& one, const FormulaTree& other) {
        const std::size_t to = m_stream.below(one.size()), from = m_stream.below(other.size());
        return spliced(one, to,
                       {other.begin() + static_cast<std::ptrdiff_t>(from),
                        other.begin() + static_cast<std::ptrdiff_t>(endOf(other, from))});
    }

    FormulaTree replaced(const FormulaTree& one) {
        const std::size_t at = m_stream.below(one.size());
        return spliced(one, at, drawn(m_stream.below(3), false));
    }

    FormulaTree changed(FormulaTree tree) {
        FormulaNode& node = tree[m_stream.below(tree.size())];
        switch (operandsOf(node.operation)) {
        case 0:
            if (node.operation == Operation::constant && m_stream.uniform() < 0.7)
                node.constant = node.constant * (1 + 0.3 * m_stream.normal()) + 0.05 * m_stream.normal();
            else
                node = leaf();
            break;
        case 1:
            node.operation = m_unary.empty() ? node.operation : m_unary[m_stream.below(m_unary.size())];
            break;
        default:
            node.operation = m_binary.empty() ? node.operation : m_binary[m_stream.below(m_binary.size())];
            break;
        }
        return tree;
    }

    /// With how much it misses when scaled linearly; passed over where it is too large or not defined all
    /// over.
    void add(std::vector<Candidate>& to, FormulaTree tree) {
        tree = simplified(tree);
        if (tree.size() > m_room || !sound(tree)) {
            // Something in its place, so that rounds stay as large and end.
            FormulaTree plain{leaf()};
            if (!rangeOf(plain, m_ranges).defined()) return;
            tree = std::move(plain);
        }
        Candidate made{std::move(tree)};
        double constant = 0, slope = 0;
        made.mse = scaledError(made.tree, constant, slope);
        to.push_back(std::move(made));
    }

    bool sound(const FormulaTree& tree) const {
        return rangeOf(tree, m_ranges).defined() &&
               (m_options.units.empty() || unitsAgree(tree, m_options.units));
    }

    double scaledError(const FormulaTree& tree, double& constant, double& slope) const {
        ArrayXd f = valuesOf(tree, m_columns);
        const double mean = (f * m_weight).sum();
        if (!std::isfinite(mean)) return INFINITY;
        f -= mean;
        const double squares = (f * f * m_weight).sum(), cross = (f * m_response * m_weight).sum();
        slope = squares > 1e-300 && squares > 1e-24 * mean * mean ? cross / squares : 0;
        constant = -slope * mean;
        const double mse = ((m_response - slope * f).square() * m_weight).sum();
        return std::isfinite(mse) ? mse : INFINITY;
    }

    /// a + b · f of the best so far, its constants polished.
    void refine() {
        std::vector<std::size_t> order;
        for (std::size_t k = 0; k < m_now.size(); ++k)
            if (!m_now[k].polished) order.push_back(k);
        std::stable_sort(order.begin(), order.end(),
                         [&](std::size_t a, std::size_t b) { return m_now[a].mse < m_now[b].mse; });
        // And the best of every size that may become the best of all of its size.
        std::map<std::size_t, std::size_t> bySize;
        for (const std::size_t k : order)
            bySize.emplace(m_now[k].tree.size(), k);
        order.resize(std::min<std::size_t>(order.size(), 2));
        for (const auto& [size, k] : bySize) {
            const auto known = m_bests.find(size + scaling);
            const bool better = known == m_bests.end() || m_now[k].mse < 1.05 * known->second.mse;
            if (better && std::find(order.begin(), order.end(), k) == order.end()) order.push_back(k);
        }
        const Eigen::Map<const ArrayXd> y(m_y.data(), m_columns.rows());
        const double center = (y * m_weight).sum();
        for (const std::size_t k : order) {
            Candidate& each = m_now[k];
            double constant = 0, slope = 0;
            if (!std::isfinite(scaledError(each.tree, constant, slope))) continue;
            FormulaTree whole{{.operation = Operation::add},
                              {.operation = Operation::constant, .constant = center + constant},
                              {.operation = Operation::multiply},
                              {.operation = Operation::constant, .constant = slope}};
            whole.insert(whole.end(), each.tree.begin(), each.tree.end());
            whole = simplified(whole);
            const double mse = polish(whole, m_columns, m_y, m_weights, 4);
            whole = simplified(whole);
            each.polished = true;
            if (!std::isfinite(mse) || whole.size() > m_options.largest || !sound(whole)) continue;
            keepBest(m_bests, whole, mse);
            // What was learned of the constants goes on in the population.
            if (whole.size() <= m_room && mse < each.mse) each = {whole, mse, true};
        }
    }

    void elect() {
        SizeBests bests;
        for (const Candidate& each : m_now)
            if (std::isfinite(each.mse)) keepBest(bests, each.tree, each.mse);
        m_elite.clear();
        double best = INFINITY;
        for (auto& [size, each] : bests)
            if (each.mse < best) {
                best = each.mse;
                m_elite.push_back(each);
            }
    }

    const MatrixXd& m_columns;
    std::span<const double> m_y, m_weights;
    const FormulaOptions& m_options;
    const std::vector<ValueRange>& m_ranges;
    RandomStream m_stream;
    std::vector<Operation> m_unary, m_binary;
    std::size_t m_room = 1;
    ArrayXd m_weight, m_response;
    std::vector<Candidate> m_now, m_elite;
    SizeBests m_bests;
};

} // namespace

std::vector<FoundFormula> searchFormulas(const MatrixXd& columns, std::span<const double> y,
                                         std::span<const double> weights, const FormulaOptions& options,
                                         Threads threads, Progress& progress) {
    std::vector<ValueRange> ranges;
    for (Index j = 0; j < columns.cols(); ++j)
        ranges.push_back({columns.col(j).minCoeff(), columns.col(j).maxCoeff()});
    std::vector<Island> islands;
    islands.reserve(options.islands);
    for (std::size_t k = 0; k < options.islands; ++k)
        islands.emplace_back(columns, y, weights, options, ranges, k);
    SizeBests bests;
    for (std::size_t g = 0; g < options.generations; ++g) {
        if (progress.stopRequested()) {
            if (bests.empty() || !progress.serveStop()) throw Stopped{};
            break;
        }
        progress.report(static_cast<double>(g) / static_cast<double>(options.generations),
                        "Generation " + std::to_string(g + 1) + " of " + std::to_string(options.generations));
        const StopOnly stops(progress);
        parallelFor(islands.size(), threads, [&](std::size_t k) {
            // A stop ends the generation; what there was stays.
            try {
                islands[k].generation(stops);
            } catch (const Stopped&) {
            }
        });
        constexpr std::size_t between = 10;
        if (g % between == between - 1)
            for (std::size_t k = 0; k < islands.size() && islands.size() > 1; ++k)
                islands[k].welcome(islands[(k + 1) % islands.size()]);
        double least = INFINITY;
        for (const Island& island : islands)
            for (const auto& [size, each] : island.bests()) {
                keepBest(bests, each.tree, each.mse);
                least = std::min(least, each.mse);
            }
        progress.course("best formula", static_cast<double>(g + 1), std::sqrt(least), std::nan(""));
    }
    std::vector<FoundFormula> front;
    for (const auto& [size, each] : bests)
        if (front.empty() || each.mse < (1 - clearlyBetter) * front.back().mse)
            front.push_back({each.tree, each.mse});
    for (FoundFormula& each : front)
        each.mse = polish(each.tree, columns, y, weights, 30);
    return front;
}

} // namespace oxgoad
