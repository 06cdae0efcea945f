#include "workspace/start_recipe.h"

namespace oxgoad {

Recipe startRecipe(const RowsPlan& plan, const Table& table) {
    Recipe recipe;
    recipe.rows = plan;
    for (const Column& column : table.columns())
        if (column.kind() == ColumnKind::number && column.missingCount() < column.size())
            recipe.response = column.name();
    if (table.rows() >= 40) recipe.setAside = SetAside{.share = 0.25, .seed = 7};
    return recipe;
}

} // namespace oxgoad
