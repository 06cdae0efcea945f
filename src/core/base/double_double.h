#pragma once
// Numbers of about 32 digits as unevaluated sums of two doubles, and sums of products over rows of them.
#include <cmath>
#include <cstddef>

namespace oxgoad {

/// hi + lo with |lo| at most half a unit in the last place of hi (Dekker 1971, "A floating-point technique
/// for extending the available precision"; Hida, Li and Bailey 2001, "Algorithms for quad-double precision
/// floating point arithmetic"). Not for values whose products overflow or fall below 1e-290.
struct DoubleDouble {
    double hi = 0, lo = 0;
    constexpr DoubleDouble() = default;
    constexpr DoubleDouble(double value) : hi(value) {}
    constexpr DoubleDouble(double high, double low) : hi(high), lo(low) {}
    explicit operator double() const { return hi; }
};

/// a + b exactly, as a rounded sum and its error (Knuth, vol. 2, §4.2.2, theorem B).
inline DoubleDouble exactSum(double a, double b) {
    const double s = a + b;
    const double t = s - a;
    return {s, (a - (s - t)) + (b - t)};
}
/// a·b exactly (Dekker 1971 by splitting; needs no fused operation and gives what one would).
inline DoubleDouble exactProduct(double a, double b) {
    const double p = a * b;
    constexpr double splitter = 134217729; // 2^27 + 1
    const double ca = splitter * a, cb = splitter * b;
    const double ah = ca - (ca - a), bh = cb - (cb - b);
    const double al = a - ah, bl = b - bh;
    return {p, ((ah * bh - p) + ah * bl + al * bh) + al * bl};
}
/// hi + lo where |hi| ≥ |lo|.
inline DoubleDouble normalised(double hi, double lo) {
    const double s = hi + lo;
    return {s, lo - (s - hi)};
}

inline DoubleDouble operator-(DoubleDouble a) {
    return {-a.hi, -a.lo};
}
inline DoubleDouble operator+(DoubleDouble a, DoubleDouble b) {
    DoubleDouble s = exactSum(a.hi, b.hi);
    const DoubleDouble t = exactSum(a.lo, b.lo);
    s = normalised(s.hi, s.lo + t.hi);
    return normalised(s.hi, s.lo + t.lo);
}
inline DoubleDouble operator-(DoubleDouble a, DoubleDouble b) {
    return a + -b;
}
inline DoubleDouble operator*(DoubleDouble a, DoubleDouble b) {
    const DoubleDouble p = exactProduct(a.hi, b.hi);
    return normalised(p.hi, p.lo + (a.hi * b.lo + a.lo * b.hi));
}
inline DoubleDouble operator/(DoubleDouble a, DoubleDouble b) {
    const double first = a.hi / b.hi;
    const DoubleDouble left = a - b * DoubleDouble(first);
    const double second = left.hi / b.hi;
    const DoubleDouble rest = left - b * DoubleDouble(second);
    return normalised(first, second) + DoubleDouble(rest.hi / b.hi);
}
inline DoubleDouble& operator+=(DoubleDouble& a, DoubleDouble b) {
    return a = a + b;
}
inline DoubleDouble& operator-=(DoubleDouble& a, DoubleDouble b) {
    return a = a - b;
}
/// Requires a ≥ 0.
inline DoubleDouble squareRoot(DoubleDouble a) {
    if (!(a.hi > 0)) return {};
    const double root = std::sqrt(a.hi);
    const DoubleDouble left = a - exactProduct(root, root);
    return normalised(root, left.hi / (2 * root));
}

/// A column of n such numbers; `lo` may be null for plain doubles.
struct DoubleDoubleColumn {
    const double* hi = nullptr;
    const double* lo = nullptr;
};

/// target -= column·factor, element by element. Errors of about 2^-104 of what is subtracted.
void subtractMultiple(std::size_t n, DoubleDoubleColumn column, DoubleDouble factor, double* hi, double* lo);

/// Σ a·b over n elements, in an order that depends on n only.
DoubleDouble sumOfProducts(std::size_t n, DoubleDoubleColumn a, DoubleDoubleColumn b);

} // namespace oxgoad
