#include "base/text.h"
#include "check/check_tools.h"

#include <Eigen/SVD>

#include <algorithm>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

namespace {

constexpr double inflationLimit = 5;

std::string combinationText(const Dependency& dependency, const std::vector<DesignColumn>& columns) {
    std::string text;
    if (dependency.constant != 0 && std::fabs(dependency.constant) > 1e-9)
        text = readableText(dependency.constant);
    for (const auto& [other, weight] : dependency.combination) {
        const bool negative = weight < 0;
        if (!text.empty())
            text += negative ? " − " : " + ";
        else if (negative)
            text += "−";
        const double size = std::fabs(weight);
        if (std::fabs(size - 1) > 1e-9) text += readableText(size) + "·";
        text += columns[other].name;
    }
    return text.empty() ? "0" : text;
}

/// R of [1, X] as it is, its columns at unit length: not shifted, so that the constant counts.
Eigen::MatrixXd uncentredFactor(const LeastSquaresFit& fit) {
    const Eigen::Index rank = fit.rank();
    const Eigen::Index first = fit.intercept ? 1 : 0;
    // [1, X] = [1, X~] T with x = x~/scale + shift·1.
    const Eigen::MatrixXd& whole = fit.factor.wholeTriangle();
    Eigen::MatrixXd factor = whole;
    for (Eigen::Index k = first; k < rank; ++k) {
        const auto column = static_cast<Eigen::Index>(fit.kept[static_cast<std::size_t>(k - first)]);
        factor.col(k) /= fit.scale[column];
        if (fit.intercept) factor.col(k) += fit.shift[column] * whole.col(0);
    }
    for (Eigen::Index k = 0; k < rank; ++k)
        factor.col(k).normalize();
    return factor;
}

/// Condition indexes of the columns with the constant, uncentred at unit length, and what share of the
/// variance of each coefficient comes with each (Belsley 1991, "Conditioning diagnostics", ch. 5).
void addConditionIndexes(const CheckContext& context, Findings& findings) {
    const LeastSquaresFit& fit = context.linear->fit;
    const std::string source = "Belsley 1991, \"Conditioning diagnostics\"";
    if (fit.rank() < 2) {
        findings.readings.push_back(noReading("condition index", "the model has fewer than two columns"));
        findings.readings.push_back(noReading("nearly dependent", "the model has fewer than two columns"));
        return;
    }
    constexpr Eigen::Index wide = 64, widest = 600;
    if (fit.rank() > widest) {
        const std::string why = countText(static_cast<std::size_t>(fit.rank())) +
                                " columns are too many for all condition indexes";
        findings.readings.push_back(noReading("condition index", why));
        findings.readings.push_back(noReading("nearly dependent", why));
        return;
    }
    const Eigen::MatrixXd factor = uncentredFactor(fit);
    Eigen::VectorXd d;
    Eigen::MatrixXd v;
    if (factor.cols() <= wide) { // Jacobi's keeps the small ones to their own digits
        const Eigen::JacobiSVD<Eigen::MatrixXd> svd(factor, Eigen::ComputeThinV | Eigen::ComputeThinU);
        d = svd.singularValues();
        v = svd.matrixV();
    } else {
        const Eigen::BDCSVD<Eigen::MatrixXd> svd(factor, Eigen::ComputeThinV | Eigen::ComputeThinU);
        d = svd.singularValues();
        v = svd.matrixV();
    }
    const Eigen::Index p = d.size();
    Eigen::MatrixXd shares(p, p); // coefficient × index
    for (Eigen::Index k = 0; k < p; ++k)
        for (Eigen::Index j = 0; j < p; ++j)
            shares(k, j) = std::pow(v(k, j) / d[j], 2);
    for (Eigen::Index k = 0; k < p; ++k)
        shares.row(k) /= shares.row(k).sum();
    const auto nameOf = [&](Eigen::Index k) {
        if (fit.intercept && k == 0) return std::string("the constant");
        return context.linear->design.design()
            .columns()[fit.kept[static_cast<std::size_t>(k - (fit.intercept ? 1 : 0))]]
            .name;
    };
    constexpr double usualIndex = 30, usualShare = 0.5;
    const double limit = context.limitOf("condition index", usualIndex);
    std::size_t dependencies = 0;
    std::string said;
    for (Eigen::Index j = p - 1; j >= 0 && d[0] / d[j] > limit; --j) {
        std::string names;
        int large = 0;
        for (Eigen::Index k = 0; k < p; ++k)
            if (shares(k, j) > usualShare) {
                if (++large <= 6)
                    names += (names.empty() ? "" : ", ") + nameOf(k) + " " +
                             percentText(std::round(100 * shares(k, j)) / 100);
            }
        if (large < 2) continue;
        ++dependencies;
        if (dependencies <= 3)
            said += (said.empty() ? "" : "; ") + std::string("index ") + readableText(d[0] / d[j], 3) + ": " +
                    names + (large > 6 ? " …" : "");
    }
    std::string worst;
    for (Eigen::Index k = 0, listed = 0; k < p && listed < 6; ++k)
        if (shares(k, p - 1) > usualShare) {
            worst += (worst.empty() ? "" : ", ") + nameOf(k) + " " +
                     percentText(std::round(100 * shares(k, p - 1)) / 100);
            ++listed;
        }
    findings.readings.push_back(
        madeReading("condition index", d[0] / d[p - 1], limit, {},
                    "the largest, columns with the constant at unit length, uncentred" +
                        (worst.empty() ? std::string() : "; shares of variance above 50 %: " + worst),
                    source));
    const double most = context.limitOf("nearly dependent", 0);
    findings.readings.push_back(madeReading("nearly dependent", static_cast<double>(dependencies), most, {},
                                            "condition indexes above " + shortText(limit) +
                                                " with half of the variance of two coefficients or more" +
                                                (said.empty() ? "" : ": " + said),
                                            source));
}

} // namespace

void checkCollinearity(const CheckContext& context, Findings& findings) {
    const auto& columns = context.linear->design.design().columns();
    // Levels that tell little can be many: of one term they are one goad then.
    constexpr std::size_t mostNamed = 8;
    std::map<std::size_t, std::size_t> ofTerm;
    for (const Dependency& dependency : context.linear->model.fit.dependent)
        ++ofTerm[columns[dependency.column].term];
    std::set<std::size_t> told;
    for (const Dependency& dependency : context.linear->model.fit.dependent) {
        const std::string& name = columns[dependency.column].name;
        const std::size_t place = columns[dependency.column].term, alike = ofTerm[place];
        if (alike > mostNamed && !told.insert(place).second) continue;
        Goad goad;
        goad.key = "dependent: " + (alike > mostNamed ? termName(context.terms[place]) : name);
        goad.severity = Severity::alarm;
        goad.title = alike > mostNamed ? countText(alike) + " columns of " + termName(context.terms[place]) +
                                             " repeat others and have no coefficient"
                                       : name + " repeats other columns and has no coefficient";
        goad.reading = name + " = " + combinationText(dependency, columns) +
                       (alike > mostNamed ? ", and " + countText(alike - 1) + " more" : "");
        goad.threshold = "less than " + readableText(context.linear->model.fit.rankToleranceUsed, 2) +
                         " of its length is its own";
        goad.source = "rounding of an orthogonal reduction (Golub and Van Loan 2013, §5.5)";
        goad.station = "fit";
        goad.column = name;
        const std::string term = termName(context.terms[place]);
        goad.moves.push_back(leaveOutTerm(term));
        findings.goads.push_back(std::move(goad));
    }
    const CheckedTerm* worst = nullptr;
    const double limit = context.limitOf("largest variance inflation", inflationLimit);
    for (const CheckedTerm& term : context.linear->terms) {
        if (!worst || term.inflation > worst->inflation) worst = &term;
        if (!(term.inflation > limit)) continue;
        const auto together = std::count_if(context.linear->terms.begin(), context.linear->terms.end(),
                                            [&](const CheckedTerm& t) { return t.group == term.group; });
        if (together > 1 &&
            &term != &*std::find_if(context.linear->terms.begin(), context.linear->terms.end(),
                                    [&](const CheckedTerm& t) { return t.group == term.group; }))
            continue;
        Goad goad;
        goad.key = "collinearity: " + term.name;
        goad.title = term.name + (together > 1 ? " and its products are mostly said by the other terms"
                                               : " is mostly said by the other terms");
        goad.reading = "variance inflation " + readableText(term.inflation, 3);
        goad.threshold = shortText(limit);
        goad.check = "largest variance inflation";
        goad.family = "collinearity";
        goad.familyTitle = "# terms are mostly said by the others";
        goad.size = term.inflation;
        constexpr double extreme = 100; // nothing can be said of the term alone
        if (term.inflation > extreme) {
            goad.tells = Tells::judgement;
            goad.cost = 1 - 1 / std::sqrt(term.inflation);
            goad.costSays = "by this share the interval of its coefficient is wider than if the others said "
                            "nothing of it";
        }
        goad.source = "Belsley, Kuh and Welsch 1980; Fox and Monette 1992";
        goad.station = "fit";
        goad.column = term.name;
        goad.moves.push_back(leaveOutTerm(term.name));
        findings.goads.push_back(std::move(goad));
    }
    findings.readings.push_back(worst ? madeReading("largest variance inflation", worst->inflation, limit, {},
                                                    worst->name,
                                                    "Belsley, Kuh and Welsch 1980; Fox and Monette 1992")
                                      : noReading("largest variance inflation", "no term is in the model"));
    if (const LeastSquaresFit& fit = context.linear->model.fit; !fit.proven() || fit.workedOutAnew) {
        Goad goad;
        goad.key = "not orthogonal";
        goad.severity = Severity::alarm;
        const bool penalised = context.linear->model.penalised.has_value();
        goad.title = fit.proven() ? "A quick way to this fit was wrong, and the plain way was taken"
                     : penalised  ? "These coefficients are not those that the penalty asks for"
                                  : "These coefficients are not those of least squares";
        const std::string by = ", by " + shortText(fit.fromOrthogonal) + " times what ";
        goad.reading = fit.proven() ? "the residuals of the quick way are not orthogonal to every column"
                       : penalised  ? "the conditions of the optimum fail at the rows" + by + "they may"
                                    : "the residuals of the fit are not orthogonal to every column" + by +
                                         "rounding can do";
        goad.threshold = penalised ? "1e-6 of the response" : "64 roundings";
        goad.source = penalised
                          ? "Yuan and Lin 2006; the 1e-6 is common practice, no source"
                          : "Björck 1996, §1.4; Higham 2002, §20.1; the 64 is common practice, no source";
        goad.station = "fit";
        goad.check = "condition number";
        findings.goads.push_back(std::move(goad));
    }
    constexpr double fewDigits = 8; // half of a double's; common practice, no source
    if (context.linear->model.fit.digitsLeft < fewDigits) {
        Goad goad;
        goad.key = "near dependency";
        goad.severity = context.linear->model.fit.digitsLeft < 4 ? Severity::alarm : Severity::caution;
        goad.title = "The terms are nearly dependent";
        // As many digits as the rows leave it.
        const double number = context.linear->model.fit.conditionNumber;
        const double unit = std::pow(10, std::max(0.0, 2 * std::floor(std::log10(number)) - 14));
        goad.reading = "condition number " +
                       readableText(std::isfinite(unit) ? std::round(number / unit) * unit : number, 2) +
                       " leaves " + readableText(context.linear->model.fit.digitsLeft, 2) +
                       " of the data's 16 digits in the worst coefficient";
        goad.threshold = "8 digits";
        goad.source = "Belsley, Kuh and Welsch 1980, §3.2; the 8 is common practice, no source";
        goad.station = "fit";
        goad.check = "condition number";
        findings.goads.push_back(std::move(goad));
    }
    findings.readings.push_back({"condition number",
                                 context.linear->model.fit.conditionNumber,
                                 30,
                                 {},
                                 "of the centred columns at unit length; it leaves " +
                                     readableText(context.linear->model.fit.digitsLeft, 2) +
                                     " of the data's 16 digits",
                                 "Belsley, Kuh and Welsch 1980, §3.2"});
    addConditionIndexes(context, findings);
}

} // namespace oxgoad
