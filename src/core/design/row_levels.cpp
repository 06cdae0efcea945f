#include "design/row_levels.h"

#include "design/design.h"
#include "design/levels_at.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <memory>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;

namespace {

using Pieces = std::vector<DesignColumn::Piece>;

bool samePieces(const Pieces& a, const Pieces& b) {
    return std::equal(a.begin(), a.end(), b.begin(), b.end(),
                      [](const auto& x, const auto& y) { return x.input == y.input && x.basis == y.basis; });
}

/// Columns with the indicator of a level of one factor: of each level and each of the slots, which are the
/// other pieces, the first.
struct OfFactor {
    std::vector<Pieces> slots;
    std::map<std::pair<int, std::size_t>, Index> columns;
    std::map<int, bool> levels;
};

std::map<std::size_t, OfFactor> columnsByFactor(const Inputs& inputs,
                                                const std::vector<DesignColumn>& columns) {
    constexpr std::size_t mostSlots = 16;
    std::map<std::size_t, OfFactor> found;
    for (std::size_t j = 0; j < columns.size(); ++j)
        for (std::size_t p = 0; p < columns[j].pieces.size(); ++p) {
            const auto& piece = columns[j].pieces[p];
            if (!inputs[piece.input].factor || piece.basis.kind != Basis::Kind::indicator) continue;
            Pieces others = columns[j].pieces;
            others.erase(others.begin() + static_cast<std::ptrdiff_t>(p));
            OfFactor& own = found[piece.input];
            const auto known = std::find_if(own.slots.begin(), own.slots.end(),
                                            [&](const Pieces& one) { return samePieces(one, others); });
            const auto slot = static_cast<std::size_t>(known - own.slots.begin());
            if (slot == mostSlots) continue;
            if (known == own.slots.end()) own.slots.push_back(std::move(others));
            own.columns.emplace(std::pair{piece.basis.level, slot}, static_cast<Index>(j));
            own.levels[piece.basis.level] = true;
        }
    return found;
}

std::vector<std::uint32_t> rowsAt(std::span<const std::uint32_t> rows,
                                  std::span<const std::uint32_t> places) {
    std::vector<std::uint32_t> chosen;
    chosen.reserve(places.size());
    for (const auto place : places)
        chosen.push_back(rows[place]);
    return chosen;
}

/// Finds the second factor of some level columns.
void findSecond(Design::LevelColumns& made, const Inputs& inputs, const std::vector<DesignColumn>& columns) {
    constexpr std::size_t fewest = 16;
    for (std::size_t input = 0; input < inputs.size(); ++input) {
        if (!inputs[input].factor || input == made.input) continue;
        std::vector<Index> own, others;
        for (std::size_t k = 0; k < made.rest.size(); ++k) {
            const Pieces& pieces = columns[static_cast<std::size_t>(made.rest[k])].pieces;
            const bool alone = std::all_of(pieces.begin(), pieces.end(),
                                           [&](const auto& piece) { return piece.input == input; });
            (alone && !pieces.empty() ? own : others).push_back(static_cast<Index>(k));
        }
        if (own.size() < std::max(fewest, made.second.size() + 1)) continue;
        made.secondInput = input;
        made.second = std::move(own);
        made.others = std::move(others);
    }
}

} // namespace

void Design::findLevelColumns() {
    m_levelColumns.reset();
    auto found = columnsByFactor(m_inputs, m_columns);
    const auto largest = std::max_element(found.begin(), found.end(), [](const auto& a, const auto& b) {
        return a.second.levels.size() < b.second.levels.size();
    });
    if (largest == found.end()) return;
    OfFactor& factor = largest->second;
    auto made = std::make_shared<LevelColumns>();
    made->input = largest->first;
    made->levels = factor.levels.size();
    made->perLevel = factor.slots.size();
    made->ones = factor.slots.front().empty();
    made->columns.assign(made->levels * made->perLevel, -1);
    made->placeOf.assign(m_inputs[made->input].levels.size(), static_cast<std::uint32_t>(made->levels));
    std::uint32_t place = 0;
    for (const auto& [level, there] : factor.levels)
        made->placeOf[static_cast<std::size_t>(level)] = place++;
    std::vector<char> own(m_columns.size(), 0);
    for (const auto& [at, column] : factor.columns) {
        made->columns[made->placeOf[static_cast<std::size_t>(at.first)] * made->perLevel + at.second] =
            column;
        own[static_cast<std::size_t>(column)] = 1;
    }
    for (std::size_t j = 0; j < m_columns.size(); ++j)
        if (!own[j]) made->rest.push_back(static_cast<Index>(j));
    if (made->perLevel > 1 || !made->ones) {
        std::vector<DesignColumn> columns;
        for (Pieces& pieces : factor.slots)
            columns.push_back({{}, 0, std::move(pieces)});
        auto values = std::make_shared<Design>();
        values->m_inputs = m_inputs;
        values->m_columns = std::move(columns);
        made->own = std::move(values);
    }
    findSecond(*made, m_inputs, m_columns);
    m_levelColumns = std::move(made);
}

MatrixXd Design::times(const MatrixXd& inputs, const MatrixXd& b) const {
    constexpr std::size_t many = 64;
    if (!m_levelColumns || m_levelColumns->levels < many) {
        MatrixXd block(inputs.rows(), static_cast<Index>(m_columns.size()));
        fill(inputs, block);
        return block * b;
    }
    const LevelColumns& levels = *m_levelColumns;
    MatrixXd rest(inputs.rows(), static_cast<Index>(levels.rest.size()));
    for (Index k = 0; k < rest.cols(); ++k)
        fillColumn(static_cast<std::size_t>(levels.rest[static_cast<std::size_t>(k)]), inputs,
                   rest.col(k).data());
    MatrixXd own = MatrixXd::Ones(inputs.rows(), static_cast<Index>(levels.perLevel));
    if (levels.own) levels.own->fill(inputs, own);
    MatrixXd out = rest * MatrixXd(b(levels.rest, Eigen::all));
    for (Index i = 0; i < inputs.rows(); ++i) {
        const double level = inputs(i, static_cast<Index>(levels.input));
        if (std::isnan(level)) {
            out.row(i).setConstant(level);
            continue;
        }
        const auto place = levels.placeOf[static_cast<std::size_t>(level)];
        for (std::size_t s = 0; s < levels.perLevel && place < levels.levels; ++s)
            if (const Index column = levels.columns[place * levels.perLevel + s]; column >= 0)
                out.row(i) += own(i, static_cast<Index>(s)) * b.row(column);
    }
    return out;
}

std::shared_ptr<const RowLevels> DesignRows::levels() const {
    const auto& known = m_design.design().levelColumns();
    if (!known) return nullptr;
    auto made = std::make_shared<RowLevels>();
    made->levels = static_cast<Index>(known->levels);
    made->perLevel = static_cast<Index>(known->perLevel);
    made->columns = known->columns;
    made->ones = known->ones;
    made->rest = known->rest;
    made->of = levelsAt(m_design.inputs(), known->input, m_rows);
    for (auto& level : made->of)
        level = known->placeOf[level];
    const auto chosen = [this](std::span<const std::uint32_t> places) { return rowsAt(m_rows, places); };
    made->fill = [this, known, chosen](std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) {
        m_design.fillColumns(chosen(places), known->rest, block);
    };
    if (known->own) {
        auto own = std::make_shared<BoundDesign>(*known->own, m_design.inputs());
        made->fillOwn = [known, own, chosen](std::span<const std::uint32_t> places,
                                             Eigen::Ref<MatrixXd> block) {
            own->fill(chosen(places), block);
        };
    }
    if (!known->second.empty()) made->second = secondLevels(*known);
    return made;
}

std::shared_ptr<const RowLevels::Second> DesignRows::secondLevels(const Design::LevelColumns& known) const {
    const Design& design = m_design.design();
    auto made = std::make_shared<RowLevels::Second>();
    made->of = levelsAt(m_design.inputs(), known.secondInput, m_rows);
    made->levels = static_cast<Index>(design.inputs()[known.secondInput].levels.size());
    made->places = known.second;
    made->others = known.others;
    MatrixXd inputs = MatrixXd::Zero(made->levels, static_cast<Index>(design.inputs().size()));
    for (Index level = 0; level < made->levels; ++level)
        inputs(level, static_cast<Index>(known.secondInput)) = static_cast<double>(level);
    made->values.resize(made->levels, static_cast<Index>(known.second.size()));
    const auto columnAt = [&known](Index place) { return known.rest[static_cast<std::size_t>(place)]; };
    for (std::size_t k = 0; k < known.second.size(); ++k)
        design.fillColumn(static_cast<std::size_t>(columnAt(known.second[k])), inputs,
                          made->values.col(static_cast<Index>(k)).data());
    std::vector<Index> columns;
    for (const Index place : known.others)
        columns.push_back(columnAt(place));
    made->fill = [this, columns](std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) {
        m_design.fillColumns(rowsAt(m_rows, places), columns, block);
    };
    return made;
}

} // namespace oxgoad
