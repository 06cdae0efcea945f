#include "base/text.h"
#include "check/checks.h"

#include <algorithm>
#include <cmath>

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

} // namespace

void checkCollinearity(const CheckContext& context, Findings& findings) {
    const auto& columns = context.linear->design.design().columns();
    for (const Dependency& dependency : context.linear->model.fit.dependent) {
        const std::string& name = columns[dependency.column].name;
        Goad goad;
        goad.key = "dependent: " + name;
        goad.severity = Severity::alarm;
        goad.title = name + " repeats other columns and has no coefficient";
        goad.reading = name + " = " + combinationText(dependency, columns);
        goad.threshold = "less than " + readableText(context.linear->model.fit.rankToleranceUsed, 2) +
                         " of its length is its own";
        goad.source = "rounding of an orthogonal reduction (Golub and Van Loan 2013, §5.5)";
        goad.station = "fit";
        goad.column = name;
        const std::string term = termName(context.terms[columns[dependency.column].term]);
        goad.moves.push_back(leaveOutTerm(term));
        findings.goads.push_back(std::move(goad));
    }
    const CheckedTerm* worst = nullptr;
    for (const CheckedTerm& term : context.linear->terms) {
        if (!worst || term.inflation > worst->inflation) worst = &term;
        if (!(term.inflation > inflationLimit)) continue;
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
        goad.threshold = "5";
        goad.source = "Belsley, Kuh and Welsch 1980; Fox and Monette 1992";
        goad.station = "fit";
        goad.column = term.name;
        goad.moves.push_back(leaveOutTerm(term.name));
        findings.goads.push_back(std::move(goad));
    }
    if (worst)
        findings.readings.push_back({"largest variance inflation",
                                     worst->inflation,
                                     inflationLimit,
                                     {},
                                     worst->name,
                                     "Belsley, Kuh and Welsch 1980; Fox and Monette 1992"});
    constexpr double fewDigits = 8; // half of a double's; common practice, no source
    if (context.linear->model.fit.digitsLeft < fewDigits) {
        Goad goad;
        goad.key = "near dependency";
        goad.severity = context.linear->model.fit.digitsLeft < 4 ? Severity::alarm : Severity::caution;
        goad.title = "The terms are nearly dependent";
        goad.reading = "condition number " + readableText(context.linear->model.fit.conditionNumber, 2) +
                       " leaves " + readableText(context.linear->model.fit.digitsLeft, 2) +
                       " of the data's 16 digits in the worst coefficient";
        goad.threshold = "8 digits";
        goad.source = "Belsley, Kuh and Welsch 1980, §3.2; the 8 is common practice, no source";
        goad.station = "fit";
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
}

} // namespace oxgoad
