#include "workspace/row_grids.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/grids.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

QString rowNumber(std::size_t row) {
    return qs(countText(row + 1));
}

/// Ends of a step of the ladder.
struct LadderStep {
    QString name, values;
    double amount = 0, from = 0, to = 0;
    bool whole = false;
};

std::vector<LadderStep> ladderSteps(const RowStory& story, bool constant) {
    std::vector<LadderStep> steps;
    steps.push_back({constant ? QObject::tr("mean of the learning rows") : QObject::tr("start"),
                     {},
                     story.start,
                     story.start,
                     story.start,
                     true});
    double at = story.start;
    for (const Contribution& each : story.ladder) {
        steps.push_back({qs(each.name), qs(each.values), each.amount, at, at + each.amount, false});
        at += each.amount;
    }
    if (story.offset != 0) {
        steps.push_back({QObject::tr("offset"), {}, story.offset, at, at + story.offset, false});
        at += story.offset;
    }
    steps.push_back({QObject::tr("prediction"), {}, at, at, at, true});
    return steps;
}

} // namespace

GridModel::Content ladderGrid(const Session& session, std::shared_ptr<const RowStory> story) {
    GridModel::Content grid;
    if (!story || !session.evidence() || std::isnan(story->end)) return grid;
    const auto& evidence = *session.evidence();
    const auto steps = std::make_shared<std::vector<LadderStep>>(ladderSteps(*story, evidence.intercept));
    double low = INFINITY, high = -INFINITY;
    for (const LadderStep& step : *steps) {
        low = std::min({low, step.from, step.to});
        high = std::max({high, step.from, step.to});
    }
    if (!(high > low)) high = low + 1;
    const int decimals =
        decimalsFor(evidence.study->rule.spread > 0 ? evidence.study->rule.spread : high - low);
    grid.rows = static_cast<int>(steps->size());
    const auto at = [steps](int row) -> const LadderStep& { return (*steps)[static_cast<std::size_t>(row)]; };
    const QString scale = evidence.inLogs() ? QObject::tr(", logarithm") : QString();
    grid.columns = {
        textColumn("step", [at](int row) { return at(row).name; }),
        textColumn("of this row", [at](int row) { return at(row).values; }),
        numberColumn(
            "adds" + scale, [at](int row) { return at(row).whole ? std::nan("") : at(row).amount; },
            decimals),
        numberColumn(
            "comes to" + scale, [at](int row) { return at(row).to; }, decimals),
        {QObject::tr("from %1 to %2").arg(qs(readableText(low, 3)), qs(readableText(high, 3))),
         false,
         [](int) { return QString(); },
         [](int) { return QVariant(); },
         {}},
    };
    grid.extra = [at, low, high](int row, int column, int role) -> QVariant {
        const LadderStep& step = at(row);
        if (role == DrawingRole && column == 4) {
            IntervalDrawing drawing{{}, low, high};
            drawing.marks.push_back({step.to, std::min(step.from, step.to), std::max(step.from, step.to)});
            return QVariant::fromValue(drawing);
        }
        if (role == Qt::AccessibleTextRole && column == 4)
            return QObject::tr("from %1 to %2").arg(qs(readableText(step.from)), qs(readableText(step.to)));
        return role == ToneRole && step.whole ? QVariant("strong") : QVariant();
    };
    return grid;
}

GridModel::Content placesGrid(std::shared_ptr<const RowStory> story) {
    GridModel::Content grid;
    if (!story) return grid;
    grid.rows = static_cast<int>(story->places.size());
    const auto at = [story](int row) -> const ColumnPlace& {
        return story->places[static_cast<std::size_t>(row)];
    };
    grid.columns = {
        textColumn("column", [at](int row) { return qs(at(row).name); }),
        textColumn("value", [at](int row) { return qs(at(row).value); }),
        textColumn(
            "among the learning rows",
            [at](int row) {
                const ColumnPlace& place = at(row);
                if (std::isnan(place.share)) return QObject::tr("not learned from");
                if (place.factor)
                    return QObject::tr("%1 % have this level").arg(qs(readableText(100 * place.share, 3)));
                if (place.outside)
                    return place.share > 0.5 ? QObject::tr("above all of them")
                                             : QObject::tr("below all of them");
                return QObject::tr("above %1 % of them").arg(qs(readableText(100 * place.share, 3)));
            }),
        {"lowest to highest", false, [](int) { return QString(); }, [](int) { return QVariant(); }, {}},
    };
    grid.extra = [at](int row, int column, int role) -> QVariant {
        const ColumnPlace& place = at(row);
        if (role == ToneRole && column == 2 && (place.outside || std::isnan(place.share))) return "goad";
        if (role == DrawingRole && column == 3 && !place.factor && !std::isnan(place.share)) {
            IntervalDrawing drawing{{}, 0, 1};
            drawing.marks.push_back({place.share, place.share, place.share});
            return QVariant::fromValue(drawing);
        }
        return {};
    };
    return grid;
}

GridModel::Content nearestGrid(const Session& session, std::shared_ptr<const RowStory> story) {
    GridModel::Content grid;
    if (!story || !session.evidence()) return grid;
    grid.rows = static_cast<int>(story->nearest.size());
    const auto at = [story](int row) -> const NearRow& {
        return story->nearest[static_cast<std::size_t>(row)];
    };
    const int decimals = decimalsFor(session.evidence()->learning.rmse);
    grid.columns = {
        {"row",
         true,
         [at](int row) { return rowNumber(at(row).row); },
         [at](int row) { return QVariant::fromValue<qulonglong>(at(row).row + 1); },
         {}},
        numberColumn(
            "distance,\nstandard deviations", [at](int row) { return at(row).distance; }, 2),
        numberColumn(
            "actual", [at](int row) { return at(row).actual; }, decimals),
        numberColumn(
            "predicted", [at](int row) { return at(row).predicted; }, decimals),
        numberColumn(
            residualTitle(*session.evidence()), [at](int row) { return at(row).residual; },
            decimalsFor(session.evidence()->study->rule.spread)),
    };
    grid.extra = [at](int row, int, int role) -> QVariant {
        return role == DataRowRole ? QVariant::fromValue<qulonglong>(at(row).row) : QVariant();
    };
    return grid;
}

GridModel::Content withoutRowGrid(std::shared_ptr<const RowStory> story) {
    GridModel::Content grid;
    if (!story) return grid;
    grid.rows = static_cast<int>(story->coefficients.size());
    const auto at = [story](int row) -> const WithoutRow& {
        return story->coefficients[static_cast<std::size_t>(row)];
    };
    const auto error = [at](int row) { // the standard error that DFBETAS is counted in
        const WithoutRow& each = at(row);
        return each.inErrors != 0 ? std::fabs((each.with - each.without) / each.inErrors) : std::nan("");
    };
    const auto supported = [error](int row, double value) { return supportedText(value, error(row)); };
    grid.columns = {
        textColumn("coefficient", [at](int row) { return qs(at(row).name); }),
        {"with the row",
         true,
         [at, supported](int row) { return supported(row, at(row).with); },
         [at](int row) { return QVariant(at(row).with); },
         {}},
        {"without it",
         true,
         [at, supported](int row) { return supported(row, at(row).without); },
         [at](int row) { return QVariant(at(row).without); },
         {}},
        numberColumn(
            "moved by,\nstandard errors", [at](int row) { return at(row).inErrors; }, 3),
    };
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == FractionRole && (column == 1 || column == 2)) return -1; // of different units
        return role == ToneRole && column == 3 && std::fabs(at(row).inErrors) > 1 ? QVariant("goad")
                                                                                  : QVariant();
    };
    return grid;
}

GridModel::Content leftOutGrid(const Session& session) {
    GridModel::Content grid;
    const auto rows = std::make_shared<std::vector<LeftOutRow>>(session.recipe().leaveOut);
    grid.rows = static_cast<int>(rows->size());
    const auto at = [rows](int row) -> const LeftOutRow& { return (*rows)[static_cast<std::size_t>(row)]; };
    const auto evidence = session.evidence();
    const int decimals = evidence ? decimalsFor(evidence->learning.rmse) : 0;
    const auto actual = [at, evidence](int row) {
        const std::size_t i = at(row).row - 1;
        return evidence && i < evidence->rows.actual.size() ? evidence->rows.actual[i] : std::nan("");
    };
    grid.columns = {
        {"row",
         true,
         [at](int row) { return rowNumber(at(row).row - 1); },
         [at](int row) { return QVariant::fromValue<qulonglong>(at(row).row); },
         {}},
        numberColumn("actual", actual, decimals),
        textColumn("left out because", [at](int row) { return qs(at(row).reason); }),
    };
    grid.extra = [at](int row, int, int role) -> QVariant {
        return role == DataRowRole ? QVariant::fromValue<qulonglong>(at(row).row - 1) : QVariant();
    };
    return grid;
}

QString rowHeadline(const Session& session, const RowStory& story) {
    const auto& evidence = session.evidence();
    if (!evidence) return {};
    const QString unit = session.unit(evidence->response);
    const auto number = [](double v, int digits = 6) { return qs(readableText(v, digits)); };
    QString text = QObject::tr("%1, %2").arg(QObject::tr("row %1").arg(rowNumber(story.row)),
                                             qs(stateName(story.state)));
    if (!std::isnan(story.actual)) text += QObject::tr(" · actual %1").arg(number(story.actual));
    if (!std::isnan(story.predicted)) text += QObject::tr(" · predicted %1").arg(number(story.predicted));
    if (!std::isnan(story.lower))
        text += QObject::tr(", %1 of single values from %2 to %3")
                    .arg(qs(percentText(session.recipe().level)), number(story.lower), number(story.upper));
    if (!unit.isEmpty()) text += " " + unit;
    if (!std::isnan(story.residual))
        text += QObject::tr(" · residual %1").arg(number(story.residual, 4)) +
                (evidence->logResponse ? QObject::tr(" (logarithm)") : QString());
    if (!std::isnan(story.studentized))
        text += QObject::tr(" · studentised %1").arg(number(story.studentized, 3));
    if (!std::isnan(story.leverage)) text += QObject::tr(" · leverage %1").arg(number(story.leverage, 3));
    if (!std::isnan(story.cook)) text += QObject::tr(" · Cook's distance %1").arg(number(story.cook, 3));
    if (!std::isnan(story.dffits)) text += QObject::tr(" · DFFITS %1").arg(number(story.dffits, 3));
    for (const std::string& problem : story.problems)
        text += " · " + qs(problem);
    return text;
}

QString totalWithoutText(const Session& session, const RowStory& story) {
    if (std::isnan(story.forecastTotal)) return {};
    const QString unit = session.evidence() ? session.unit(session.evidence()->response) : QString();
    return QObject::tr("The forecast's total would be %1 in place of %2%3 without this row.")
        .arg(qs(readableText(story.forecastTotalWithout, 9)), qs(readableText(story.forecastTotal, 9)),
             unit.isEmpty() ? QString() : " " + unit);
}

} // namespace oxgoad
