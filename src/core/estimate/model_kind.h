#pragma once
// Kinds of model behind one door: what each can do, how it learns and is read back.
#include "base/progress.h"
#include "model/capabilities.h"
#include "model/learned_model.h"
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

/// Settings that the window offers, with its words for them.
struct ModelOffer {
    std::string title;
    Settings settings;
};

/// A kind of model: what it asks for, how it reads aloud, what it can, how it learns and is read back.
struct ModelKind {
    /// In recipes: "least squares".
    std::string name{};
    /// In the window's list: "Least squares".
    std::string title{};
    std::vector<Field> fields{};
    /// Other values than these are asked for.
    std::vector<ModelOffer> offers{};
    /// What it can do: asked before it learns (see requireCapable).
    Capabilities can;
    /// Is least squares: how its standard errors are made can be chosen, rows can be left out in closed form,
    /// and the criteria of normal errors hold.
    bool leastSquares = false;
    /// How the standard errors of its coefficients are made can be chosen.
    bool choosesErrors = false;
    /// Finds what is to be found of its fields itself, without folds.
    bool findsItself = false;
    /// Learning takes so long that it is not done twenty times over for a check.
    bool costly = false;
    /// Reads when each row was and of which series: the columns with the roles of time and group are inputs.
    bool series = false;
    /// What is learned depends on the units of columns.
    bool readsUnits = false;
    /// Rows that lie far off do not pull it.
    bool standsOutliers = false;
    /// Predicts a quantile, which needs no smearing.
    bool quantile = false;
    /// "Huber's robust regression", "5 nearest neighbours".
    std::function<std::string(const Settings&)> sentence{};
    /// Errors: badTerm for a term or a setting that it cannot use, tooFewRows; those of its method. Throws
    /// Stopped. The result does not depend on the number of threads.
    std::function<FitResult(const Settings&, const TrainingData&, Progress&)> learn{};
    /// Values to try of a field that is to be found (FieldType::sought), from the one whose model follows the
    /// rows least to the one that follows them most; of kinds that have such a field and no path of their
    /// own.
    std::function<std::vector<double>(const Settings&, std::string_view field, const TrainingData&)>
        candidates{};
    /// Learns with each value of a field and says of other inputs (m × inputs) what each model does: m ×
    /// values, on the scale of TrainingData::y. Where a kind can do that with less work than one model after
    /// the other, and with the same results.
    std::function<Eigen::MatrixXd(const Settings&, std::string_view field, std::span<const double> values,
                                  const TrainingData&, const Eigen::MatrixXd& inputs, Progress&)>
        predictEach{};
    /// How large a model with that value of a field is, in words of its kind: 7 leaves. Of kinds whose values
    /// do not say that themselves.
    std::function<NamedNumber(const LearnedModel&, std::string_view field, double value)> sizeAt{};
    /// What it tells beside the parts of all kinds; `tuned` are the values that folds tried, if they did.
    std::function<ModelPart(const LearnedModel&, std::span<const TunedValue> tuned)> describe{};
    /// Errors: badProject when the text is none of this kind.
    std::function<std::shared_ptr<const LearnedModel>(std::string_view)> read{};
};

/// All kinds, in the order of the window's list.
const std::vector<ModelKind>& modelKinds();
const ModelKind* findModelKind(std::string_view name);
/// Requires a kind that is there.
const ModelKind& kindOf(const Settings& settings);
/// One more kind, at the end of the list. Before anything asks for kinds.
void addModelKind(ModelKind kind);

/// Whether something in the settings is to be found: the field's key, or nothing.
std::optional<std::string> soughtKey(const Settings& settings);

/// Refuses what a kind cannot use of what it is told, by name, with the way out: terms, weights, an offset, a
/// response. Errors: badTerm, badWeights, wrongType.
void requireCapable(const ModelKind& kind, const Settings& settings, const TrainingData& training,
                    const Link& link, bool offset);

/// Throws Error (badStep) unless the kind is known and its fields are right.
void checkSettings(const Settings& settings);

/// The model a text was written of, by the kind that it names. Errors: badProject.
std::shared_ptr<const LearnedModel> readModel(std::string_view text);

} // namespace oxgoad
