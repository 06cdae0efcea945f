#include "design/term.h"

#include "base/text.h"

#include <algorithm>

namespace oxgoad {

namespace {

std::string knotsText(const TermPart& part, int usual) {
    const auto knots = !part.knots.empty() ? part.knots.size()
                       : part.count > 0    ? static_cast<std::size_t>(part.count)
                                           : static_cast<std::size_t>(usual);
    return plural(knots, "knot", "knots");
}

std::string degreeText(const TermPart& part, int usual) {
    return std::to_string(part.count > 0 ? part.count : usual);
}

} // namespace

Term plainTerm(std::string column) {
    return Term{{TermPart{std::move(column)}}};
}

std::string enters(const TermPart& part) {
    switch (part.form) {
    case Form::plain:
        if (part.logarithm) return "ln";
        return part.power == 1 ? "as is" : "power " + std::to_string(part.power);
    case Form::centred:
        return "centred";
    case Form::standardised:
        return "standardised";
    case Form::polynomial:
        return "to degree " + degreeText(part, 2);
    case Form::pieces:
        return "in straight pieces with " + knotsText(part, 2);
    case Form::spline:
        return "as a curve with " + knotsText(part, 4);
    case Form::wave:
        return (part.period > 0 ? "as a wave of " + shortText(part.period) : "as a yearly wave") +
               (part.count > 1 ? " in " + std::to_string(part.count) + " pairs" : "");
    case Form::deviations:
        return "against the mean of levels";
    case Form::scores:
        return "as scores";
    case Form::trend:
        return "as a trend" + (part.count > 0 ? " to degree " + std::to_string(part.count) : std::string());
    }
    return "as is";
}

std::string partName(const TermPart& part) {
    if (part.form != Form::plain) return part.column + " " + enters(part);
    if (part.logarithm) return "ln(" + part.column + ")";
    return part.power == 1 ? part.column : part.column + "^" + std::to_string(part.power);
}

std::string termName(const Term& term) {
    std::string name;
    for (const TermPart& part : term.parts)
        name +=
            (name.empty() ? "" : " × ") +
            (part.form != Form::plain && term.parts.size() > 1 ? "(" + partName(part) + ")" : partName(part));
    return name;
}

std::vector<std::string> columnsOf(const Term& term) {
    std::vector<std::string> columns;
    for (const TermPart& part : term.parts)
        if (std::find(columns.begin(), columns.end(), part.column) == columns.end())
            columns.push_back(part.column);
    return columns;
}

bool isParent(const Term& parent, const Term& product) {
    return parent.parts.size() < product.parts.size() &&
           std::all_of(parent.parts.begin(), parent.parts.end(), [&](const TermPart& part) {
               return std::find(product.parts.begin(), product.parts.end(), part) != product.parts.end();
           });
}

bool sameTerm(const Term& a, const Term& b) {
    return a.parts.size() == b.parts.size() &&
           std::is_permutation(a.parts.begin(), a.parts.end(), b.parts.begin());
}

namespace {

/// A term of one column whose columns hold that column as it is, with a constant: curves and straight pieces
/// of a number, its powers from the first on, levels against their mean.
bool holds(const Term& term, const Term& plain) {
    if (plain.parts.size() != 1 || term.parts.size() != 1) return false;
    const TermPart &own = term.parts[0], &asked = plain.parts[0];
    if (asked != TermPart{asked.column} || own.column != asked.column || own.logarithm || own.power != 1)
        return false;
    return own.form == Form::centred || own.form == Form::standardised || own.form == Form::polynomial ||
           own.form == Form::pieces || own.form == Form::spline || own.form == Form::deviations;
}

} // namespace

std::vector<Term> parentsMissing(const Term& product, const std::vector<Term>& terms) {
    std::vector<Term> missing;
    const std::size_t n = product.parts.size();
    for (std::size_t size = 1; size < n; ++size)
        for (std::size_t mask = 1; mask < (std::size_t{1} << n); ++mask) {
            Term parent;
            for (std::size_t i = 0; i < n; ++i)
                if (mask >> i & 1) parent.parts.push_back(product.parts[i]);
            if (parent.parts.size() != size) continue;
            if (std::none_of(terms.begin(), terms.end(),
                             [&](const Term& t) { return sameTerm(t, parent) || holds(t, parent); }))
                missing.push_back(std::move(parent));
        }
    return missing;
}

} // namespace oxgoad
