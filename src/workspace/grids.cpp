#include "workspace/grids.h"

#include "base/text.h"
#include "workspace/text.h"

#include <QRegularExpression>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

QVariant rawNumber(double value) {
    return std::isnan(value) ? QVariant() : QVariant(value);
}

/// Fixed decimals with grouped thousands and a true minus.
QString decimalsText(double value, int decimals) {
    if (std::isnan(value)) return {};
    if (!std::isfinite(value) || std::fabs(value) >= 1e15) return qs(readableText(value));
    QString text = QString::number(std::fabs(value), 'f', std::max(0, decimals));
    auto point = text.indexOf('.');
    for (auto i = (point < 0 ? text.size() : point) - 3; i > 0; i -= 3) text.insert(i, ',');
    return value < 0 && text.contains(QRegularExpression("[1-9]")) ? "−" + text : text;
}

/// Decimals that show a value of this size with four digits.
int decimalsFor(double size) {
    if (!(size > 0) || !std::isfinite(size)) return 0;
    return std::clamp(3 - static_cast<int>(std::floor(std::log10(size))), 0, 6);
}

GridColumn textColumn(QString title, std::function<QString(int)> text) {
    return {std::move(title), false, std::move(text), {}, {}};
}

GridColumn numberColumn(QString title, std::function<double(int)> value, int decimals) {
    return {std::move(title), true, [value, decimals](int row) { return decimalsText(value(row), decimals); }, [value](int row) { return rawNumber(value(row)); }, {}};
}

std::string roleOf(const Recipe& recipe, const std::string& column) {
    if (column == recipe.response) return "response";
    for (const std::string& name : inputNames(recipe.terms))
        if (name == column) return "predictor";
    return {};
}

} // namespace

QString supportedText(double value, double error) {
    if (std::isnan(value)) return {};
    if (!(error > 0) || !std::isfinite(error)) return qs(readableText(value, 6));
    const int decimals = 1 - static_cast<int>(std::floor(std::log10(error)));
    if (decimals > 9) return qs(readableText(value, 4));
    return decimalsText(value, std::max(decimals, 0));
}

GridModel::Content ledgerGrid(const Session& session) {
    GridModel::Content grid;
    const auto& lines = session.summaries();
    grid.rows = static_cast<int>(lines.size());
    auto at = [&session](int row) -> const ColumnSummary& { return session.summaries()[static_cast<std::size_t>(row)]; };
    auto moment = [at](QString title, double NumberSummary::* member) {
        return GridColumn{std::move(title), true,
                          [at, member](int row) {
                              const ColumnSummary& s = at(row);
                              if (!s.numbers) return QString();
                              const double value = (*s.numbers).*member;
                              if (s.kind == ColumnKind::date && member != &NumberSummary::standardDeviation && member != &NumberSummary::skewness)
                                  return qs(dateText(static_cast<std::int32_t>(value)));
                              return qs(readableText(value));
                          },
                          [at, member](int row) { return at(row).numbers ? rawNumber((*at(row).numbers).*member) : QVariant(); },
                          {}};
    };
    grid.columns = {
        textColumn("column", [at](int row) { return qs(at(row).name); }),
        textColumn("role", [at, &session](int row) { return qs(roleOf(session.recipe(), at(row).name)); }),
        textColumn("type", [at](int row) { return qs(kindName(at(row).kind)); }),
        textColumn("unit", [at, &session](int row) { return session.unit(at(row).name); }),
        textColumn("distribution", [](int) { return QString(); }),
        {"missing", true, [at](int row) { return at(row).missing ? qs(countText(at(row).missing)) : QString(); }, [at](int row) { return QVariant::fromValue<qulonglong>(at(row).missing); }, {}},
        {"distinct", true, [at](int row) { return qs(countText(at(row).distinct)); }, [at](int row) { return QVariant::fromValue<qulonglong>(at(row).distinct); }, {}},
        textColumn("what is odd", [at](int row) {
            QStringList odd;
            for (const auto& oddity : at(row).oddities) odd << qs(oddity);
            return odd.join("; ");
        }),
        moment("smallest", &NumberSummary::smallest),
        moment("lower\nquartile", &NumberSummary::lowerQuartile),
        moment("median", &NumberSummary::median),
        moment("mean", &NumberSummary::mean),
        moment("upper\nquartile", &NumberSummary::upperQuartile),
        moment("largest", &NumberSummary::largest),
    };
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == FractionRole) return -1; // columns of different units have no decimal mark in common
        if (role == DrawingRole && column == 4) {
            const ColumnSummary& s = at(row);
            return QVariant::fromValue(ShapeDrawing{ShapeDrawing::Kind::bars, {s.shape.begin(), s.shape.end()}, 0, 0});
        }
        if (role == ToneRole && column == 7) return "goad";
        if (role == ToneRole && (column == 2 || column == 3)) return "quiet";
        if (role == ToneRole && column == 0) return "strong";
        if (role == Qt::ToolTipRole && column == 4 && at(row).kind == ColumnKind::factor) {
            QStringList levels;
            for (const auto& [level, count] : at(row).levels) {
                levels << qs(level + ": " + countText(count));
                if (levels.size() == 20) break;
            }
            return "<qt>" + levels.join("\n").toHtmlEscaped().replace("\n", "<br>") + "</qt>";
        }
        return {};
    };
    return grid;
}

GridModel::Content rowsGrid(const Session& session) {
    GridModel::Content grid;
    const auto rows = session.rows();
    if (!rows) return grid;
    grid.rows = static_cast<int>(session.table().rows());
    const auto evidence = session.evidence();
    auto state = [evidence](int row) { return evidence ? evidence->rows.state[static_cast<std::size_t>(row)] : RowState::learning; };
    grid.columns.push_back({"row", true, [](int row) { return qs(countText(static_cast<std::size_t>(row) + 1)); }, [](int row) { return row + 1; }, {}});
    grid.columns.push_back(textColumn("part", [evidence, state](int row) { return evidence ? qs(stateName(state(row))) : QString(); }));
    for (const Column& column : session.table().columns())
        grid.columns.push_back({session.unit(column.name()).isEmpty() ? qs(column.name()) : qs(column.name()) + "\n" + session.unit(column.name()), column.kind() == ColumnKind::number,
                                [column](int row) { return column.kind() == ColumnKind::number ? qs(exactText(column.numbers()[static_cast<std::size_t>(row)])) : qs(column.cellText(static_cast<std::size_t>(row))); },
                                [column](int row) { return column.kind() == ColumnKind::number ? rawNumber(column.numbers()[static_cast<std::size_t>(row)]) : QVariant(qs(column.cellText(static_cast<std::size_t>(row)))); },
                                {}});
    grid.extra = [state](int row, int, int role) -> QVariant {
        if (role == DataRowRole) return QVariant::fromValue<qulonglong>(static_cast<qulonglong>(row));
        if (role == ToneRole && (state(row) == RowState::leftOut || state(row) == RowState::missing)) return "quiet";
        return {};
    };
    return grid;
}

GridModel::Content faultsGrid(const Session& session) {
    GridModel::Content grid;
    if (!session.hasRows()) return grid;
    const auto rows = session.rows();
    const auto* faults = &rows->learning.report.faults;
    grid.rows = static_cast<int>(faults->size());
    auto at = [rows](int row) -> const CellFault& { return rows->learning.report.faults[static_cast<std::size_t>(row)]; };
    grid.columns = {
        {"line", true, [at](int row) { return qs(countText(at(row).line)); }, [at](int row) { return QVariant::fromValue<qulonglong>(at(row).line); }, {}},
        {"row", true, [at](int row) { return qs(countText(at(row).row)); }, [at](int row) { return QVariant::fromValue<qulonglong>(at(row).row); }, {}},
        {"cell", true, [at](int row) { return qs(countText(at(row).cell)); }, [at](int row) { return QVariant::fromValue<qulonglong>(at(row).cell); }, {}},
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
    const double sigma = evidence->residualStandardDeviation;
    auto size = [&rows, sigma](std::size_t i) {
        const double value = rows.state[i] == RowState::learning ? rows.studentized[i] : rows.residual[i] / sigma;
        return std::isnan(value) ? -1.0 : std::fabs(value);
    };
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < rows.state.size(); ++i)
        if (size(i) > 2) order.push_back(i);
    const auto count = std::min(shown, order.size());
    std::partial_sort(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(count), order.end(), [&](std::size_t a, std::size_t b) { return size(a) > size(b); });
    order.resize(count);
    grid.rows = static_cast<int>(count);
    auto at = [order](int row) { return order[static_cast<std::size_t>(row)]; };
    const int decimals = decimalsFor(sigma);
    grid.columns = {
        {"row", true, [at](int row) { return qs(countText(at(row) + 1)); }, [at](int row) { return QVariant::fromValue<qulonglong>(at(row) + 1); }, {}},
        textColumn("part", [at, evidence](int row) { return qs(stateName(evidence->rows.state[at(row)])); }),
        numberColumn("actual", [at, evidence](int row) { return evidence->rows.actual[at(row)]; }, decimals),
        numberColumn("predicted", [at, evidence](int row) { return evidence->rows.fitted[at(row)]; }, decimals),
        numberColumn("residual", [at, evidence](int row) { return evidence->rows.residual[at(row)]; }, decimals),
        numberColumn("studentised", [at, evidence](int row) { return evidence->rows.studentized[at(row)]; }, 2),
        numberColumn("leverage", [at, evidence](int row) { return evidence->rows.leverage[at(row)]; }, 4),
        numberColumn("Cook's distance", [at, evidence](int row) { return evidence->rows.cook[at(row)]; }, 3),
    };
    grid.extra = [at](int row, int, int role) -> QVariant { return role == DataRowRole ? QVariant::fromValue<qulonglong>(at(row)) : QVariant(); };
    return grid;
}

GridModel::Content readingsGrid(const Session& session) {
    GridModel::Content grid;
    const auto evidence = session.evidence();
    if (!evidence) return grid;
    grid.rows = static_cast<int>(evidence->readings.size());
    auto at = [evidence](int row) -> const Reading& { return evidence->readings[static_cast<std::size_t>(row)]; };
    grid.columns = {
        textColumn("check", [at](int row) { return qs(at(row).name); }),
        {"reading", true, [at](int row) { return at(row).value == std::floor(at(row).value) ? qs(countText(static_cast<std::size_t>(std::fabs(at(row).value)))) : qs(readableText(at(row).value)); }, [at](int row) { return rawNumber(at(row).value); }, {}},
        {"p", true, [at](int row) { return at(row).p ? qs(probabilityText(*at(row).p)) : QString(); }, [at](int row) { return at(row).p ? rawNumber(*at(row).p) : QVariant(); }, {}},
        {"threshold", true, [at](int row) { return (at(row).p ? "p " : "") + qs(exactText(at(row).threshold)); }, [at](int row) { return rawNumber(at(row).threshold); }, {}},
        textColumn("what it says", [at](int row) { return qs(at(row).sentence); }),
        textColumn("source", [at](int row) { return qs(at(row).source); }),
    };
    grid.extra = [](int, int column, int role) -> QVariant {
        if (role == FractionRole) return -1; // readings are of different units
        return role == ToneRole && column == 5 ? QVariant("quiet") : QVariant();
    };
    return grid;
}

GridModel::Content forecastGrid(const Session& session) {
    GridModel::Content grid;
    const auto evidence = session.evidence();
    const auto rows = session.rows();
    if (!evidence || !evidence->forecast || !rows->forecast) return grid;
    const Table& table = rows->forecast->table;
    grid.rows = static_cast<int>(table.rows());
    auto at = [](int row) { return static_cast<std::size_t>(row); };
    const int decimals = decimalsFor(evidence->residualStandardDeviation);
    const QString unit = session.unit(evidence->response);
    const QString level = qs(percentText(evidence->forecast->level));
    // Identifiers, the forecast, then what the model reads; all given columns are in the export.
    std::vector<std::string> named;
    for (const Column& column : table.columns())
        if ((column.kind() == ColumnKind::date || column.kind() == ColumnKind::text) && named.size() < 2) named.push_back(column.name());
    for (const Column& column : table.columns())
        if (column.kind() == ColumnKind::factor && column.levels().size() > 12 && named.size() < 2) named.insert(named.begin(), column.name());
    auto addGiven = [&](const std::string& name) {
        const Column* column = table.find(name);
        if (!column) return;
        grid.columns.push_back({qs(name), column->kind() == ColumnKind::number, [c = *column, at](int row) { return qs(c.cellText(at(row))); },
                                [c = *column, at](int row) { return c.kind() == ColumnKind::number ? rawNumber(c.asNumber(at(row))) : QVariant(qs(c.cellText(at(row)))); }, session.titled(name)});
    };
    for (const std::string& name : named) addGiven(name);
    auto value = [evidence, at](std::vector<double> ForecastEvidence::* member) { return [evidence, at, member](int row) { return ((*evidence->forecast).*member)[at(row)]; }; };
    grid.columns.push_back(numberColumn("forecast", value(&ForecastEvidence::prediction), decimals));
    grid.columns.back().toolTip = "Predicted " + qs(evidence->response) + (unit.isEmpty() ? QString() : ", " + unit);
    grid.columns.push_back(numberColumn(level + " from", value(&ForecastEvidence::lower), decimals));
    grid.columns.push_back(numberColumn("to", value(&ForecastEvidence::upper), decimals));
    const int reachColumn = static_cast<int>(grid.columns.size());
    auto reachAt = [evidence, at](int row) -> const Reach& { return evidence->forecast->reach[at(row)]; };
    grid.columns.push_back({"reach", false, [reachAt](int row) { return qs(gradeName(reachAt(row).grade)); }, {}, {}});
    grid.columns.push_back(textColumn("because", [reachAt](int row) {
        QStringList reasons;
        for (const auto& reason : reachAt(row).reasons) reasons << qs(reason);
        return reasons.join("; ");
    }));
    for (const std::string& name : inputNames(session.recipe().terms))
        if (std::find(named.begin(), named.end(), name) == named.end()) addGiven(name);
    grid.extra = [reachAt, reachColumn](int row, int column, int role) -> QVariant {
        if (role == ToneRole && column == reachColumn) return reachAt(row).grade == ReachGrade::outside ? "alarm" : reachAt(row).grade == ReachGrade::edge ? "goad" : "fine";
        if (role == ToneRole && (column == reachColumn - 1 || column == reachColumn - 2 || column == reachColumn + 1)) return "quiet";
        if (role == DrawingRole && column == reachColumn) return static_cast<int>(reachAt(row).grade);
        return {};
    };
    return grid;
}

GridModel::Content compareGrid(const Session& session, int left, const Evidence* a, int right, const Evidence* b) {
    struct Line {
        QString name, first, second, difference;
        bool heading = false;
    };
    auto lines = std::make_shared<std::vector<Line>>();
    auto add = [&](const QString& name, double x, double y, int digits = 4) {
        lines->push_back({name, qs(readableText(x, digits)), qs(readableText(y, digits)), std::isnan(x) || std::isnan(y) ? QString() : (y - x > 0 ? "+" : "") + qs(readableText(y - x, 3)), false});
    };
    if (a && b) {
        const QString unit = session.unit(a->response).isEmpty() ? QString() : ", " + session.unit(a->response);
        lines->push_back({"rows and errors", {}, {}, {}, true});
        lines->push_back({"learning rows", qs(countText(a->rowsLearning)), qs(countText(b->rowsLearning)), {}, false});
        lines->push_back({"held-out rows", qs(countText(a->rowsHeldOut)), qs(countText(b->rowsHeldOut)), {}, false});
        add("RMSE, held-out rows" + unit, a->heldOut.rmse, b->heldOut.rmse);
        add("± its standard error", a->heldOut.rmseError, b->heldOut.rmseError, 3);
        add("RMSE, learning rows" + unit, a->learning.rmse, b->learning.rmse);
        add("MAE, held-out rows" + unit, a->heldOut.mae, b->heldOut.mae);
        add("R², held-out rows", a->heldOut.rSquared, b->heldOut.rSquared);
        add("R², learning rows", a->rSquared, b->rSquared);
        add("adjusted R²", a->adjustedRSquared, b->adjustedRSquared);
        add("residual standard deviation" + unit, a->residualStandardDeviation, b->residualStandardDeviation);
        lines->push_back({"degrees of freedom", qs(countText(static_cast<std::size_t>(a->degreesOfFreedom))), qs(countText(static_cast<std::size_t>(b->degreesOfFreedom))), {}, false});
        lines->push_back({"coefficients ± standard error", {}, {}, {}, true});
        std::vector<std::string> names;
        for (const auto* e : {a, b})
            for (const auto& c : e->coefficients)
                if (std::find(names.begin(), names.end(), c.name) == names.end()) names.push_back(c.name);
        auto find = [](const Evidence* e, const std::string& name) -> const CoefficientEvidence* {
            for (const auto& c : e->coefficients)
                if (c.name == name) return &c;
            return nullptr;
        };
        auto shown = [](const CoefficientEvidence* c) { return !c ? QString() : c->dependent ? QString("repeats others") : supportedText(c->estimate, c->standardError) + " ± " + qs(readableText(c->standardError, 2)); };
        for (const std::string& name : names) {
            const auto* x = find(a, name);
            const auto* y = find(b, name);
            lines->push_back({qs(name), shown(x), shown(y), x && y && !x->dependent && !y->dependent ? (y->estimate > x->estimate ? "+" : "") + supportedText(y->estimate - x->estimate, std::max(x->standardError, y->standardError)) : QString(), false});
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

bool showsLevels(const Session& session, const std::string& term, std::size_t levels) {
    constexpr std::size_t few = 4;
    const auto said = session.view().find("levels of " + term);
    return said != session.view().end() ? said->second == "open" : levels <= few;
}

std::vector<TermLine> termLines(const Session& session) {
    std::vector<TermLine> lines;
    const Recipe& recipe = session.recipe();
    const auto& evidence = session.evidence();
    if (evidence && evidence->intercept) lines.push_back({TermLine::Kind::constant, -1, 0, {}});
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        std::vector<int> own;
        if (evidence)
            for (std::size_t c = 0; c < evidence->coefficients.size(); ++c)
                if (evidence->coefficients[c].term == static_cast<int>(t)) own.push_back(static_cast<int>(c));
        const bool levels = own.size() > 1 || (evidence && own.size() == 1 && evidence->coefficients[static_cast<std::size_t>(own[0])].name != termName(recipe.terms[t]));
        lines.push_back({TermLine::Kind::term, static_cast<int>(t), levels || own.empty() ? -1 : own[0], recipe.terms[t].parts[0].column});
        if (levels && showsLevels(session, termName(recipe.terms[t]), own.size()))
            for (const int c : own) lines.push_back({TermLine::Kind::level, static_cast<int>(t), c, {}});
    }
    const auto used = inputNames(recipe.terms);
    for (const ColumnSummary& column : session.summaries())
        if (column.name != recipe.response && column.kind != ColumnKind::text && std::find(used.begin(), used.end(), column.name) == used.end())
            lines.push_back({TermLine::Kind::candidate, -1, -1, column.name});
    return lines;
}

Recipe withTerm(const Recipe& recipe, const Term& term) {
    Recipe next = recipe;
    if (std::find(next.terms.begin(), next.terms.end(), term) == next.terms.end()) next.terms.push_back(term);
    return next;
}

Recipe withoutTerm(const Recipe& recipe, const std::string& name) {
    Recipe next = recipe;
    std::erase_if(next.terms, [&](const Term& term) { return termName(term) == name; });
    return next;
}

namespace {

/// The columns of the term table, in the order shown.
enum TermColumn { colTerm, colEnters, colEstimate, colError, colEffect, colT, colP, colInflation, colWithout, colShape, colRange };

class TermCells {
public:
    explicit TermCells(Session& session) : m_session(session), m_lines(termLines(session)), m_evidence(session.evidence()) {
        if (!m_evidence) return;
        for (const auto& c : m_evidence->coefficients) {
            if (c.dependent || c.term < 0 || std::isnan(c.effectLower)) continue;
            m_low = std::min({m_low, c.effectLower, c.effectUpper});
            m_high = std::max({m_high, c.effectLower, c.effectUpper});
        }
    }

    int rows() const { return static_cast<int>(m_lines.size()); }
    const TermLine& line(int row) const { return m_lines[static_cast<std::size_t>(row)]; }

    const CoefficientEvidence* coefficient(int row) const {
        const TermLine& l = line(row);
        return m_evidence && l.coefficient >= 0 ? &m_evidence->coefficients[static_cast<std::size_t>(l.coefficient)] : nullptr;
    }
    const TermEvidence* term(int row) const {
        const TermLine& l = line(row);
        return m_evidence && l.kind == TermLine::Kind::term ? &m_evidence->terms[static_cast<std::size_t>(l.term)] : nullptr;
    }

    QString name(int row) const {
        const TermLine& l = line(row);
        switch (l.kind) {
        case TermLine::Kind::constant: return "constant";
        case TermLine::Kind::term: return qs(termName(m_session.recipe().terms[static_cast<std::size_t>(l.term)]));
        case TermLine::Kind::level: {
            // "contract = annual" under "contract" is just "annual"; products keep the whole name.
            const std::string& whole = coefficient(row)->name;
            const std::string head = termName(m_session.recipe().terms[static_cast<std::size_t>(l.term)]) + " = ";
            return "    " + qs(whole.starts_with(head) ? whole.substr(head.size()) : whole);
        }
        case TermLine::Kind::candidate: return qs(l.column);
        }
        return {};
    }

    QString enters(int row) const {
        if (const auto* t = term(row)) return qs(t->entersAs);
        if (line(row).kind == TermLine::Kind::term) return "…";
        if (line(row).kind == TermLine::Kind::candidate) {
            const Column* column = m_session.table().find(line(row).column);
            return column ? "not in the model, " + qs(kindName(column->kind())) : QString();
        }
        const auto* c = coefficient(row);
        return c && c->dependent ? "repeats others" : QString();
    }

    QVariant extra(int row, int column, int role) const {
        const TermLine& l = line(row);
        if (role == Qt::CheckStateRole && column == colTerm && (l.kind == TermLine::Kind::term || l.kind == TermLine::Kind::candidate))
            return l.kind == TermLine::Kind::term ? Qt::Checked : Qt::Unchecked;
        if (role == Qt::CheckStateRole && column == colTerm && l.kind == TermLine::Kind::constant) return Qt::Checked;
        if (role == ToneRole) return tone(row, column);
        if (role == FractionRole && column == colP) return -1;
        if (role == DrawingRole && column == colEffect) return effectDrawing(row);
        if (role == DrawingRole && column == colShape) return shapeDrawing(row);
        return {};
    }

    Qt::ItemFlags flags(int row, int column) const {
        Qt::ItemFlags flags = Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemNeverHasChildren;
        if (column == colTerm && line(row).kind != TermLine::Kind::level) flags |= Qt::ItemIsUserCheckable;
        return flags;
    }

    bool edit(int row, int column, const QVariant&, int role) const {
        if (role != Qt::CheckStateRole || column != colTerm) return false;
        const TermLine& l = line(row);
        Recipe recipe = m_session.recipe();
        if (l.kind == TermLine::Kind::constant) recipe.intercept = !recipe.intercept;
        else if (l.kind == TermLine::Kind::candidate) recipe = withTerm(recipe, plainTerm(l.column));
        else if (l.kind == TermLine::Kind::term) recipe.terms.erase(recipe.terms.begin() + l.term);
        else return false;
        m_session.change(recipe);
        return true;
    }

private:
    QVariant tone(int row, int column) const {
        const TermLine& l = line(row);
        if (l.kind == TermLine::Kind::candidate) return "quiet";
        if (column == colTerm && l.kind == TermLine::Kind::term) return "strong";
        if (column == colError || column == colEnters || (column == colTerm && l.kind == TermLine::Kind::level) || column == colRange) return "quiet";
        if (const auto* t = term(row)) {
            if (column == colInflation && t->inflation > 5) return "goad";
            if (column == colWithout && t->errorWithout < -0.0005) return "alarm";
        }
        return {};
    }

    QVariant effectDrawing(int row) const {
        IntervalDrawing drawing{{}, m_low, m_high};
        auto add = [&](const CoefficientEvidence& c) {
            if (!c.dependent && c.term >= 0 && !std::isnan(c.effectLower)) drawing.marks.push_back({c.effect, std::min(c.effectLower, c.effectUpper), std::max(c.effectLower, c.effectUpper)});
        };
        if (const auto* c = coefficient(row)) {
            add(*c);
        } else if (line(row).kind == TermLine::Kind::term && m_evidence && (row + 1 == rows() || line(row + 1).kind != TermLine::Kind::level)) {
            for (const auto& each : m_evidence->coefficients) // a closed factor shows all its levels on one line
                if (each.term == line(row).term) add(each);
        }
        return QVariant::fromValue(drawing);
    }

    QVariant shapeDrawing(int row) const {
        const auto* t = term(row);
        if (!t || t->shape.empty()) return {};
        const bool steps = t->entersAs.starts_with("levels");
        return QVariant::fromValue(ShapeDrawing{steps ? ShapeDrawing::Kind::steps : ShapeDrawing::Kind::line, t->shape, 0, 0});
    }

    Session& m_session;
    std::vector<TermLine> m_lines;
    std::shared_ptr<const Evidence> m_evidence;
    double m_low = 0;
    double m_high = 0;
};

} // namespace

GridModel::Content termsGrid(Session& session) {
    const auto cells = std::make_shared<const TermCells>(session);
    const QString unit = session.unit(session.recipe().response);
    const QString per = unit.isEmpty() ? QString() : "\n" + unit;
    GridModel::Content grid;
    grid.rows = cells->rows();
    auto percent = [](double value) { return std::isnan(value) ? QString() : (value < 0 ? "− " : "+ ") + decimalsText(std::fabs(100 * value), 1) + " %"; };
    auto coefficientNumber = [cells](double CoefficientEvidence::* member) {
        return [cells, member](int row) { return cells->coefficient(row) ? rawNumber(cells->coefficient(row)->*member) : QVariant(); };
    };
    grid.columns = {
        textColumn("term", [cells](int row) { return cells->name(row); }),
        textColumn("enters as", [cells](int row) { return cells->enters(row); }),
        {"estimate", true, [cells](int row) { const auto* c = cells->coefficient(row); return c ? supportedText(c->estimate, c->standardError) : QString(); }, coefficientNumber(&CoefficientEvidence::estimate), "Change of the response for one unit more of the term" + (unit.isEmpty() ? QString() : ", " + unit + " per unit of the term")},
        {"± se", true, [cells](int row) { const auto* c = cells->coefficient(row); return c && !c->dependent ? supportedText(c->standardError, c->standardError) : QString(); }, coefficientNumber(&CoefficientEvidence::standardError), "Standard error of the estimate"},
        textColumn("low to high quartile, " + qs(percentText(session.recipe().level)) + per, [](int) { return QString(); }),
        {"t", true, [cells](int row) { const auto* c = cells->coefficient(row); return c ? decimalsText(c->t, 1) : QString(); }, coefficientNumber(&CoefficientEvidence::t), "Estimate over its standard error"},
        {"p", true, [cells](int row) {
             if (const auto* c = cells->coefficient(row)) return qs(probabilityText(c->p));
             const auto* t = cells->term(row);
             return t ? qs(probabilityText(t->p)) : QString();
         },
         [cells](int row) { return cells->coefficient(row) ? rawNumber(cells->coefficient(row)->p) : cells->term(row) ? rawNumber(cells->term(row)->p) : QVariant(); }, "t test of the coefficient; for a term of several columns the F test of the whole"},
        {"inflation", true, [cells](int row) { const auto* t = cells->term(row); return t ? decimalsText(t->inflation, 1) : QString(); }, [cells](int row) { return cells->term(row) ? rawNumber(cells->term(row)->inflation) : QVariant(); }, "Variance inflation (Fox and Monette 1992); terms made of the same columns are taken together; above 5 is a goad"},
        {"error\nwithout", true, [cells, percent](int row) { const auto* t = cells->term(row); return t ? percent(t->errorWithout) : QString(); }, [cells](int row) { return cells->term(row) ? rawNumber(cells->term(row)->errorWithout) : QVariant(); }, "Change of the error on held-out rows when the term is left out"},
        textColumn("shape", [](int) { return QString(); }),
        textColumn("range learned", [cells, &session](int row) {
            const auto* t = cells->term(row);
            if (!t || std::isnan(t->lowest)) return QString();
            const Column* column = session.table().find(cells->line(row).column);
            if (column && column->kind() == ColumnKind::date) return qs(dateText(static_cast<std::int32_t>(t->lowest)) + " to " + dateText(static_cast<std::int32_t>(t->highest)));
            return qs(readableText(t->lowest) + " to " + readableText(t->highest));
        }),
    };
    grid.extra = [cells](int row, int column, int role) { return cells->extra(row, column, role); };
    grid.flags = [cells](int row, int column) { return cells->flags(row, column); };
    grid.edit = [cells](int row, int column, const QVariant& value, int role) { return cells->edit(row, column, value, role); };
    return grid;
}

QString equationText(const Session& session) {
    const auto& evidence = session.evidence();
    if (!evidence) return {};
    QString text = qs(evidence->response) + " =";
    bool first = true;
    for (const auto& c : evidence->coefficients) {
        if (c.dependent) continue;
        const bool negative = c.estimate < 0;
        text += first ? (negative ? " −" : " ") : (negative ? " − " : " + ");
        text += supportedText(std::fabs(c.estimate), c.standardError);
        if (c.term >= 0) {
            const QString name = qs(c.name);
            text += "·" + (name.contains(" = ") ? "[" + name + "]" : name);
        }
        first = false;
    }
    return text + " + ε";
}

QStringList fitSummary(const Session& session) {
    const auto& e = session.evidence();
    if (!e) return {};
    const QString unit = session.unit(e->response).isEmpty() ? QString() : " " + session.unit(e->response);
    QStringList lines;
    lines << QString("R² %1, adjusted %2").arg(qs(readableText(e->rSquared))).arg(qs(readableText(e->adjustedRSquared)));
    lines << QString("Residual standard deviation %1%2 with %3 degrees of freedom").arg(qs(readableText(e->residualStandardDeviation)), unit, qs(countText(static_cast<std::size_t>(e->degreesOfFreedom))));
    if (!std::isnan(e->f)) lines << QString("All terms together: F %1, p %2").arg(qs(readableText(e->f)), qs(probabilityText(e->fP)));
    lines << QString("Learning rows: RMSE %1%2, MAE %3").arg(qs(readableText(e->learning.rmse)), unit, qs(readableText(e->learning.mae)));
    if (e->heldOut.rows > 0)
        lines << QString("Held-out rows: RMSE %1 ± %2%3, MAE %4, R² %5").arg(qs(readableText(e->heldOut.rmse)), qs(readableText(e->heldOut.rmseError, 2)), unit, qs(readableText(e->heldOut.mae)), qs(readableText(e->heldOut.rSquared)));
    return lines;
}

} // namespace oxgoad
