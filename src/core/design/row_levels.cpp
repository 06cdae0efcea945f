#include "design/design.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <memory>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;

void Design::findLevelColumns() {
    m_levelColumns.reset();
    // Of each factor the column of each level, the first where there are several.
    std::map<std::size_t, std::map<int, Index>> columnsOf;
    for (std::size_t j = 0; j < m_columns.size(); ++j)
        if (const auto& pieces = m_columns[j].pieces; pieces.size() == 1 &&
                                                      m_inputs[pieces[0].input].factor &&
                                                      pieces[0].basis.kind == Basis::Kind::indicator)
            columnsOf[pieces[0].input].emplace(pieces[0].basis.level, static_cast<Index>(j));
    const auto largest =
        std::max_element(columnsOf.begin(), columnsOf.end(),
                         [](const auto& a, const auto& b) { return a.second.size() < b.second.size(); });
    if (largest == columnsOf.end()) return;
    auto made = std::make_shared<LevelColumns>();
    made->input = largest->first;
    for (const auto& [level, column] : largest->second)
        made->columns.push_back(column);
    std::sort(made->columns.begin(), made->columns.end());
    for (Index j = 0; j < static_cast<Index>(m_columns.size()); ++j)
        if (!std::binary_search(made->columns.begin(), made->columns.end(), j)) made->rest.push_back(j);
    made->placeOf.assign(m_inputs[made->input].levels.size(),
                         static_cast<std::uint32_t>(made->columns.size()));
    for (const auto& [level, column] : largest->second)
        made->placeOf[static_cast<std::size_t>(level)] = static_cast<std::uint32_t>(
            std::lower_bound(made->columns.begin(), made->columns.end(), column) - made->columns.begin());
    m_levelColumns = std::move(made);
}

MatrixXd Design::times(const MatrixXd& inputs, const MatrixXd& b) const {
    constexpr std::size_t many = 64;
    if (!m_levelColumns || m_levelColumns->columns.size() < many) {
        MatrixXd block(inputs.rows(), static_cast<Index>(m_columns.size()));
        fill(inputs, block);
        return block * b;
    }
    const LevelColumns& levels = *m_levelColumns;
    MatrixXd rest(inputs.rows(), static_cast<Index>(levels.rest.size()));
    for (Index k = 0; k < rest.cols(); ++k)
        fillColumn(static_cast<std::size_t>(levels.rest[static_cast<std::size_t>(k)]), inputs,
                   rest.col(k).data());
    MatrixXd out = rest * MatrixXd(b(levels.rest, Eigen::all));
    for (Index i = 0; i < inputs.rows(); ++i) {
        const double level = inputs(i, static_cast<Index>(levels.input));
        if (std::isnan(level)) {
            out.row(i).setConstant(level);
            continue;
        }
        const auto place = levels.placeOf[static_cast<std::size_t>(level)];
        if (place < levels.columns.size()) out.row(i) += b.row(levels.columns[place]);
    }
    return out;
}

std::shared_ptr<const RowLevels> DesignRows::levels() const {
    const auto& known = m_design.design().levelColumns();
    if (!known) return nullptr;
    auto made = std::make_shared<RowLevels>();
    made->columns = known->columns;
    made->rest = known->rest;
    std::vector<double> codes(m_rows.size());
    m_design.inputs().fillOne(known->input, m_rows, codes.data());
    made->of.reserve(codes.size());
    for (const double code : codes)
        made->of.push_back(known->placeOf[static_cast<std::size_t>(code)]);
    made->fill = [this, known](std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) {
        std::vector<std::uint32_t> rows;
        rows.reserve(places.size());
        for (const auto place : places)
            rows.push_back(m_rows[place]);
        m_design.fillColumns(rows, known->rest, block);
    };
    return made;
}

} // namespace oxgoad
