#pragma once
// What was learned, complete: enough to predict any rows later without anything else.
#include "forecast/prediction.h"
#include "prepare/preparation.h"
#include "recipe/recipe.h"
#include "study/penalty_search.h"
#include "study/prepare_rows.h"
#include "table/table.h"

#include <cstdint>
#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

struct Tuning;

/// A model with all that leads from rows as they are read to predictions of the response. Immutable once it
/// is made; owns what it holds.
struct Study {
    /// What was learned by. Files, levels and forecasts in it change nothing here.
    Recipe recipe;
    /// What the steps learned: see applySteps.
    std::vector<StepOutcome> steps;
    Inputs inputs;
    std::shared_ptr<const LearnedModel> model;
    PredictionRule rule;
    /// Terms of the recipe that were not chosen, one a term; empty when all are in the model.
    std::vector<std::uint8_t> notSelected;
    /// Rows of the table that were learned from, in the order of `trained` and `weights`.
    std::vector<std::uint32_t> rows;
    /// Empty when all rows weigh alike.
    std::vector<double> weights;
    TrainingResults trained;
    /// How learning ended.
    FitOutcome outcome{.converged = true};
    /// How the penalty, or a field of another kind, was found, when it was; not kept with projects.
    std::shared_ptr<const PenaltySearch> search;
    std::shared_ptr<const Tuning> tuning;
    /// The estimator that learned: the recipe's, with what was found in the place of what was to be found.
    Settings settings;

    /// Whether a term of the recipe is in the model.
    bool has(std::size_t term) const { return notSelected.empty() || notSelected[term] == 0; }
    /// Terms of the recipe that are.
    std::vector<Term> terms() const {
        std::vector<Term> in;
        for (std::size_t t = 0; t < recipe.terms.size(); ++t)
            if (has(t)) in.push_back(recipe.terms[t]);
        return in;
    }
    /// Null unless it has coefficients.
    const LinearModel* linear() const { return model->linear(); }
    BoundModel bind(const Table& table, const std::string& file) const {
        return BoundModel(inputs, *model, rule, table, file);
    }
};

/// The path of a study's penalties over its learning rows: as it was searched, or followed now; detailed when
/// asked for (see PenaltyPoint). Requires a penalised estimator. Throws Stopped.
std::shared_ptr<const PenaltySearch> penaltyPath(const Recipe& recipe, const PreparedRows& prepared,
                                                 const Study& study, Threads threads, Progress& progress,
                                                 bool detailed = false);

/// The learning rows of a study as a kind is trained them; owns what a TrainingData refers to.
class TrainingAgain {
public:
    TrainingAgain(const Recipe& recipe, const PreparedRows& prepared, const Study& study, Threads threads);
    TrainingAgain(const TrainingAgain&) = delete;
    TrainingAgain& operator=(const TrainingAgain&) = delete;
    const TrainingData& data() const { return m_data; }

private:
    BoundInputs m_inputs;
    std::vector<double> m_working, m_weights, m_offsets;
    std::string m_none;
    TrainingData m_data;
};

/// Weights of some rows; empty when the recipe has none. Errors: wrongType, badWeights with the row.
std::vector<double> weightsOf(const Recipe& recipe, const Table& table, const std::string& file,
                              std::span<const std::uint32_t> rows);

/// The link of a recipe's response for kinds that have none of their own, without smearing: the identity, or
/// the logarithm.
inline Link linkOf(const Recipe& recipe) {
    return {.kind = recipe.logResponse ? Link::Kind::logarithm : Link::Kind::identity};
}

/// The value the model fits at a row: the response, or its logarithm, less the offset; of kinds with a link
/// of their own the response as it is. NaN where not defined.
class ModelResponse {
public:
    /// Errors: unknownColumn, wrongType.
    ModelResponse(const Recipe& recipe, const Table& table, const std::string& file);
    double at(std::size_t row) const;
    double offset(std::size_t row) const;
    /// The response in its own unit.
    double asRead(std::size_t row) const { return m_response[row]; }

private:
    std::span<const double> m_response;
    const Column* m_offset = nullptr;
    Link m_link;
    bool m_asIs;
};

/// What a model is learned for: to stand by itself, with intervals; or only to predict other rows, which
/// saves what intervals would be made of.
enum class LearnFor { keeping, judging };

/// Learns from `rows` of a prepared table, all of which have values in columnsInUse(): which terms, where the
/// recipe has them chosen (see chooseAmong), the inputs, the model
/// by the recipe's kind with the recipe's errors, and how its values become those of the response. `steps`
/// are what prepared the table. Errors: those of learnInputs and of the kind; badTerm with the row where the
/// logarithm of the response is not defined; wrongType for a weight or offset that is no number. Throws
/// Stopped. The same for any number of threads. `heldOut` are other complete rows, which settings can be
/// chosen by (see tuneByFolds).
std::shared_ptr<const Study> learn(const Recipe& recipe, const Table& table,
                                   const std::vector<StepOutcome>& steps, const std::string& file,
                                   std::vector<std::uint32_t> rows, Threads threads, Progress& progress,
                                   std::span<const std::uint32_t> heldOut = {},
                                   LearnFor what = LearnFor::keeping);

/// Predictions of rows.
struct Applied {
    /// What the model says, without the offset.
    std::vector<double> said;
    /// In the response's unit.
    std::vector<double> predicted;
};
/// Predicts chosen rows of a prepared table, which must be complete. Fits nothing. Throws Stopped.
Applied apply(const Study& study, const Table& table, const std::string& file,
              std::span<const std::uint32_t> rows, Threads threads, Progress& progress);
/// Prepares rows as they were read with what the study's steps learned.
Prepared prepareFor(const Study& study, const Table& raw, const std::string& file, Progress& progress);

/// What its kind tells of the model beside the parts of all kinds; empty without.
ModelPart partOf(const Study& study);

/// Text from which readStudy makes an equal study, to the same bits. What was found at the rows learned from
/// (`rows`, `weights`, `trained`) is not part of it.
std::string studyText(const Study& study);
/// Errors: badProject.
std::shared_ptr<Study> readStudy(std::string_view text);
/// Requires that the rows put beside a study that was read are as many as it learned from, in order, with a
/// value each. Errors: badProject.
void requireRows(const Study& study);

} // namespace oxgoad
