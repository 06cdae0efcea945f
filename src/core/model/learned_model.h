#pragma once
// What a kind of model is told, and what it gives back. A kind never sees a table: it sees inputs and values.
#include "base/parallel.h"
#include "design/inputs.h"
#include "design/term.h"
#include "model/capabilities.h"
#include "model/covariance_kind.h"
#include "model/intervals.h"
#include "model/link.h"
#include "table/fields.h"

#include <Eigen/Core>

#include <array>
#include <cstdint>
#include <map>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

class LinearModel;

/// Stands for a column that is not there.
inline const std::string noName{};
inline const std::map<std::string, std::string> noUnits{};

/// What a kind is told to learn from. References outlive the call.
struct TrainingData {
    /// Bound to the table of the learning rows.
    const BoundInputs& inputs;
    /// Learning rows, all complete (for kinds that read missing values: but for the inputs).
    std::span<const std::uint32_t> rows;
    /// What is to be said, one value a learning row: the response, its logarithm, less the offset.
    std::span<const double> y;
    /// One a learning row, 0 or more, or empty: all rows weigh alike.
    std::span<const double> weights;
    /// Of kinds with a link of their own: what is added to what they say, one a learning row; empty without.
    std::span<const double> offsets{};
    /// How inputs enter, for kinds that have coefficients.
    const std::vector<Term>& terms;
    /// Terms that are not in the model though they are named, one a term; empty when all are.
    std::span<const std::uint8_t> notSelected{};
    bool intercept = true;
    /// How the errors of coefficients are made, for kinds that can choose: groups or periods of the rows,
    /// lags.
    CovarianceKind errors = CovarianceKind::homoskedastic;
    std::span<const std::uint32_t> units{};
    /// The column they come from, for messages.
    const std::string& unitsName;
    int lags = 0;
    /// Inputs that say when a row was and of which series, of kinds that ask (ModelKind::series); empty
    /// without.
    const std::string& time = noName;
    const std::string& group = noName;
    /// Units by column, where they are known; for kinds that mind them (ModelKind::readsUnits).
    const std::map<std::string, std::string>& unitOf = noUnits;
    /// Level of intervals of single values that will be asked for; none without a forecast.
    std::optional<double> intervalLevel{};
    /// Whether errors of rows not learned from are asked for, which may take models of parts of the rows.
    bool unseen = true;
    /// Of whatever the kind draws: the same seed, the same model.
    std::uint64_t seed = 1;
    /// Named in messages.
    const std::string& file;
    Threads threads{};
};

/// A number a model says of itself, for people: "12 neighbours".
struct NamedNumber {
    std::string name;
    double value = 0;
};

/// A value of a setting that was tried, and what it missed by over folds.
struct TunedValue {
    double value = 0, meanOfFoldMse = 0, standardError = 0;
    /// Over rows held out, and over test rows; NaN without.
    double heldOutMse = 0, testMse = 0;
};

/// What a kind tells of its model in a form of its own: a key of the evidence with its JSON, a table as a
/// file, lines for people. The texts of cells are those of the data.
using PartRow = std::vector<std::string>;
struct ModelPart {
    std::string key{}, json{};
    /// Members of what the evidence says of the fit: {"coefficients": …}.
    std::string fit{};
    std::string file{};
    PartRow header{};
    std::vector<PartRow> table{};
    std::string text{};
};

/// How learning went, step by step: trees of a forest, rounds, passes over the rows.
struct LearningCourse {
    /// "trees", "rounds", "passes".
    std::string steps{};
    /// What is missed by: "mean squared error".
    std::string loss{};
    /// Which rows were unseen: "rows not drawn for a tree", "a fifth of the learning rows".
    std::string unseenRows{};
    struct Run {
        std::string name{};
        /// As many each; `unseen` NaN where there are none.
        std::vector<double> step{}, learning{}, unseen{};
    };
    std::vector<Run> runs{};
    /// How values of the model spread as it learned: lowest, quartiles, highest at some steps.
    struct Spread {
        std::string name{};
        std::vector<double> step{};
        std::vector<std::array<double, 5>> values{};
    };
    std::vector<Spread> spreads{};
    /// Place of the run that became the model, and the step that it was taken at.
    std::size_t taken = 0;
    double takenAt = 0;
    /// What the course shows, in a sentence.
    std::string says{};
};

/// How far rows stand from those learned from, by a measure of the model's own.
struct DistanceScale {
    /// "leverage"; "distance to the 5 nearest"; empty for a model that knows no distance.
    std::string name;
    /// Over the learning rows.
    double average = 0, largest = 0;
    /// Grows with the weight of a row, as leverages do.
    bool byWeight = false;
};

/// What each input adds to the prediction of one row, from what the model says of all rows on average; on the
/// scale of TrainingData::y. Their sum is what it says of the row.
struct Contributions {
    double start = 0;
    /// One an input; empty for a model that cannot say.
    std::vector<double> amounts{};
};

/// What was learned. Immutable, complete, safe to share between threads.
class LearnedModel {
public:
    virtual ~LearnedModel() = default;
    /// Name of its kind.
    virtual const std::string& kind() const = 0;
    /// Numbers that it says of a row: q.
    virtual Eigen::Index outputs() const { return 1; }
    /// m × inputs (numbers, days, level indices) to m × q on the scale of TrainingData::y, or as its link
    /// reads them; NaN where an input is missing (for kinds that cannot read that), a term is not defined or
    /// the rows learned from do not determine the value.
    virtual Eigen::MatrixXd predict(const Eigen::MatrixXd& inputs) const = 0;
    /// How far rows stand from those learned from; NaN where predict is, and everywhere for a model without a
    /// distance.
    virtual Eigen::VectorXd distances(const Eigen::MatrixXd& inputs) const {
        return Eigen::VectorXd::Constant(inputs.rows(), std::nan(""));
    }
    /// Both at once, where that saves work.
    struct Placed {
        Eigen::MatrixXd values;
        Eigen::VectorXd distances;
    };
    virtual Placed locate(const Eigen::MatrixXd& inputs) const {
        return {predict(inputs), distances(inputs)};
    }
    virtual DistanceScale distanceScale() const { return {}; }
    /// m × shares: the values that a response has that share of its distribution below; of models that say
    /// one (IntervalSource::distribution), empty otherwise. Without offset and weights.
    virtual Eigen::MatrixXd quantiles(const Eigen::MatrixXd& inputs, std::span<const double> shares) const {
        static_cast<void>(inputs);
        static_cast<void>(shares);
        return {};
    }
    /// What it needs beside values of its inputs: a phrase for each reason why it is not defined at a row.
    virtual std::vector<std::string> problems(std::span<const double> inputs) const {
        static_cast<void>(inputs);
        return {};
    }
    /// Whether it predicts rows whose inputs are missing (NaN) or have levels that were never learned
    /// (infinity); see Capabilities::missingInputs.
    virtual bool readsMissing() const { return false; }
    /// Whether nothing of that kind can be wrong where all inputs have values that were learned.
    virtual bool definedWhereInputsAre() const { return false; }
    virtual Contributions contributions(std::span<const double> inputs) const {
        static_cast<void>(inputs);
        return {};
    }
    virtual std::vector<NamedNumber> says() const = 0;
    /// Null for kinds that learn at once.
    virtual const LearningCourse* course() const { return nullptr; }
    /// Text from which the kind's `read` makes an equal model, to the same bits.
    virtual std::string text() const = 0;
    /// Null unless it has coefficients.
    virtual const LinearModel* linear() const { return nullptr; }
};

/// What was found at the rows learned from, in their order, on the scale of TrainingData::y. Vectors that a
/// kind knows nothing of are empty.
struct TrainingResults {
    Eigen::VectorXd fitted;
    Eigen::VectorXd residuals;
    /// x'(X'X)⁻¹x.
    Eigen::VectorXd leverages;
    /// Weights that a robust estimator gave, 0 to 1.
    std::vector<double> robustWeights;
    /// Residual of a row by a model that did not see it, where a kind can say so at little cost: of evenly
    /// spaced rows, each with its place among the learning rows.
    std::vector<std::uint32_t> unseenRows;
    std::vector<double> unseen;
    /// By which models.
    IntervalsByErrors::Of unseenOf = IntervalsByErrors::Of::leftOneOut;
};

/// How learning ended. A stop is an exception (Stopped), not an end.
struct FitOutcome {
    Stated<bool> converged;
    /// Why not: "the weights still move after 500 rounds".
    std::string why{};
    /// What is made smaller at each round, by name, where a kind tells it.
    std::string historyOf{};
    std::vector<double> history{};
};

struct FitResult {
    std::shared_ptr<const LearnedModel> model{};
    TrainingResults rows{};
    /// How what it says becomes the response; none for kinds that say what they were told to say.
    std::optional<Link> link{};
    FitOutcome outcome;
    /// Fields that the kind was to find, with what it found.
    FieldValues found{};
};

} // namespace oxgoad
