#include "workspace/choose_grid.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

GridModel::Content chooseGrid(std::shared_ptr<const Choice> choice) {
    const auto order = std::make_shared<std::vector<const ChosenTerm*>>();
    for (const ChosenTerm& candidate : choice->candidates)
        order->push_back(&candidate);
    const auto place = [&](const ChosenTerm* candidate) {
        for (std::size_t i = choice->steps.size(); i-- > 0;)
            if (choice->steps[i].term == candidate->term) return i;
        return choice->steps.size();
    };
    std::stable_sort(order->begin(), order->end(), [&](const ChosenTerm* a, const ChosenTerm* b) {
        if (a->chosen != b->chosen) return a->chosen;
        if (a->chosen) return place(a) < place(b);
        return a->share > b->share;
    });
    const auto at = [choice, order](int row) -> const ChosenTerm& {
        return *(*order)[static_cast<std::size_t>(row)];
    };
    GridModel::Content grid;
    grid.rows = static_cast<int>(order->size());
    grid.columns = {
        textColumn("term", [at](int row) { return qs(termName(at(row).term)); }),
        textColumn("chosen", [at](int row) { return at(row).chosen ? QString("chosen") : QString("left"); }),
        numberColumn(
            "in folds\n%", [at](int row) { return 100 * at(row).share; }, 0),
        {"p",
         true,
         [at](int row) { return std::isnan(at(row).p) ? QString() : qs(probabilityText(at(row).p)); },
         [at](int row) { return rawNumber(at(row).p); },
         {}}};
    grid.columns[2].toolTip = "Of the folds, how many chose it again without seeing the fold left out";
    grid.columns[3].toolTip = "F test in the chosen model, or when added to it; optimistic after a choice";
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role != ToneRole) return {};
        const ChosenTerm& term = at(row);
        if (!term.chosen) return column == 3 && term.p < 0.05 ? "goad" : "quiet";
        if (column == 0) return "strong";
        if ((column == 2 && term.share < 0.5) || (column == 3 && term.p > 0.05)) return "goad";
        return {};
    };
    return grid;
}

} // namespace oxgoad
