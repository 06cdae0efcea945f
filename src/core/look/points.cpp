#include "look/points.h"

#include <cmath>

namespace oxgoad {

NumberView::NumberView(const Column& column) {
    if (column.kind() == ColumnKind::number) {
        m_values = column.numbers();
        return;
    }
    m_own.resize(column.size(), std::nan(""));
    if (column.kind() == ColumnKind::factor) {
        const auto codes = column.codes();
        for (std::size_t i = 0; i < codes.size(); ++i)
            if (codes[i] >= 0) m_own[i] = codes[i];
    } else if (column.kind() == ColumnKind::date) {
        const auto days = column.days();
        for (std::size_t i = 0; i < days.size(); ++i)
            if (days[i] != Column::missingDay) m_own[i] = days[i];
    }
    m_values = m_own;
}

} // namespace oxgoad
