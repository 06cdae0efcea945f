#include "workspace/grids.h"

#include "base/text.h"
#include "check/influence.h"
#include "study/compare.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

bool areYears(const Session& session, const Column& column) {
    const LedgerLine* line = session.ledger().find(column.name());
    const ColumnSummary* s = line ? &line->summary : nullptr;
    return s && s->numbers && s->whole == s->rows - s->missing &&
           areYears(s->numbers->smallest, s->numbers->largest);
}

QString shownCell(const Column& column, std::size_t row, bool years) {
    if (column.kind() != ColumnKind::number || column.moments() || years || column.isMissing(row))
        return qs(column.cellText(row));
    return qs(groupedText(column.numbers()[row]));
}

GridModel::Content faultsGrid(const Session& session) {
    GridModel::Content grid;
    if (!session.hasRows()) return grid;
    const auto rows = session.rows();
    const auto* faults = &rows->learning.report.faults;
    grid.rows = static_cast<int>(faults->size());
    auto at = [rows](int row) -> const CellFault& {
        return rows->learning.report.faults[static_cast<std::size_t>(row)];
    };
    grid.columns = {
        {"line",
         true,
         [at](int row) { return qs(countText(at(row).line)); },
         [at](int row) { return QVariant::fromValue<qulonglong>(at(row).line); },
         {}},
        {"row",
         true,
         [at](int row) { return qs(countText(at(row).row)); },
         [at](int row) { return QVariant::fromValue<qulonglong>(at(row).row); },
         {}},
        {"cell",
         true,
         [at](int row) { return qs(countText(at(row).cell)); },
         [at](int row) { return QVariant::fromValue<qulonglong>(at(row).cell); },
         {}},
        textColumn("column", [at](int row) { return qs(at(row).column); }),
        textColumn("text in the file", [at](int row) { return qs(at(row).text); }),
        textColumn("why", [at](int row) { return qs(at(row).reason); }),
    };
    grid.extra = [at](int row, int, int role) -> QVariant {
        return role == DataRowRole ? QVariant::fromValue<qulonglong>(at(row).row - 1) : QVariant();
    };
    return grid;
}

GridModel::Content outlyingGrid(const Session& session) {
    constexpr std::size_t shown = 50;
    GridModel::Content grid;
    const auto evidence = session.evidence();
    if (!evidence) return grid;
    const RowEvidence& rows = evidence->rows;
    const double sigma = evidence->study->rule.spread;
    const LinearRows* linear = evidence->linear ? &evidence->linear->rows : nullptr;
    auto size = [&rows, linear, sigma](std::size_t i) {
        const double value =
            linear && rows.state[i] == RowState::learning ? linear->studentized[i] : rows.residual[i] / sigma;
        return std::isnan(value) ? -1.0 : std::fabs(value);
    };
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < rows.state.size(); ++i)
        if (size(i) > 2) order.push_back(i);
    const auto count = std::min(shown, order.size());
    std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(count), order.end(),
                      [&](std::size_t a, std::size_t b) { return size(a) > size(b); });
    order.resize(count);
    grid.rows = static_cast<int>(count);
    auto at = [order](int row) { return order[static_cast<std::size_t>(row)]; };
    const int decimals = decimalsFor(evidence->learning.rmse);
    grid.columns = {
        {"row",
         true,
         [at](int row) { return qs(countText(at(row) + 1)); },
         [at](int row) { return QVariant::fromValue<qulonglong>(at(row) + 1); },
         {}},
        textColumn("part", [at, evidence](int row) { return qs(stateName(evidence->rows.state[at(row)])); }),
        numberColumn(
            "actual", [at, evidence](int row) { return evidence->rows.actual[at(row)]; }, decimals),
        numberColumn(
            "predicted", [at, evidence](int row) { return evidence->rows.fitted[at(row)]; }, decimals),
        numberColumn(
            residualTitle(*evidence), [at, evidence](int row) { return evidence->rows.residual[at(row)]; },
            decimalsFor(sigma)),
    };
    if (!linear) {
        grid.columns.push_back(numberColumn(
            "in typical\nerrors",
            [at, evidence, sigma](int row) { return evidence->rows.residual[at(row)] / sigma; }, 2));
    } else {
        const auto of = [at, evidence](std::vector<double> LinearRows::*member) {
            return [at, evidence, member](int row) { return (evidence->linear->rows.*member)[at(row)]; };
        };
        grid.columns.push_back(numberColumn("studentised", of(&LinearRows::studentized), 2));
        grid.columns.push_back(numberColumn("leverage", of(&LinearRows::leverage), 4));
        if (linear->robustWeight.empty()) {
            grid.columns.push_back(numberColumn("Cook's distance", of(&LinearRows::cook), 3));
            grid.columns.push_back(numberColumn(
                "DFFITS",
                [at, evidence](int row) {
                    return dffits(evidence->linear->rows.studentized[at(row)],
                                  evidence->linear->rows.leverage[at(row)]);
                },
                3));
        } else // in place of what only least squares has
            grid.columns.push_back(numberColumn("weight", of(&LinearRows::robustWeight), 3));
    }
    grid.extra = [at](int row, int, int role) -> QVariant {
        return role == DataRowRole ? QVariant::fromValue<qulonglong>(at(row)) : QVariant();
    };
    return grid;
}

GridModel::Content readingsGrid(const Session& session) {
    GridModel::Content grid;
    const auto evidence = session.evidence();
    if (!evidence) return grid;
    grid.rows = static_cast<int>(evidence->readings.size());
    auto at = [evidence](int row) -> const Reading& {
        return evidence->readings[static_cast<std::size_t>(row)];
    };
    grid.columns = {
        textColumn("check", [at](int row) { return qs(at(row).name); }),
        {"reading",
         true,
         [at](int row) {
             return std::isnan(at(row).value) ? QString("–")
                    : at(row).value == std::floor(at(row).value) && at(row).value >= 0
                        ? qs(countText(static_cast<std::size_t>(std::fabs(at(row).value))))
                        : qs(readableText(at(row).value));
         },
         [at](int row) { return rawNumber(at(row).value); },
         {}},
        {"p",
         true,
         [at](int row) { return at(row).p ? qs(probabilityText(*at(row).p)) : QString(); },
         [at](int row) { return at(row).p ? rawNumber(*at(row).p) : QVariant(); },
         {}},
        {"threshold",
         true,
         [at](int row) {
             return std::isnan(at(row).threshold)
                        ? QString()
                        : (at(row).p ? "p " : "") + qs(shortText(at(row).threshold));
         },
         [at](int row) { return rawNumber(at(row).threshold); },
         {}},
        textColumn("what it says", [at](int row) { return qs(at(row).sentence); }),
        textColumn("source", [at](int row) { return qs(at(row).source); }),
    };
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == FractionRole) return -1; // readings are of different units
        if (role != ToneRole) return {};
        const Reading& reading = at(row);
        if (std::isnan(reading.value)) return "quiet";
        const bool crossed = reading.p && *reading.p < reading.threshold;
        if (crossed && column == 2) return "goad";
        return column == 5 ? QVariant("quiet") : QVariant();
    };
    return grid;
}

GridModel::Content forecastGrid(const Session& session) {
    GridModel::Content grid;
    const auto evidence = session.evidence();
    const auto rows = session.rows();
    const auto prepared = session.prepared();
    if (!evidence || !evidence->forecast || !rows->forecast || !prepared->forecast) return grid;
    const Table& table = prepared->forecast->table;
    grid.rows = static_cast<int>(table.rows());
    auto at = [](int row) { return static_cast<std::size_t>(row); };
    const int decimals = decimalsFor(evidence->learning.rmse);
    const QString unit = session.unit(evidence->response);
    const QString level = qs(percentText(evidence->forecast->level));
    // Identifiers, the forecast, then what the model reads; all given columns are in the export.
    std::vector<std::string> named;
    for (const Column& column : table.columns())
        if ((column.kind() == ColumnKind::date || column.kind() == ColumnKind::text) && named.size() < 2)
            named.push_back(column.name());
    for (const Column& column : table.columns())
        if (column.kind() == ColumnKind::factor && column.levels().size() > 12 && named.size() < 2)
            named.insert(named.begin(), column.name());
    auto addGiven = [&](const std::string& name) {
        const Column* column = table.find(name);
        if (!column) return;
        grid.columns.push_back({qs(name), column->kind() == ColumnKind::number,
                                [c = *column, at, years = areYears(session, *column)](int row) {
                                    return shownCell(c, at(row), years);
                                },
                                [c = *column, at](int row) {
                                    return c.kind() == ColumnKind::number ? rawNumber(c.asNumber(at(row)))
                                                                          : QVariant(qs(c.cellText(at(row))));
                                },
                                session.titled(name)});
    };
    for (const std::string& name : named)
        addGiven(name);
    auto value = [evidence, at](std::vector<double> ForecastEvidence::*member) {
        return [evidence, at, member](int row) { return ((*evidence->forecast).*member)[at(row)]; };
    };
    const LinearModel* fitted = evidence->study->linear();
    grid.columns.push_back(numberColumn(
        fitted && fitted->isQuantile() ? qs(percentText(fitted->share)) + " quantile" : QString("forecast"),
        value(&ForecastEvidence::prediction), decimals));
    grid.columns.back().toolTip =
        "Predicted " + qs(evidence->response) + (unit.isEmpty() ? QString() : ", " + unit);
    grid.columns.push_back(numberColumn(level + " from", value(&ForecastEvidence::lower), decimals));
    grid.columns.push_back(numberColumn("to", value(&ForecastEvidence::upper), decimals));
    const int reachColumn = static_cast<int>(grid.columns.size());
    auto reachAt = [evidence, at](int row) -> const Reach& { return evidence->forecast->reach[at(row)]; };
    grid.columns.push_back(
        {"reach", false, [reachAt](int row) { return qs(gradeName(reachAt(row).grade)); }, {}, {}});
    grid.columns.push_back(textColumn("because", [reachAt](int row) {
        QStringList reasons;
        for (const auto& reason : reachAt(row).reasons)
            reasons << qs(reason);
        return reasons.join("; ");
    }));
    for (const std::string& name : inputNames(session.recipe().terms))
        if (std::find(named.begin(), named.end(), name) == named.end()) addGiven(name);
    grid.extra = [reachAt, reachColumn](int row, int column, int role) -> QVariant {
        if (role == ToneRole && column == reachColumn)
            return reachAt(row).grade == ReachGrade::outside ? "alarm"
                   : reachAt(row).grade == ReachGrade::edge  ? "goad"
                                                             : "fine";
        if (role == ToneRole &&
            (column == reachColumn - 1 || column == reachColumn - 2 || column == reachColumn + 1))
            return "quiet";
        if (role == DrawingRole && column == reachColumn) return static_cast<int>(reachAt(row).grade);
        return {};
    };
    return grid;
}

} // namespace oxgoad
