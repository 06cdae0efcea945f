#pragma once
// Sums over the rows of a model matrix, block by block in a fixed order.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/row_source.h"

#include <algorithm>
#include <vector>

namespace oxgoad {

/// Rows a block, by the shape only, so that sums come out the same on any machine.
inline Eigen::Index rowsOfBlock(Eigen::Index columns) {
    return std::clamp<Eigen::Index>((1 << 17) / (columns + 2), 256, 8192);
}

/// Calls each(begin, raw) for every block of rows, in parallel. Throws Stopped.
template <class Each>
void forRowBlocks(const RowSource& x, Threads threads, Progress& progress, Each&& each) {
    const Eigen::Index size = rowsOfBlock(x.columns());
    const auto count = static_cast<std::size_t>((x.rows() + size - 1) / size);
    parallelFor(count, threads, [&](std::size_t b) {
        stopIfTold(progress);
        const Eigen::Index begin = static_cast<Eigen::Index>(b) * size;
        Eigen::MatrixXd raw(std::min(size, x.rows() - begin), x.columns());
        x.fill(begin, raw);
        each(begin, raw);
    });
}

/// Sum of each(begin, raw) over the blocks, added in order.
template <class Sum, class Each>
Sum sumRowBlocks(const RowSource& x, Threads threads, Progress& progress, Sum zero, Each&& each) {
    const Eigen::Index size = rowsOfBlock(x.columns());
    std::vector<Sum> parts(static_cast<std::size_t>((x.rows() + size - 1) / size));
    forRowBlocks(x, threads, progress, [&](Eigen::Index begin, const Eigen::MatrixXd& raw) {
        parts[static_cast<std::size_t>(begin / size)] = each(begin, raw);
    });
    for (const Sum& part : parts)
        zero += part;
    return zero;
}

} // namespace oxgoad
