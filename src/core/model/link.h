#pragma once
// From what a model says to the response, and back: the one place where scales meet.
#include "model/power_family.h"

#include <cmath>
#include <optional>
#include <span>
#include <string_view>
#include <vector>

namespace oxgoad {

/// How the response follows from what a model says. A value type; the identity unless told otherwise.
struct Link {
    enum class Kind {
        /// The model says the response.
        identity,
        /// The model says ln(response), carried back with the smearing.
        logarithm,
        /// The model says ln of the response's mean: nothing is to be smeared.
        logOfMean,
        /// The model says the chance of each value that the response can have: its mean is said.
        chances
    };
    Kind kind = Kind::identity;
    /// Mean of exp(residual) over the learning rows: exp of a predicted mean of logarithms falls short of the
    /// mean by this factor (Duan 1983, "Smearing estimate", Journal of the American Statistical Association
    /// 78). 1 for quantiles, which need none.
    double smearing = 1;
    /// Variance of exp(residual) over its squared mean: of one value about its mean, relative.
    double relativeVariance = 0;
    /// Of chances: the values of the response, in the order of the model's outputs.
    std::vector<double> values{};
    /// The distribution of the response about its mean, of models of the mean; none where residuals on the
    /// model's scale are what is distributed.
    std::optional<PowerFamily> family{};

    bool operator==(const Link&) const = default;
    /// Whether the response is exp of what is said, times something.
    bool isLogarithmic() const { return kind == Kind::logarithm || kind == Kind::logOfMean; }
    /// One value on the model's scale from the outputs of a row: the output itself, or the mean over chances.
    double valueOf(std::span<const double> outputs) const;
    /// From the model's scale, with the offset in it, to the response's mean.
    double toResponseScale(double value) const {
        switch (kind) {
        case Kind::logarithm:
            return std::exp(value) * smearing;
        case Kind::logOfMean:
            return std::exp(value);
        case Kind::identity:
        case Kind::chances:
            break;
        }
        return value;
    }
    /// The same for quantiles, which a monotone scale carries as they are: no smearing.
    double quantileToResponseScale(double value) const { return isLogarithmic() ? std::exp(value) : value; }
    /// d response / d value, at a response that was predicted.
    double slopeAt(double response) const { return isLogarithmic() ? response : 1; }
    /// What a row is off by: on the model's scale, or of a family the deviance residual.
    double residual(double response, double value) const {
        return family ? family->devianceResidual(response, toResponseScale(value))
                      : toModelScale(response) - value;
    }
    /// From a response to what a model of its logarithm learns; NaN where it is not defined.
    double toModelScale(double response) const {
        if (kind != Kind::logarithm) return response;
        return response > 0 ? std::log(response) : std::nan("");
    }
};

/// Duan's factor over rows, taken one after the other.
class SmearingSum {
public:
    void add(double residual, double weight) {
        const double grown = std::exp(residual);
        m_sum += weight * grown;
        m_squares += static_cast<long double>(weight) * grown * grown;
        m_weights += weight;
    }
    double factor() const { return static_cast<double>(m_sum / m_weights); }
    double relativeVariance() const {
        const long double mean = m_sum / m_weights;
        return static_cast<double>(m_squares / m_weights / (mean * mean) - 1);
    }

private:
    long double m_sum = 0, m_squares = 0, m_weights = 0;
};

/// "identity", "logarithm", "log of the mean", "chances": in kept models and evidence.
std::string_view linkName(Link::Kind kind);

} // namespace oxgoad
