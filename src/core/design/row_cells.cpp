#include "design/design.h"
#include "design/levels_at.h"

#include <algorithm>
#include <iterator>
#include <memory>

namespace oxgoad {

namespace {

/// Pieces of a column that are numbers, or levels.
std::vector<DesignColumn::Piece> piecesOf(const Design& design, const DesignColumn& column, bool levels) {
    std::vector<DesignColumn::Piece> pieces;
    std::copy_if(column.pieces.begin(), column.pieces.end(), std::back_inserter(pieces),
                 [&](const auto& piece) { return design.inputs()[piece.input].factor == levels; });
    return pieces;
}

bool same(const std::vector<DesignColumn::Piece>& a, const std::vector<DesignColumn::Piece>& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(),
                      [](const auto& p, const auto& q) { return p.input == q.input && p.basis == q.basis; });
}

/// Rows with the same levels of the inputs so far, told further apart by one more of `size` levels. False
/// when that makes more than `most` cells, or could make more than a table of them may hold.
bool split(RowCells& cells, std::vector<std::vector<double>>& levels, const std::vector<std::uint32_t>& codes,
           std::size_t size, std::size_t most) {
    constexpr std::uint32_t unknown = 0xffffffff;
    constexpr std::size_t mostPlaces = 40000000;
    if (levels.size() * size > mostPlaces) return false;
    std::vector<std::uint32_t> table(levels.size() * size, unknown);
    std::vector<std::vector<double>> next;
    for (std::size_t i = 0; i < codes.size(); ++i) {
        std::uint32_t& place = table[cells.cellOf[i] * size + codes[i]];
        if (place == unknown) {
            if (next.size() >= most) return false;
            place = static_cast<std::uint32_t>(next.size());
            next.push_back(levels[cells.cellOf[i]]);
            next.back().push_back(codes[i]);
        }
        cells.cellOf[i] = place;
    }
    levels = std::move(next);
    return true;
}

} // namespace

std::shared_ptr<const RowCells> DesignRows::cells(Eigen::Index most) const {
    const Design& design = m_design.design();
    std::vector<std::size_t> factors;
    for (const DesignColumn& column : design.columns())
        for (const auto& piece : column.pieces)
            if (design.inputs()[piece.input].factor &&
                std::find(factors.begin(), factors.end(), piece.input) == factors.end())
                factors.push_back(piece.input);
    if (factors.empty()) return nullptr;
    auto cells = std::make_shared<RowCells>();
    std::vector<std::vector<DesignColumn::Piece>> numbers;
    for (const DesignColumn& column : design.columns()) {
        auto own = piecesOf(design, column, false);
        if (own.empty()) {
            cells->numberOf.push_back(RowCells::none);
            continue;
        }
        auto at = std::find_if(numbers.begin(), numbers.end(), [&](const auto& n) { return same(n, own); });
        cells->numberOf.push_back(at - numbers.begin());
        if (at == numbers.end()) numbers.push_back(std::move(own));
    }
    cells->numbers = static_cast<Eigen::Index>(numbers.size());
    cells->cellOf.assign(m_rows.size(), 0);
    std::vector<std::vector<double>> levels(1);
    for (const std::size_t factor : factors) {
        if (!split(*cells, levels, levelsAt(m_design.inputs(), factor, m_rows),
                   design.inputs()[factor].levels.size(), static_cast<std::size_t>(most)))
            return nullptr;
    }
    cells->count = static_cast<Eigen::Index>(levels.size());
    cells->multiple = Eigen::MatrixXd::Ones(cells->count, static_cast<Eigen::Index>(design.columns().size()));
    for (std::size_t j = 0; j < design.columns().size(); ++j)
        for (const auto& piece : piecesOf(design, design.columns()[j], true)) {
            const auto place = std::find(factors.begin(), factors.end(), piece.input) - factors.begin();
            for (std::size_t c = 0; c < levels.size(); ++c)
                cells->multiple(static_cast<Eigen::Index>(c), static_cast<Eigen::Index>(j)) *=
                    piece.basis.at(levels[c][static_cast<std::size_t>(place)]);
        }
    cells->fill = [this, numbers = std::move(numbers)](std::span<const std::uint32_t> places,
                                                       Eigen::Ref<Eigen::MatrixXd> block) {
        std::vector<std::uint32_t> rows;
        rows.reserve(places.size());
        for (const auto place : places)
            rows.push_back(m_rows[place]);
        std::vector<double> values(rows.size());
        for (std::size_t m = 0; m < numbers.size(); ++m) {
            double* out = block.col(static_cast<Eigen::Index>(m)).data();
            if (numbers[m].size() == 1 && numbers[m][0].basis.isPlain()) {
                m_design.inputs().fillOne(numbers[m][0].input, rows, out);
                continue;
            }
            for (std::size_t k = 0; k < numbers[m].size(); ++k) {
                const auto& piece = numbers[m][k];
                m_design.inputs().fillOne(piece.input, rows, values.data());
                for (std::size_t i = 0; i < rows.size(); ++i)
                    out[i] = (k == 0 ? 1 : out[i]) * piece.basis.at(values[i]);
            }
        }
    };
    return cells;
}

} // namespace oxgoad
