#include "workspace/grids.h"

#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "recipe/recipe_edits.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

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
    colRange,
    /// Of models without coefficients.
    colImportance,
    colImportanceError
};

class TermCells {
public:
    TermCells(Session& session, std::vector<TermLine> lines)
        : m_session(session), m_lines(std::move(lines)), m_evidence(session.evidence()) {
        if (!m_evidence || !m_evidence->linear) return;
        m_deviation = effectScale(session) == EffectScale::deviation;
        for (const auto& c : m_evidence->linear->coefficients) {
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
        return m_evidence && m_evidence->linear && l.coefficient >= 0
                   ? &m_evidence->linear->coefficients[static_cast<std::size_t>(l.coefficient)]
                   : nullptr;
    }
    const TermEvidence* term(int row) const {
        const TermLine& l = line(row);
        return m_evidence && m_evidence->linear && l.kind == TermLine::Kind::term
                   ? &m_evidence->linear->terms[static_cast<std::size_t>(l.term)]
                   : nullptr;
    }
    /// Of a model without coefficients.
    const InputEvidence* input(int row) const {
        if (!m_evidence || line(row).kind != TermLine::Kind::term) return nullptr;
        for (const InputEvidence& input : m_evidence->inputs)
            if (input.name == line(row).column) return &input;
        return nullptr;
    }
    /// Errors without terms are those over folds where no rows are held out.
    bool byFolds() const {
        return m_evidence && m_evidence->heldOut.rows == 0 && m_evidence->folds && m_evidence->linear &&
               m_evidence->folds->errorWithout.size() == m_evidence->linear->terms.size();
    }
    double errorWithout(int row) const {
        const auto* t = term(row);
        if (!t) return std::nan("");
        return byFolds() && t->chosen
                   ? m_evidence->folds->errorWithout[static_cast<std::size_t>(line(row).term)]
                   : t->errorWithout;
    }
    bool heldBack() const {
        const LinearModel* model = m_evidence ? m_evidence->study->linear() : nullptr;
        return model && model->penalised;
    }
    bool ofInputs() const { return m_evidence && !m_evidence->linear; }

    QString range(int row) const {
        const auto* t = term(row);
        const auto* i = input(row);
        const double low = t   ? t->lowest
                           : i ? i->lowest
                               : std::nan(""),
                     high = t   ? t->highest
                            : i ? i->highest
                                : 0;
        if (std::isnan(low)) return {};
        const auto& inputs = m_evidence->study->inputs;
        if (const auto known = findInput(inputs, line(row).column))
            return qs(inputs[*known].valueText(low) + " to " + inputs[*known].valueText(high));
        return qs(readableText(low) + " to " + readableText(high));
    }

    QString name(int row) const {
        const TermLine& l = line(row);
        switch (l.kind) {
        case TermLine::Kind::constant:
            return "constant";
        case TermLine::Kind::term:
            return qs(shownName(m_session.recipe().terms[static_cast<std::size_t>(l.term)]));
        case TermLine::Kind::level:
            return "    " + qs(levelName(m_session.recipe().terms[static_cast<std::size_t>(l.term)],
                                         coefficient(row)->name));
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
        if (const auto* i = input(row))
            return i->factor ? qs(plural(i->levels, "level", "levels")) : QString("as is");
        if (line(row).kind == TermLine::Kind::term) return "…";
        if (line(row).kind == TermLine::Kind::candidate) {
            const Column* column = m_session.table().find(line(row).column);
            if (!column) return {};
            return "not in the model, " +
                   (column->kind() == ColumnKind::factor
                        ? qs("factor of " + plural(column->levels().size(), "level", "levels"))
                        : qs(kindName(column->kind())));
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
            (column == colTerm && l.kind == TermLine::Kind::level) || column == colRange ||
            column == colImportanceError)
            return "quiet";
        if (const auto* t = term(row)) {
            if (column == colInflation && t->inflation > 5) return "goad";
            if (column == colWithout && errorWithout(row) < -0.0005) return "alarm";
            if (!t->chosen) return "quiet";
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
        } else if (line(row).kind == TermLine::Kind::term && m_evidence && m_evidence->linear &&
                   (row + 1 == rows() || line(row + 1).kind != TermLine::Kind::level)) {
            for (const auto& each :
                 m_evidence->linear->coefficients) // a closed factor shows all its levels on one line
                if (each.term == line(row).term) add(each);
        }
        return QVariant::fromValue(drawing);
    }

    QVariant shapeDrawing(int row) const {
        if (const auto* i = input(row))
            return QVariant::fromValue(
                ShapeDrawing{i->factor ? ShapeDrawing::Kind::steps : ShapeDrawing::Kind::line, i->shape, 0, 0,
                             i->density});
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

GridModel::Content termsGrid(Session& session, std::vector<TermLine> lines) {
    const auto cells = std::make_shared<const TermCells>(session, std::move(lines));
    const QString unit = session.unit(session.recipe().response);
    const bool logs = session.evidence() && session.evidence()->inLogs();
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
    const std::vector<GridColumn> all = {
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
        {"error\nwithout", true, [cells, percent](int row) { return percent(cells->errorWithout(row)); },
         [cells](int row) { return rawNumber(cells->errorWithout(row)); },
         cells->byFolds() ? "Change of the error over folds when the term is left out of every fold's model"
                          : "Change of the error on held-out rows when the term is left out"},
        textColumn("shape", [](int) { return QString(); }),
        textColumn("range learned", [cells](int row) { return cells->range(row); }),
        {"error when\nshuffled", true,
         [cells, percent](int row) {
             const auto* i = cells->input(row);
             return i ? percent(i->importance) : QString();
         },
         [cells](int row) {
             return cells->input(row) ? rawNumber(cells->input(row)->importance) : QVariant();
         },
         "How much larger the error is when the values of the column are shuffled over rows (Breiman 2001)"},
        {"± se", true,
         [cells](int row) {
             const auto* i = cells->input(row);
             return i && !std::isnan(i->importanceError) ? decimalsText(100 * i->importanceError, 1) + " %"
                                                         : QString();
         },
         [cells](int row) {
             return cells->input(row) ? rawNumber(cells->input(row)->importanceError) : QVariant();
         },
         "Standard error over three shuffles"},
    };
    // A model without coefficients has a line a column, with what it leans on.
    std::vector<TermColumn> shown;
    if (cells->ofInputs())
        shown = {colTerm, colEnters, colImportance, colImportanceError, colShape, colRange};
    else if (cells->heldBack()) // no errors and tests as if nothing had been chosen
        shown = {colTerm, colEnters, colEstimate, colInflation, colWithout, colShape, colRange};
    else
        for (int column = colTerm; column <= colRange; ++column)
            shown.push_back(static_cast<TermColumn>(column));
    for (const TermColumn column : shown)
        grid.columns.push_back(all[static_cast<std::size_t>(column)]);
    grid.extra = [cells, shown](int row, int column, int role) {
        return cells->extra(row, shown[static_cast<std::size_t>(column)], role);
    };
    grid.flags = [cells](int row, int column) { return cells->flags(row, column); };
    grid.edit = [cells](int row, int column, const QVariant& value, int role) {
        return cells->edit(row, column, value, role);
    };
    return grid;
}

} // namespace oxgoad
