#include "base/double_double.h"

namespace oxgoad {

namespace {

/// Sums run in so many lanes side by side.
constexpr std::size_t lanes = 8;

#if defined(__x86_64__)
#define OXGOAD_FUSED __attribute__((target("avx2,fma"), optimize("O3")))
const bool fused = (__builtin_cpu_init(), __builtin_cpu_supports("avx2") && __builtin_cpu_supports("fma"));
#else
#define OXGOAD_FUSED
const bool fused = false;
#endif

// The same text is compiled twice: with the error of a product by a fused operation, and by splitting. Both
// are exact, so the results are the same to the last bit.
#define OXGOAD_KERNELS(NAME, ATTRIBUTES, PRODUCT_ERROR)                                                      \
    ATTRIBUTES void subtract##NAME(std::size_t n, const double* __restrict a, const double* __restrict al,   \
                                   DoubleDouble f, double* __restrict hi, double* __restrict lo) {           \
        for (std::size_t i = 0; i < n; ++i) {                                                                \
            const double x = a[i];                                                                           \
            const double p = x * f.hi;                                                                       \
            double e = PRODUCT_ERROR(x, f.hi, p);                                                            \
            e += x * f.lo;                                                                                   \
            if (al) e += al[i] * f.hi;                                                                       \
            const double s = hi[i] - p;                                                                      \
            const double t = s - hi[i];                                                                      \
            const double low = ((hi[i] - (s - t)) - (p + t)) + (lo[i] - e);                                  \
            const double sum = s + low;                                                                      \
            lo[i] = low - (sum - s);                                                                         \
            hi[i] = sum;                                                                                     \
        }                                                                                                    \
    }                                                                                                        \
    ATTRIBUTES void sum##NAME(std::size_t n, const double* __restrict a, const double* __restrict al,        \
                              const double* __restrict b, const double* __restrict bl,                       \
                              double* __restrict hi, double* __restrict lo) {                                \
        for (std::size_t i = 0; i < n; i += lanes)                                                           \
            for (std::size_t k = 0; k < lanes; ++k) {                                                        \
                const double x = a[i + k], y = b[i + k];                                                     \
                const double p = x * y;                                                                      \
                double e = PRODUCT_ERROR(x, y, p);                                                           \
                if (al) e += al[i + k] * y;                                                                  \
                if (bl) e += x * bl[i + k];                                                                  \
                const double s = hi[k] + p;                                                                  \
                const double t = s - hi[k];                                                                  \
                const double low = ((hi[k] - (s - t)) + (p - t)) + (lo[k] + e);                              \
                const double sum = s + low;                                                                  \
                lo[k] = low - (sum - s);                                                                     \
                hi[k] = sum;                                                                                 \
            }                                                                                                \
    }

#define OXGOAD_BY_FUSED(x, y, p) __builtin_fma(x, y, -(p))
#define OXGOAD_BY_SPLITTING(x, y, p) productError(x, y, p)

inline double productError(double a, double b, double p) {
    constexpr double splitter = 134217729;
    const double ca = splitter * a, cb = splitter * b;
    const double ah = ca - (ca - a), bh = cb - (cb - b);
    const double al = a - ah, bl = b - bh;
    return ((ah * bh - p) + ah * bl + al * bh) + al * bl;
}

OXGOAD_KERNELS(Fused, OXGOAD_FUSED, OXGOAD_BY_FUSED)
OXGOAD_KERNELS(Split, , OXGOAD_BY_SPLITTING)

} // namespace

void subtractMultiple(std::size_t n, DoubleDoubleColumn column, DoubleDouble factor, double* hi, double* lo) {
    (fused ? subtractFused : subtractSplit)(n, column.hi, column.lo, factor, hi, lo);
}

DoubleDouble sumOfProducts(std::size_t n, DoubleDoubleColumn a, DoubleDoubleColumn b) {
    double hi[lanes] = {}, lo[lanes] = {};
    const std::size_t whole = n / lanes * lanes;
    (fused ? sumFused : sumSplit)(whole, a.hi, a.lo, b.hi, b.lo, hi, lo);
    DoubleDouble sum;
    for (std::size_t i = whole; i < n; ++i)
        sum += DoubleDouble(a.hi[i], a.lo ? a.lo[i] : 0) * DoubleDouble(b.hi[i], b.lo ? b.lo[i] : 0);
    for (std::size_t k = 0; k < lanes; ++k)
        sum += DoubleDouble(hi[k], lo[k]);
    return sum;
}

} // namespace oxgoad
