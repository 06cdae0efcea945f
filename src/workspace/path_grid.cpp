#include "workspace/path_grid.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <QObject>
#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

GridModel::Content pathGrid(std::shared_ptr<const PathView> view, std::size_t place,
                            std::shared_ptr<const StabilitySelection> halves, const Recipe& recipe,
                            bool perDeviation) {
    struct Row {
        const PathLine* line = nullptr;
        const TermHalves* half = nullptr;
        double now = 0, last = 0;
    };
    auto rows = std::make_shared<std::vector<Row>>();
    for (const PathLine& line : view->lines) {
        const auto& values = perDeviation ? line.perDeviation : line.natural;
        Row row{&line, nullptr, values[place], values.back()};
        if (halves && line.term < recipe.terms.size())
            for (const TermHalves& each : halves->each)
                if (each.term == termName(recipe.terms[line.term])) row.half = &each;
        rows->push_back(row);
    }
    std::stable_sort(rows->begin(), rows->end(), [](const Row& a, const Row& b) {
        if ((a.now != 0) != (b.now != 0)) return a.now != 0;
        return a.now != 0 ? std::fabs(a.now) > std::fabs(b.now) : a.line->enters < b.line->enters;
    });
    const auto at = [rows, view, halves](int row) -> const Row& {
        return (*rows)[static_cast<std::size_t>(row)];
    };
    double largest = 0;
    for (const Row& row : *rows)
        largest = std::max({largest, std::fabs(row.now), std::fabs(row.last)});
    const int decimals = decimalsFor(largest);
    const QString per = perDeviation ? QObject::tr("\nper st. dev.") : QString();
    GridModel::Content grid;
    grid.rows = static_cast<int>(rows->size());
    grid.columns = {
        textColumn(QObject::tr("column"), [at](int r) { return qs(at(r).line->name); }),
        numberColumn(
            QObject::tr("estimate") + per, [at](int r) { return at(r).now; }, decimals),
        numberColumn(
            QObject::tr("hardly held back") + per, [at](int r) { return at(r).last; }, decimals),
        numberColumn(
            QObject::tr("left of it\n%"),
            [at](int r) { return at(r).last * at(r).now > 0 ? 100 * at(r).now / at(r).last : std::nan(""); },
            0),
        {QObject::tr("comes in at\npenalty"),
         true,
         [at, view](int r) { return qs(readableText(view->places[at(r).line->enters].penalty, 3)); },
         [at, view](int r) { return rawNumber(view->places[at(r).line->enters].penalty); },
         {}}};
    grid.columns[2].toolTip = QObject::tr("At the weakest penalty of the path");
    if (!view->judgedBy.empty())
        grid.columns.push_back(numberColumn(
            QObject::tr("folds that\nkeep it, %"),
            [at, place](int r) {
                const auto& share = at(r).line->keptShare;
                return share.empty() ? std::nan("") : 100 * share[place];
            },
            0));
    if (halves) {
        grid.columns.push_back(numberColumn(
            QObject::tr("halves that\nkeep its term, %"),
            [at](int r) { return at(r).half ? 100 * at(r).half->share : std::nan(""); }, 0));
        grid.columns.back().toolTip = QObject::tr("At some penalty from the largest down to the model's");
        grid.columns.push_back(
            {QObject::tr("p of its term\nafter selection"),
             true,
             [at](int r) { return at(r).half ? qs(probabilityText(at(r).half->p)) : QString(); },
             [at](int r) { return at(r).half ? rawNumber(at(r).half->p) : QVariant(); },
             {}});
        grid.columns.back().toolTip = QObject::tr(
            "By repeated splitting: chosen on one half, tested on the other, for all terms together");
    }
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role != ToneRole) return {};
        if (at(row).now == 0) return "quiet";
        return column == 0 && at(row).half && at(row).half->stable ? "strong" : QVariant();
    };
    return grid;
}

} // namespace oxgoad
