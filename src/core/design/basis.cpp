#include "design/basis.h"

#include "base/error.h"
#include "base/text.h"
#include "table/summary.h"

#include <algorithm>
#include <chrono>
#include <cmath>
#include <numbers>

namespace oxgoad {

namespace {

/// Share of its calendar year that has passed when the day begins.
double shareOfYear(double day) {
    using namespace std::chrono;
    const year_month_day date{sys_days(days(static_cast<int>(day)))};
    const sys_days first = date.year() / January / 1;
    const sys_days next = (date.year() + years(1)) / January / 1;
    return (day - static_cast<double>(first.time_since_epoch().count())) /
           static_cast<double>((next - first).count());
}

DoubleDouble cubeAbove(double value, double knot) {
    if (value <= knot) return {};
    const DoubleDouble d = exactSum(value, -knot);
    return d * d * d;
}

/// Part k of the natural spline: d_k − d_(K−1) with d_k = ((x−ξ_k)³₊ − (x−ξ_K)³₊)/(ξ_K−ξ_k), over the squared
/// width of the knots so that it has the unit of x.
DoubleDouble splinePart(double x, const std::vector<double>& knots, std::size_t k) {
    const std::size_t last = knots.size() - 1;
    const auto d = [&](std::size_t i) {
        return (cubeAbove(x, knots[i]) - cubeAbove(x, knots[last])) / exactSum(knots[last], -knots[i]);
    };
    const DoubleDouble width = exactSum(knots[last], -knots[0]);
    return (d(k) - d(last - 1)) / (width * width);
}

[[noreturn]] void refuse(const TermPart& part, const std::string& file, const std::string& what,
                         const std::string& remedy) {
    throw Error(ErrorCode::badTerm, what, {.file = file, .column = part.column}, remedy);
}

/// Shares at which the knots of a spline stand (Harrell 2015, "Regression modeling strategies", 2nd ed.,
/// table 2.3); evenly between .025 and .975 above seven.
std::vector<double> splineShares(int count) {
    switch (count) {
    case 3:
        return {0.1, 0.5, 0.9};
    case 4:
        return {0.05, 0.35, 0.65, 0.95};
    case 5:
        return {0.05, 0.275, 0.5, 0.725, 0.95};
    case 6:
        return {0.05, 0.23, 0.41, 0.59, 0.77, 0.95};
    default:
        std::vector<double> shares;
        for (int i = 0; i < count; ++i)
            shares.push_back(0.025 + 0.95 * i / (count - 1));
        return shares;
    }
}

std::string valueText(double value, ColumnKind kind) {
    return kind == ColumnKind::date ? dateText(static_cast<std::int32_t>(value)) : shortText(value);
}

std::vector<double> knotsOf(const TermPart& part, ColumnKind kind, std::vector<double> values,
                            const std::string& file) {
    std::sort(values.begin(), values.end());
    const bool spline = part.form == Form::spline;
    if (!part.knots.empty()) {
        for (std::size_t i = 0; i < part.knots.size(); ++i) {
            const double knot = part.knots[i];
            const bool inside = spline ? knot >= values.front() && knot <= values.back()
                                       : knot > values.front() && knot < values.back();
            if (!std::isfinite(knot) || !inside)
                refuse(part, file,
                       "the knot at " + valueText(knot, kind) +
                           " is outside the learning rows, which go from " + valueText(values.front(), kind) +
                           " to " + valueText(values.back(), kind),
                       "Put it between them.");
            if (i > 0 && !(knot > part.knots[i - 1]))
                refuse(part, file,
                       knot == part.knots[i - 1]
                           ? "two knots stand at " + valueText(knot, kind)
                           : "the knots are not in ascending order at " + valueText(knot, kind),
                       "Name each knot once, from low to high.");
        }
        if (spline && part.knots.size() < 3)
            refuse(part, file, "a curve needs three knots or more",
                   "Name more, or enter it in straight pieces.");
        return part.knots;
    }
    const int count = part.count > 0 ? part.count : spline ? 4 : 2;
    if (count > 40 || (spline && count < 3))
        refuse(part, file, plural(static_cast<std::size_t>(count), "knot", "knots") + " cannot be used",
               spline ? "Use from 3 to 40." : "Use from 1 to 40.");
    std::vector<double> shares;
    if (spline)
        shares = splineShares(count);
    else
        for (int i = 1; i <= count; ++i)
            shares.push_back(static_cast<double>(i) / (count + 1));
    std::vector<double> knots;
    for (const double share : shares)
        knots.push_back(quantileOfSorted(values, share));
    for (std::size_t i = 0; i < knots.size(); ++i) {
        const bool inside = spline || (knots[i] > values.front() && knots[i] < values.back());
        if (!inside || (i > 0 && !(knots[i] > knots[i - 1])))
            refuse(part, file,
                   "has too few different values for " +
                       plural(static_cast<std::size_t>(count), "knot", "knots") + " at its quantiles",
                   "Use fewer knots or name them yourself.");
    }
    return knots;
}

std::vector<NamedBasis> waves(const TermPart& part, ColumnKind kind, const std::string& file) {
    const int pairs = part.count > 0 ? part.count : 1;
    if (pairs > 26)
        refuse(part, file, std::to_string(pairs) + " pairs of waves are too many", "Use at most 26.");
    const bool year = part.period == 0;
    if (year && kind != ColumnKind::date)
        refuse(part, file, "a wave of a number needs a period above 0", "Say its period, 12 for months.");
    if (part.period < 0 || !std::isfinite(part.period))
        refuse(part, file, "the period " + shortText(part.period) + " cannot be used",
               "Use a period above 0.");
    std::vector<NamedBasis> found;
    for (int k = 1; k <= pairs; ++k)
        for (const bool cosine : {true, false}) {
            Basis basis;
            basis.kind = year ? (cosine ? Basis::Kind::yearCosine : Basis::Kind::yearSine)
                              : (cosine ? Basis::Kind::cosine : Basis::Kind::sine);
            basis.power = k;
            basis.scale = year ? 1 : part.period;
            found.push_back({std::string(cosine ? "cos" : "sin") + "(" + std::to_string(2 * k) + "π·" +
                                 part.column + (year ? " in years" : "/" + shortText(part.period)) + ")",
                             std::move(basis)});
        }
    return found;
}

/// Places of the levels in the part's order, and their scores.
std::pair<std::vector<std::size_t>, std::vector<double>>
orderOf(const TermPart& part, const std::vector<std::string>& levels, const std::string& file) {
    std::vector<std::size_t> places(levels.size());
    std::vector<double> scores(levels.size());
    if (!part.scores.empty() && part.scores.size() != part.order.size())
        refuse(part, file,
               plural(part.scores.size(), "score", "scores") + " cannot go with " +
                   plural(part.order.size(), "level", "levels"),
               "Give each level of the order one score.");
    std::vector<std::string> order = part.order;
    if (order.empty()) order = levels;
    for (std::size_t i = 0; i < order.size(); ++i)
        if (std::find(order.begin(), order.begin() + static_cast<std::ptrdiff_t>(i), order[i]) !=
            order.begin() + static_cast<std::ptrdiff_t>(i))
            refuse(part, file, "the level \"" + order[i] + "\" stands twice in the order", "Name it once.");
    for (std::size_t i = 0; i < levels.size(); ++i) {
        const auto found = std::find(order.begin(), order.end(), levels[i]);
        if (found == order.end())
            refuse(part, file, "the order does not say where the level \"" + levels[i] + "\" stands",
                   "Name all levels that occur, from low to high.");
        places[i] = static_cast<std::size_t>(found - order.begin());
        scores[i] = part.scores.empty() ? static_cast<double>(places[i] + 1) : part.scores[places[i]];
    }
    return {places, scores};
}

Basis codes(std::vector<double> values) {
    Basis basis;
    basis.kind = Basis::Kind::codes;
    basis.values = std::make_shared<const std::vector<double>>(std::move(values));
    return basis;
}

} // namespace

double Basis::at(double x) const {
    switch (kind) {
    case Kind::power:
        return power == 1 ? x : power == 2 ? x * x : std::pow(x, power);
    case Kind::logarithm:
        return x > 0 ? std::log(x) : std::nan("");
    case Kind::standard:
        return (x - shift) / scale;
    case Kind::hinge:
        return x > shift ? x - shift : 0;
    case Kind::spline:
        return splinePart(x, *values, static_cast<std::size_t>(power)).hi;
    case Kind::cosine:
        return std::cos(2 * std::numbers::pi * power * x / scale);
    case Kind::sine:
        return std::sin(2 * std::numbers::pi * power * x / scale);
    case Kind::yearCosine:
        return std::cos(2 * std::numbers::pi * power * shareOfYear(x));
    case Kind::yearSine:
        return std::sin(2 * std::numbers::pi * power * shareOfYear(x));
    case Kind::indicator:
        return x == level ? 1 : 0;
    case Kind::codes:
        return (*values)[static_cast<std::size_t>(x)];
    }
    return x;
}

DoubleDouble Basis::exactly(double x) const {
    const auto rounded = [](long double value) {
        const auto hi = static_cast<double>(value);
        return normalised(hi, static_cast<double>(value - hi));
    };
    switch (kind) {
    case Kind::power: {
        DoubleDouble product(1);
        for (int k = 0; k < std::abs(power); ++k)
            product = product * DoubleDouble(x);
        return power < 0 ? DoubleDouble(1) / product : product;
    }
    case Kind::logarithm:
        return rounded(std::log(static_cast<long double>(x)));
    case Kind::standard:
        return exactSum(x, -shift) / DoubleDouble(scale);
    case Kind::hinge:
        return x > shift ? exactSum(x, -shift) : DoubleDouble();
    case Kind::spline:
        return splinePart(x, *values, static_cast<std::size_t>(power));
    case Kind::cosine:
        return rounded(std::cos(2 * std::numbers::pi_v<long double> * power * x / scale));
    case Kind::sine:
        return rounded(std::sin(2 * std::numbers::pi_v<long double> * power * x / scale));
    default:
        return at(x);
    }
}

std::vector<std::vector<double>> trendContrasts(std::span<const double> scores, int degree) {
    const std::size_t n = scores.size();
    std::vector<std::vector<double>> basis{std::vector<double>(n, 1 / std::sqrt(static_cast<double>(n)))};
    double mean = 0;
    for (const double s : scores)
        mean += s / static_cast<double>(n);
    for (int k = 1; k <= degree; ++k) {
        std::vector<double> next(n);
        for (std::size_t i = 0; i < n; ++i)
            next[i] = basis.back()[i] * (scores[i] - mean);
        for (int pass = 0; pass < 2; ++pass) // twice is enough
            for (const auto& before : basis) {
                double product = 0;
                for (std::size_t i = 0; i < n; ++i)
                    product += next[i] * before[i];
                for (std::size_t i = 0; i < n; ++i)
                    next[i] -= product * before[i];
            }
        double square = 0;
        for (const double v : next)
            square += v * v;
        for (double& v : next)
            v /= std::sqrt(square);
        basis.push_back(std::move(next));
    }
    basis.erase(basis.begin());
    return basis;
}

std::vector<NamedBasis> learnNumberBasis(const TermPart& part, ColumnKind kind, std::vector<double> values,
                                         const std::string& file) {
    const std::string& x = part.column;
    std::vector<NamedBasis> found;
    Basis basis;
    const bool learns = part.form == Form::centred || part.form == Form::standardised ||
                        part.form == Form::pieces || part.form == Form::spline;
    if (learns && values.empty())
        refuse(part, file, "has no value in the learning rows to learn from", "Take it out of the terms.");
    switch (part.form) {
    case Form::plain:
        basis.kind = part.logarithm ? Basis::Kind::logarithm : Basis::Kind::power;
        basis.power = part.power;
        return {{partName(part), basis}};
    case Form::centred:
    case Form::standardised: {
        const auto n = static_cast<long double>(values.size());
        long double sum = 0, squares = 0;
        for (const double v : values)
            sum += v;
        basis.kind = Basis::Kind::standard;
        basis.shift = static_cast<double>(sum / n);
        for (const double v : values)
            squares += static_cast<long double>(v - basis.shift) * (v - basis.shift);
        if (part.form == Form::standardised) {
            basis.scale = static_cast<double>(std::sqrt(squares / (n - 1)));
            if (!(basis.scale > 0))
                refuse(part, file, "has the same value in all learning rows, so it has no standard deviation",
                       "Take it out of the terms.");
        }
        const std::string centred = x + " − " + valueText(basis.shift, kind);
        return {
            {part.form == Form::centred ? centred : "(" + centred + ")/" + shortText(basis.scale), basis}};
    }
    case Form::polynomial: {
        const int degree = part.count > 0 ? part.count : 2;
        if (degree > 12)
            refuse(part, file, "degree " + std::to_string(degree) + " is too high for a polynomial",
                   "Use at most 12, or a curve with knots.");
        for (int k = 1; k <= degree; ++k) {
            basis.power = k;
            found.push_back({k == 1 ? x : x + "^" + std::to_string(k), basis});
        }
        return found;
    }
    case Form::pieces: {
        found.push_back({x, basis});
        basis.kind = Basis::Kind::hinge;
        for (const double knot : knotsOf(part, kind, std::move(values), file)) {
            basis.shift = knot;
            found.push_back({"(" + x + " − " + valueText(knot, kind) + ")₊", basis});
        }
        return found;
    }
    case Form::spline: {
        found.push_back({x, basis});
        basis.kind = Basis::Kind::spline;
        basis.values =
            std::make_shared<const std::vector<double>>(knotsOf(part, kind, std::move(values), file));
        for (std::size_t k = 0; k + 2 < basis.values->size(); ++k) {
            basis.power = static_cast<int>(k);
            found.push_back({"bend of " + x + " at " + valueText((*basis.values)[k], kind), basis});
        }
        return found;
    }
    case Form::wave:
        return waves(part, kind, file);
    case Form::deviations:
    case Form::scores:
    case Form::trend:
        break;
    }
    refuse(part, file, "is a " + std::string(kindName(kind)) + ", which cannot enter " + enters(part),
           "Only factors can; read it as a factor, or choose another way.");
}

std::vector<NamedBasis> learnFactorBasis(const TermPart& part, const std::vector<std::string>& levels,
                                         std::size_t referenceLevel, const std::string& file) {
    std::vector<NamedBasis> found;
    if (part.power != 1 || part.logarithm)
        refuse(part, file, "a factor has no " + std::string(part.logarithm ? "logarithm" : "powers"),
               "Use the factor as it is.");
    switch (part.form) {
    case Form::plain:
    case Form::deviations:
        for (std::size_t level = 0; level < levels.size(); ++level) {
            if (level == referenceLevel) continue;
            if (part.form == Form::plain) {
                Basis basis;
                basis.kind = Basis::Kind::indicator;
                basis.level = static_cast<int>(level);
                found.push_back({part.column + " = " + levels[level], std::move(basis)});
            } else {
                std::vector<double> values(levels.size(), 0);
                values[level] = 1;
                values[referenceLevel] = -1;
                found.push_back(
                    {part.column + " = " + levels[level] + " against the mean", codes(std::move(values))});
            }
        }
        return found;
    case Form::scores: {
        auto [places, scores] = orderOf(part, levels, file);
        if (std::all_of(scores.begin(), scores.end(), [&](double s) { return s == scores[0]; }))
            refuse(part, file, "the scores are all alike", "Give levels different scores.");
        return {{part.column + " as scores", codes(std::move(scores))}};
    }
    case Form::trend: {
        const auto [places, scores] = orderOf(part, levels, file);
        const int most = static_cast<int>(levels.size()) - 1;
        const int degree = part.count > 0 ? part.count : most;
        if (degree > most)
            refuse(part, file,
                   "a trend to degree " + std::to_string(degree) + " needs " + std::to_string(degree + 1) +
                       " levels, and the learning rows have " + std::to_string(levels.size()),
                   "Use a degree of at most " + std::to_string(most) + ".");
        // Scores that do not differ have no contrast.
        auto distinct = scores;
        std::sort(distinct.begin(), distinct.end());
        if (std::adjacent_find(distinct.begin(), distinct.end()) != distinct.end())
            refuse(part, file, "two levels have the same score, so a trend cannot tell them apart",
                   "Give each level a score of its own.");
        static const char* const named[] = {"linear", "quadratic", "cubic"};
        const auto contrasts = trendContrasts(scores, degree);
        for (int k = 0; k < degree; ++k)
            found.push_back(
                {part.column + " " + (k < 3 ? std::string(named[k]) : "degree " + std::to_string(k + 1)),
                 codes(contrasts[static_cast<std::size_t>(k)])});
        return found;
    }
    default:
        break;
    }
    refuse(part, file, "is a factor, which cannot enter " + enters(part),
           "Only numbers can; read it as a number, or use the factor as it is.");
}

} // namespace oxgoad
