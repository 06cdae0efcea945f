#pragma once
// Tests of errors by numbers alone: no table, no model.
#include <Eigen/Core>

#include <cstdint>
#include <span>
#include <vector>

namespace oxgoad {

/// Two-sided p of a skewness (D'Agostino 1970, Biometrika 57) and of a kurtosis (Anscombe and Glynn 1983,
/// Biometrika 70) of n normal values. NaN below 8 and 20 values.
double skewnessP(double skewness, double n);
double tailsP(double kurtosis, double n);

/// n/6·(S² + (K − 3)²/4) (Jarque and Bera 1980, Economics Letters 6).
double jarqueBera(double skewness, double kurtosis, double n);

/// A² of the normal with the values' own mean and standard deviation (divisor n − 1), and its p (D'Agostino
/// and Stephens 1986, "Goodness-of-fit techniques", table 4.9). NaN for fewer than three values.
double andersonDarling(std::span<const double> values);
double andersonDarlingP(double a2, double n);

/// Σ (e_t − e_{t−1})² over Σ e² (Durbin and Watson 1950), the differences within each run only.
double durbinWatson(std::span<const double> errors, const std::vector<std::vector<std::uint32_t>>& runs);
/// P(D ≤ d) for residuals of least squares with normal errors on the columns that `q` (n × rank, orthonormal)
/// spans. `exact`: by Imhof 1961, Biometrika 48, from the eigenvalues; otherwise by the beta distribution on
/// 0 to 4 with the mean and variance of D (Durbin and Watson 1951, Biometrika 38, §4; exact moments of 1950).
struct DurbinWatsonTail {
    double p = 0;
    bool exact = false;
};
DurbinWatsonTail durbinWatsonLower(double d, const std::vector<std::vector<std::uint32_t>>& runs,
                                   const Eigen::MatrixXd& q, std::size_t exactRows = 150);

/// P(Σ λ χ²₁ < 0) for weights λ (Imhof 1961).
double imhofBelowZero(std::span<const double> weights);

/// n (n + 2) Σ r_k²/n_k with r_k = Σ e_t e_{t−k} / Σ e² over the n_k pairs within runs (Ljung and Box 1978;
/// one run has n_k = n − k), and r_k themselves for k = 1 … lags.
struct LjungBox {
    double statistic = 0;
    std::vector<double> correlations;
};
LjungBox ljungBox(std::span<const double> errors, const std::vector<std::vector<std::uint32_t>>& runs,
                  std::size_t lags);

/// Two-sided exact p of k of n when each comes with probability p: the sum of all outcomes that are no more
/// likely.
double binomialTwoSided(std::size_t k, std::size_t n, double p);
/// Exact interval of a share at a level (Clopper and Pearson 1934).
std::pair<double, double> binomialInterval(std::size_t k, std::size_t n, double level);

} // namespace oxgoad
