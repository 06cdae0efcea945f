#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"
#include "check/influence.h"
#include "estimate/distributions.h"
#include "recipe/validity.h"

#include <algorithm>
#include <cmath>
#include <numeric>

namespace oxgoad {

namespace {

constexpr double cookLimit = 1, leverageLimit = 0.5, betasLimit = 1;
constexpr std::size_t listed = 5;

std::size_t largestOf(std::span<const double> values) {
    std::size_t best = 0;
    for (std::size_t i = 1; i < values.size(); ++i)
        if (std::isnan(values[best]) || std::fabs(values[i]) > std::fabs(values[best])) best = i;
    return best;
}

Goad rowGoad(std::size_t row, const std::string& kind) {
    Goad goad;
    goad.key = kind + ": row " + std::to_string(row + 1);
    goad.severity = Severity::alarm;
    goad.station = "check";
    goad.row = row;
    goad.moves.push_back(seeRow(row));
    goad.moves.push_back(leaveOutRow(row));
    return goad;
}

/// The share of the typical error that one squared error makes.
void setRowCost(Goad& goad, double square, double squares, const std::string& rows) {
    if (!(squares > 0)) return;
    goad.cost = 1 - std::sqrt(std::max(0.0, 1 - square / squares));
    goad.costSays = "the share of the typical error of " + rows + " that it makes";
}

std::string coefficientName(const CheckContext& context, Eigen::Index at) {
    const LeastSquaresFit& fit = context.linear->fit;
    if (fit.intercept && at == 0) return "the constant";
    const auto kept = fit.kept[static_cast<std::size_t>(at - (fit.intercept ? 1 : 0))];
    return context.linear->design.design().columns()[kept].name;
}

/// Chance that any of some deleted residuals, each times a number of its own, is as large as `value` where
/// nothing is wrong: the sum over rows, or a part of it that is `enough`. Rows whose residual would have to
/// be beyond 8 add nothing.
double chanceOfAny(double value, std::span<const double> times, double df, double enough) {
    double sum = 0;
    for (const double each : times) {
        if (const double t = std::fabs(value / each); t < 8) sum += studentTwoSided(t, df);
        if (sum >= enough) break;
    }
    return sum;
}

/// Whether residuals (each over its own error) of rows predicted alike are spread so widely that this one is
/// none apart: t of the residual over their root mean square, adjusted for all rows. A tenth of the rows, ten
/// at least.
bool spreadLikeItsNeighbours(const CheckContext& context, std::size_t at, double limit) {
    const std::span<const double> fitted = context.fitted, errors = context.errors,
                                  leverages = context.linear->leverages;
    const std::size_t n = fitted.size(), near = std::max<std::size_t>(10, n / 10);
    if (n < 3 * near) return false;
    std::vector<std::size_t> rows(n);
    std::iota(rows.begin(), rows.end(), std::size_t{0});
    std::swap(rows[at], rows.back());
    rows.pop_back();
    const auto distance = [&](std::size_t i) { return std::pair(std::fabs(fitted[i] - fitted[at]), i); };
    std::nth_element(rows.begin(), rows.begin() + static_cast<std::ptrdiff_t>(near), rows.end(),
                     [&](std::size_t a, std::size_t b) { return distance(a) < distance(b); });
    double squares = 0;
    std::sort(rows.begin(), rows.begin() + static_cast<std::ptrdiff_t>(near)); // one order of the sum
    for (std::size_t k = 0; k < near; ++k)
        squares += errors[rows[k]] * errors[rows[k]] / std::max(1e-6, 1 - leverages[rows[k]]);
    const double t = errors[at] / std::sqrt(std::max(1e-6, 1 - leverages[at])) /
                     std::sqrt(squares / static_cast<double>(near));
    return static_cast<double>(n) * studentTwoSided(t, static_cast<double>(near)) >= limit;
}

/// Deleted residual of a row at which Cook's distance reaches a value; infinite where it never does.
double residualAtCook(double cook, double leverage, double rank, double df) {
    const double square = cook * rank * (1 - leverage) / leverage; // of the residual over its own error
    return square < df + 1 ? std::sqrt(square * df / (df + 1 - square)) : INFINITY;
}

} // namespace

void checkHeldOutRows(const CheckContext& context, Findings& findings) {
    const double sigma = context.spread;
    if (!(sigma > 0)) return;
    const auto n = static_cast<double>(context.heldOutErrors.size());
    std::vector<std::size_t> order;
    if (context.heldOutErrors.empty()) return;
    const double farOff = sigma * studentQuantile(1 - pLimit / n, context.spreadDegreesOfFreedom);
    for (std::size_t i = 0; i < context.heldOutErrors.size(); ++i)
        if (std::fabs(context.heldOutErrors[i]) > farOff) order.push_back(i);
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return std::fabs(context.heldOutErrors[a]) > std::fabs(context.heldOutErrors[b]);
    });
    double squares = 0;
    for (const double e : context.heldOutErrors)
        squares += e * e;
    for (std::size_t k = 0; k < std::min<std::size_t>(order.size(), 3); ++k) {
        const std::size_t i = order[k];
        const double ratio = context.heldOutErrors[i] / sigma;
        Goad goad = rowGoad(context.heldOutRows[i], "held-out row far off");
        goad.title = "Held-out row " + countText(context.heldOutRows[i] + 1) + " is predicted far off";
        goad.reading = "error " + readableText(ratio, 3) + " residual standard deviations; " +
                       readableText(100 * context.heldOutErrors[i] * context.heldOutErrors[i] / squares, 2) +
                       " % of the squared held-out error";
        goad.threshold = "adjusted p below 0.01";
        goad.source = "Cook and Weisberg 1982, §2.2.2";
        goad.family = "held-out row far off";
        goad.familyTitle = "# held-out rows are predicted far off";
        goad.size = std::fabs(ratio);
        setRowCost(goad, context.heldOutErrors[i] * context.heldOutErrors[i], squares, "held-out rows");
        findings.goads.push_back(std::move(goad));
    }
}

void checkOutlyingErrors(const CheckContext& context, Findings& findings) {
    const std::string name = "largest studentised residual";
    if (context.linear && context.kind.leastSquares) return; // see checkOutlyingRows
    const auto n = static_cast<double>(context.errors.size());
    // The spread without the row itself, so that an outlier does not hide in it.
    double squares = 0;
    for (const double e : context.errors)
        squares += e * e;
    std::vector<double> t(context.errors.size());
    for (std::size_t i = 0; i < t.size(); ++i) {
        const double rest = squares - context.errors[i] * context.errors[i];
        t[i] = rest > 0 ? context.errors[i] / std::sqrt(rest / (n - 1)) : 0;
    }
    const double limit = context.limitOf(name, pLimit);
    const std::size_t top = largestOf(t);
    const auto pOf = [&](std::size_t i) { return std::min(1.0, n * studentTwoSided(t[i], n - 1)); };
    findings.readings.push_back(madeReading(
        name, t[top], limit, pOf(top),
        "row " + countText(context.errorRows[top] + 1) + ", its error over the spread of the other " +
            context.errorsOf + "; p adjusted for " + countText(context.errors.size()) + " rows",
        "Cook and Weisberg 1982, §2.2.2"));
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < t.size(); ++i)
        if (std::fabs(t[i]) > 3 && pOf(i) < limit) order.push_back(i);
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return std::fabs(t[a]) > std::fabs(t[b]); });
    // Who chose a kind that stands outliers knows that there are some.
    for (std::size_t k = 0; k < std::min(order.size(), listed) && !context.kind.standsOutliers; ++k) {
        const std::size_t i = order[k];
        Goad goad = rowGoad(context.errorRows[i], "outlying");
        goad.check = name;
        goad.title = "Row " + countText(context.errorRows[i] + 1) + " lies far from the others";
        goad.reading = "error " + readableText(t[i], 3) + " times the spread of the other " +
                       context.errorsOf + ", p " + probabilityText(pOf(i)) +
                       " adjusted for the number of rows";
        goad.threshold = pThresholdText(limit) + ", adjusted";
        goad.source = "Cook and Weisberg 1982, §2.2.2";
        goad.family = "rows apart";
        goad.familyTitle = "# signs of rows apart";
        goad.size = std::fabs(t[i]);
        setRowCost(goad, context.errors[i] * context.errors[i], squares, context.errorsOf);
        findings.goads.push_back(std::move(goad));
    }
}

void checkOutlyingRows(const CheckContext& context, Findings& findings) {
    const double df = context.linear->fit.degreesOfFreedom - 1;
    const auto leverages = context.linear->leverages;
    const auto n = static_cast<double>(leverages.size());
    const auto rank = static_cast<double>(context.linear->fit.rank());
    if (leverages.empty()) return;
    const auto rowText = [&](std::size_t i) { return "row " + countText(context.learningRows[i] + 1); };

    const std::size_t far = largestOf(leverages);
    const double farLimit = context.limitOf("largest leverage", leverageLimit);
    findings.readings.push_back(madeReading("largest leverage", leverages[far], farLimit, {},
                                            rowText(far) + "; the average is " + readableText(rank / n, 3),
                                            "Huber 1981, §7.2"));
    std::string why = !(df > 0)                         ? "there are no degrees of freedom to leave a row out"
                      : context.linear->fit.fitsExactly ? "the residuals are no more than rounding"
                                                        : "";
    if (context.linear->studentized.empty() && why.empty()) why = "no row can be left out";
    if (!why.empty()) {
        for (const char* name : {"largest studentised residual", "largest Cook's distance", "largest DFFITS"})
            findings.readings.push_back(noReading(name, why));
        return;
    }
    const std::span<const double> studentized = context.linear->studentized, cooks = context.linear->cooks;
    const double tLimit = context.limitOf("largest studentised residual", pLimit);
    std::vector<std::size_t> order;
    for (std::size_t i = 0; i < studentized.size(); ++i)
        if (std::fabs(studentized[i]) > 2) order.push_back(i);
    std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
        return std::fabs(studentized[a]) > std::fabs(studentized[b]);
    });
    const std::size_t top = largestOf(studentized);
    const double topP = std::min(1.0, n * studentTwoSided(studentized[top], df));
    findings.readings.push_back({"largest studentised residual", studentized[top], tLimit, topP,
                                 rowText(top) + ", t on " + shortText(df) +
                                     " degrees of freedom, p adjusted for " + countText(studentized.size()) +
                                     " rows",
                                 "Cook and Weisberg 1982, §2.2.2"});
    const std::size_t mover = largestOf(cooks);
    const double cook = context.limitOf("largest Cook's distance", cookLimit);
    findings.readings.push_back(
        {"largest Cook's distance", cooks[mover], cook, {}, rowText(mover), "Cook 1977"});
    std::vector<double> fits(studentized.size());
    for (std::size_t i = 0; i < fits.size(); ++i)
        fits[i] = dffits(studentized[i], leverages[i]);
    const std::size_t shifts = largestOf(fits);
    const double fitsLimit = context.limitOf("largest DFFITS", std::max(1.0, 3 * std::sqrt(rank / n)));
    findings.readings.push_back(madeReading("largest DFFITS", fits[shifts], fitsLimit, {},
                                            rowText(shifts) +
                                                ": its own fitted value in standard errors; 2√(p/n) is " +
                                                readableText(2 * std::sqrt(rank / n), 2),
                                            "Belsley, Kuh and Welsch 1980, eq. 2.11"));

    const double squares = context.linear->fit.residualSumOfSquares;
    const auto costOf = [&](Goad& goad, std::size_t i) {
        setRowCost(goad, context.errors[i] * context.errors[i], squares, "learning rows");
    };
    std::size_t shown = 0;
    std::vector<std::size_t> named;
    for (const std::size_t i : order) {
        const double p = std::min(1.0, n * studentTwoSided(studentized[i], df));
        if (!(p < tLimit) || shown++ >= listed) break;
        Goad goad = rowGoad(context.learningRows[i], "outlying");
        goad.check = "largest studentised residual";
        goad.title = "Row " + countText(context.learningRows[i] + 1) + " lies far from the others";
        goad.reading = "studentised residual " + readableText(studentized[i], 3) + ", p " +
                       probabilityText(p) + " adjusted for the number of rows; Cook's distance " +
                       readableText(cooks[i], 2);
        goad.threshold = pThresholdText(tLimit) + ", adjusted";
        goad.source = "Cook and Weisberg 1982, §2.2.2";
        goad.family = "rows apart";
        goad.familyTitle = "# signs of rows apart";
        goad.size = std::fabs(studentized[i]);
        if (spreadLikeItsNeighbours(context, i, tLimit))
            goad.follows = {"unequal spread", "unequal spread, ranks", "unequal spread, White"};
        costOf(goad, i);
        if (named.empty())
            goad.moves.push_back(
                {.label = "fit robustly", .edit = [](Recipe& recipe, const std::string&) {
                     recipe = withEstimator(recipe, {"robust", {{"function", std::string("Huber")}}});
                 }});
        findings.goads.push_back(std::move(goad));
        named.push_back(i);
    }
    // Rows that move the fit, the strongest first; each once.
    struct Mover {
        std::size_t row;
        std::string check, title, reading, threshold, source;
        double over;
    };
    std::vector<Mover> found;
    // What rows of such leverages do by chance is no news.
    std::vector<double> times(studentized.size());
    std::vector<double> atCook(times.size(), 0);
    for (std::size_t i = 0; i < times.size(); ++i) {
        const double h = leverages[i];
        times[i] = h < 1 ? std::sqrt(h / (1 - h)) : 0;
        if (h > 0 && h < 1) atCook[i] = 1 / residualAtCook(cooks[mover], h, rank, df);
    }
    if (cooks[mover] > cook &&
        chanceOfAny(1, atCook, df, pLimit / 2) < pLimit / 2) // one of two chances of a row to be named
        found.push_back({mover, "largest Cook's distance", " moves the whole fit",
                         "Cook's distance " + readableText(cooks[mover], 3), shortText(cook), "Cook 1977",
                         cooks[mover] / cook});
    if (std::fabs(fits[shifts]) > fitsLimit && chanceOfAny(fits[shifts], times, df, pLimit / 2) < pLimit / 2)
        found.push_back({shifts, "largest DFFITS", " pulls its own fitted value",
                         "DFFITS " + readableText(fits[shifts], 3), readableText(fitsLimit, 3),
                         "Belsley, Kuh and Welsch 1980", std::fabs(fits[shifts]) / fitsLimit});
    // Where there are few rows a coefficient, one of them has half of its fitted value by chance.
    const double farFrom = std::clamp(3 * rank / n, farLimit, std::max(farLimit, 0.99));
    if (leverages[far] > farFrom)
        found.push_back(
            {far, "largest leverage", " says its fitted value nearly alone",
             "leverage " + readableText(leverages[far], 3) + ", the average is " + readableText(rank / n, 2),
             shortText(std::round(1000 * farFrom) / 1000), "Huber 1981, §7.2", leverages[far] / farFrom});
    for (const Mover& each : found) {
        if (std::find(named.begin(), named.end(), each.row) != named.end()) continue;
        named.push_back(each.row);
        Goad goad = rowGoad(context.learningRows[each.row], "influential");
        goad.check = each.check;
        goad.severity = each.check == "largest Cook's distance" ? Severity::alarm : Severity::caution;
        goad.title = "Row " + countText(context.learningRows[each.row] + 1) + each.title;
        goad.reading = each.reading;
        goad.threshold = each.threshold;
        goad.source = each.source;
        goad.family = "rows apart";
        goad.familyTitle = "# signs of rows apart";
        goad.size = each.over;
        costOf(goad, each.row);
        findings.goads.push_back(std::move(goad));
    }
}

void checkMovedCoefficients(const CheckContext& context, Findings& findings) {
    const std::string name = "largest DFBETAS";
    const std::string source = "Belsley, Kuh and Welsch 1980, eq. 2.7";
    const LeastSquaresFit& fit = context.linear->fit;
    if (!(fit.degreesOfFreedom > 1) || context.linear->studentized.empty()) {
        findings.readings.push_back(noReading(name, "there are no degrees of freedom to leave a row out"));
        return;
    }
    const auto largest = largestDfbetas(fit, DesignRows(context.linear->design, context.learningRows),
                                        context.weights, context.linear->leverages,
                                        context.linear->studentized, context.threads, *context.progress);
    std::vector<double> values;
    for (const LargestDfbetas& one : largest)
        values.push_back(one.value);
    const std::size_t turns = largestOf(values);
    const double value = values[turns];
    if (std::isnan(value)) {
        findings.readings.push_back(noReading(name, "every row alone fixes its fitted value"));
        return;
    }
    const double limit = context.limitOf(name, betasLimit);
    const auto row = context.learningRows[turns];
    const std::string coefficient = coefficientName(context, largest[turns].place);
    findings.readings.push_back(
        madeReading(name, value, limit, {},
                    "row " + countText(row + 1) + " moves " + coefficient + ", in standard errors; 2/√n is " +
                        readableText(2 / std::sqrt(static_cast<double>(values.size())), 2),
                    source));
    std::vector<double> times(values.size());
    for (std::size_t i = 0; i < times.size(); ++i)
        times[i] = std::isfinite(values[i]) && context.linear->studentized[i] != 0
                       ? values[i] / context.linear->studentized[i]
                       : 0;
    if (!(std::fabs(value) > limit) ||
        !(chanceOfAny(value, times, fit.degreesOfFreedom - 1, pLimit) < pLimit))
        return;
    Goad goad = rowGoad(row, "influential");
    goad.check = name;
    goad.severity = Severity::caution;
    goad.title = "Row " + countText(row + 1) + " moves the coefficient of " + coefficient;
    goad.reading = "DFBETAS " + readableText(value, 3) + " standard errors";
    goad.threshold = shortText(limit);
    goad.source = source;
    goad.family = "rows apart";
    goad.familyTitle = "# signs of rows apart";
    goad.size = std::fabs(value) / limit;
    setRowCost(goad, context.errors[turns] * context.errors[turns], fit.residualSumOfSquares,
               "learning rows");
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
