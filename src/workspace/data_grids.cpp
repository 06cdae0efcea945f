// Tables of the Data station.
#include "base/text.h"
#include "table/values.h"
#include "workspace/grid_text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>
#include <memory>
#include <optional>
#include <string>
#include <unordered_set>

namespace oxgoad {

namespace {

/// A moment of a column as it is shown: a date for dates, four digits for numbers.
QString momentText(const ColumnSummary& s, double NumberSummary::*member) {
    if (!s.numbers) return {};
    const double value = (*s.numbers).*member;
    if (const std::string day = calendarText(s, value);
        !day.empty() && member != &NumberSummary::standardDeviation && member != &NumberSummary::skewness)
        return qs(day);
    const bool years = s.whole == s.rows - s.missing && areYears(s.numbers->smallest, s.numbers->largest);
    std::string text = shortText(value);
    if (years) std::erase(text, ','); // 1970, not 1,970
    return qs(text);
}

QString arrow(std::size_t from, std::size_t to) {
    return from == to ? qs(countText(from)) : qs(countText(from)) + " → " + qs(countText(to));
}

GridColumn count(QString title, std::function<std::size_t(int)> value, QString toolTip = {}) {
    return {std::move(title), true,
            [value](int row) { return value(row) > 0 ? qs(countText(value(row))) : QString(); },
            [value](int row) { return QVariant::fromValue<qulonglong>(value(row)); }, std::move(toolTip)};
}

} // namespace

GridModel::Content ledgerGrid(const Session& session) {
    GridModel::Content grid;
    const auto prepared = session.prepared();
    if (!prepared) return grid;
    grid.rows = static_cast<int>(prepared->ledger.columns.size());
    auto line = [prepared](int row) -> const LedgerLine& {
        return prepared->ledger.columns[static_cast<std::size_t>(row)];
    };
    auto at = [line](int row) -> const ColumnSummary& { return line(row).summary; };
    const auto names = inputNames(session.recipe().terms);
    const auto inputs = std::make_shared<const std::unordered_set<std::string>>(names.begin(), names.end());
    auto moment = [at](QString title, double NumberSummary::*member) {
        return GridColumn{std::move(title),
                          true,
                          [at, member](int row) { return momentText(at(row), member); },
                          [at, member](int row) {
                              return at(row).numbers ? rawNumber((*at(row).numbers).*member) : QVariant();
                          },
                          {}};
    };
    grid.columns = {
        textColumn("column", [at](int row) { return qs(at(row).name); }),
        textColumn("role",
                   [at, inputs, &session](int row) {
                       const std::string& name = at(row).name;
                       const Recipe& recipe = session.recipe();
                       const Role role = roleOf(recipe, name);
                       return name == recipe.response   ? QString("response")
                              : inputs->contains(name)  ? QString("predictor")
                              : role == Role::predictor ? QString()
                                                        : qs(roleName(role));
                   }),
        textColumn("type", [at](int row) { return qs(kindName(at(row).kind)); }),
        textColumn("unit", [at, &session](int row) { return session.unit(at(row).name); }),
        textColumn("distribution", [](int) { return QString(); }),
        count("missing", [at](int row) { return at(row).missing; }),
        {"share\nmissing",
         true,
         [at](int row) {
             const auto& s = at(row);
             return s.missing == 0
                        ? QString()
                        : qs(readableText(
                              100.0 * static_cast<double>(s.missing) / static_cast<double>(s.rows), 2)) +
                              " %";
         },
         [at](int row) {
             const auto& s = at(row);
             return s.rows == 0 ? 0.0 : static_cast<double>(s.missing) / static_cast<double>(s.rows);
         },
         {}},
        count("distinct", [at](int row) { return at(row).distinct; }),
        textColumn("what is odd",
                   [line](int row) {
                       QStringList odd;
                       for (const Goad& goad : line(row).goads)
                           odd << qs(goad.key.substr(0, goad.key.find(':')));
                       odd.removeDuplicates();
                       QStringList remarks;
                       for (const Goad& remark : line(row).remarks)
                           remarks << qs(remark.key.substr(0, remark.key.find(':')));
                       if (!remarks.isEmpty()) odd << "(" + remarks.join(", ") + ")";
                       return odd.join(odd.size() == 2 && !remarks.isEmpty() ? " " : ", ");
                   }),
        moment("smallest", &NumberSummary::smallest),
        moment("lower\nquartile", &NumberSummary::lowerQuartile),
        moment("median", &NumberSummary::median),
        moment("mean", &NumberSummary::mean),
        moment("upper\nquartile", &NumberSummary::upperQuartile),
        moment("largest", &NumberSummary::largest),
        moment("standard\ndeviation", &NumberSummary::standardDeviation),
        moment("skew", &NumberSummary::skewness),
    };
    grid.extra = [line, at](int row, int column, int role) -> QVariant {
        if (role == FractionRole) return -1; // columns of different units have no decimal mark in common
        if (role == DrawingRole && column == 4) {
            const ColumnSummary& s = at(row);
            return QVariant::fromValue(
                ShapeDrawing{ShapeDrawing::Kind::bars, {s.shape.begin(), s.shape.end()}, 0, 0});
        }
        if (role == ToneRole && column == 8) return line(row).goads.empty() ? "quiet" : "goad";
        if (role == ToneRole && (column == 2 || column == 3)) return "quiet";
        if (role == ToneRole && column == 0) return "strong";
        if (role == Qt::ToolTipRole && column == 8 &&
            !(line(row).goads.empty() && line(row).remarks.empty())) {
            QStringList odd;
            for (const Goad& remark : line(row).remarks)
                odd << QObject::tr("(%1: %2)").arg(qs(remark.title), qs(remark.reading));
            for (const Goad& goad : line(row).goads)
                odd << qs(goad.title + ": " + goad.reading);
            return "<qt>" + odd.join("\n").toHtmlEscaped().replace("\n", "<br>") + "</qt>";
        }
        if (role == Qt::ToolTipRole && column == 4 && at(row).kind == ColumnKind::factor) {
            QStringList levels;
            for (const auto& [level, rows] : at(row).levels) {
                levels << qs(level + ": " + countText(rows));
                if (levels.size() == 20) break;
            }
            return "<qt>" + levels.join("\n").toHtmlEscaped().replace("\n", "<br>") + "</qt>";
        }
        return {};
    };
    return grid;
}

GridModel::Content rowsGrid(const Session& session, std::shared_ptr<const std::vector<std::uint32_t>> order) {
    GridModel::Content grid;
    const auto prepared = session.prepared();
    if (!prepared) return grid;
    grid.rows = static_cast<int>(order ? order->size() : prepared->table.rows());
    const auto evidence = session.evidence();
    auto dataRow = [order](int row) {
        return order ? (*order)[static_cast<std::size_t>(row)] : static_cast<std::uint32_t>(row);
    };
    auto state = [evidence, prepared, dataRow](int row) {
        const std::size_t i = dataRow(row);
        if (evidence) return evidence->rows.state[i];
        return prepared->leftOut[i] != 0              ? RowState::leftOut
               : prepared->teaches(i)                 ? RowState::learning
               : prepared->parts[i] == Part::learning ? RowState::weightless
               : prepared->parts[i] == Part::heldOut  ? RowState::heldOut
                                                      : RowState::test;
    };
    grid.columns.push_back({"row",
                            true,
                            [dataRow](int row) { return qs(countText(dataRow(row) + 1)); },
                            [dataRow](int row) { return static_cast<qulonglong>(dataRow(row)) + 1; },
                            {}});
    grid.columns.push_back(textColumn("part", [&session, state, prepared, dataRow](int row) {
        const QString name = qs(stateName(state(row)));
        const auto by = prepared->leftOut[dataRow(row)];
        const auto& marked = session.markedRows();
        const bool here = marked && dataRow(row) < marked->size() && (*marked)[dataRow(row)] != 0;
        return (by > 0   ? QObject::tr("left out by step %1").arg(by)
                : by < 0 ? QObject::tr("left out by hand")
                         : name) +
               (here ? QObject::tr(", marked") : QString());
    }));
    for (const Column& column : prepared->table.columns())
        grid.columns.push_back(
            {session.unit(column.name()).isEmpty() ? qs(column.name())
                                                   : qs(column.name()) + "\n" + session.unit(column.name()),
             column.kind() == ColumnKind::number,
             [column, dataRow, years = areYears(session, column)](int row) {
                 return shownCell(column, dataRow(row), years);
             },
             [column, dataRow](int row) {
                 return column.kind() == ColumnKind::number ? rawNumber(column.numbers()[dataRow(row)])
                                                            : QVariant(qs(column.cellText(dataRow(row))));
             },
             {}});
    grid.extra = [state, dataRow](int row, int column, int role) -> QVariant {
        if (role == DataRowRole) return QVariant::fromValue<qulonglong>(dataRow(row));
        if (role != ToneRole) return {};
        switch (state(row)) {
        case RowState::leftOut:
        case RowState::missing:
        case RowState::weightless:
            return "quiet";
        case RowState::heldOut:
            return column == 1 ? QVariant("heldOut") : QVariant();
        case RowState::test:
            return column == 1 ? QVariant("forecast") : QVariant();
        case RowState::learning:
            return column == 1 ? QVariant("learning") : QVariant();
        }
        return {};
    };
    return grid;
}

GridModel::Content stepsGrid(Session& session) {
    GridModel::Content grid;
    const auto prepared = session.prepared();
    if (!prepared) return grid;
    const auto steps = std::make_shared<const std::vector<Step>>(session.recipe().steps);
    grid.rows = static_cast<int>(std::min(steps->size(), prepared->steps.size()));
    auto outcome = [prepared](int row) -> const StepOutcome& {
        return prepared->steps[static_cast<std::size_t>(row)];
    };
    auto step = [steps](int row) -> const Step& { return (*steps)[static_cast<std::size_t>(row)]; };
    grid.columns = {
        textColumn("step",
                   [step](int row) { return QString("%1  ").arg(row + 1) + qs(stepSentence(step(row))); }),
        {"rows in → out",
         true,
         [outcome, step](int row) {
             return step(row).on ? arrow(outcome(row).rowsIn, outcome(row).rowsOut)
                                 : QObject::tr("switched off");
         },
         {},
         {}},
        {"columns",
         true,
         [outcome](int row) { return arrow(outcome(row).columnsIn, outcome(row).columnsOut); },
         {},
         {}},
        count("cells\nchanged", [outcome](int row) { return outcome(row).changedCells; }),
        textColumn("what happened",
                   [outcome](int row) {
                       QStringList said;
                       if (!outcome(row).problem.empty()) return qs(outcome(row).problem);
                       for (const auto& note : outcome(row).notes)
                           said << qs(note);
                       return said.join("; ");
                   }),
    };
    grid.flags = [](int, int column) {
        Qt::ItemFlags flags = Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemNeverHasChildren;
        if (column == 0) flags |= Qt::ItemIsUserCheckable;
        return flags;
    };
    grid.extra = [outcome, step](int row, int column, int role) -> QVariant {
        if (role == FractionRole) return -1;
        if (role == Qt::CheckStateRole && column == 0) return step(row).on ? Qt::Checked : Qt::Unchecked;
        if (role == ToneRole && !step(row).on) return "quiet";
        if (role == ToneRole && column == 4 && !outcome(row).problem.empty()) return "alarm";
        if (role == ToneRole && column > 0) return "quiet";
        return {};
    };
    grid.edit = [&session](int row, int column, const QVariant& value, int role) {
        if (column != 0 || role != Qt::CheckStateRole) return false;
        auto next = session.recipe().steps;
        if (row >= static_cast<int>(next.size())) return false;
        next[static_cast<std::size_t>(row)].on = value.toInt() == Qt::Checked;
        session.setSteps(std::move(next));
        return true;
    };
    return grid;
}

namespace {

/// A line of the table of parts: a part, or a fold of the learning rows.
struct PartLine {
    QString name, tone, levels;
    std::size_t rows = 0;
    std::optional<std::size_t> withResponse;
    double mean = 0, deviation = 0, rmse = 0;
    bool locked = false;
};

PartLine partLine(const PartSummary& part, const Scores* score) {
    PartLine line;
    line.name = qs(partName(part.part));
    if (!part.note.empty()) line.name += " (" + qs(part.note) + ")";
    line.tone = part.part == Part::learning  ? "learning"
                : part.part == Part::heldOut ? "heldOut"
                                             : "forecast";
    line.rows = part.rows;
    line.withResponse = part.withResponse;
    line.locked = part.part == Part::test && !score;
    line.mean = part.part == Part::test && score ? score->meanActual : part.mean;
    line.deviation = part.standardDeviation;
    line.rmse = score && score->rows > 0 ? score->rmse : std::nan("");
    QStringList levels;
    for (const auto& level : part.unseenLevels)
        levels << qs(level);
    line.levels = levels.join(", ");
    return line;
}

/// The dealing: each fold of the first repeat with what is in it.
void addFolds(const FoldEvidence& folds, std::vector<PartLine>& lines) {
    constexpr std::size_t most = 1000;
    const bool draws = folds.plan.kind == FoldKind::bootstrap;
    for (const FoldScore& fold : folds.each) {
        if (fold.repeat > 0 || lines.size() > most) continue;
        PartLine line;
        line.name =
            "    " + (draws ? QObject::tr("not in draw %1") : QObject::tr("fold %1")).arg(qs(fold.fold));
        line.tone = "quiet";
        line.rows = fold.rows;
        line.mean = fold.mean;
        line.deviation = std::nan("");
        line.rmse = fold.rmse;
        QStringList levels;
        for (const UnseenLevel& level : folds.unseen)
            if (level.fold == fold.fold) levels << qs(level.column + ": " + level.level);
        levels.removeDuplicates();
        line.levels = levels.join(", ");
        lines.push_back(std::move(line));
    }
}

} // namespace

GridModel::Content partsGrid(const Session& session) {
    GridModel::Content grid;
    const auto prepared = session.prepared();
    if (!prepared) return grid;
    const auto evidence = session.evidence();
    const auto lines = std::make_shared<std::vector<PartLine>>();
    for (const PartSummary& part : prepared->partSummaries) {
        const Scores* score = !evidence                     ? nullptr
                              : part.part == Part::learning ? &evidence->learning
                              : part.part == Part::heldOut  ? &evidence->heldOut
                              : evidence->test              ? &*evidence->test
                                                            : nullptr;
        lines->push_back(partLine(part, score));
        if (part.part == Part::learning && evidence && evidence->folds) addFolds(*evidence->folds, *lines);
    }
    grid.rows = static_cast<int>(lines->size());
    const auto at = [lines](int row) -> const PartLine& { return (*lines)[static_cast<std::size_t>(row)]; };
    const QString unit = session.unit(session.recipe().response);
    const QString response = qs(session.recipe().response);
    const auto titled = [unit](const QString& title) { return unit.isEmpty() ? title : title + "\n" + unit; };
    const auto numbers = [at](const QString& title, double PartLine::*member, bool locks) {
        return GridColumn{title,
                          true,
                          [at, member, locks](int row) {
                              const double value = at(row).*member;
                              return locks && at(row).locked ? QObject::tr("locked")
                                     : std::isnan(value)     ? QString()
                                                             : qs(readableText(value));
                          },
                          [at, member](int row) { return rawNumber(at(row).*member); },
                          {}};
    };
    grid.columns = {
        textColumn("part", [at](int row) { return at(row).name; }),
        count("rows", [at](int row) { return at(row).rows; }),
        {"with " + response,
         true,
         [at](int row) { return at(row).withResponse ? qs(countText(*at(row).withResponse)) : QString(); },
         [at](int row) {
             return at(row).withResponse ? QVariant::fromValue(static_cast<qulonglong>(*at(row).withResponse))
                                         : QVariant();
         },
         {}},
        numbers(titled("mean of " + response), &PartLine::mean, true),
        numbers(titled("standard deviation"), &PartLine::deviation, false),
        numbers(titled("RMSE of the fit"), &PartLine::rmse, true),
        textColumn("levels no learning row has", [at](int row) { return at(row).levels; }),
    };
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == FractionRole) return -1;
        if (role == ToneRole && column == 0) return at(row).tone;
        if (role == ToneRole && column == 6) return "goad";
        return {};
    };
    return grid;
}

GridModel::Content stepEffectGrid(const StepEffect& effect) {
    struct Line {
        std::string name;
        std::optional<ColumnSummary> before, after;
    };
    auto lines = std::make_shared<std::vector<Line>>();
    for (const ColumnSummary& s : effect.before)
        lines->push_back({s.name, s, {}});
    for (const ColumnSummary& s : effect.after) {
        const auto found =
            std::find_if(lines->begin(), lines->end(), [&](const Line& l) { return l.name == s.name; });
        if (found == lines->end())
            lines->push_back({s.name, {}, s});
        else
            found->after = s;
    }
    GridModel::Content grid;
    grid.rows = static_cast<int>(lines->size());
    auto at = [lines](int row) -> const Line& { return (*lines)[static_cast<std::size_t>(row)]; };
    auto both = [at](QString title, std::function<QString(const ColumnSummary&)> text) {
        return GridColumn{std::move(title),
                          true,
                          [at, text](int row) {
                              const QString before = at(row).before ? text(*at(row).before) : QString("–");
                              const QString after = at(row).after ? text(*at(row).after) : QString("–");
                              return before == after ? before : before + " → " + after;
                          },
                          {},
                          {}};
    };
    auto moment = [both](const QString& title, double NumberSummary::*member) {
        return both(title, [member](const ColumnSummary& s) { return momentText(s, member); });
    };
    grid.columns = {textColumn("column", [at](int row) { return qs(at(row).name); }),
                    both("type", [](const ColumnSummary& s) { return qs(kindText(s)); }),
                    both("rows", [](const ColumnSummary& s) { return qs(countText(s.rows)); }),
                    both("missing", [](const ColumnSummary& s) { return qs(countText(s.missing)); }),
                    both("distinct", [](const ColumnSummary& s) { return qs(countText(s.distinct)); }),
                    moment("smallest", &NumberSummary::smallest),
                    moment("median", &NumberSummary::median),
                    moment("mean", &NumberSummary::mean),
                    moment("standard deviation", &NumberSummary::standardDeviation),
                    moment("largest", &NumberSummary::largest)};
    grid.extra = [](int, int column, int role) -> QVariant {
        if (role == FractionRole) return -1;
        return role == ToneRole && column == 0 ? QVariant("strong") : QVariant();
    };
    return grid;
}

GridModel::Content previewGrid(const Table& table) {
    GridModel::Content grid;
    grid.rows = static_cast<int>(std::min<std::size_t>(table.rows(), 200));
    for (const Column& column : table.columns())
        grid.columns.push_back(
            {qs(column.name()) + "\n" + qs(column.kindText()),
             column.kind() == ColumnKind::number,
             [column](int row) { return qs(column.cellText(static_cast<std::size_t>(row))); },
             {},
             QObject::tr("Click to read the column as another type")});
    return grid;
}

} // namespace oxgoad
