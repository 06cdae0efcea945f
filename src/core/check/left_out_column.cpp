#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "check/leaks.h"
#include "estimate/distributions.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

/// Factors with more levels are groups: see checkGroups.
constexpr std::size_t mostLevels = 30;

struct Tried {
    std::string column;
    bool factor = false;
    double f = 0, numeratorDf = 0, denominatorDf = 0, p = 1, share = 0;
};

/// Values of a column at rows: one column, or one a level but the first. What is missing stands at the mean
/// of a number and at the first level, which leaves the test what it is where the column says nothing.
std::vector<Eigen::VectorXd> valuesOf(const Column& column, std::span<const std::uint32_t> rows) {
    const auto n = static_cast<Eigen::Index>(rows.size());
    std::vector<Eigen::VectorXd> out;
    if (column.kind() != ColumnKind::factor) {
        Eigen::VectorXd values(n);
        double sum = 0, count = 0;
        for (const auto row : rows)
            if (const double v = column.asNumber(row); std::isfinite(v)) {
                sum += v;
                ++count;
            }
        for (Eigen::Index i = 0; i < n; ++i) {
            const double v = column.asNumber(rows[static_cast<std::size_t>(i)]);
            values[i] = std::isfinite(v) ? v : sum / std::max(count, 1.0);
        }
        values = standardised(values);
        if (values.squaredNorm() > 0) out.push_back(std::move(values));
        return out;
    }
    std::vector<std::int32_t> levels;
    for (const auto row : rows)
        if (const auto code = column.codes()[row];
            code >= 0 && std::find(levels.begin(), levels.end(), code) == levels.end()) {
            levels.push_back(code);
            if (levels.size() > mostLevels) return out;
        }
    std::sort(levels.begin(), levels.end());
    for (std::size_t k = 1; k < levels.size(); ++k) {
        Eigen::VectorXd values(n);
        for (Eigen::Index i = 0; i < n; ++i)
            values[i] = column.codes()[rows[static_cast<std::size_t>(i)]] == levels[k] ? 1 : 0;
        out.push_back(std::move(values));
    }
    return out;
}

/// Of errors of any model: their regression on the column.
Tried tryErrors(const CheckContext& context, const Column& column, std::vector<Eigen::VectorXd> values) {
    const auto n = static_cast<Eigen::Index>(context.errors.size());
    Eigen::MatrixXd x(n, static_cast<Eigen::Index>(values.size()));
    for (std::size_t k = 0; k < values.size(); ++k)
        x.col(static_cast<Eigen::Index>(k)) = values[k];
    Tried out{column.name(), column.kind() == ColumnKind::factor};
    LeastSquaresOptions options;
    options.threads = context.threads;
    options.precision = LeastSquaresOptions::Precision::plain;
    const LeastSquaresFit fit = fitLeastSquares(MatrixRows(x), context.errors, options, *context.progress);
    out.numeratorDf = static_cast<double>(fit.rank() - 1);
    out.denominatorDf = fit.degreesOfFreedom;
    if (!(out.numeratorDf > 0) || !(out.denominatorDf > 0) || !(fit.residualSumOfSquares > 0)) {
        out.numeratorDf = 0;
        return out;
    }
    const double explained = fit.totalSumOfSquares - fit.residualSumOfSquares;
    out.f = explained / out.numeratorDf / (fit.residualSumOfSquares / out.denominatorDf);
    out.p = fisherUpper(out.f, out.numeratorDf, out.denominatorDf);
    out.share = explained / fit.totalSumOfSquares;
    return out;
}

} // namespace

void checkLeftOutColumn(const CheckContext& context, Findings& findings) {
    const std::string name = "left-out column";
    std::vector<Tried> tried;
    std::vector<std::pair<std::string, bool>> asked;
    const bool beside = context.linear && context.kind.leastSquares;
    ColumnsBeside columns(context);
    const auto flush = [&] {
        if (columns.empty()) return;
        const auto answers = columns.answers();
        for (std::size_t k = 0; k < answers.size(); ++k)
            if (answers[k].numeratorDf > 0 && answers[k].denominatorDf > 0 && std::isfinite(answers[k].f))
                tried.push_back({asked[k].first, asked[k].second, answers[k].f, answers[k].numeratorDf,
                                 answers[k].denominatorDf, answers[k].p, answers[k].share});
        asked.clear();
    };
    const auto hold = columnsThatHold(
        context.table, context.response(), context.learningRows,
        [&](const std::string& each) { return !isOffered(context.recipe, each); }, *context.progress);
    for (const Column& column : context.table.columns()) {
        stopIfTold(*context.progress);
        // What says the response by its making, or is not known yet where it is needed, helps nobody.
        if (hold.contains(column.name()) || knownOnlyAfterwards(context.coming, column.name())) continue;
        if (column.kind() == ColumnKind::text || column.kind() == ColumnKind::date ||
            column.name() == context.response() || !isOffered(context.recipe, column.name()) ||
            roleOf(context.recipe, column.name()) == Role::time ||
            findInput(context.inputs.inputs(), column.name()))
            continue;
        auto values = valuesOf(column, beside ? context.learningRows : context.errorRows);
        if (values.empty()) continue;
        if (!beside) {
            Tried each = tryErrors(context, column, std::move(values));
            if (each.numeratorDf > 0) tried.push_back(std::move(each));
            continue;
        }
        ScreenBlock block;
        for (Eigen::VectorXd& each : values)
            block.columns.push_back(columns.add(std::move(each)));
        columns.ask(std::move(block));
        asked.emplace_back(column.name(), column.kind() == ColumnKind::factor);
        if (columns.width() >= 128) flush();
    }
    flush();
    if (tried.empty()) {
        findings.readings.push_back(noReading(name, "no column is left out that could be in the model"));
        return;
    }
    const Tried& best = *std::min_element(tried.begin(), tried.end(), [](const Tried& a, const Tried& b) {
        return a.p != b.p ? a.p < b.p : a.f > b.f;
    });
    const double p = std::min(1.0, best.p * static_cast<double>(tried.size()));
    const double limit = context.limitOf(name, pLimit);
    const std::string says = best.column + ": " + fText(best.f, best.numeratorDf, best.denominatorDf) +
                             (beside ? "" : " in " + context.errorsOf) + ", p for " +
                             plural(tried.size(), "column", "columns") + " tried";
    const std::string source = "F test of added columns, Bonferroni";
    findings.readings.push_back(madeReading(name, best.f, limit, p, says, source));
    if (!(p < limit)) return;
    Goad goad;
    goad.key = "left-out column: " + best.column;
    goad.check = name;
    constexpr double nearlyAll = 0.99;
    if (best.share > nearlyAll) { // more than columns of a business do
        goad.key = "leak: " + best.column;
        goad.tells = Tells::leak;
        goad.severity = Severity::alarm;
        goad.title = best.column + " takes nearly all that is left over away";
        goad.reading =
            readableText(100 * best.share, 4) + " % of it; " + says +
            ": such a column was often computed from the response, or is known only after it. It is not "
            "offered as a help";
        goad.threshold = percentText(nearlyAll);
        goad.source = "common practice, no source; Kaufman, Rosset, Perlich and Stitelman 2012";
        goad.station = "check";
        goad.column = best.column;
        goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
        goad.moves.push_back(giveRole("set " + best.column + " aside", best.column, Role::setAside));
        findings.goads.push_back(std::move(goad));
        return;
    }
    goad.title = best.factor ? "What is left over differs by " + best.column
                             : "What is left over rises or falls with " + best.column;
    goad.reading = says + ": p " + probabilityText(p);
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.column = best.column;
    goad.cost = 1 - std::sqrt(std::max(0.0, 1 - best.share));
    goad.costSays = "the share of the typical error that the column takes away";
    goad.size = best.f;
    goad.family = "left out: " + best.column;
    goad.familyTitle = "# signs that " + best.column + " is missing";
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    goad.moves.push_back(
        {.label = "add " + best.column, .edit = [column = best.column](Recipe& recipe, const std::string&) {
             recipe = withTerm(recipe, plainTerm(column));
         }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
