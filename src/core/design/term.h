#pragma once
// Terms of a model as the analyst chooses them.
#include <string>
#include <vector>

namespace oxgoad {

/// One column as it enters a term: as is, to a whole power, or as its natural logarithm.
struct TermPart {
    std::string column;
    int power = 1;
    bool logarithm = false;
    bool operator==(const TermPart&) const = default;
};

/// The product of its parts; one part is a plain term. Numbers give one column of the model matrix, a
/// factor one for each level but the reference level, products one for each combination.
struct Term {
    std::vector<TermPart> parts;
    bool operator==(const Term&) const = default;
};

Term plainTerm(std::string column);

/// "places", "x^3", "ln(places)".
std::string partName(const TermPart& part);
/// Parts joined by " × ".
std::string termName(const Term& term);

} // namespace oxgoad
