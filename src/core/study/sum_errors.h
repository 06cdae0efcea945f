#pragma once
// How sure a sum of predictions is: what all rows have in common because the model was learned from these
// rows and no others, what each row has of its own, and what the rows of a period or a group share.
#include "study/evidence.h"
#include "study/prepare_rows.h"

#include <Eigen/Core>

#include <cstdint>
#include <map>
#include <memory>
#include <span>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad {

/// A sum over rows, of one table or the difference of two, with what its interval is made of.
struct PredictionSum {
    std::size_t rows = 0;
    /// In the response's unit.
    double value = 0;
    /// What its rows missed by on the average where a model says no mean (quantiles), summed.
    double shift = 0;
    /// Variance that rows have each of their own, summed.
    double own = 0;
    /// Derivative by the coefficients (p) and the constant, of models with a theory.
    Eigen::VectorXd gradient;
    double constant = 0;
    /// The sum by each of the models learned without a part of the rows, of the others.
    Eigen::VectorXd byModel;
    /// Derivative by what rows share, by its column and value.
    std::map<std::pair<std::size_t, std::int64_t>, double> shared;

    /// this + factor · other, where the rows of `other` that count here are `within` it (a share of a whole)
    /// or apart.
    PredictionSum minusShareOf(const PredictionSum& whole, double share) const;
};

struct SumInterval {
    double lower = 0, upper = 0;
};

/// Of models with a theory the common part is g'Vg with V the covariance of the coefficients and g the
/// derivative of the sum (delta method for logarithms). Of others it is the grouped jackknife: the model
/// learned anew without each of 20 parts of the learning rows, settings that were found staying, variance (K
/// − 1)/K Σ(θₖ − θ̄)² (Efron and Tibshirani 1993, "An introduction to the bootstrap", §11.5), t with K − 1
/// degrees of freedom. Own parts are σ²/w, or ŷ² times the relative variance in logarithms; where residuals
/// of a period (the first date the tables share) or of a column with the role of a group go together (one-way
/// analysis of variance, p below 0.01), their variance between is shared by the rows of a value, and own
/// parts are less by it. Where errors depend on those before them, what is new of a period is shared by the
/// rows of its series from then on, by ψ weights (Box, Jenkins and Reinsel 2008, §5.1).
class SumErrors {
public:
    /// References outlive it. Throws Stopped.
    SumErrors(const Recipe& recipe, const PreparedRows& prepared, const Evidence& evidence,
              const std::string& file, const Table& coming, Threads threads, Progress& progress);

    /// "by theory", "by 20 models, each learned without a part of the rows", "none: …".
    const std::string& how() const { return m_how; }
    /// What rows share, in words; empty without.
    std::string sharedText() const;

    /// One table's rows with a sign; sums count rows that all sides predict.
    struct Side {
        const Table& table;
        double sign = 1;
    };
    /// Sums by group: `group` says which each row is of, -1 for none. All tables have as many rows. Throws
    /// Stopped.
    std::vector<PredictionSum> sums(std::span<const Side> sides, std::span<const std::int32_t> group,
                                    std::size_t groups, Progress& progress) const;
    /// NaN where nothing is known of it.
    SumInterval interval(const PredictionSum& sum, double level) const;

private:
    struct Shared {
        std::string column;
        double spread = 0, degreesOfFreedom = 0;
    };
    struct Rows;
    void findShared(const Recipe& recipe, const PreparedRows& prepared, const Table& coming);
    void learnModels(const Recipe& recipe, const PreparedRows& prepared, Threads threads, Progress& progress);
    Rows rowsOf(const Table& table, Progress& progress) const;
    void carryOn(const LinearModel& linear, const Eigen::RowVectorXd& inputs, std::uint32_t row, double slope,
                 PredictionSum& sum) const;
    std::int64_t keyOf(const Table& table, std::size_t shared, std::size_t row) const;

    const Study& m_study;
    const std::string& m_file;
    Threads m_threads;
    bool m_theory = false;
    /// Place among what is shared of what is new of each period, where errors depend in time.
    std::size_t m_innovations = SIZE_MAX;
    std::string m_how;
    std::vector<Shared> m_shared;
    std::vector<std::shared_ptr<const Study>> m_models;
    /// Of a row of weight 1 on the model's scale; relative in logarithms. Without what rows share.
    double m_ownVariance = 0;
    double m_shift = 0;
};

} // namespace oxgoad
