#pragma once
// Kinds of model behind one door. A kind never sees a table: it sees inputs and values.
#include "base/parallel.h"
#include "base/progress.h"
#include "design/inputs.h"
#include "design/term.h"
#include "estimate/errors_kind.h"
#include "table/fields.h"

#include <Eigen/Core>

#include <cstdint>
#include <functional>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <string_view>
#include <utility>
#include <vector>

namespace oxgoad {

class LinearModel;

/// A kind of model with the values of its fields. Part of the recipe; a value type.
struct Settings {
    std::string kind = "least squares";
    FieldValues fields{};
    bool operator==(const Settings& other) const;

    /// A field, or its kind's fallback. Requires a field of that name and type.
    template <class T> const T& get(std::string_view key) const { return std::get<T>(value(key)); }
    const FieldValue& get(std::string_view key) const { return value(key); }
    const std::string& text(std::string_view key) const { return get<std::string>(key); }
    double number(std::string_view key) const { return get<double>(key); }

private:
    const FieldValue& value(std::string_view key) const;
};

/// What a kind is told to learn from. References outlive the call.
struct Teaching {
    /// Bound to the table of the learning rows.
    const BoundInputs& inputs;
    /// Learning rows, all complete.
    std::span<const std::uint32_t> rows;
    /// What is to be said, one value a learning row: the response, its logarithm, less the offset.
    std::span<const double> y;
    /// One a learning row, 0 or more, or empty: all rows weigh alike.
    std::span<const double> weights;
    /// How inputs enter, for kinds that have coefficients.
    const std::vector<Term>& terms;
    /// Terms that are not in the model though they are named, one a term; empty when all are.
    std::span<const std::uint8_t> passedOver{};
    bool intercept = true;
    /// How the errors of coefficients are made, for kinds that can choose: groups or periods of the rows,
    /// lags.
    ErrorsKind errors = ErrorsKind::equalSpread;
    std::span<const std::uint32_t> units{};
    /// The column they come from, for messages.
    const std::string& unitsName;
    int lags = 0;
    /// Level of intervals of single values that will be asked for; none without a forecast.
    std::optional<double> intervalLevel{};
    /// Named in messages.
    const std::string& file;
    Threads threads{};
};

/// A number a model says of itself, for people: "12 neighbours".
struct NamedNumber {
    std::string name;
    double value = 0;
};

/// How far rows stand from those learned from, by a measure of the model's own.
struct DistanceScale {
    /// "leverage"; "distance to the 5 nearest".
    std::string name;
    /// Over the learning rows.
    double average = 0, largest = 0;
    /// Grows with the weight of a row, as leverages do.
    bool byWeight = false;
};

/// What was learned. Immutable, complete, safe to share between threads.
class LearnedModel {
public:
    virtual ~LearnedModel() = default;
    /// Name of its kind.
    virtual const std::string& kind() const = 0;
    /// m × inputs (numbers, days, level indices) to m values on the scale of Teaching::y; NaN where an input
    /// is missing, a term is not defined or the rows learned from do not determine the value.
    virtual Eigen::VectorXd predict(const Eigen::MatrixXd& inputs) const = 0;
    /// How far rows stand from those learned from; NaN where predict is.
    virtual Eigen::VectorXd distances(const Eigen::MatrixXd& inputs) const = 0;
    /// Both at once, where that saves work.
    struct Placed {
        Eigen::VectorXd values, distances;
    };
    virtual Placed locate(const Eigen::MatrixXd& inputs) const {
        return {predict(inputs), distances(inputs)};
    }
    virtual DistanceScale distanceScale() const = 0;
    /// What it needs beside values of its inputs: a phrase for each reason why it is not defined at a row.
    virtual std::vector<std::string> problems(std::span<const double> inputs) const = 0;
    /// Whether nothing of that kind can be wrong where all inputs have values that were learned.
    virtual bool definedWhereInputsAre() const { return false; }
    virtual std::vector<NamedNumber> says() const = 0;
    /// Text from which the kind's `read` makes an equal model, to the same bits.
    virtual std::string text() const = 0;
    /// Null unless it has coefficients.
    virtual const LinearModel* linear() const { return nullptr; }
};

/// What was found at the rows learned from, in their order, on the scale of Teaching::y. Vectors that a kind
/// knows nothing of are empty.
struct TaughtRows {
    Eigen::VectorXd fitted;
    Eigen::VectorXd residuals;
    /// x'(X'X)⁻¹x.
    Eigen::VectorXd leverages;
    /// Weights that a robust estimator gave, 0 to 1.
    std::vector<double> robustWeights;
    /// Residual of a row by a model that did not see it, where a kind can say so at little cost: of evenly
    /// spaced rows, each with its place among the learning rows.
    std::vector<std::uint32_t> leftOneOutRows;
    std::vector<double> leftOneOut;
};

struct Taught {
    std::shared_ptr<const LearnedModel> model;
    TaughtRows rows;
};

/// Settings that the window offers, with its words for them.
struct ModelOffer {
    std::string title;
    Settings settings;
};

/// A kind of model: what it asks for, how it reads aloud, what it can, how it learns and is read back.
struct ModelKind {
    /// In recipes: "least squares".
    std::string name;
    /// In the window's list: "Least squares".
    std::string title;
    std::vector<Field> fields{};
    /// Other values than these are asked for.
    std::vector<ModelOffer> offers{};
    /// Has coefficients of terms; other kinds read columns as they are.
    bool linear = false;
    /// Is least squares: how its standard errors are made can be chosen, rows can be left out in closed form,
    /// and the criteria of normal errors hold.
    bool leastSquares = false;
    /// Rows that lie far off do not pull it.
    bool standsOutliers = false;
    /// Predicts a quantile, which needs no smearing.
    bool quantile = false;
    /// "Huber's robust regression", "5 nearest neighbours".
    std::function<std::string(const Settings&)> sentence{};
    /// Errors: badTerm for a term or a setting that it cannot use, tooFewRows; those of its method. Throws
    /// Stopped. The result does not depend on the number of threads.
    std::function<Taught(const Settings&, const Teaching&, Progress&)> learn{};
    /// Errors: badProject when the text is none of this kind.
    std::function<std::shared_ptr<const LearnedModel>(std::string_view)> read{};
};

/// All kinds, in the order of the window's list.
const std::vector<ModelKind>& modelKinds();
const ModelKind* findModelKind(std::string_view name);
/// Requires a kind that is there.
const ModelKind& kindOf(const Settings& settings);

/// Throws Error (badStep) unless the kind is known and its fields are right.
void checkSettings(const Settings& settings);

/// The model a text was written of, by the kind that it names. Errors: badProject.
std::shared_ptr<const LearnedModel> readModel(std::string_view text);

} // namespace oxgoad
