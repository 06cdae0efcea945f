#pragma once
// Tail probabilities and quantiles, with upper tails through complements so that small p keep their digits.

namespace oxgoad {

/// P(|T| >= |t|) for Student's t. NaN for NaN or df <= 0; 0 for infinite t.
double studentTwoSided(double t, double df);
/// t with P(|T| <= t) = level, 0 < level < 1.
double studentQuantile(double level, double df);
/// P(F >= f) for Fisher's F.
double fisherUpper(double f, double numeratorDf, double denominatorDf);
/// P(X >= x) for chi-squared.
double chiSquaredUpper(double x, double df);

} // namespace oxgoad
