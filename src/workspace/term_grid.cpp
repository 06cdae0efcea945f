#include "workspace/grids.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace oxgoad {

bool showsLevels(const Session& session, const Term& term, std::size_t coefficients) {
    constexpr std::size_t few = 4;
    const auto said = session.view().find("levels of " + termName(term));
    if (said != session.view().end()) return said->second == "open";
    const bool alone = std::none_of(term.parts.begin(), term.parts.end(), [](const TermPart& part) {
        return part.form == Form::spline || part.form == Form::wave;
    });
    return alone && coefficients <= few;
}

namespace {

/// The lines of one term or column, and what they are of.
struct TermGroup {
    std::string key;
    std::vector<TermLine> lines;
    /// Levels the analyst opened.
    bool opened = false;
    std::string term;
};

/// Lines cut into groups: a term with its levels, the constant, a column that could enter. A column alone is
/// the same group in the model and out of it.
std::vector<TermGroup> groupsOf(const Session& session, const std::vector<TermLine>& lines) {
    std::vector<TermGroup> groups;
    std::set<std::string> taken;
    for (const TermLine& line : lines) {
        if (line.kind == TermLine::Kind::level && !groups.empty()) {
            groups.back().lines.push_back(line);
            continue;
        }
        TermGroup group;
        group.lines.push_back(line);
        if (line.kind == TermLine::Kind::constant) {
            group.key = "constant";
        } else if (line.kind == TermLine::Kind::candidate) {
            group.key = "column " + line.column;
        } else {
            const Term& term = session.recipe().terms[static_cast<std::size_t>(line.term)];
            group.key =
                (term.parts.size() == 1 ? "column " + term.parts[0].column : "term " + termName(term));
            group.term = termName(term);
            const auto said = session.view().find("levels of " + group.term);
            group.opened = said != session.view().end() && said->second == "open";
        }
        if (!taken.insert(group.key).second) group.key += " again " + std::to_string(groups.size());
        groups.push_back(std::move(group));
    }
    return groups;
}

std::vector<TermLine> inPlaces(std::vector<TermGroup> groups, TermPlaces& places) {
    // New groups stand behind the one they would follow in the order of the model.
    std::string before;
    for (const TermGroup& group : groups) {
        const auto is = [](const std::string& key) {
            return [&key](const TermPlaces::Group& g) { return g.key == key; };
        };
        if (std::none_of(places.groups.begin(), places.groups.end(), is(group.key))) {
            auto at = std::find_if(places.groups.begin(), places.groups.end(), is(before));
            if (at != places.groups.end()) ++at;
            places.groups.insert(before.empty() ? places.groups.begin() : at,
                                 {group.key, group.lines.size(), group.term});
        }
        before = group.key;
    }
    std::vector<TermLine> lines;
    for (TermPlaces::Group& place : places.groups) {
        const auto found = std::find_if(groups.begin(), groups.end(),
                                        [&](const TermGroup& g) { return g.key == place.key; });
        std::size_t shown = 0;
        if (found != groups.end()) {
            const bool otherForm = !found->term.empty() && !place.term.empty() && found->term != place.term;
            if (otherForm) place.lines = found->lines.size();
            if (place.lines > 1 || found->opened) place.lines = std::max(place.lines, found->lines.size());
            if (!found->term.empty()) place.term = found->term;
            shown = found->lines.size() <= place.lines ? found->lines.size() : 1;
            lines.insert(lines.end(), found->lines.begin(),
                         found->lines.begin() + static_cast<std::ptrdiff_t>(shown));
        }
        for (; shown < place.lines; ++shown)
            lines.push_back({TermLine::Kind::gone, -1, -1, {}});
    }
    return lines;
}

} // namespace

std::vector<TermLine> termLines(const Session& session, TermPlaces* places) {
    std::vector<TermLine> lines;
    const Recipe& recipe = session.recipe();
    const auto& evidence = session.evidence();
    if (evidence && evidence->intercept) lines.push_back({TermLine::Kind::constant, -1, 0, {}});
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        std::vector<int> own;
        if (evidence)
            for (std::size_t c = 0; c < evidence->coefficients.size(); ++c)
                if (evidence->coefficients[c].term == static_cast<int>(t)) own.push_back(static_cast<int>(c));
        const bool ofFactor = std::any_of(recipe.terms[t].parts.begin(), recipe.terms[t].parts.end(),
                                          [&](const TermPart& part) {
                                              const Column* column = session.table().find(part.column);
                                              return column && column->kind() == ColumnKind::factor;
                                          });
        const bool levels = own.size() > 1 || (own.size() == 1 && ofFactor);
        lines.push_back({TermLine::Kind::term, static_cast<int>(t), levels || own.empty() ? -1 : own[0],
                         recipe.terms[t].parts[0].column});
        if (levels && showsLevels(session, recipe.terms[t], own.size()))
            for (const int c : own)
                lines.push_back({TermLine::Kind::level, static_cast<int>(t), c, {}});
    }
    const auto used = inputNames(recipe.terms);
    for (const LedgerLine& line : session.ledger().columns) {
        const ColumnSummary& column = line.summary;
        if (column.name != recipe.response && column.kind != ColumnKind::text &&
            isOffered(recipe, column.name) && std::find(used.begin(), used.end(), column.name) == used.end())
            lines.push_back({TermLine::Kind::candidate, -1, -1, column.name});
    }
    return places ? inPlaces(groupsOf(session, lines), *places) : lines;
}

EffectScale effectScale(const Session& session) {
    const auto said = session.view().find("fit.scale");
    return said != session.view().end() && said->second == "deviation" ? EffectScale::deviation
                                                                       : EffectScale::quartiles;
}

Recipe withResponse(const Recipe& recipe, const std::string& name) {
    Recipe next = recipe;
    next.response = name;
    next.chosen.reset();
    std::erase_if(next.terms, [&](const Term& term) {
        return std::any_of(term.parts.begin(), term.parts.end(),
                           [&](const TermPart& part) { return part.column == name; });
    });
    return next;
}

Recipe withTerm(const Recipe& recipe, const Term& term) {
    Recipe next = recipe;
    for (const Term& parent : parentsMissing(term, next.terms))
        next.terms.push_back(parent);
    if (std::none_of(next.terms.begin(), next.terms.end(), [&](const Term& t) { return sameTerm(t, term); }))
        next.terms.push_back(term);
    return next;
}

Recipe withoutTerm(const Recipe& recipe, const std::string& name, bool keepProducts) {
    Recipe next = recipe;
    for (const Term& out : recipe.terms)
        if (termName(out) == name)
            std::erase_if(next.terms, [&](const Term& term) {
                return term == out || (!keepProducts && isParent(out, term));
            });
    return next;
}

Recipe withOtherForm(const Recipe& recipe, std::size_t index, const TermPart& part) {
    Recipe next = recipe;
    const TermPart before = recipe.terms[index].parts[0];
    for (Term& term : next.terms)
        for (TermPart& p : term.parts)
            if (p == before) p = part;
    return next;
}

namespace {

/// The columns of the term table, in the order shown.
enum TermColumn {
    colTerm,
    colEnters,
    colEstimate,
    colError,
    colEffect,
    colT,
    colP,
    colInflation,
    colWithout,
    colShape,
    colRange
};

class TermCells {
public:
    TermCells(Session& session, TermPlaces* places)
        : m_session(session), m_lines(termLines(session, places)), m_evidence(session.evidence()) {
        if (!m_evidence) return;
        m_deviation = effectScale(session) == EffectScale::deviation;
        for (const auto& c : m_evidence->coefficients) {
            if (c.dependent || c.term < 0 || std::isnan(c.effectLower)) continue;
            const IntervalDrawing::Mark mark = markOf(c);
            m_low = std::min(m_low, mark.lower);
            m_high = std::max(m_high, mark.upper);
        }
    }

    /// Effect of the coefficient on the scale that is chosen.
    IntervalDrawing::Mark markOf(const CoefficientEvidence& c) const {
        if (!m_deviation)
            return {c.effect, std::min(c.effectLower, c.effectUpper), std::max(c.effectLower, c.effectUpper)};
        return {c.estimate * c.deviation, c.lower * c.deviation, c.upper * c.deviation};
    }

    int rows() const { return static_cast<int>(m_lines.size()); }
    const TermLine& line(int row) const { return m_lines[static_cast<std::size_t>(row)]; }

    const CoefficientEvidence* coefficient(int row) const {
        const TermLine& l = line(row);
        return m_evidence && l.coefficient >= 0
                   ? &m_evidence->coefficients[static_cast<std::size_t>(l.coefficient)]
                   : nullptr;
    }
    const TermEvidence* term(int row) const {
        const TermLine& l = line(row);
        return m_evidence && l.kind == TermLine::Kind::term
                   ? &m_evidence->terms[static_cast<std::size_t>(l.term)]
                   : nullptr;
    }

    QString name(int row) const {
        const TermLine& l = line(row);
        switch (l.kind) {
        case TermLine::Kind::constant:
            return "constant";
        case TermLine::Kind::term:
            return qs(shownName(m_session.recipe().terms[static_cast<std::size_t>(l.term)]));
        case TermLine::Kind::level: {
            // "contract = annual" under "contract" is just "annual"; products keep the whole name.
            const std::string& whole = coefficient(row)->name;
            const std::string head =
                termName(m_session.recipe().terms[static_cast<std::size_t>(l.term)]) + " = ";
            return "    " + qs(whole.starts_with(head) ? whole.substr(head.size()) : whole);
        }
        case TermLine::Kind::candidate:
            return qs(l.column);
        case TermLine::Kind::gone:
            return {};
        }
        return {};
    }

    /// The column next to the name says how a lone column enters.
    static std::string shownName(const Term& term) {
        return term.parts.size() == 1 && term.parts[0].form != Form::plain ? term.parts[0].column
                                                                           : termName(term);
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
        if (role == Qt::CheckStateRole && column == colTerm &&
            (l.kind == TermLine::Kind::term || l.kind == TermLine::Kind::candidate))
            return wanted(l) ? Qt::Checked : Qt::Unchecked;
        if (role == Qt::CheckStateRole && column == colTerm && l.kind == TermLine::Kind::constant)
            return m_session.draft().intercept ? Qt::Checked : Qt::Unchecked;
        if (role == ToneRole) return tone(row, column);
        if (role == FractionRole && column == colP) return -1;
        if (role == DrawingRole && column == colEffect) return effectDrawing(row);
        if (role == DrawingRole && column == colShape) return shapeDrawing(row);
        return {};
    }

    Qt::ItemFlags flags(int row, int column) const {
        if (line(row).kind == TermLine::Kind::gone) return Qt::ItemNeverHasChildren;
        Qt::ItemFlags flags = Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemNeverHasChildren;
        if (column == colTerm && line(row).kind != TermLine::Kind::level) flags |= Qt::ItemIsUserCheckable;
        return flags;
    }

    bool edit(int row, int column, const QVariant&, int role) const {
        if (role != Qt::CheckStateRole || column != colTerm) return false;
        const TermLine& l = line(row);
        Recipe recipe = m_session.draft();
        if (l.kind == TermLine::Kind::constant)
            recipe.intercept = !recipe.intercept;
        else if (l.kind == TermLine::Kind::level || l.kind == TermLine::Kind::gone)
            return false;
        else
            recipe = wanted(l) ? withoutTerm(recipe, termName(ofLine(l))) : withTerm(recipe, ofLine(l));
        m_session.change(recipe);
        return true;
    }

private:
    Term ofLine(const TermLine& l) const {
        return l.kind == TermLine::Kind::term ? m_session.recipe().terms[static_cast<std::size_t>(l.term)]
                                              : plainTerm(l.column);
    }
    /// Whether the model has the term, or will have once it is worked out: a tick follows the hand at once.
    bool wanted(const TermLine& l) const {
        const auto& terms = m_session.draft().terms;
        return std::find(terms.begin(), terms.end(), ofLine(l)) != terms.end();
    }

    QVariant tone(int row, int column) const {
        const TermLine& l = line(row);
        if (l.kind == TermLine::Kind::candidate) return "quiet";
        if (column == colTerm && l.kind == TermLine::Kind::term) return "strong";
        if (column == colError || column == colEnters ||
            (column == colTerm && l.kind == TermLine::Kind::level) || column == colRange)
            return "quiet";
        if (const auto* t = term(row)) {
            if (column == colInflation && t->inflation > 5) return "goad";
            if (column == colWithout && t->errorWithout < -0.0005) return "alarm";
        }
        return {};
    }

    QVariant effectDrawing(int row) const {
        IntervalDrawing drawing{{}, m_low, m_high};
        auto add = [&](const CoefficientEvidence& c) {
            if (!c.dependent && c.term >= 0 && !std::isnan(c.effectLower)) drawing.marks.push_back(markOf(c));
        };
        if (const auto* c = coefficient(row)) {
            add(*c);
        } else if (line(row).kind == TermLine::Kind::term && m_evidence &&
                   (row + 1 == rows() || line(row + 1).kind != TermLine::Kind::level)) {
            for (const auto& each :
                 m_evidence->coefficients) // a closed factor shows all its levels on one line
                if (each.term == line(row).term) add(each);
        }
        return QVariant::fromValue(drawing);
    }

    QVariant shapeDrawing(int row) const {
        const auto* t = term(row);
        if (!t || t->shape.empty()) return {};
        const bool steps = std::isnan(t->lowest);
        return QVariant::fromValue(ShapeDrawing{steps ? ShapeDrawing::Kind::steps : ShapeDrawing::Kind::line,
                                                t->shape, 0, 0, t->density});
    }

    Session& m_session;
    std::vector<TermLine> m_lines;
    std::shared_ptr<const Evidence> m_evidence;
    bool m_deviation = false;
    double m_low = 0;
    double m_high = 0;
};

} // namespace

GridModel::Content termsGrid(Session& session, TermPlaces* places) {
    const auto cells = std::make_shared<const TermCells>(session, places);
    const QString unit = session.unit(session.recipe().response);
    const bool logs = session.evidence() && session.evidence()->logResponse;
    const QString per = logs             ? "\nln " + qs(session.recipe().response)
                        : unit.isEmpty() ? QString()
                                         : "\n" + unit;
    GridModel::Content grid;
    grid.rows = cells->rows();
    auto percent = [](double value) {
        return std::isnan(value) ? QString()
                                 : (value < 0 ? "− " : "+ ") + decimalsText(std::fabs(100 * value), 1) + " %";
    };
    auto coefficientNumber = [cells](double CoefficientEvidence::*member) {
        return [cells, member](int row) {
            return cells->coefficient(row) ? rawNumber(cells->coefficient(row)->*member) : QVariant();
        };
    };
    grid.columns = {
        textColumn("term", [cells](int row) { return cells->name(row); }),
        textColumn("enters as", [cells](int row) { return cells->enters(row); }),
        {"estimate", true,
         [cells](int row) {
             const auto* c = cells->coefficient(row);
             return c ? supportedText(c->estimate, c->standardError) : QString();
         },
         coefficientNumber(&CoefficientEvidence::estimate),
         "Change of the response for one unit more of the term" +
             (unit.isEmpty() ? QString() : ", " + unit + " per unit of the term")},
        {"± se", true,
         [cells](int row) {
             const auto* c = cells->coefficient(row);
             return c && !c->dependent ? supportedText(c->standardError, c->standardError) : QString();
         },
         coefficientNumber(&CoefficientEvidence::standardError), "Standard error of the estimate"},
        textColumn((effectScale(session) == EffectScale::deviation ? "one standard deviation, "
                                                                   : "low to high quartile, ") +
                       qs(percentText(session.recipe().level)) + per,
                   [](int) { return QString(); }),
        {"t", true,
         [cells](int row) {
             const auto* c = cells->coefficient(row);
             return c ? decimalsText(c->t, 1) : QString();
         },
         coefficientNumber(&CoefficientEvidence::t), "Estimate over its standard error"},
        {"p", true,
         [cells](int row) {
             if (const auto* c = cells->coefficient(row)) return qs(probabilityText(c->p));
             const auto* t = cells->term(row);
             return t ? qs(probabilityText(t->p)) : QString();
         },
         [cells](int row) {
             return cells->coefficient(row) ? rawNumber(cells->coefficient(row)->p)
                    : cells->term(row)      ? rawNumber(cells->term(row)->p)
                                            : QVariant();
         },
         "t test of the coefficient; for a term of several columns the F test of the whole"},
        {"inflation", true,
         [cells](int row) {
             const auto* t = cells->term(row);
             return t ? decimalsText(t->inflation, 1) : QString();
         },
         [cells](int row) { return cells->term(row) ? rawNumber(cells->term(row)->inflation) : QVariant(); },
         "Variance inflation (Fox and Monette 1992); terms made of the same columns are taken together; "
         "above 5 is a goad"},
        {"error\nwithout", true,
         [cells, percent](int row) {
             const auto* t = cells->term(row);
             return t ? percent(t->errorWithout) : QString();
         },
         [cells](int row) {
             return cells->term(row) ? rawNumber(cells->term(row)->errorWithout) : QVariant();
         },
         "Change of the error on held-out rows when the term is left out"},
        textColumn("shape", [](int) { return QString(); }),
        textColumn("range learned",
                   [cells, &session](int row) {
                       const auto* t = cells->term(row);
                       if (!t || std::isnan(t->lowest)) return QString();
                       const Column* column = session.table().find(cells->line(row).column);
                       if (column && column->kind() == ColumnKind::date)
                           return qs(dateText(static_cast<std::int32_t>(t->lowest)) + " to " +
                                     dateText(static_cast<std::int32_t>(t->highest)));
                       if (column && session.evidence() && session.evidence()->model)
                           for (const Input& input : session.evidence()->model->design.inputs())
                               if (input.name == column->name())
                                   return qs(input.valueText(t->lowest) + " to " +
                                             input.valueText(t->highest));
                       return qs(readableText(t->lowest) + " to " + readableText(t->highest));
                   }),
    };
    grid.extra = [cells](int row, int column, int role) { return cells->extra(row, column, role); };
    grid.flags = [cells](int row, int column) { return cells->flags(row, column); };
    grid.edit = [cells](int row, int column, const QVariant& value, int role) {
        return cells->edit(row, column, value, role);
    };
    return grid;
}

QStringList fitSummary(const Session& session) {
    const auto& e = session.evidence();
    if (!e) return {};
    const QString unit = session.unit(e->response).isEmpty() ? QString() : " " + session.unit(e->response);
    QStringList lines;
    if (!std::isnan(e->quantileFit))
        lines << QString("Check loss %1 % below that of the quantile alone (Koenker and Machado 1999)")
                     .arg(qs(readableText(100 * e->quantileFit, 3)));
    else if (std::isnan(e->rSquared))
        lines << QString("R², spread and tests have no value: there are as many coefficients as rows");
    else
        lines << QString("R² %1, adjusted %2%3")
                     .arg(qs(readableText(e->rSquared)), qs(readableText(e->adjustedRSquared)),
                          e->logResponse ? QString(", of the logarithm") : QString());
    if (e->iterated && e->iterated->scale > 0)
        lines << QString("Scale of the residuals %1%2; %3 weigh less than a half")
                     .arg(qs(readableText(e->iterated->scale)), e->logResponse ? QString() : unit,
                          qs(plural(e->iterated->rowsDoubted, "row", "rows")));
    else if (!std::isnan(e->residualStandardDeviation))
        lines << QString("Residual standard deviation %1%2 with %3 degrees of freedom")
                     .arg(qs(readableText(e->residualStandardDeviation)),
                          e->logResponse ? QString(" on the logarithm") : unit,
                          qs(countText(static_cast<std::size_t>(e->degreesOfFreedom))));
    if (e->logResponse && std::isnan(e->quantileFit))
        lines << QString("Predictions are exp of the equation times %1 (Duan 1983): exp of a mean logarithm "
                         "falls short of the mean")
                     .arg(qs(readableText(e->smearing)));
    if (std::isfinite(e->aicc))
        lines << QString("AICc %1, BIC %2").arg(qs(readableText(e->aicc, 6)), qs(readableText(e->bic, 6)));
    if (!std::isnan(e->f))
        lines << QString("All terms together: F %1, p %2")
                     .arg(qs(readableText(e->f)), qs(probabilityText(e->fP)));
    else if (!e->fWhy.empty())
        lines << QString("All terms together: no test; %1").arg(qs(e->fWhy));
    lines << QString("Learning rows: RMSE %1%2, MAE %3")
                 .arg(qs(readableText(e->learning.rmse)), unit, qs(readableText(e->learning.mae)));
    if (e->heldOut.rows > 0)
        lines << QString("Held-out rows: RMSE %1 ± %2%3, MAE %4, R² %5")
                     .arg(qs(readableText(e->heldOut.rmse)), qs(readableText(e->heldOut.rmseError, 2)), unit,
                          qs(readableText(e->heldOut.mae)), qs(readableText(e->heldOut.rSquared)));
    return lines;
}

} // namespace oxgoad
