#include "workspace/helps_grid.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <cmath>

namespace oxgoad {

ListedHelps::ListedHelps(WhatHelps found) : what(std::move(found)) {
    for (const Help& help : what.helps)
        names.push_back(qs(termName(help.term)));
}

GridModel::Content helpsGrid(std::shared_ptr<const ListedHelps> listed, Session& session,
                             const QString& find) {
    const WhatHelps* helps = &listed->what;
    auto found = std::make_shared<std::vector<std::size_t>>();
    for (std::size_t i = 0; i < listed->names.size(); ++i)
        if (find.isEmpty() || listed->names[i].contains(find, Qt::CaseInsensitive)) found->push_back(i);
    const auto at = [listed, found](int row) -> const Help& {
        return listed->what.helps[(*found)[static_cast<std::size_t>(row)]];
    };
    GridModel::Content grid;
    grid.rows = static_cast<int>(found->size());
    double error = 0;
    for (const Help& help : helps->helps)
        if (std::isfinite(help.errorWith)) error = std::max(error, help.errorWith);
    const int decimals = std::max(0, decimalsFor(error) - 1);
    const QString unit =
        session.recipe().logResponse ? QString("logarithm") : session.unit(session.recipe().response);
    const QString under = unit.isEmpty() ? QString() : "\n" + unit;
    const bool byFolds = helps->byFolds;
    const QString errorTitle = byFolds ? "over folds without" : "error without";
    const auto tipped = [](GridColumn column, const QString& tip) {
        column.toolTip = tip;
        return column;
    };
    grid.columns = {
        textColumn(
            "would help",
            [listed, found](int row) { return listed->names[(*found)[static_cast<std::size_t>(row)]]; }),
        textColumn("as", [at](int row) { return qs(std::string(helpKindName(at(row).kind))); }),
        tipped(numberColumn(
                   "explains\n%", [at](int row) { return 100 * at(row).share; }, 1),
               "Share of what the model leaves over, beside the terms it needs"),
        tipped({"p adjusted",
                true,
                [at](int row) {
                    const double p = at(row).pAdjusted;
                    return std::isnan(p) ? QString("…") : qs(probabilityText(p));
                },
                [at](int row) { return rawNumber(at(row).pAdjusted); },
                {}},
               "For the number of columns, bends and pairs tried (Holm 1979)"),
        tipped(numberColumn(
                   errorTitle + under, [at](int row) { return at(row).errorBefore; }, decimals),
               byFolds ? "Typical error over the folds of the recipe, with the terms it needs alone"
                       : "Typical error of predicting each learning row from the others, with the terms it "
                         "needs alone (Allen 1974)"),
        tipped(numberColumn(
                   "with it" + under, [at](int row) { return at(row).errorWith; }, decimals),
               "The same with it in the model"),
        textColumn("comes with", [at](int row) {
            QStringList parents;
            for (const Term& parent : at(row).parents)
                parents << qs(termName(parent));
            return parents.join(", ");
        })};
    grid.extra = [at](int row, int column, int role) -> QVariant {
        if (role == Qt::CheckStateRole && column == 0) return Qt::Unchecked;
        if (role == ToneRole && column == 3 && at(row).pAdjusted < 0.01) return "strong";
        return {};
    };
    grid.flags = [](int, int column) {
        Qt::ItemFlags flags = Qt::ItemIsEnabled | Qt::ItemIsSelectable | Qt::ItemNeverHasChildren;
        return column == 0 ? flags | Qt::ItemIsUserCheckable : flags;
    };
    grid.edit = [at, &session](int row, int column, const QVariant&, int role) {
        if (role != Qt::CheckStateRole || column != 0) return false;
        session.change(withHelp(session.draft(), at(row)));
        return true;
    };
    return grid;
}

} // namespace oxgoad
