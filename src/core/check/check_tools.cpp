#include "check/check_tools.h"

#include "base/not_a_number.h"
#include "base/text.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

Reading madeReading(std::string name, double value, double threshold, std::optional<double> p,
                    std::string sentence, std::string source) {
    return {std::move(name), value, threshold, p, std::move(sentence), std::move(source)};
}

Reading noReading(std::string name, const std::string& why) {
    return {std::move(name), nan, nan, {}, "does not apply: " + why, ""};
}

std::string fText(double f, double numeratorDf, double denominatorDf) {
    return "F " + readableText(f, 3) + " on " + shortText(numeratorDf) + " and " + shortText(denominatorDf) +
           " degrees of freedom";
}

std::string pThresholdText(double limit) {
    return "p below " + shortText(limit);
}

std::vector<Addition> ColumnsBeside::answers() {
    Eigen::MatrixXd values(static_cast<Eigen::Index>(m_context.learningRows.size()),
                           static_cast<Eigen::Index>(m_columns.size()));
    for (std::size_t j = 0; j < m_columns.size(); ++j)
        values.col(static_cast<Eigen::Index>(j)) = m_columns[j];
    m_columns.clear();
    const DesignRows x(m_context.linear->design, m_context.learningRows);
    auto found = screenBlocks(m_context.linear->fit, x, MatrixRows(values), m_blocks, m_context.weights,
                              m_context.threads, *m_context.progress);
    m_blocks.clear();
    return found;
}

bool isTested(const Addition& addition) {
    return addition.numeratorDf > 0 && addition.denominatorDf > 0 && std::isfinite(addition.f) &&
           addition.p >= 0 && addition.p <= 1;
}

Eigen::VectorXd inputValues(const CheckContext& context, std::size_t input) {
    Eigen::VectorXd values(static_cast<Eigen::Index>(context.learningRows.size()));
    context.inputs.fillOne(input, context.learningRows, values.data());
    return values;
}

Eigen::VectorXd standardised(const Eigen::VectorXd& values) {
    const double mean = values.mean();
    const Eigen::VectorXd centred = values.array() - mean;
    const double size = std::sqrt(centred.squaredNorm() / static_cast<double>(values.size()));
    if (!(size > 1e-12 * std::fabs(mean))) return Eigen::VectorXd::Zero(values.size());
    return centred / size;
}

double errorTaken(const Addition& addition) {
    return 1 - std::sqrt(std::max(0.0, 1 - addition.share));
}

const Column* timeOf(const CheckContext& context) {
    const Column* date = nullptr;
    const Column* years = nullptr;
    for (const Column& column : context.table.columns()) {
        if (column.name() == context.response()) continue;
        if (roleOf(context.recipe, column.name()) == Role::time && column.kind() != ColumnKind::text &&
            column.kind() != ColumnKind::factor)
            return &column;
        if (column.kind() == ColumnKind::date && !date) date = &column;
        if (column.kind() != ColumnKind::number || years || column.missingCount() > 0) continue;
        const auto values = column.numbers();
        std::set<double> seen;
        const bool all = std::all_of(values.begin(), values.end(), [&](double v) {
            return v == std::floor(v) && areYears(v, v) && seen.insert(v).second;
        });
        if (all && values.size() > 2) years = &column;
    }
    return date ? date : years;
}

const Column* panelOf(const CheckContext& context, const Column& time, std::string& why) {
    std::set<double> times;
    for (const auto row : context.errorRows)
        if (!time.isMissing(row)) times.insert(time.asNumber(row));
    const auto repeats = [&](const Column* group) {
        const std::size_t levels = group ? group->levels().size() : 1;
        if (levels * times.size() < context.errorRows.size()) return true; // more rows than pairs
        std::vector<std::pair<std::int32_t, double>> seen;
        for (const auto row : context.errorRows)
            if (!time.isMissing(row)) seen.emplace_back(group ? group->codes()[row] : 0, time.asNumber(row));
        std::sort(seen.begin(), seen.end());
        return std::adjacent_find(seen.begin(), seen.end()) != seen.end();
    };
    const std::string named = columnWith(context.recipe, Role::group);
    const Column* group = named.empty() ? nullptr : context.table.find(named);
    if (group && group->kind() == ColumnKind::factor) {
        if (repeats(group)) why = "two rows of a " + named + " have the same " + time.name();
        return group;
    }
    if (!repeats(nullptr)) return nullptr;
    for (const Column& column : context.table.columns())
        if (column.kind() == ColumnKind::factor && column.missingCount() == 0 &&
            (!group || column.levels().size() > group->levels().size()) && !repeats(&column))
            group = &column;
    if (!group) why = "times of " + time.name() + " repeat, and no column of groups tells the rows apart";
    return group;
}

OrderedErrors errorsInOrder(const CheckContext& context) {
    OrderedErrors out;
    const Column* time = timeOf(context);
    const auto n = context.errorRows.size();
    if (!time) {
        out.runs.emplace_back();
        for (std::uint32_t i = 0; i < n; ++i)
            out.runs[0].push_back(i);
        out.says = "in the order of the rows, as no column is a time";
        return out;
    }
    out.timed = true;
    out.time = time->name();
    const Column* group = panelOf(context, *time, out.why);
    if (!out.why.empty()) return out;
    std::map<std::int32_t, std::vector<std::uint32_t>> groups;
    std::size_t missing = 0;
    for (std::uint32_t i = 0; i < n; ++i) {
        const auto row = context.errorRows[i];
        if (time->isMissing(row) || (group && group->isMissing(row)))
            ++missing;
        else
            groups[group ? group->codes()[row] : 0].push_back(i);
    }
    for (auto& [level, rows] : groups) {
        std::stable_sort(rows.begin(), rows.end(), [&](std::uint32_t a, std::uint32_t b) {
            return time->asNumber(context.errorRows[a]) < time->asNumber(context.errorRows[b]);
        });
        out.runs.push_back(std::move(rows));
    }
    out.says = "in the order of " + out.time;
    if (group) {
        out.group = group->name();
        out.says += ", within " + plural(groups.size(), "level", "levels") + " of " + out.group;
    }
    if (missing > 0) out.says += ", " + plural(missing, "row", "rows") + " without a time passed over";
    return out;
}

std::vector<const Column*> factorsOutside(const CheckContext& context) {
    std::vector<const Column*> factors;
    for (const Column& column : context.table.columns())
        if (column.kind() == ColumnKind::factor && column.name() != context.response() &&
            isOffered(context.recipe, column.name()) && !findInput(context.inputs.inputs(), column.name()))
            factors.push_back(&column);
    return factors;
}

std::optional<Move> weighBy(const CheckContext& context, const std::string& column) {
    const Column* values = context.table.find(column);
    if (!values || values->kind() != ColumnKind::number || !context.kind.leastSquares ||
        !columnWith(context.recipe, Role::weight).empty() || column.find_first_of("{}") != std::string::npos)
        return std::nullopt;
    double n = 0, sumX = 0, sumY = 0, xx = 0, xy = 0;
    for (std::size_t i = 0; i < context.errors.size(); ++i) {
        const double v = values->numbers()[context.errorRows[i]];
        if (!(v > 0)) return std::nullopt;
        if (context.errors[i] == 0) continue;
        const double x = std::log(v), y = std::log(context.errors[i] * context.errors[i]);
        ++n;
        sumX += x;
        sumY += y;
        xx += x * x;
        xy += x * y;
    }
    const double spread = xx - sumX * sumX / n;
    if (!(spread > 0)) return std::nullopt;
    // Of the variance; its half is that of the spread.
    const double power = std::clamp(std::round(4 * (xy - sumX * sumY / n) / spread) / 4, -4.0, 4.0);
    if (power == 0) return std::nullopt;
    const std::string name = "weight by " + column;
    const std::string expression = "{" + column + "}^(" + exactText(-power) + ")";
    return Move{.label = "weigh by " + column,
                .edit = [name, expression](Recipe& recipe, const std::string&) {
                    recipe.steps.push_back({"derive", true, {{"name", name}, {"expression", expression}}});
                    recipe.roles[name] = Role::weight;
                }};
}

Move judgeByGroup(const std::string& column) {
    return {.label = "judge by whole " + column, .edit = [column](Recipe& recipe, const std::string&) {
                FoldPlan plan;
                plan.kind = FoldKind::groups;
                plan.column = column;
                recipe.judge = plan;
            }};
}

Move errorsByGroup(const std::string& column) {
    return {.label = "errors by " + column, .edit = [column](Recipe& recipe, const std::string&) {
                recipe.errors.kind = ErrorsKind::byGroup;
                recipe.errors.column = column;
            }};
}

} // namespace oxgoad
