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

namespace {

/// Columns that lie apart, as rows; outlived by what they refer to.
class ColumnRows final : public RowSource {
public:
    ColumnRows(const std::vector<Eigen::VectorXd>& columns, std::size_t rows)
        : m_columns(columns), m_rows(static_cast<Eigen::Index>(rows)) {}
    Eigen::Index rows() const override { return m_rows; }
    Eigen::Index columns() const override { return static_cast<Eigen::Index>(m_columns.size()); }
    void fill(Eigen::Index begin, Eigen::Ref<Eigen::MatrixXd> block) const override {
        for (std::size_t j = 0; j < m_columns.size(); ++j)
            block.col(static_cast<Eigen::Index>(j)) = m_columns[j].segment(begin, block.rows());
    }

private:
    const std::vector<Eigen::VectorXd>& m_columns;
    Eigen::Index m_rows;
};

} // namespace

std::vector<Addition> ColumnsBeside::answers() {
    const DesignRows x(m_context.linear->design, m_context.learningRows);
    auto found = screenBlocks(m_context.linear->fit, x, ColumnRows(m_columns, m_context.learningRows.size()),
                              m_blocks, m_context.weights, m_context.threads, *m_context.progress);
    m_columns.clear();
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

Eigen::VectorXd standardised(Eigen::VectorXd values) {
    const double mean = values.mean();
    values.array() -= mean;
    const double size = std::sqrt(values.squaredNorm() / static_cast<double>(values.size()));
    if (size > 1e-12 * std::fabs(mean))
        values /= size;
    else
        values.setZero();
    return values;
}

Eigen::MatrixXd sumsByGroup(const Eigen::MatrixXd& columns, std::span<const std::int32_t> group,
                            std::size_t groups, std::span<const double> roots, Threads threads) {
    Eigen::MatrixXd sums(columns.cols(), static_cast<Eigen::Index>(groups));
    // Column by column, as they lie in memory.
    parallelFor(static_cast<std::size_t>(columns.cols()), threads, [&](std::size_t j) {
        std::vector<double> own(groups, 0);
        const double* values = columns.col(static_cast<Eigen::Index>(j)).data();
        for (std::size_t i = 0; i < group.size(); ++i)
            if (group[i] >= 0)
                own[static_cast<std::size_t>(group[i])] += roots.empty() ? values[i] : roots[i] * values[i];
        for (std::size_t k = 0; k < groups; ++k)
            sums(static_cast<Eigen::Index>(j), static_cast<Eigen::Index>(k)) = own[k];
    });
    return sums;
}

std::vector<double> rootsOfWeights(const CheckContext& context) {
    std::vector<double> roots;
    for (const double weight : context.weights)
        roots.push_back(std::sqrt(weight));
    return roots;
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
        if ((column.kind() == ColumnKind::date || column.moments()) && !date) date = &column;
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
                recipe.errors.kind = CovarianceKind::clustered;
                recipe.errors.column = column;
            }};
}

Grouping groupingOf(const CheckContext& context, const Column& column) {
    std::vector<std::int64_t> keys;
    keys.reserve(context.errorRows.size());
    constexpr std::int64_t none = INT64_MIN;
    for (const auto row : context.errorRows)
        keys.push_back(column.isMissing(row)               ? none
                       : column.kind() == ColumnKind::date ? column.days()[row]
                                                           : column.codes()[row]);
    return Grouping::by(keys, none);
}

} // namespace oxgoad
