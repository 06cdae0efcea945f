#include "study/rows_used.h"

#include "base/error.h"
#include "design/design.h"

#include <algorithm>

namespace oxgoad {

std::string_view stateName(RowState state) {
    switch (state) {
    case RowState::learning:
        return "learning";
    case RowState::heldOut:
        return "held out";
    case RowState::leftOut:
        return "left out";
    case RowState::missing:
        return "missing values";
    case RowState::test:
        return "test";
    case RowState::weightless:
        return "weight 0";
    }
    return "missing values";
}

std::vector<std::string> columnsInUse(const Recipe& recipe) {
    std::vector<std::string> names{recipe.response};
    const bool inputs = !kindOf(recipe.estimator).can.missingInputs;
    const auto add = [&](const std::string& name) {
        if (!name.empty() && std::find(names.begin(), names.end(), name) == names.end())
            names.push_back(name);
    };
    for (const std::string& name : inputNames(recipe.terms))
        if (inputs) add(name);
    add(columnWith(recipe, Role::weight));
    add(columnWith(recipe, Role::offset));
    add(recipe.errors.column);
    return names;
}

RowsUsed rowsUsed(const Recipe& recipe, const PreparedRows& prepared, const std::string& file) {
    const Table& table = prepared.table;
    const std::size_t n = table.rows();
    RowsUsed used;
    used.state.resize(n);
    for (std::size_t i = 0; i < n; ++i) {
        RowState& state = used.state[i];
        const LeftOutBy by = prepared.leftOut[i];
        if (prepared.parts[i] == Part::learning)
            state = by != 0               ? RowState::leftOut
                    : prepared.teaches(i) ? RowState::learning
                                          : RowState::weightless;
        else
            state = by < 0                               ? RowState::leftOut
                    : prepared.parts[i] == Part::heldOut ? RowState::heldOut
                                                         : RowState::test;
    }
    std::vector<const Column*> columns;
    for (const std::string& name : columnsInUse(recipe))
        columns.push_back(&table.at(name, file));
    for (const Column* column : columns) {
        if (column->missingCount() == 0) continue;
        std::size_t count = 0;
        for (std::size_t i = 0; i < n; ++i) {
            RowState& state = used.state[i];
            if (state == RowState::leftOut || state == RowState::weightless || !column->isMissing(i))
                continue;
            if (prepared.leftOut[i] != 0) {
                state = RowState::leftOut; // for want of a value it cannot be judged
                continue;
            }
            ++count;
            state = RowState::missing;
        }
        if (count > 0) used.missingByColumn.emplace_back(column->name(), count);
    }
    for (std::size_t i = 0; i < n; ++i) {
        const auto row = static_cast<std::uint32_t>(i);
        switch (used.state[i]) {
        case RowState::learning:
            used.learning.push_back(row);
            break;
        case RowState::heldOut:
            used.heldOut.push_back(row);
            break;
        case RowState::test:
            used.test.push_back(row);
            break;
        case RowState::weightless:
            used.weightless.push_back(row);
            break;
        case RowState::leftOut:
            ++used.leftOut;
            break;
        case RowState::missing:
            ++used.missing;
            break;
        }
    }
    used.allWeightless = used.weightless.size();
    std::erase_if(used.weightless, [&](std::uint32_t row) {
        return std::any_of(columns.begin(), columns.end(),
                           [row](const Column* c) { return c->isMissing(row); });
    });
    if (used.learning.empty() && used.allWeightless > 0)
        throw Error(ErrorCode::badWeights, "all weights of the learning rows are 0",
                    {.file = file, .column = columnWith(recipe, Role::weight)},
                    "Give another column the role of the weight, or none.");
    if (used.learning.empty())
        throw Error(ErrorCode::tooFewRows, "no learning row has values in all columns in use", {.file = file},
                    "Take out the terms whose columns are mostly missing.");
    return used;
}

} // namespace oxgoad
