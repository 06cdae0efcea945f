#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

const char* const curveSource = "F test of added columns; knots as Harrell 2015, §2.4.6";

/// The parts of a natural cubic spline beyond the straight line, scaled; empty where the values are too few.
std::vector<Eigen::VectorXd> bendsOf(const Eigen::VectorXd& values) {
    TermPart part{"x"};
    part.form = Form::spline;
    part.count = 4;
    std::vector<Eigen::VectorXd> bends;
    try {
        // Knots at quantiles of evenly spaced values: where they stand exactly does not matter.
        constexpr Eigen::Index many = 5000;
        const Eigen::Index m = std::min(many, values.size());
        std::vector<double> few;
        for (Eigen::Index i = 0; i < m; ++i)
            few.push_back(values[i * values.size() / m]);
        const auto bases = learnNumberBasis(part, ColumnKind::number, std::move(few), {});
        std::shared_ptr<const std::vector<double>> knots;
        for (const NamedBasis& each : bases)
            if (each.basis.values) knots = each.basis.values;
        if (!knots || knots->size() < 3) return bends;
        // The same columns up to scale as the term has: truncated cubes of distances from the knots.
        const std::size_t last = knots->size() - 1;
        bends.assign(last - 1, Eigen::VectorXd(values.size()));
        const auto cube = [&](double v, std::size_t k) {
            const double beyond = std::max(v - (*knots)[k], 0.0);
            return beyond * beyond * beyond;
        };
        for (Eigen::Index i = 0; i < values.size(); ++i) {
            const double outer = cube(values[i], last);
            const double inner = (cube(values[i], last - 1) - outer) / ((*knots)[last] - (*knots)[last - 1]);
            for (std::size_t k = 0; k + 1 < last; ++k)
                bends[k][i] = (cube(values[i], k) - outer) / ((*knots)[last] - (*knots)[k]) - inner;
        }
        for (Eigen::VectorXd& bend : bends)
            bend = standardised(std::move(bend));
    } catch (const Error&) { // too few different values for the knots
        bends.clear();
    }
    return bends;
}

/// What is tried of a number: itself, its square, the bends of a spline; no square with fewer than three
/// different values.
struct Made {
    Eigen::VectorXd line, square;
    std::vector<Eigen::VectorXd> bends;
};

Made madeOf(const Eigen::VectorXd& values) {
    Made made;
    made.line = standardised(values);
    std::vector<double> distinct;
    for (const double v : made.line) {
        if (std::find(distinct.begin(), distinct.end(), v) == distinct.end()) distinct.push_back(v);
        if (distinct.size() > 2) break;
    }
    if (distinct.size() < 3) return made;
    made.square = standardised(made.line.array().square());
    made.bends = bendsOf(made.line);
    return made;
}

bool hasLine(const CheckContext& context, const std::string& column) {
    return std::find(context.terms.begin(), context.terms.end(), plainTerm(column)) != context.terms.end();
}

struct Curved {
    std::string column;
    std::string why;
    std::size_t first = 0;
    bool spline = false;
};

/// A bend that is gone without the row that moves the fit most (Cook's distance) is that row's: its goad says
/// so, costs what is left of it and stands under the row's. `columns` are what is added, the first `parents`
/// of them not counted. A row with a column of its own is a row left out.
void tryWithoutOneRow(const CheckContext& context, const std::vector<Eigen::VectorXd>& columns,
                      std::size_t parents, double limit, Goad& goad) {
    if (!context.linear || context.linear->cooks.empty()) return;
    const std::span<const double> cooks = context.linear->cooks;
    std::size_t mover = 0;
    for (std::size_t i = 1; i < cooks.size(); ++i)
        if (std::isnan(cooks[mover]) || cooks[i] > cooks[mover]) mover = i;
    ColumnsBeside beside(context);
    ScreenBlock block{{}, parents + 1};
    block.columns.push_back(beside.add(
        Eigen::VectorXd::Unit(static_cast<Eigen::Index>(cooks.size()), static_cast<Eigen::Index>(mover))));
    for (const Eigen::VectorXd& column : columns)
        block.columns.push_back(beside.add(column));
    beside.ask(std::move(block));
    const Addition without = beside.answers().front();
    if (!isTested(without) || without.p < limit || 2 * errorTaken(without) > goad.cost.value_or(0)) return;
    const std::size_t row = context.learningRows[mover];
    goad.cost = errorTaken(without);
    goad.costSays += ", without row " + countText(row + 1);
    goad.reading += "; without row " + countText(row + 1) + " " +
                    fText(without.f, without.numeratorDf, without.denominatorDf) + ", p " +
                    probabilityText(without.p) + ": it hangs on that row";
    goad.tells = Tells::rows;
    goad.follows = {"outlying: row " + std::to_string(row + 1),
                    "influential: row " + std::to_string(row + 1)};
    goad.moves.push_back(seeRow(row));
}

Goad curvatureGoad(const CheckContext& context, const std::string& column, const std::string& reading,
                   double limit, const Addition& together, bool factorOfProducts) {
    Goad goad;
    goad.key = "curvature: " + column;
    goad.check = "curvature: " + column;
    goad.title = "The relation to " + column + " is bent";
    goad.reading = reading;
    goad.threshold = pThresholdText(limit) + ", for the number of columns";
    goad.source = curveSource;
    goad.station = "check";
    goad.column = column;
    goad.cost = errorTaken(together);
    goad.costSays = "the share of the typical error that a curve takes away";
    goad.size = together.f;
    goad.family = "curvature";
    goad.familyTitle = "# relations are bent";
    goad.moves.push_back({.label = "see residuals", .shows = Move::Shows::column});
    if (factorOfProducts) return goad;
    const bool date = findInput(context.inputs.inputs(), column) &&
                      context.inputs.inputs()[*findInput(context.inputs.inputs(), column)].date;
    if (!date)
        goad.moves.push_back({.label = "add the curve", .edit = [column](Recipe& recipe, const std::string&) {
                                  Term curve = plainTerm(column);
                                  curve.parts[0].form = Form::spline;
                                  curve.parts[0].count = 4;
                                  // A curve has the straight line in it.
                                  std::erase(recipe.terms, plainTerm(column));
                                  if (std::find(recipe.terms.begin(), recipe.terms.end(), curve) ==
                                      recipe.terms.end())
                                      recipe.terms.push_back(curve);
                              }});
    return goad;
}

} // namespace

void checkCurvature(const CheckContext& context, Findings& findings) {
    const auto& inputs = context.inputs.inputs();
    std::vector<Curved> curved;
    ColumnsBeside beside(context);
    std::vector<Addition> answers;
    std::size_t questions = 0;
    const auto flush = [&] {
        if (beside.empty()) return;
        for (Addition& each : beside.answers())
            answers.push_back(each);
    };
    // Columns are made a batch at a time, each by a thread of its own; about 130 MB a batch at most.
    const std::size_t batch =
        std::clamp<std::size_t>((std::size_t{1} << 24) / (3 * context.learningRows.size() + 1), 10, 50);
    std::vector<std::size_t> numbers;
    for (std::size_t i = 0; i < inputs.size(); ++i)
        if (!inputs[i].factor) numbers.push_back(i);
    for (std::size_t begin = 0; begin < numbers.size(); begin += batch) {
        const std::size_t end = std::min(numbers.size(), begin + batch);
        std::vector<Made> made(end - begin);
        parallelFor(made.size(), context.threads, [&](std::size_t k) {
            stopIfTold(*context.progress);
            made[k] = madeOf(inputValues(context, numbers[begin + k]));
        });
        for (std::size_t k = 0; k < made.size(); ++k) {
            Curved each{inputs[numbers[begin + k]].name, {}, questions, false};
            if (made[k].square.size() == 0) {
                each.why = "it has fewer than three different values";
                curved.push_back(each);
                continue;
            }
            // Beside the straight line, which most models have already.
            std::vector<std::size_t> line;
            if (!hasLine(context, each.column)) line.push_back(beside.add(std::move(made[k].line)));
            const auto bent = beside.add(std::move(made[k].square));
            ScreenBlock square{line, line.size()};
            square.columns.push_back(bent);
            beside.ask(square);
            ++questions;
            each.spline = !made[k].bends.empty();
            if (each.spline) {
                ScreenBlock alone{line, line.size()}, together = std::move(square);
                for (Eigen::VectorXd& bend : made[k].bends) {
                    const auto at = beside.add(std::move(bend));
                    alone.columns.push_back(at);
                    together.columns.push_back(at);
                }
                beside.ask(std::move(alone));
                beside.ask(std::move(together));
                questions += 2;
            }
            curved.push_back(each);
        }
        flush();
    }
    const auto asked = static_cast<double>(
        std::count_if(curved.begin(), curved.end(), [](const Curved& c) { return c.why.empty(); }));
    if (curved.empty()) findings.readings.push_back(noReading("curvature", "no number is in the model"));
    for (Curved& each : curved) {
        const std::string name = "curvature: " + each.column;
        if (each.why.empty() && !isTested(answers[each.first]))
            each.why = answers[each.first].numeratorDf > 0
                           ? "no degrees of freedom are left beside its square"
                           : "the model has its square already";
        if (!each.why.empty()) {
            findings.readings.push_back(noReading(name, each.why));
            continue;
        }
        const Addition& square = answers[each.first];
        const double limit = context.limitOf(name, pLimit);
        std::string says = "the square: " + fText(square.f, square.numeratorDf, square.denominatorDf);
        Addition together = square;
        if (each.spline && isTested(answers[each.first + 1]) && isTested(answers[each.first + 2])) {
            const Addition& spline = answers[each.first + 1];
            together = answers[each.first + 2];
            says += "; a curve with 4 knots: " + fText(spline.f, spline.numeratorDf, spline.denominatorDf) +
                    ", p " + probabilityText(spline.p) + "; together p " + probabilityText(together.p);
        }
        findings.readings.push_back(madeReading(name, square.f, limit, square.p, says, curveSource));
        if (!(together.p * asked < limit)) continue;
        const bool plain = std::any_of(context.terms.begin(), context.terms.end(), [&](const Term& term) {
            return term.parts.size() == 1 && term.parts[0].column == each.column;
        });
        Goad goad = curvatureGoad(context, each.column, says, limit, together, !plain);
        Made again = madeOf(inputValues(context, *findInput(context.inputs.inputs(), each.column)));
        std::vector<Eigen::VectorXd> columns;
        if (!hasLine(context, each.column)) columns.push_back(std::move(again.line));
        const std::size_t parents = columns.size();
        columns.push_back(std::move(again.square));
        for (Eigen::VectorXd& bend : again.bends)
            columns.push_back(std::move(bend));
        tryWithoutOneRow(context, columns, parents, limit, goad);
        findings.goads.push_back(std::move(goad));
    }
}

void checkCurvatureOverall(const CheckContext& context, Findings& findings) {
    const std::string name = "curvature overall";
    const Eigen::VectorXd said =
        Eigen::Map<const Eigen::VectorXd>(context.working.data(),
                                          static_cast<Eigen::Index>(context.working.size())) -
        context.linear->residuals;
    const Eigen::VectorXd z = standardised(said);
    ColumnsBeside beside(context);
    // Powers less what the powers before them say would be the same test; scaled they keep their digits.
    const std::vector<Eigen::VectorXd> powers{standardised(z.array().square()),
                                              standardised(z.array().cube())};
    const auto square = beside.add(powers[0]);
    const auto cube = beside.add(powers[1]);
    beside.ask({{square, cube}, 0});
    const Addition added = beside.answers().front();
    if (!isTested(added)) {
        findings.readings.push_back(noReading(
            name, added.numeratorDf > 0 ? "no degrees of freedom are left beside the powers"
                                        : "the model says the powers of its fitted values already"));
        return;
    }
    const double limit = context.limitOf(name, pLimit);
    const std::string source = "Ramsey 1969";
    const std::string says =
        "powers 2 and 3 of the fitted values: " + fText(added.f, added.numeratorDf, added.denominatorDf);
    findings.readings.push_back(madeReading(name, added.f, limit, added.p, says, source));
    if (!(added.p < limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "The model as a whole is bent";
    goad.reading = says + ", p " + probabilityText(added.p);
    goad.threshold = pThresholdText(limit);
    goad.source = source;
    goad.station = "check";
    goad.cost = errorTaken(added);
    goad.costSays = "the share of the typical error that powers of the fitted values take away";
    goad.size = added.f;
    goad.family = "curvature";
    goad.familyTitle = "# relations are bent";
    if (!context.logResponse &&
        std::all_of(context.working.begin(), context.working.end(), [](double v) { return v > 0; }))
        goad.moves.push_back({.label = "model the logarithm",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.logResponse = true; }});
    tryWithoutOneRow(context, powers, 0, limit, goad);
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
