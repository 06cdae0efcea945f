#pragma once
// The fit read aloud: its equation, a sentence for each coefficient, what is compared with what.
#include "study/evidence.h"

#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace oxgoad {

/// "revenue = 1,203 + 9.1·list_rate + 4,120·[contract = annual] + ε"; ln(revenue) for a fit in logarithms.
/// Digits by the standard errors. Dependent coefficients are left out.
std::string equationText(const Evidence& evidence);

/// The equation of one level of a factor, with what its indicators and products come to added up.
struct LevelEquation {
    std::string level;
    /// With the terms that are the same for all levels as "common" where there are several.
    std::string equation;
    /// What is common to all levels, said once: " + 0.4·places − 12·[cooling = ammonia]"; empty when the
    /// equation is written out in full.
    std::string common;
    /// Slopes and constant of this level that differ between levels, with errors: "list_rate", "constant".
    struct Part {
        std::string name;
        double estimate = 0;
        double standardError = 0;
        double degreesOfFreedom = 0;
    };
    std::vector<Part> parts;
};
/// The equation written out for each level of a factor that is part of a product with a number; empty for
/// others. Other factors stand as indicators. Requires evidence with its model. At most 30 levels.
std::vector<LevelEquation> equationsByLevel(const Evidence& evidence, const std::string& factor);
/// Factors for which equationsByLevel() has something to say.
std::vector<std::string> factorsWithSlopes(const Evidence& evidence);

/// What a coefficient means, in a sentence or two with units and its interval: "For contract = annual each
/// extra EUR of list_rate goes with 9.1 ± 1.2 EUR more revenue than for spot, the other terms held. 95 %
/// interval 6.7 to 11.5, p 0.0001."
std::string coefficientSentence(const Evidence& evidence, const Recipe& recipe, std::size_t coefficient);

/// How much a model without coefficients leans on a column: "Shuffled over rows, list_rate makes the error 41
/// % ± 3 % larger."
std::string importanceSentence(const InputEvidence& input);

/// What all differences of a factor are against: "Differences are against contract = spot, the reference
/// level (320 of 1,008 learning rows)." Empty for other terms.
std::string referenceSentence(const Evidence& evidence, const Recipe& recipe, std::size_t term);

/// The slopes of a level with their errors and intervals: "For contract = annual: list_rate 5,369 ± 386 EUR a
/// month, 95 % interval 4,610 to 6,130." Empty when it has none of its own.
std::string slopeSentence(const Evidence& evidence, const Recipe& recipe, const LevelEquation& level,
                          const std::string& factor);

/// What numbers of that size are divided by in a sentence, and the word for it: 10⁶ and " million" from a
/// million on, up to trillions; 1 and nothing below, and above 10¹⁵. Tables and copies have them in full.
std::pair<double, std::string_view> scaleWord(double size);

/// A number with the digits that its standard error supports, U+2212 for minus.
std::string supported(double value, double standardError);

/// A paragraph for those who use the forecast: what the model is, how good on rows it did not learn from,
/// where not to trust it, what is open, what was accepted and left out and why. Made of the readings and no
/// more certain than they are.
std::string summaryText(const Evidence& evidence, const Recipe& recipe);

/// A fit that is compared and what it is called: "fit 3", "the first fit".
struct Compared {
    const Evidence& evidence;
    const Recipe& recipe;
    std::string name;
};

/// What a penalty does and how it was found: "Penalty 12.3, l1 share 1, keeps 7 of 10 columns …". Empty for
/// fits without one.
std::string settingsFoundText(const Evidence& evidence);

/// One sentence on two fits: where one is nested in the other what the larger one brings (F test), the change
/// of AICc and BIC, and the difference of errors on the rows both hold out with its standard error; what
/// keeps them from being compared where something does. A number that enters centred, standardised or as a
/// polynomial counts by its powers.
std::string comparisonSentence(const Compared& first, const Compared& second);

} // namespace oxgoad
