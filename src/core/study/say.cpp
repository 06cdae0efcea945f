#include "study/say.h"

#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/linear/linear_model.h"
#include "study/say_parts.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::VectorXd;

/// One of what is counted: "pallet" of "pallets"; "unit" without a unit.
std::string one(const std::string& unit) {
    if (unit.empty()) return "unit";
    if (unit == "%") return "% point";
    return unit.size() > 3 && unit.ends_with('s') && !unit.ends_with("ss") ? unit.substr(0, unit.size() - 1)
                                                                           : unit;
}

/// Column of the design that coefficient c stands for; none for the constant and derived ones.
std::optional<std::size_t> columnOf(const Evidence& e, std::size_t c) {
    if (!linearOf(e) || e.linear->coefficients[c].term < 0 || e.linear->coefficients[c].derived)
        return std::nullopt;
    const auto& columns = linearOf(e)->design.columns();
    for (std::size_t j = 0; j < columns.size(); ++j)
        if (columns[j].name == e.linear->coefficients[c].name &&
            columns[j].term == static_cast<std::size_t>(e.linear->coefficients[c].term))
            return j;
    return std::nullopt;
}

/// " ± 1.2"; empty where the error cannot be said.
std::string plusMinus(double error) {
    return std::isnan(error) ? std::string() : " ± " + readableText(error, 2);
}

/// "9.1 ± 1.2 EUR more", or "4.2 ± 0.3 % more" for a fit in logarithms.
std::string change(const Evidence& e, const Recipe& recipe, double estimate, double error,
                   bool words = true) {
    const std::string side = estimate < 0 ? " less" : " more";
    if (!e.inLogs()) {
        const auto [scale, word] = scaleWord(std::fabs(estimate));
        return supported(std::fabs(estimate) / scale, error / scale) + plusMinus(error / scale) +
               std::string(word) + within(unitHead(recipe, e.response)) + (words ? side : "");
    }
    const double grown = 100 * std::expm1(estimate);
    const double grownError = 100 * std::exp(estimate) * error;
    return supported(std::fabs(grown), grownError) + plusMinus(grownError) + " %" + (words ? side : "");
}

std::string interval(const Evidence& e, const Recipe& recipe, const CoefficientEvidence& c) {
    if (e.study && e.study->linear() && !e.study->linear()->hasErrors())
        return c.estimate == 0 ? " The penalty keeps it out."
                               : " The penalty holds it back, so that it has no interval of its own.";
    if (std::isnan(c.standardError))
        return std::string(" How sure that is cannot be said: ") +
               (!(e.linear->degreesOfFreedom > 0) ? "no degrees of freedom are left."
                : e.linear->fitsExactly
                    ? "the model says the response to the last digit."
                    : "it rests on rows that alone fix their fitted value, or on groups that do.");
    const auto [scale, word] = scaleWord(std::max(std::fabs(c.lower), std::fabs(c.upper)));
    return " " + percentText(recipe.level) + " interval " +
           supported(c.lower / scale, c.standardError / scale) + " to " +
           supported(c.upper / scale, c.standardError / scale) + std::string(word) +
           (e.inLogs() ? " on the logarithm" : "") + ", p " + probabilityText(c.p) + ".";
}

/// "each extra EUR of list_rate" of one number as it enters.
std::string step(const Recipe& recipe, const LinearModel& model, const DesignColumn::Piece& piece) {
    const std::string& name = model.design.inputs()[piece.input].name;
    const std::string unit = unitHead(recipe, name);
    switch (piece.basis.kind) {
    case Basis::Kind::logarithm:
        return "1 % more of " + name;
    case Basis::Kind::standard:
        if (piece.basis.scale != 1)
            return "one standard deviation (" + shortText(piece.basis.scale) + within(unit) + ") more of " +
                   name;
        break;
    case Basis::Kind::codes:
        return "one step up of " + name;
    default:
        break;
    }
    return "each extra " + one(unit) + " of " + name;
}

std::string levelText(const LinearModel& model, const DesignColumn::Piece& piece) {
    const Input& input = model.design.inputs()[piece.input];
    return input.name + " = " + input.levels[static_cast<std::size_t>(piece.basis.level)];
}

std::string capital(std::string text) {
    if (!text.empty() && text[0] >= 'a' && text[0] <= 'z') text[0] = static_cast<char>(text[0] - 'a' + 'A');
    return text;
}

/// A logarithm's coefficient is for e-fold; a hundredth of it is about what 1 % more does.
double perStep(const DesignColumn::Piece& piece) {
    return piece.basis.kind == Basis::Kind::logarithm ? 0.01 : 1;
}

/// What is said of a coefficient: a combination of coefficients with its own error, interval and p, in the
/// place of the coefficient's, and where it holds.
struct Said {
    std::string text;
    CoefficientEvidence of;
};

/// The evidence of Σ weight·coefficient, in the place of that of a coefficient.
CoefficientEvidence combined(const Recipe& recipe, const LinearModel& model, const CoefficientEvidence& c,
                             const VectorXd& weights) {
    const Combination sum = model.fit.combination(weights, 0);
    CoefficientEvidence out = c;
    out.estimate = sum.value;
    out.standardError = sum.standardError;
    const double t = studentQuantile(recipe.level, sum.degreesOfFreedom);
    out.lower = sum.value - t * sum.standardError;
    out.upper = sum.value + t * sum.standardError;
    out.p = studentTwoSided(sum.value / sum.standardError, sum.degreesOfFreedom);
    return out;
}

/// The same of another unit.
CoefficientEvidence times(CoefficientEvidence c, double unit) {
    for (double* value : {&c.estimate, &c.standardError, &c.lower, &c.upper})
        *value *= unit;
    return c;
}

/// A single column's effect where products hold it back: at the means of the numbers it is multiplied with,
/// and at the reference levels of the factors.
struct AtMeans {
    CoefficientEvidence of;
    /// " at the mean of places (1,234)"; empty when there are no such products.
    std::string where;
};

/// Mean over the learning rows of what a piece makes, where it is a column of its own.
std::optional<double> meanOfPiece(const LinearModel& model, const DesignColumn::Piece& piece) {
    const auto& columns = model.design.columns();
    if (!model.fit.intercept) return std::nullopt;
    for (std::size_t j = 0; j < columns.size(); ++j)
        if (columns[j].pieces.size() == 1 && columns[j].pieces[0].input == piece.input &&
            columns[j].pieces[0].basis == piece.basis)
            return model.fit.shift[static_cast<Index>(j)];
    return std::nullopt;
}

std::string textOfMean(const LinearModel& model, const DesignColumn::Piece& piece, double mean) {
    const std::string& name = model.design.inputs()[piece.input].name;
    switch (piece.basis.kind) {
    case Basis::Kind::logarithm:
        return name + " (" + readableText(std::exp(mean), 4) + ", geometric)";
    case Basis::Kind::standard:
        return name + " (" + readableText(piece.basis.shift + piece.basis.scale * mean, 4) + ")";
    default:
        return name + " (" + readableText(mean, 4) + ")";
    }
}

AtMeans atMeans(const Recipe& recipe, const LinearModel& model, std::size_t j, const CoefficientEvidence& c) {
    const auto& columns = model.design.columns();
    const DesignColumn::Piece& own = columns[j].pieces[0];
    VectorXd weights = VectorXd::Zero(model.fit.columns);
    weights[static_cast<Index>(j)] = 1;
    std::vector<std::string> means, levels;
    const auto add = [](std::vector<std::string>& to, const std::string& name) {
        if (std::find(to.begin(), to.end(), name) == to.end()) to.push_back(name);
    };
    bool moved = false;
    for (std::size_t k = 0; k < columns.size(); ++k) {
        const auto& pieces = columns[k].pieces;
        const auto mine = std::find_if(pieces.begin(), pieces.end(), [&](const DesignColumn::Piece& piece) {
            return piece.input == own.input && piece.basis == own.basis;
        });
        if (pieces.size() < 2 || mine == pieces.end()) continue;
        double product = 1;
        for (const auto& piece : pieces) {
            if (&piece == &*mine) continue;
            const Input& input = model.design.inputs()[piece.input];
            // Other factors stand at their reference level, where their indicators are 0.
            if (piece.basis.kind == Basis::Kind::indicator)
                add(levels, input.name + " = " + input.levels[input.referenceLevel]);
            const auto mean = input.factor ? std::nullopt : meanOfPiece(model, piece);
            product *= mean.value_or(0);
            if (mean) add(means, textOfMean(model, piece, *mean));
        }
        if (product == 0) continue;
        weights[static_cast<Index>(k)] = product;
        moved = true;
    }
    const auto joined = [](const std::vector<std::string>& names, const std::string& before) {
        std::string text;
        for (const std::string& name : names)
            text += (text.empty() ? before : " and ") + name;
        return text;
    };
    return {moved ? combined(recipe, model, c, weights) : c,
            joined(levels, " for ") + (moved ? joined(means, " at the mean of ") : std::string())};
}

Said singleSentence(const Evidence& e, const Recipe& recipe, const LinearModel& model, std::size_t j,
                    const CoefficientEvidence& c) {
    const DesignColumn::Piece& piece = model.design.columns()[j].pieces[0];
    const Input& input = model.design.inputs()[piece.input];
    const Basis& basis = piece.basis;
    const std::string held = ", the other terms held.";
    const auto [mean, where] = atMeans(recipe, model, j, c);
    switch (basis.kind) {
    case Basis::Kind::indicator:
        return {"For " + levelText(model, piece) + " the model says " +
                    change(e, recipe, mean.estimate, mean.standardError) + " " + e.response + where +
                    " than for " + input.levels[input.referenceLevel] + held,
                mean};
    case Basis::Kind::codes:
        if (c.name.find(" against the mean") != std::string::npos)
            return {"For " + c.name.substr(0, c.name.find(" against the mean")) + " the model says " +
                        change(e, recipe, mean.estimate, mean.standardError) + " " + e.response + where +
                        " than the mean of the levels" + held,
                    mean};
        if (c.name.ends_with(" as scores"))
            return {capital("each step up of " + input.name) + " goes with " +
                        change(e, recipe, mean.estimate, mean.standardError) + " " + e.response + where +
                        held,
                    mean};
        return {"The part of the trend over " + input.name + " that is " +
                    c.name.substr(input.name.size() + 1) + where + ": " +
                    supported(mean.estimate, mean.standardError) + plusMinus(mean.standardError) + ".",
                mean};
    case Basis::Kind::hinge: {
        // What the slope comes to beyond this knot: all pieces up to here.
        VectorXd weights = VectorXd::Zero(model.fit.columns);
        for (std::size_t k = 0; k <= j; ++k)
            if (model.design.columns()[k].term == model.design.columns()[j].term)
                weights[static_cast<Index>(k)] = 1;
        const CoefficientEvidence slope = combined(recipe, model, c, weights);
        return {"Beyond " + shortText(basis.shift) + within(unitHead(recipe, input.name)) + " each extra " +
                    one(unitHead(recipe, input.name)) + " of " + input.name + " goes with " +
                    change(e, recipe, slope.estimate, slope.standardError) + " " + e.response + held +
                    " The slope changes there by " + supported(c.estimate, c.standardError) +
                    plusMinus(c.standardError) + "; of the slope beyond it:",
                slope};
    }
    case Basis::Kind::spline:
        return {"A part of the curve of " + input.name +
                    "; it has no meaning alone. Look at the effect, and at the test of the term as a whole.",
                c};
    case Basis::Kind::cosine:
    case Basis::Kind::sine:
    case Basis::Kind::yearCosine:
    case Basis::Kind::yearSine:
        return {"A part of the wave over " + input.name +
                    "; it has no meaning alone. Look at the effect, and at the test of the term as a whole.",
                c};
    case Basis::Kind::power:
        if (basis.power != 1)
            return {capital(c.name) + " bends the effect of " + input.name + " " +
                        (mean.estimate < 0 ? "down" : "up") + ": " +
                        supported(mean.estimate, mean.standardError) + plusMinus(mean.standardError) +
                        " for each unit of " + c.name + where + held,
                    mean};
        break;
    default:
        break;
    }
    const bool polynomial = std::count_if(model.design.columns().begin(), model.design.columns().end(),
                                          [&](const DesignColumn& other) {
                                              return other.term == model.design.columns()[j].term;
                                          }) > 1 &&
                            basis.isPlain();
    const CoefficientEvidence said = times(mean, perStep(piece));
    const std::string text = capital(step(recipe, model, piece)) + " goes with " +
                             change(e, recipe, said.estimate, said.standardError) + " " + e.response + where;
    if (polynomial && recipe.terms[static_cast<std::size_t>(c.term)].parts[0].form == Form::pieces)
        return {text + " up to the first knot" + held, said};
    if (polynomial) return {text + " where " + input.name + " is near 0" + held, said};
    if (basis.kind == Basis::Kind::standard && basis.scale != 1)
        return {text + held + " That is " +
                    supported(mean.estimate / basis.scale, mean.standardError / basis.scale) +
                    plusMinus(mean.standardError / basis.scale) + " for each extra " +
                    one(unitHead(recipe, input.name)) + "; 0 is " + shortText(basis.shift) +
                    ". Of a standard deviation:",
                said};
    return {text + held, said};
}

Said productSentence(const Evidence& e, const Recipe& recipe, const LinearModel& model, std::size_t j,
                     const CoefficientEvidence& c) {
    const auto& pieces = model.design.columns()[j].pieces;
    std::vector<const DesignColumn::Piece*> levels, numbers;
    for (const auto& piece : pieces)
        (piece.basis.kind == Basis::Kind::indicator ? levels : numbers).push_back(&piece);
    const std::string held = ", the other terms held.";
    if (levels.size() == 1 && numbers.size() == 1) {
        const Input& factor = model.design.inputs()[levels[0]->input];
        const double unit = perStep(*numbers[0]);
        const CoefficientEvidence said = times(c, unit);
        return {"For " + levelText(model, *levels[0]) + " " + step(recipe, model, *numbers[0]) +
                    " goes with " + change(e, recipe, said.estimate, said.standardError) + " " + e.response +
                    " than for " + factor.levels[factor.referenceLevel] + held,
                said};
    }
    if (levels.empty() && numbers.size() == 2) {
        const double unit = perStep(*numbers[0]) * perStep(*numbers[1]);
        const CoefficientEvidence said = times(c, unit);
        return {capital(step(recipe, model, *numbers[1])) + " changes what " +
                    step(recipe, model, *numbers[0]) + " goes with by " +
                    supported(said.estimate, said.standardError) + plusMinus(said.standardError) +
                    within(unitHead(recipe, e.response)) + held,
                said};
    }
    if (levels.size() == 2 && numbers.empty())
        return {"For " + levelText(model, *levels[0]) + " and " + levelText(model, *levels[1]) +
                    " together the model says " + change(e, recipe, c.estimate, c.standardError) + " " +
                    e.response + " than their two differences add up to" + held,
                c};
    return {c.name + ": " + supported(c.estimate, c.standardError) + plusMinus(c.standardError) +
                " beyond what its parts say" + held,
            c};
}

} // namespace

std::pair<double, std::string_view> scaleWord(double size) {
    if (!(size >= 1e6) || size >= 1e15) return {1, ""};
    return size >= 1e12  ? std::pair{1e12, std::string_view(" trillion")}
           : size >= 1e9 ? std::pair{1e9, std::string_view(" billion")}
                         : std::pair{1e6, std::string_view(" million")};
}

std::string supported(double value, double error) {
    if (std::isnan(value)) return {};
    if (!(error > 0) || !std::isfinite(error)) return readableText(value, 6);
    const int decimals = 1 - static_cast<int>(std::floor(std::log10(error)));
    if (decimals > 9) return readableText(value, 4);
    const double size = std::fabs(value);
    const int digits =
        std::max(decimals, 0) + 1 + (size > 0 ? static_cast<int>(std::floor(std::log10(size))) : 0);
    return readableText(value, std::clamp(digits, 1, 15));
}

std::string coefficientSentence(const Evidence& e, const Recipe& recipe, std::size_t index) {
    const CoefficientEvidence& c = e.linear->coefficients[index];
    if (c.dependent) return c.name + " repeats other columns and has no coefficient of its own.";
    if (c.term < 0)
        return "Where all numbers are 0 and factors at their reference level the model says " +
               supported(c.estimate, c.standardError) + plusMinus(c.standardError) +
               (e.logResponse ? " for ln(" + e.response + ")."
                : e.inLogs()  ? " for ln of the mean of " + e.response + "."
                              : within(unitHead(recipe, e.response)) + ".") +
               interval(e, recipe, c);
    if (c.derived)
        return "For " + c.name.substr(0, c.name.find(" against the mean")) + " the model says " +
               change(e, recipe, c.estimate, c.standardError) + " " + e.response +
               " than the mean of the levels, the other terms held." + interval(e, recipe, c);
    const auto j = columnOf(e, index);
    if (!j) return {};
    const auto [text, said] = linearOf(e)->design.columns()[*j].pieces.size() == 1
                                  ? singleSentence(e, recipe, *linearOf(e), *j, c)
                                  : productSentence(e, recipe, *linearOf(e), *j, c);
    return text + interval(e, recipe, said);
}

std::string importanceSentence(const InputEvidence& input) {
    if (std::isnan(input.importance)) return "How much the model leans on " + input.name + " cannot be said.";
    const std::string size = supported(100 * std::fabs(input.importance), 100 * input.importanceError) +
                             " ± " + readableText(100 * input.importanceError, 2) + " %";
    return "Shuffled over rows, " + input.name + " makes the error " + size +
           (input.importance < 0 ? " smaller." : " larger.");
}

std::string referenceSentence(const Evidence& e, const Recipe& recipe, std::size_t term) {
    if (!linearOf(e) || term >= recipe.terms.size()) return {};
    const LinearModel& model = *linearOf(e);
    std::string text;
    for (const TermPart& part : recipe.terms[term].parts) {
        const std::size_t input = inputOf(model, part.column);
        if (input == model.design.inputs().size() || !model.design.inputs()[input].factor) continue;
        const Input& known = model.design.inputs()[input];
        if (part.form == Form::deviations)
            text += "Differences of " + known.name + " are against the mean of its " +
                    plural(known.levels.size(), "level", "levels") + ", each counting alike. ";
        if (part.form != Form::plain) continue;
        // The evidence has counted the rows of each level of a factor that is a term.
        std::string count;
        for (std::size_t t = 0; t < recipe.terms.size(); ++t)
            if (recipe.terms[t].parts.size() == 1 && recipe.terms[t].parts[0].column == part.column &&
                e.linear->terms[t].density.size() == known.levels.size())
                count =
                    " (" +
                    countText(static_cast<std::size_t>(e.linear->terms[t].density[known.referenceLevel])) +
                    " of " + plural(e.rowsLearning, "learning row", "learning rows") + ")";
        text += "Differences are against " + known.name + " = " + known.levels[known.referenceLevel] +
                ", the reference level" + count +
                ". Another reference level changes what is compared, not the predictions. ";
    }
    if (!text.empty()) text.pop_back();
    return text;
}

} // namespace oxgoad
