#include "workspace/answers_grids.h"

#include "base/text.h"
#include "study/forecast_answers.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <cmath>

namespace oxgoad {

namespace {

std::size_t at(int row) {
    return static_cast<std::size_t>(row);
}

std::shared_ptr<const ForecastAnswers> answersOf(const Session& session) {
    const auto evidence = session.evidence();
    return evidence && evidence->forecast ? evidence->answers : nullptr;
}

} // namespace

GridModel::Content crossGrid(const Session& session) {
    GridModel::Content grid;
    const auto answers = answersOf(session);
    if (!answers || !answers->crossTable) return grid;
    const CrossTableFound& table = *answers->crossTable;
    grid.rows = static_cast<int>(table.down.size());
    const CrossMeasure measure = table.asked.measure;
    const bool share = measure == CrossMeasure::shareOfPredicted;
    double largest = 0, low = INFINITY, high = -INFINITY;
    for (const CrossCell& cell : table.cells)
        if (std::isfinite(cell.value)) {
            largest = std::max(largest, std::fabs(cell.value));
            low = std::min(low, cell.value), high = std::max(high, cell.value);
        }
    const int decimals = share ? 3 : measure == CrossMeasure::rows ? 0 : decimalsFor(largest / 1000);
    grid.columns.push_back(textColumn(qs(segmentText(table.asked.down)), [answers](int row) {
        const std::string& label = answers->crossTable->down[at(row)];
        return label.empty() ? QStringLiteral("missing") : qs(label);
    }));
    for (std::size_t j = 0; j < table.across.size(); ++j) {
        grid.columns.push_back(numberColumn(
            table.across[j].empty() ? QStringLiteral("missing") : qs(table.across[j]),
            [answers, j](int row) { return answers->crossTable->at(at(row), j).value; }, decimals));
        grid.columns.back().toolTip = qs(std::string(crossMeasureName(measure)));
    }
    grid.extra = [answers, low, high, decimals](int row, int column, int role) -> QVariant {
        if (column == 0) return {};
        const CrossCell& cell = answers->crossTable->at(at(row), at(column - 1));
        if (role == Qt::BackgroundRole && high > low && std::isfinite(cell.value)) {
            QColor shade("#0f766e"); // the deeper, the more
            shade.setAlphaF(static_cast<float>(0.03 + 0.3 * (cell.value - low) / (high - low)));
            return shade;
        }
        if (role == Qt::ToolTipRole && std::isfinite(cell.lower))
            return QStringLiteral("%1 to %2, from %3")
                .arg(
                    qs(groupedText(std::round(cell.lower * std::pow(10, decimals)) / std::pow(10, decimals))),
                    qs(groupedText(std::round(cell.upper * std::pow(10, decimals)) / std::pow(10, decimals))),
                    qs(plural(cell.rows, "row", "rows")))
                .toHtmlEscaped();
        return {};
    };
    return grid;
}

GridModel::Content scenariosGrid(const Session& session) {
    GridModel::Content grid;
    const auto answers = answersOf(session);
    if (!answers) return grid;
    grid.rows = static_cast<int>(answers->scenarios.size());
    const auto evidence = session.evidence();
    double rows = static_cast<double>(evidence->forecast->prediction.size());
    const int decimals = decimalsFor(evidence->learning.rmse * std::sqrt(std::max(1.0, rows)));
    const auto each = [answers](int row) -> const ScenarioFound& { return answers->scenarios[at(row)]; };
    const QString level = qs(percentText(evidence->forecast->level));
    grid.columns = {
        textColumn("scenario", [each](int row) { return qs(each(row).scenario.name); }),
        textColumn("what is otherwise", [each](int row) { return qs(scenarioText(each(row).scenario)); }),
        numberColumn(
            "rows", [each](int row) { return static_cast<double>(each(row).rows); }, 0),
        numberColumn(
            "total", [each](int row) { return each(row).total; }, decimals),
        numberColumn(
            "total then", [each](int row) { return each(row).changed; }, decimals),
        numberColumn(
            "difference", [each](int row) { return each(row).difference; }, decimals),
        numberColumn(
            level + " from", [each](int row) { return each(row).lower; }, decimals),
        numberColumn(
            "to", [each](int row) { return each(row).upper; }, decimals),
        textColumn("outside",
                   [each](int row) {
                       const ScenarioFound& found = each(row);
                       return qs(countText(found.outside) + " (" + countText(found.outsideBefore) +
                                 " before)");
                   }),
        textColumn("not known because", [each](int row) { return qs(each(row).problem); }),
    };
    grid.columns[5].toolTip = "What both share cancels: the interval is that of the difference";
    return grid;
}

GridModel::Content reachGrid(const Session& session) {
    GridModel::Content grid;
    const auto answers = answersOf(session);
    if (!answers) return grid;
    struct Line {
        std::size_t tested;
        std::size_t step;
    };
    auto lines = std::make_shared<std::vector<Line>>();
    for (std::size_t k = 0; k < answers->reach.size(); ++k)
        for (std::size_t s = 0; s < std::max<std::size_t>(1, answers->reach[k].steps.size()); ++s)
            lines->push_back({k, s});
    grid.rows = static_cast<int>(lines->size());
    const auto tested = [answers, lines](int row) -> const ReachTested& {
        return answers->reach[(*lines)[at(row)].tested];
    };
    const auto value = [tested, lines](double ReachStep::*member) {
        return [tested, lines, member](int row) {
            const std::size_t s = (*lines)[at(row)].step;
            return s < tested(row).steps.size() ? tested(row).steps[s].*member : std::nan("");
        };
    };
    const int decimals = decimalsFor(session.evidence()->learning.rmse);
    const auto percent = [value](double ReachStep::*member) {
        return [v = value(member)](int row) { return 100 * v(row); };
    };
    grid.columns = {
        textColumn("beyond the",
                   [tested](int row) {
                       return qs((tested(row).high ? "highest " : "lowest ") + tested(row).column);
                   }),
        numberColumn("rows held out, %", percent(&ReachStep::share), 0),
        numberColumn("mean distance, % of the range", percent(&ReachStep::beyond), 1),
        numberColumn("error", value(&ReachStep::rmse), decimals),
        numberColumn(
            "times the error inside",
            [tested, v = value(&ReachStep::rmse)](int row) { return v(row) / tested(row).rmseInside; }, 2),
        numberColumn("intervals held, %", percent(&ReachStep::coverage), 1),
        numberColumn(
            "asked to go, %", [tested](int row) { return 100 * tested(row).asked; }, 1),
        textColumn("says",
                   [tested, lines](int row) {
                       const ReachTested& each = tested(row);
                       if (each.steps.empty()) return qs(each.problem);
                       return (*lines)[at(row)].step + 1 == each.steps.size() ? qs(each.says) : QString();
                   }),
    };
    grid.columns[6].toolTip =
        "How far the rows to forecast go beyond all learning rows, as a share of their range";
    return grid;
}

} // namespace oxgoad
