#include "workspace/look_grids.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <QColor>
#include <algorithm>
#include <cmath>

namespace oxgoad {

GridModel::Content rankingGrid(std::shared_ptr<const std::vector<RankedColumn>> ranking) {
    auto at = [ranking](int row) -> const RankedColumn& { return (*ranking)[static_cast<std::size_t>(row)]; };
    GridModel::Content grid;
    grid.rows = static_cast<int>(ranking->size());
    auto share = [&](const QString& title, const QString& tip, std::function<double(int)> value) {
        GridColumn column = numberColumn(title, value, 2);
        // How much worse than the mean a curve does in a heavy tail is no number to compare with.
        column.text = [value, text = column.text](int row) {
            return value(row) < -1 ? QString("below −1") : text(row);
        };
        column.toolTip = tip;
        return column;
    };
    GridColumn drawn = textColumn("explained alone", [](int) { return QString(); });
    drawn.toolTip =
        "From what a line explains to what a curve explains (the mark), both of rows not used to draw "
        "them, from 0 to all of the variance: a long bar bends";
    grid.columns = {
        textColumn("column", [at](int row) { return qs(at(row).name); }),
        drawn,
        share("line R²", "Share of the variance a straight line or the level means explain",
              [at](int row) { return at(row).straight; }),
        share("curve R²",
              "Share a curve or the level means explain of rows not used to make them; below 0: worse than "
              "the mean",
              [at](int row) { return at(row).curved; }),
        share("bend", "What the curve adds to the line, on rows not used to draw them",
              [at](int row) { return std::isnan(at(row).curved) ? at(row).curved : at(row).bend(); }),
        share("rank r", "Spearman's rank correlation", [at](int row) { return at(row).rankCorrelation; }),
        {"p adjusted", true,
         [at](int row) {
             const double p = at(row).pAdjusted;
             return std::isnan(p) ? QString() : qs(probabilityText(p));
         },
         [at](int row) { return rawNumber(at(row).pAdjusted); },
         "Of the line or the level means, for the number of columns (Holm 1979)"},
        {"missing", true,
         [at](int row) { return qs(percentText(std::round(1000 * at(row).missingShare) / 1000)); },
         [at](int row) { return rawNumber(at(row).missingShare); }, "Learning rows that lack the column"}};
    grid.extra = [at](int row, int column, int role) -> QVariant {
        const RankedColumn& r = at(row);
        if (role == DrawingRole && column == 1 && !std::isnan(r.curved)) {
            const double line = std::max(0.0, r.straightUnseen);
            const double curve = std::max(0.0, r.curved);
            return QVariant::fromValue(
                IntervalDrawing{{{curve, std::min(line, curve), std::max(line, curve)}}, 0, 1});
        }
        if (role == ToneRole && column == 4 && !std::isnan(r.curved) && r.bend() > 0.02) return "goad";
        return {};
    };
    return grid;
}

void sortRanking(std::vector<RankedColumn>& ranking, int column, bool descending) {
    auto key = [column](const RankedColumn& r) {
        switch (column) {
        case 2:
            return r.straight;
        case 4:
            return std::isnan(r.curved) ? r.curved : r.bend();
        case 5:
            return std::fabs(r.rankCorrelation);
        case 6:
            return r.pAdjusted;
        case 7:
            return r.missingShare;
        default:
            return r.curved;
        }
    };
    std::stable_sort(ranking.begin(), ranking.end(), [&](const RankedColumn& a, const RankedColumn& b) {
        if (column == 0) return descending ? a.name > b.name : a.name < b.name;
        const double x = key(a), y = key(b);
        if (std::isnan(x) || std::isnan(y)) return !std::isnan(x) && std::isnan(y);
        return descending ? x > y : x < y;
    });
}

GridModel::Content pairsGrid(std::shared_ptr<const Pairs> pairs) {
    auto at = [pairs](int row) -> const Association& {
        return pairs->strongest[static_cast<std::size_t>(row)];
    };
    GridModel::Content grid;
    grid.rows = static_cast<int>(std::min(pairs->strongest.size(), mostPairsListed));
    auto group = [pairs, at](int row) {
        const int a = pairs->group[at(row).a], b = pairs->group[at(row).b];
        return a != 0 && a == b ? a : 0;
    };
    grid.columns = {textColumn("group",
                               [group](int row) {
                                   return group(row) != 0 ? QString("[%1]").arg(group(row)) : QString();
                               }),
                    textColumn("column", [pairs, at](int row) { return qs(pairs->columns[at(row).a]); }),
                    textColumn("goes with", [pairs, at](int row) { return qs(pairs->columns[at(row).b]); }),
                    numberColumn(
                        "strength", [at](int row) { return at(row).value; }, 3),
                    textColumn("measured by",
                               [at](int row) {
                                   return QString(at(row).kind == AssociationKind::correlation ? "correlation"
                                                  : at(row).kind == AssociationKind::correlationRatio
                                                      ? "correlation ratio"
                                                      : "Cramér's V");
                               }),
                    numberColumn(
                        "rows", [at](int row) { return static_cast<double>(at(row).rows); }, 0)};
    grid.columns[0].toolTip = "Columns that go together by more than 0.7 (Dormann et al. 2013)";
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == ToneRole && column == 3 && std::fabs(at(row).value) > groupStrength) return "goad";
        return {};
    };
    return grid;
}

GridModel::Content pairMatrix(std::shared_ptr<const Pairs> pairs) {
    GridModel::Content grid;
    const auto& order = pairs->order;
    grid.rows = static_cast<int>(order.size());
    const auto groupAt = [pairs](int place) {
        return place < 0 || place >= static_cast<int>(pairs->order.size())
                   ? -1
                   : pairs->group[pairs->order[static_cast<std::size_t>(place)]];
    };
    grid.columns = {textColumn("", [](int) { return QString(); }), textColumn("column", [pairs](int row) {
                        return QString("%1  %2").arg(row + 1).arg(
                            qs(pairs->columns[pairs->order[static_cast<std::size_t>(row)]]));
                    })};
    grid.columns[0].toolTip = "Columns that go together by more than 0.7 (Dormann et al. 2013)";
    for (std::size_t k = 0; k < order.size(); ++k) {
        const auto value = [pairs, k](int row) {
            const auto line = static_cast<std::size_t>(row);
            return line == k ? std::nan("") : pairs->at(pairs->order[line], pairs->order[k]);
        };
        GridColumn column = numberColumn(QString::number(k + 1), value, 2);
        column.toolTip = qs(pairs->columns[order[k]]);
        grid.columns.push_back(std::move(column));
    }
    grid.extra = [pairs, groupAt](int row, int column, int role) -> QVariant {
        if (column == 0) {
            const int group = groupAt(row);
            if (role != DrawingRole || group <= 0) return {};
            return QVariant::fromValue(BracketDrawing{groupAt(row - 1) != group, groupAt(row + 1) != group});
        }
        if (column == 1) return {};
        const auto line = static_cast<std::size_t>(row), across = static_cast<std::size_t>(column - 2);
        if (role != Qt::BackgroundRole) return {};
        if (line == across) return QColor(0xF3, 0xF4, 0xF1);
        const double value = pairs->at(pairs->order[line], pairs->order[across]);
        if (std::isnan(value)) return {};
        // Warm where they rise together, cool where one falls; the sign stands in the cell.
        QColor tint = value < 0 ? QColor(0x5B, 0x6F, 0xA6) : QColor(0xB5, 0x76, 0x1B);
        tint.setAlphaF(static_cast<float>(0.6 * value * value));
        return tint;
    };
    return grid;
}

} // namespace oxgoad
