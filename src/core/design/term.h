#pragma once
// Terms of a model as the analyst chooses them.
#include <string>
#include <vector>

namespace oxgoad {

/// How a column enters, beyond a power or a logarithm of itself.
enum class Form {
    plain,
    /// Number less its mean over the learning rows.
    centred,
    /// The same over its standard deviation there.
    standardised,
    /// Number to all powers from 1 to `count`.
    polynomial,
    /// Number in straight pieces that meet at knots.
    pieces,
    /// Natural cubic spline: cubic between knots, straight beyond the outermost (Hastie, Tibshirani and
    /// Friedman 2009, "The elements of statistical learning", 2nd ed., §5.2.1).
    spline,
    /// `count` pairs of cosine and sine: of `period` units of a number, of the year for a date.
    wave,
    /// Factor: each level against the mean of the levels, not against the reference level.
    deviations,
    /// Factor with an order: its scores as one number.
    scores,
    /// Factor with an order: orthogonal polynomial contrasts up to degree `count`.
    trend
};

/// One column as it enters a term.
struct TermPart {
    std::string column;
    int power = 1;
    bool logarithm = false;
    Form form = Form::plain;
    /// Degree, number of knots where none are named, or pairs of waves; 0 is the usual: degree 2, two inner
    /// knots (pieces), four knots (spline), one pair, every degree (trend).
    int count = 0;
    /// Knots of the analyst's own, ascending; without them they stand at quantiles of the learning rows.
    std::vector<double> knots{};
    /// Wave of a number, in its own unit.
    double period = 0;
    /// Levels from low to high, and their scores; without them the natural order and 1, 2, 3 …
    std::vector<std::string> order{};
    std::vector<double> scores{};
    bool operator==(const TermPart&) const = default;
};

/// The product of its parts; one part is a plain term. Numbers give one column of the model matrix, a
/// factor one for each level but the reference level, products one for each combination.
struct Term {
    std::vector<TermPart> parts;
    bool operator==(const Term&) const = default;
};

Term plainTerm(std::string column);

/// "places", "x^3", "ln(places)", "places centred", "places as a curve with 4 knots".
std::string partName(const TermPart& part);
/// Parts joined by " × ".
std::string termName(const Term& term);
/// "ln", "power 3", "as is", "straight pieces, 2 knots": how a part enters, of a number or of a factor.
std::string enters(const TermPart& part);

/// Columns that occur in a term, each once, in order.
std::vector<std::string> columnsOf(const Term& term);
/// True when the parts of `parent` are some but not all of the parts of `product`, in any order.
bool isParent(const Term& parent, const Term& product);
/// The same parts in any order.
bool sameTerm(const Term& a, const Term& b);
/// Every proper part of a product that is no term yet: x, y of x × y; for three parts the pairs too. Smallest
/// first. A curve, straight pieces or powers of x hold x as it is.
std::vector<Term> parentsMissing(const Term& product, const std::vector<Term>& terms);

} // namespace oxgoad
