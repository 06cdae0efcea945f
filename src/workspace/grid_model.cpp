#include "workspace/grid_model.h"

#include "base/text.h"
#include "workspace/text.h"

#include <algorithm>
#include <map>

namespace oxgoad {

namespace {

constexpr int measuredRows = 500;
constexpr int notMeasured = -2;

} // namespace

void GridModel::setContent(Content content) {
    bool alike = content.rows == m_content.rows && content.columns.size() == m_content.columns.size() &&
                 content.rows > 0;
    for (std::size_t i = 0; alike && i < content.columns.size(); ++i)
        alike = content.columns[i].title == m_content.columns[i].title;
    if (!alike) beginResetModel();
    m_content = std::move(content);
    m_fractions.assign(m_content.columns.size(), notMeasured);
    if (!alike)
        endResetModel();
    else
        emit dataChanged(index(0, 0), index(rowCount() - 1, columnCount() - 1));
}

void GridModel::ticksChanged() {
    if (m_content.rows > 0 && !m_content.columns.empty())
        emit dataChanged(index(0, 0),
                         index(m_content.rows - 1, static_cast<int>(m_content.columns.size()) - 1),
                         {Qt::CheckStateRole});
}

int GridModel::rowCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : m_content.rows;
}

int GridModel::columnCount(const QModelIndex& parent) const {
    return parent.isValid() ? 0 : static_cast<int>(m_content.columns.size());
}

int GridModel::fractionOf(int column) const {
    const GridColumn& c = m_content.columns[static_cast<std::size_t>(column)];
    if (!c.number) return -1;
    int& fraction = m_fractions[static_cast<std::size_t>(column)];
    if (fraction != notMeasured) return fraction;
    fraction = 0;
    for (int row = 0; row < std::min(m_content.rows, measuredRows); ++row) {
        const QString text = c.text(row);
        const auto mark = text.indexOf('.');
        if (mark >= 0 && !text.contains('e'))
            fraction = std::max(fraction, static_cast<int>(text.size() - mark - 1));
    }
    return fraction;
}

QVariant GridModel::data(const QModelIndex& index, int role) const {
    if (!index.isValid() || index.row() >= m_content.rows) return {};
    if (m_content.extra) {
        const QVariant value = m_content.extra(index.row(), index.column(), role);
        if (value.isValid()) return value;
    }
    const GridColumn& column = m_content.columns[static_cast<std::size_t>(index.column())];
    switch (role) {
    case Qt::DisplayRole:
        return column.text ? column.text(index.row()) : QString();
    case RawValueRole:
        return column.raw ? column.raw(index.row())
                          : QVariant(column.text ? column.text(index.row()) : QString());
    case Qt::TextAlignmentRole:
        return QVariant::fromValue(
            Qt::Alignment((column.number ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter));
    case FractionRole:
        return fractionOf(index.column());
    default:
        return {};
    }
}

bool GridModel::setData(const QModelIndex& index, const QVariant& value, int role) {
    return index.isValid() && m_content.edit && m_content.edit(index.row(), index.column(), value, role);
}

QVariant GridModel::headerData(int section, Qt::Orientation orientation, int role) const {
    if (orientation != Qt::Horizontal || section >= columnCount()) return {};
    const GridColumn& column = m_content.columns[static_cast<std::size_t>(section)];
    if (role == Qt::DisplayRole) return column.title;
    if (role == Qt::ToolTipRole && !column.toolTip.isEmpty()) return column.toolTip;
    if (role == Qt::TextAlignmentRole)
        return QVariant::fromValue(
            Qt::Alignment((column.number ? Qt::AlignRight : Qt::AlignLeft) | Qt::AlignVCenter));
    return {};
}

Qt::ItemFlags GridModel::flags(const QModelIndex& index) const {
    if (!index.isValid()) return Qt::NoItemFlags;
    return m_content.flags ? m_content.flags(index.row(), index.column())
                           : Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemNeverHasChildren;
}

QString copiedText(const QModelIndexList& cells) {
    std::map<std::pair<int, int>, QString> ordered;
    for (const QModelIndex& cell : cells) {
        const QVariant raw = cell.data(RawValueRole);
        ordered[{cell.row(), cell.column()}] = raw.typeId() == QMetaType::Double
                                                   ? qs(exactText(raw.toDouble()))
                                                   : raw.toString().replace('\t', ' ').replace('\n', ' ');
    }
    QString text;
    int row = -1;
    for (const auto& [place, value] : ordered) {
        if (row >= 0) text += place.first == row ? '\t' : '\n';
        row = place.first;
        text += value;
    }
    return text;
}

} // namespace oxgoad
