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
            evidence->logResponse ? "residual,\nlogarithm" : "residual",
            [at, evidence](int row) { return evidence->rows.residual[at(row)]; }, decimalsFor(sigma)),
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
                                [c = *column, at](int row) { return qs(c.cellText(at(row))); },
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

GridModel::Content compareGrid(const Session& session, int left, const Evidence* a, int right,
                               const Evidence* b) {
    struct Line {
        QString name, first, second, difference;
        bool heading = false;
    };
    auto lines = std::make_shared<std::vector<Line>>();
    auto add = [&](const QString& name, double x, double y, int digits = 4) {
        lines->push_back(
            {name, qs(readableText(x, digits)), qs(readableText(y, digits)),
             std::isnan(x) || std::isnan(y) ? QString() : (y - x > 0 ? "+" : "") + qs(readableText(y - x, 3)),
             false});
    };
    if (a && b) {
        const QString unit =
            session.unit(a->response).isEmpty() ? QString() : ", " + session.unit(a->response);
        lines->push_back({"rows and errors", {}, {}, {}, true});
        lines->push_back(
            {"learning rows", qs(countText(a->rowsLearning)), qs(countText(b->rowsLearning)), {}, false});
        lines->push_back(
            {"held-out rows", qs(countText(a->rowsHeldOut)), qs(countText(b->rowsHeldOut)), {}, false});
        const Comparison both = compareHeldOut(*a, *b);
        const bool heldOut = a->rowsHeldOut > 0 || b->rowsHeldOut > 0;
        if (both.first.rows > 0) {
            add("RMSE on the " + qs(countText(both.first.rows)) + " rows both hold out" + unit,
                both.first.rmse, both.second.rmse);
            add("MAE on these rows" + unit, both.first.mae, both.second.mae);
        }
        if (heldOut) {
            add("RMSE, held-out rows" + unit, a->heldOut.rmse, b->heldOut.rmse);
            add("± its standard error", a->heldOut.rmseError, b->heldOut.rmseError, 3);
        }
        if (a->folds || b->folds) {
            const auto of = [](const Evidence* e, double FoldEvidence::*member) {
                return e->folds ? (*e->folds).*member : std::nan("");
            };
            const auto root = [&](const Evidence* e, double FoldEvidence::*member) {
                return std::sqrt(of(e, member));
            };
            const auto plan = [](const Evidence* e) {
                return e->folds ? qs(foldPlanText(e->folds->plan)) : QObject::tr("no folds");
            };
            const auto plus = [](const Evidence* e) {
                return e->folds && e->folds->bootstrap ? std::sqrt(e->folds->bootstrap->plus632)
                                                       : std::nan("");
            };
            lines->push_back({"judged by", plan(a), plan(b), {}, false});
            add("RMSE over folds" + unit, of(a, &FoldEvidence::rmse), of(b, &FoldEvidence::rmse));
            add("± its standard error, by folds", of(a, &FoldEvidence::rmseError),
                of(b, &FoldEvidence::rmseError), 3);
            const auto range = [](const Evidence* e) {
                double low = 1e300, high = -1e300;
                if (e->folds)
                    for (const FoldScore& fold : e->folds->each)
                        if (std::isfinite(fold.rmse)) {
                            low = std::min(low, fold.rmse);
                            high = std::max(high, fold.rmse);
                        }
                return low > high ? QString() : qs(readableText(low, 4) + " to " + readableText(high, 4));
            };
            lines->push_back({"single folds from, to" + unit, range(a), range(b), {}, false});
            if (!std::isnan(of(a, &FoldEvidence::adjustedMse)) ||
                !std::isnan(of(b, &FoldEvidence::adjustedMse)))
                add("bias-adjusted RMSE" + unit, root(a, &FoldEvidence::adjustedMse),
                    root(b, &FoldEvidence::adjustedMse));
            if (!std::isnan(plus(a)) || !std::isnan(plus(b))) add(".632+ RMSE" + unit, plus(a), plus(b));
            if (!std::isnan(of(a, &FoldEvidence::spreadOverRepeats)) ||
                !std::isnan(of(b, &FoldEvidence::spreadOverRepeats)))
                add("from dealing to dealing ±", of(a, &FoldEvidence::spreadOverRepeats),
                    of(b, &FoldEvidence::spreadOverRepeats), 3);
            add("MAE over folds" + unit, of(a, &FoldEvidence::mae), of(b, &FoldEvidence::mae));
            add("R² over folds", of(a, &FoldEvidence::rSquared), of(b, &FoldEvidence::rSquared));
            const FoldComparison paired = compareFolds(*a, *b);
            if (paired.folds > 0)
                lines->push_back({"folds in which it is better",
                                  QString::number(paired.folds - paired.betterFolds),
                                  QString::number(paired.betterFolds),
                                  {},
                                  false});
        }
        add("RMSE, learning rows" + unit, a->learning.rmse, b->learning.rmse);
        if (heldOut) {
            add("MAE, held-out rows" + unit, a->heldOut.mae, b->heldOut.mae);
            add("R², held-out rows", a->heldOut.rSquared, b->heldOut.rSquared);
        }
        const auto addLinear = [&](const QString& name, double LinearEvidence::*member, int digits = 4) {
            if (a->linear || b->linear)
                add(name, a->linear ? (*a->linear).*member : std::nan(""),
                    b->linear ? (*b->linear).*member : std::nan(""), digits);
        };
        addLinear("R², learning rows", &LinearEvidence::rSquared);
        addLinear("adjusted R²", &LinearEvidence::adjustedRSquared);
        if (a->logResponse == b->logResponse)
            addLinear("residual standard deviation" + (a->logResponse ? QString(" of the logarithm") : unit),
                      &LinearEvidence::residualStandardDeviation);
        if (a->linear && b->linear && std::isfinite(a->linear->aicc) && std::isfinite(b->linear->aicc) &&
            a->rowsLearning == b->rowsLearning) {
            addLinear("AICc", &LinearEvidence::aicc, 6);
            addLinear("BIC", &LinearEvidence::bic, 6);
        }
        const auto freedom = [](const Evidence* e) {
            return e->linear ? qs(countText(static_cast<std::size_t>(e->linear->degreesOfFreedom)))
                             : QString();
        };
        if (a->linear || b->linear)
            lines->push_back({"degrees of freedom", freedom(a), freedom(b), {}, false});
        std::vector<std::string> names;
        for (const auto* e : {a, b})
            if (e->linear)
                for (const auto& c : e->linear->coefficients)
                    if (std::find(names.begin(), names.end(), c.name) == names.end()) names.push_back(c.name);
        if (!names.empty()) lines->push_back({"coefficients ± standard error", {}, {}, {}, true});
        auto find = [](const Evidence* e, const std::string& name) -> const CoefficientEvidence* {
            if (!e->linear) return nullptr;
            for (const auto& c : e->linear->coefficients)
                if (c.name == name) return &c;
            return nullptr;
        };
        auto shown = [](const CoefficientEvidence* c) {
            return !c             ? QString()
                   : c->dependent ? QString("repeats others")
                                  : supportedText(c->estimate, c->standardError) + " ± " +
                                        qs(readableText(c->standardError, 2));
        };
        for (const std::string& name : names) {
            const auto* x = find(a, name);
            const auto* y = find(b, name);
            lines->push_back({qs(name), shown(x), shown(y),
                              x && y && !x->dependent && !y->dependent
                                  ? (y->estimate > x->estimate ? "+" : "") +
                                        supportedText(y->estimate - x->estimate,
                                                      std::max(x->standardError, y->standardError))
                                  : QString(),
                              false});
        }
    }
    GridModel::Content grid;
    grid.rows = static_cast<int>(lines->size());
    auto at = [lines](int row) -> const Line& { return (*lines)[static_cast<std::size_t>(row)]; };
    grid.columns = {
        textColumn("", [at](int row) { return at(row).name; }),
        {QString("fit %1").arg(left), true, [at](int row) { return at(row).first; }, {}, {}},
        {QString("fit %1").arg(right), true, [at](int row) { return at(row).second; }, {}, {}},
        {"difference", true, [at](int row) { return at(row).difference; }, {}, {}},
    };
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == ToneRole && at(row).heading) return "strong";
        if (role == ToneRole && column == 3) return "quiet";
        if (role == FractionRole) return -1;
        return {};
    };
    return grid;
}

} // namespace oxgoad
