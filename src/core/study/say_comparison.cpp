#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "study/compare.h"
#include "study/say.h"
#include "study/say_parts.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace oxgoad {

namespace {

/// What a model's columns span, as far as names tell: the powers of a number, whichever way they enter, and
/// terms of other kinds as they are.
std::vector<std::string> spanOf(const Recipe& recipe) {
    std::vector<std::string> span;
    const auto add = [&](const std::string& name) {
        if (std::find(span.begin(), span.end(), name) == span.end()) span.push_back(name);
    };
    if (recipe.intercept) add("");
    for (const Term& term : recipe.terms) {
        const TermPart& part = term.parts[0];
        const auto power = [&](int k) { add(termName(Term{{TermPart{part.column, k}}})); };
        const bool shifts = recipe.intercept; // a mean taken off needs a constant beside it
        if (term.parts.size() == 1 && part.form == Form::polynomial && shifts)
            for (int k = 1; k <= part.count; ++k)
                power(k);
        else if (term.parts.size() == 1 && (part.form == Form::centred || part.form == Form::standardised) &&
                 shifts)
            power(1);
        else {
            add(termName(term));
        }
    }
    return span;
}

/// Products count the same with their parts in another order.
bool isWithin(const std::vector<std::string>& small, const std::vector<std::string>& large) {
    const auto parts = [](const std::string& name) {
        std::multiset<std::string> found;
        constexpr std::string_view sign = " × ";
        std::size_t from = 0;
        for (std::size_t at = name.find(sign); at != std::string::npos; at = name.find(sign, from)) {
            found.insert(name.substr(from, at - from));
            from = at + sign.size();
        }
        found.insert(name.substr(from));
        return found;
    };
    return std::all_of(small.begin(), small.end(), [&](const std::string& one) {
        return std::any_of(large.begin(), large.end(), [&](const std::string& other) {
            return one == other || parts(one) == parts(other);
        });
    });
}

std::string fitName(const Compared& fit, bool capitalised) {
    std::string name = fit.name;
    if (capitalised && !name.empty() && name[0] >= 'a' && name[0] <= 'z')
        name[0] = static_cast<char>(name[0] - 'a' + 'A');
    return name;
}

/// Why F and the criteria cannot compare two fits; empty when they can.
std::string whyNot(const Compared& first, const Compared& second) {
    const Evidence &a = first.evidence, &b = second.evidence;
    const auto each = [&](const std::string& what, const std::string& one, const std::string& other) {
        return what + " (" + first.name + ": " + one + ", " + second.name + ": " + other + ")";
    };
    const auto orNone = [](const std::string& name) { return name.empty() ? std::string("none") : name; };
    if (a.response != b.response) return each("they have different responses", a.response, b.response);
    if (!(first.recipe.estimator == second.recipe.estimator))
        return each("they are fitted by different estimators", estimatorText(first.recipe.estimator),
                    estimatorText(second.recipe.estimator));
    if (!kindOf(first.recipe.estimator).leastSquares)
        return "both are fitted by " + estimatorText(first.recipe.estimator) + ", which has neither";
    if (a.weight != b.weight)
        return each("their rows are weighted differently", orNone(a.weight), orNone(b.weight));
    const bool sameRows = a.rows.state.size() == b.rows.state.size() &&
                          std::equal(a.rows.state.begin(), a.rows.state.end(), b.rows.state.begin(),
                                     [](RowState x, RowState y) {
                                         return (x == RowState::learning) == (y == RowState::learning);
                                     });
    if (!sameRows)
        return a.rowsLearning != b.rowsLearning
                   ? "they learned from " + countText(a.rowsLearning) + " and " + countText(b.rowsLearning) +
                         " rows"
                   : "they learned from different rows, " + countText(a.rowsLearning) + " each";
    return {};
}

/// " Over the same 10 folds fit 2 is off by 310 ± 40 less (…), less in 9 of them."; empty without folds.
std::string foldsCompared(const Compared& first, const Compared& second) {
    const Evidence &a = first.evidence, &b = second.evidence;
    if ((!a.folds && !b.folds) || a.response != b.response) return {};
    const std::string unit = within(unitHead(second.recipe, b.response));
    const auto alone = [&](const Compared& fit) {
        const FoldEvidence& f = *fit.evidence.folds;
        return fitName(fit, true) + " is off by " + readableText(f.rmse) + " ± " +
               readableText(f.rmseError, 2) + unit + " (± one standard error), judged by " +
               foldPlanText(f.plan);
    };
    const FoldComparison both = compareFolds(a, b);
    if (both.rows < 2)
        return " " + (a.folds ? alone(first) : std::string()) + (a.folds && b.folds ? "; " : "") +
               (b.folds ? alone(second) : std::string()) + ".";
    std::string text = both.folds > 0
                           ? " Over the same " + plural(both.folds, "fold", "folds")
                           : " Over " + plural(both.rows, "row", "rows") + " that both are judged by (" +
                                 foldPlanText(a.folds->plan) + "; " + foldPlanText(b.folds->plan) + ")";
    text += " " + second.name + " is off by " + supported(std::fabs(both.difference), both.differenceError) +
            " ± " + readableText(both.differenceError, 2) + unit +
            (both.difference <= 0 ? " less" : " more") + " (± one standard error; " +
            readableText(both.second) + " against " + readableText(both.first) + ")";
    if (both.folds > 0)
        text += ", less in " + std::to_string(both.betterFolds) + " of " + std::to_string(both.folds);
    return text + ".";
}

} // namespace

std::string comparisonSentence(const Compared& first, const Compared& second) {
    const Evidence &a = first.evidence, &b = second.evidence;
    const std::string reason = whyNot(first, second);
    std::string text;
    const bool mayTest =
        reason.empty() && a.linear && b.linear && a.logResponse == b.logResponse && a.offset == b.offset;
    if (mayTest) {
        const auto spanA = spanOf(first.recipe), spanB = spanOf(second.recipe);
        const bool firstInSecond = isWithin(spanA, spanB), secondInFirst = isWithin(spanB, spanA);
        if (firstInSecond && secondInFirst) {
            text = fitName(first, true) + " and " + second.name + " have the same terms, written differently";
        } else if (firstInSecond || secondInFirst) {
            const Compared& small = firstInSecond ? first : second;
            const Compared& large = firstInSecond ? second : first;
            const auto& has = firstInSecond ? spanA : spanB;
            std::string added;
            for (const std::string& name : firstInSecond ? spanB : spanA)
                if (!isWithin({name}, has))
                    added +=
                        (added.empty() ? "" : ", ") + (name.empty() ? std::string("the constant") : name);
            const double df =
                small.evidence.linear->degreesOfFreedom - large.evidence.linear->degreesOfFreedom;
            const double f =
                (small.evidence.linear->residualSumOfSquares - large.evidence.linear->residualSumOfSquares) /
                df / (large.evidence.linear->residualSumOfSquares / large.evidence.linear->degreesOfFreedom);
            const double p = fisherUpper(f, df, large.evidence.linear->degreesOfFreedom);
            if (df > 0 && large.evidence.linear->degreesOfFreedom > 0 &&
                !large.evidence.linear->fitsExactly) {
                text = added + (p < 0.05 ? " explains" : " does not explain") + " more than chance would (" +
                       large.name + " against " + small.name + "): F " + readableText(f, 4) + " with " +
                       countText(static_cast<std::size_t>(df)) + " and " +
                       countText(static_cast<std::size_t>(large.evidence.linear->degreesOfFreedom)) +
                       " degrees of freedom, p " + probabilityText(p);
                // Errors that stand unequal spread have a test of their own.
                if (large.recipe.errors.kind != CovarianceKind::homoskedastic)
                    text += " (for equal spread; the term table has the test with " +
                            errorsText(large.recipe.errors) + ")";
            }
        }
    }
    if (reason.empty() && a.linear && b.linear && std::isfinite(a.linear->aicc) &&
        std::isfinite(b.linear->aicc))
        text += (text.empty() ? "From " : "; from ") + first.name + " to " + second.name +
                " AICc changes by " + readableText(b.linear->aicc - a.linear->aicc, 4) + " and BIC by " +
                readableText(b.linear->bic - a.linear->bic, 4) + " (less is better)";
    if (!reason.empty())
        text = "F and information criteria do not compare " + first.name + " with " + second.name + ": " +
               reason;
    const Comparison both = compareHeldOut(a, b);
    if (both.first.rows > 1 && a.response == b.response) {
        text += text.empty() ? "On the " : "; on the ";
        const std::string unit = within(unitHead(second.recipe, b.response));
        text += plural(both.first.rows, "row", "rows") + " both hold out " + second.name + " is off by " +
                supported(std::fabs(both.difference), both.differenceError) + " ± " +
                readableText(both.differenceError, 2) + unit + (both.difference <= 0 ? " less" : " more") +
                " (± one standard error; " + readableText(both.second.rmse) + " against " +
                readableText(both.first.rmse) + ")";
    } else if (!a.folds && !b.folds && (text.empty() || !reason.empty())) {
        text += (text.empty() ? "There" : ", and there") + std::string(" are no rows that both hold out");
    }
    return text + "." + foldsCompared(first, second);
}

} // namespace oxgoad
