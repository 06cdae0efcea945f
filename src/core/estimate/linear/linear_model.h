#pragma once
// Models with coefficients: a design and a fit of its columns.
#include "design/design.h"
#include "estimate/linear/least_squares.h"
#include "estimate/linear/robust_fit.h"
#include "estimate/linear/serial_errors.h"
#include "estimate/model_kind.h"

#include <memory>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// What a penalty did (see penalised_path.h).
struct Penalised {
    double penalty = 0, l1Share = 1;
    /// Over the loss of the mean alone.
    double dualityGap = 0;
    /// The constant included.
    double effectiveDegreesOfFreedom = 0;
    std::size_t kept = 0;
};

/// A model of the mean (see generalised.h): g(E y) = b0 + X b + offset, Var y = φ μ^power / w.
struct Generalised {
    double power = 2;
    bool log = true;
    /// φ by Pearson's statistic over the degrees of freedom.
    double dispersion = 0;
    double deviance = 0, nullDeviance = 0;
    /// At that dispersion; NaN where there is no likelihood.
    double logLikelihood = 0;
    /// The power was found by likelihood.
    bool powerFound = false;
    /// Weight that a row of weight 1 has in the last step, at what is said of it with the offset.
    double workingWeight(double said) const;
};

/// y = b0 + X b + e, the columns X made of the inputs by the design. The fit's vectors with a value a row are
/// empty: see TrainingResults.
class LinearModel final : public LearnedModel {
public:
    std::string kindName = "least squares";
    Design design;
    LeastSquaresFit fit;
    /// Estimators that iterate, without the weights of rows.
    std::optional<Iterated> iterated;
    /// Held back by a penalty: errors of coefficients are not known then, and intervals of single values come
    /// from rows left out.
    std::optional<Penalised> penalised;
    std::optional<Generalised> generalised;
    /// Its errors depend on those of the rows before.
    std::optional<SerialErrors> serial{};
    /// Groups or periods of the errors; 0 without.
    std::size_t errorUnits = 0;
    int errorLags = 0;
    /// Quantile regression: which quantile, 0 otherwise, and 1 less the check loss over that of the quantile
    /// alone (Koenker and Machado 1999, Journal of the American Statistical Association 94).
    double share = 0;
    double quantileFit = 0;
    /// The quantiles that bound one value at `boundsLevel`; null when nobody asked.
    std::shared_ptr<const LeastSquaresFit> lower{}, upper{};
    double boundsLevel = 0;

    const std::string& kind() const override { return kindName; }
    Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const override;
    /// Leverages x'(X'X)⁻¹x.
    Eigen::VectorXd distances(const Eigen::MatrixXd& inputs) const override;
    DistanceScale distanceScale() const override {
        return {"leverage", averageLeverage, largestLeverage, true};
    }
    std::vector<std::string> problems(std::span<const double> inputs) const override;
    std::vector<NamedNumber> says() const override;
    std::string text() const override;
    bool definedWhereInputsAre() const override {
        return design.guards().empty() && fit.dependent.empty() && !serial;
    }
    const LinearModel* linear() const override { return this; }

    /// The columns of the model matrix at values of the inputs: m × p.
    Eigen::MatrixXd matrix(const Eigen::MatrixXd& inputs) const;
    /// What the fit says at values of the inputs, whatever the number of levels.
    struct AtInputs {
        Eigen::VectorXd mean, leverage, variance;
        /// Of a single value beside the spread of a row; empty where there is none.
        Eigen::VectorXd besides{};
        /// Of t for the mean.
        Eigen::VectorXd degreesOfFreedom;
    };
    AtInputs at(const Eigen::MatrixXd& inputs) const;
    bool isQuantile() const { return share > 0; }
    /// Its coefficients have errors by theory.
    bool hasErrors() const { return !penalised; }

    double averageLeverage = 0, largestLeverage = 0;

private:
    /// Of rows that are determined.
    Eigen::VectorXd leveragesAt(const Eigen::MatrixXd& inputs) const;
    Eigen::VectorXd meanAt(const Eigen::MatrixXd& inputs) const;
};

/// A design and a fit with values of the rows it was made from, for what asks for more than a model.
struct LinearFit {
    Design design;
    LeastSquaresFit fit;
};

/// Learns the design from the rows. Errors: those of Design::learn, badTerm with the row where a term is not
/// defined.
Design learnDesign(const TrainingData& training);

/// Learns the design from the rows and fits it by least squares. Errors: those of Design::learn and
/// fitLeastSquares, tooFewRows. Throws Stopped.
LinearFit fitLinear(const TrainingData& training, bool keepOrthonormal, Progress& progress);
/// The same for what goes on with the basis of all columns: more than 5,000 columns are an error (badTerm).
LinearFit fitLinearTogether(const TrainingData& training, const std::string& what, Progress& progress);

/// Reads what LinearModel::text wrote. Errors: badProject.
std::shared_ptr<const LearnedModel> readLinearModel(std::string_view text);

} // namespace oxgoad
