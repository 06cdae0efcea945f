#pragma once
// Tail probabilities and quantiles, with upper tails through complements so that small p keep their digits.

namespace oxgoad {

/// Degrees of freedom may be infinite: the normal and chi-squared then.
/// P(|T| >= |t|) for Student's t. NaN for NaN or df <= 0; 0 for infinite t.
double studentTwoSided(double t, double df);
/// t with P(|T| <= t) = level, 0 < level < 1.
double studentQuantile(double level, double df);
/// P(F >= f) for Fisher's F.
double fisherUpper(double f, double numeratorDf, double denominatorDf);
/// z with P(Z <= z) = share for a standard normal Z. NaN outside 0 < share < 1.
double normalQuantile(double share);
/// P(|Z| >= |z|) for a standard normal Z.
double normalTwoSided(double z);
/// P(X >= x) for chi-squared.
double chiSquaredUpper(double x, double df);

} // namespace oxgoad
