#pragma once
// Functions of one column, of which the columns of a model matrix are made.
#include "base/double_double.h"
#include "design/term.h"
#include "table/column.h"

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

/// One function of one input. Factors come as the index of their level.
struct Basis {
    enum class Kind : std::uint8_t {
        power,
        logarithm,
        /// (x − shift) / scale
        standard,
        /// x − shift where x > shift, else 0
        hinge,
        /// part `power` of a natural cubic spline with the knots `values`
        spline,
        /// 2π·power·x/scale
        cosine,
        sine,
        /// the same of the share of the calendar year that has passed, of a day number
        yearCosine,
        yearSine,
        /// 1 where the level is `level`, else 0
        indicator,
        /// values[level]
        codes
    };
    Kind kind = Kind::power;
    int power = 1;
    int level = -1;
    double shift = 0;
    double scale = 1;
    std::shared_ptr<const std::vector<double>> values{};

    bool operator==(const Basis& other) const {
        return kind == other.kind && power == other.power && level == other.level && shift == other.shift &&
               scale == other.scale &&
               (values == other.values || (values && other.values && *values == *other.values));
    }
    bool isPlain() const { return kind == Kind::power && power == 1; }
    /// True when it may be undefined at a value that is there: ln, negative powers, powers beyond doubles.
    bool canFail() const { return kind == Kind::logarithm || (kind == Kind::power && power != 1); }
    /// NaN or infinite where it is not defined.
    double at(double value) const;
    /// The same to about 32 digits; logarithms and waves to 19.
    DoubleDouble exactly(double value) const;
};

/// A named function.
struct NamedBasis {
    std::string name;
    Basis basis;
};

/// What a part makes of a number or date column, with means, scales and knots learned from `values`, which
/// are all present. Errors (badTerm): a form for factors only; knots that are equal, out of order or not
/// inside the range; too few different values; a degree above 12; no period.
std::vector<NamedBasis> learnNumberBasis(const TermPart& part, ColumnKind kind, std::vector<double> values,
                                         const std::string& file);
/// What a part makes of a factor with these levels, all of which occur. Errors (badTerm): a form for numbers
/// only; an order that lacks a level or names one twice; scores that are all alike.
std::vector<NamedBasis> learnFactorBasis(const TermPart& part, const std::vector<std::string>& levels,
                                         std::size_t referenceLevel, const std::string& file);

/// Columns of orthonormal polynomials over `scores`, degrees 1 to `degree`, by Gram and Schmidt (as tabled
/// for equal steps by Fisher and Yates 1963, "Statistical tables", XXIII, there scaled to whole numbers).
std::vector<std::vector<double>> trendContrasts(std::span<const double> scores, int degree);

} // namespace oxgoad
