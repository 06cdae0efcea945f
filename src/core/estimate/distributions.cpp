#include "estimate/distributions.h"

#include <boost/math/distributions/chi_squared.hpp>
#include <boost/math/distributions/fisher_f.hpp>
#include <boost/math/distributions/normal.hpp>
#include <boost/math/distributions/students_t.hpp>

#include <cmath>

namespace oxgoad {

namespace bm = boost::math;

namespace {

/// A value beyond doubles is infinite, and nothing is thrown.
using Calm = bm::policies::policy<bm::policies::overflow_error<bm::policies::ignore_error>,
                                  bm::policies::evaluation_error<bm::policies::ignore_error>>;
using StudentT = bm::students_t_distribution<double, Calm>;
using FisherF = bm::fisher_f_distribution<double, Calm>;
using ChiSquared = bm::chi_squared_distribution<double, Calm>;

} // namespace

double studentTwoSided(double t, double df) {
    if (std::isnan(t) || !(df > 0)) return std::nan("");
    if (std::isinf(t)) return 0;
    return 2 * bm::cdf(bm::complement(StudentT(df), std::fabs(t)));
}

double studentQuantile(double level, double df) {
    if (!(df > 0) || !(level > 0 && level < 1)) return std::nan("");
    return bm::quantile(bm::complement(StudentT(df), (1 - level) / 2));
}

double fisherUpper(double f, double numeratorDf, double denominatorDf) {
    if (std::isnan(f) || !(numeratorDf > 0) || !(denominatorDf > 0)) return std::nan("");
    if (std::isinf(f)) return 0;
    if (std::isinf(denominatorDf)) return chiSquaredUpper(f * numeratorDf, numeratorDf);
    return bm::cdf(bm::complement(FisherF(numeratorDf, denominatorDf), std::max(f, 0.0)));
}

double normalQuantile(double share) {
    if (!(share > 0 && share < 1)) return std::nan("");
    // The tail that is small keeps its digits.
    const bm::normal normal;
    return share < 0.5 ? bm::quantile(normal, share) : bm::quantile(bm::complement(normal, 1 - share));
}

double normalTwoSided(double z) {
    if (std::isnan(z)) return z;
    if (std::isinf(z)) return 0;
    return 2 * bm::cdf(bm::complement(bm::normal(), std::fabs(z)));
}

double chiSquaredUpper(double x, double df) {
    if (std::isnan(x) || !(df > 0)) return std::nan("");
    if (std::isinf(x)) return 0;
    return bm::cdf(bm::complement(ChiSquared(df), std::max(x, 0.0)));
}

} // namespace oxgoad
