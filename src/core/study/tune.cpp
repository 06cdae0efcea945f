#include "study/tune.h"

#include "base/error.h"
#include "base/text.h"
#include "study/study.h"
#include "write/csv.h"

#include <algorithm>
#include <atomic>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;

InnerDealing dealWithin(const Recipe& recipe, const Table& table, const TrainingData& training,
                        bool leaveOneOut) {
    InnerDealing out;
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < training.rows.size(); ++i)
        if (training.weights.empty() || training.weights[i] > 0) rows.push_back(training.rows[i]);
    // Rows may stand as often as they were drawn; they are dealt once.
    std::sort(rows.begin(), rows.end());
    rows.erase(std::unique(rows.begin(), rows.end()), rows.end());
    if (rows.size() < 4) return out;
    out.plan = recipe.judge.value_or(FoldPlan{});
    out.why = recipe.judge ? "" : "the recipe names no folds";
    if (out.plan.kind == FoldKind::leaveOneOut && !leaveOneOut) {
        out.plan = FoldPlan{};
        out.why = "leaving out each row takes too long for every value";
    }
    const auto most = static_cast<int>(rows.size() / 2);
    if (out.plan.kind == FoldKind::kFolds) out.plan.folds = std::min(out.plan.folds, most);
    try {
        out.dealing = dealRows(out.plan, table, rows, training.file);
    } catch (const Error&) { // too few groups or periods among these rows
        out.plan = FoldPlan{};
        out.plan.folds = std::min(out.plan.folds, most);
        out.dealing = dealRows(out.plan, table, rows, training.file);
        out.why = "the recipe's folds cannot be dealt among these rows";
    }
    out.judgedBy = foldPlanText(out.plan);
    return out;
}

std::pair<double, double> spreadOfFolds(std::span<const double> mse, std::size_t foldsPerRepeat) {
    long double sum = 0, within = 0, folds = 0, repeats = 0;
    for (std::size_t begin = 0; begin < mse.size(); begin += foldsPerRepeat) {
        const std::size_t end = std::min(begin + foldsPerRepeat, mse.size());
        long double mean = 0, squares = 0, count = 0;
        for (std::size_t f = begin; f < end; ++f)
            if (!std::isnan(mse[f])) {
                mean += mse[f];
                ++count;
            }
        if (count == 0) continue;
        sum += mean;
        folds += count;
        mean /= count;
        for (std::size_t f = begin; f < end; ++f)
            if (!std::isnan(mse[f])) squares += (mse[f] - mean) * (mse[f] - mean);
        within += count > 1 ? squares / (count - 1) / count : static_cast<long double>(nan);
        ++repeats;
    }
    if (folds == 0) return {nan, nan};
    return {static_cast<double>(sum / folds), static_cast<double>(std::sqrt(within / repeats))};
}

namespace {

/// Some of the rows of a TrainingData, and what it refers to.
class PartOfData {
public:
    PartOfData(const TrainingData& all, const std::vector<std::uint32_t>& place,
               std::vector<std::uint32_t> rows)
        : m_rows(std::move(rows)), m_data(all) {
        for (const auto row : m_rows) {
            m_y.push_back(all.y[place[row]]);
            if (!all.weights.empty()) m_weights.push_back(all.weights[place[row]]);
            if (!all.units.empty()) m_units.push_back(all.units[place[row]]);
        }
        m_data.rows = m_rows;
        m_data.y = m_y;
        m_data.weights = m_weights;
        m_data.units = m_units;
        m_data.threads = {1}; // folds run beside each other
    }
    PartOfData(const PartOfData&) = delete;
    PartOfData& operator=(const PartOfData&) = delete;
    const TrainingData& data() const { return m_data; }

private:
    std::vector<std::uint32_t> m_rows, m_units;
    std::vector<double> m_y, m_weights;
    TrainingData m_data;
};

class Tuner {
public:
    Tuner(const Recipe& recipe, const Table& table, const TrainingData& training)
        : m_recipe(recipe), m_kind(kindOf(recipe.estimator)), m_data(training),
          m_response(recipe, table, training.file), m_place(table.rows(), 0),
          m_inner(dealWithin(recipe, table, training, training.rows.size() <= 2000)) {
        for (std::size_t i = 0; i < training.rows.size(); ++i)
            m_place[training.rows[i]] = static_cast<std::uint32_t>(i);
    }

    std::shared_ptr<const Tuning> run(Progress& progress) {
        auto out = std::make_shared<Tuning>();
        out->field = *soughtKey(m_recipe.estimator);
        for (const Field& field : m_kind.fields)
            if (field.key == out->field) out->label = field.label;
        const FieldValue& asked = m_recipe.estimator.get(std::string_view(out->field));
        std::vector<double> values;
        if (const auto* given = std::get_if<std::vector<double>>(&asked))
            values = *given;
        else
            values = m_kind.candidates(m_recipe.estimator, out->field, m_data);
        if (values.empty())
            throw Error(ErrorCode::tooFewRows, "there is no value of " + out->field + " to try",
                        {.file = m_data.file}, "Bring more rows, or give a value.");
        for (const double value : values)
            out->points.push_back({value});
        if (m_inner.dealing) judge(*out, values, progress);
        choose(*out, std::get_if<std::string>(&asked));
        out->settings = m_recipe.estimator;
        out->settings.fields[out->field] = out->points[out->chosen].value;
        return out;
    }

private:
    void judge(Tuning& out, const std::vector<double>& values, Progress& progress) const {
        out.judgedBy = m_inner.judgedBy;
        if (!m_inner.why.empty()) out.note = m_inner.why + ", so it was found by " + m_inner.judgedBy;
        out.folds = m_inner.dealing->size();
        std::vector<std::vector<double>> mse(out.folds);
        std::atomic<std::size_t> done{0};
        parallelFor(out.folds, m_data.threads, [&](std::size_t f) {
            progress.checkpoint(static_cast<double>(done) / static_cast<double>(out.folds),
                                "Finding " + out.field + ", fold " + countText(f + 1) + " of " +
                                    countText(out.folds));
            mse[f] = judgeFold(f, out.field, values, progress);
            ++done;
        });
        for (std::size_t k = 0; k < values.size(); ++k) {
            std::vector<double> ofValue;
            for (const auto& fold : mse)
                ofValue.push_back(fold[k]);
            std::tie(out.points[k].meanOfFoldMse, out.points[k].standardError) =
                spreadOfFolds(ofValue, m_inner.dealing->foldsPerRepeat());
        }
    }

    /// The mean squared error of each value; NaN for those that cannot be learned from so few rows.
    std::vector<double> judgeFold(std::size_t f, const std::string& field, const std::vector<double>& values,
                                  Progress& progress) const {
        std::vector<double> mse(values.size(), nan);
        const Fold fold = m_inner.dealing->fold(f);
        if (fold.judged.empty() || fold.learning.empty()) return mse;
        const PartOfData part(m_data, m_place, fold.learning);
        MatrixXd inputs(static_cast<Index>(fold.judged.size()),
                        static_cast<Index>(m_data.inputs.inputs().size()));
        m_data.inputs.fill(fold.judged, inputs);
        StopOnly quiet(progress);
        // Smearing belongs to each value's own residuals, so that logarithms are learned one by one.
        if (m_kind.predictEach && !m_recipe.logResponse) {
            const MatrixXd said =
                m_kind.predictEach(m_recipe.estimator, field, values, part.data(), inputs, quiet);
            for (std::size_t k = 0; k < values.size(); ++k)
                mse[k] = mseOf(fold.judged, said.col(static_cast<Index>(k)), Link{});
            return mse;
        }
        for (std::size_t k = 0; k < values.size(); ++k) {
            Settings settings = m_recipe.estimator;
            settings.fields[field] = values[k];
            try {
                const FitResult fit = m_kind.learn(settings, part.data(), quiet);
                const PredictionRule rule = ruleOf(m_recipe, m_kind, fit, part.data().weights);
                mse[k] = mseOf(fold.judged, rule.valuesOf(*fit.model, inputs), rule.link);
            } catch (const Error& error) {
                if (error.code() != ErrorCode::tooFewRows) throw;
            }
        }
        return mse;
    }

    double mseOf(const std::vector<std::uint32_t>& rows, const Eigen::VectorXd& values,
                 const Link& link) const {
        double squares = 0, count = 0;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const double said = values[static_cast<Index>(i)];
            if (std::isnan(said)) continue;
            const double e =
                m_response.asRead(rows[i]) - link.toResponseScale(said + m_response.offset(rows[i]));
            squares += e * e;
            ++count;
        }
        return count > 0 ? squares / count : nan;
    }

    static void choose(Tuning& out, const std::string* rule) {
        std::optional<std::size_t> best;
        for (std::size_t k = 0; k < out.points.size(); ++k)
            if (!std::isnan(out.points[k].meanOfFoldMse) &&
                (!best || out.points[k].meanOfFoldMse < out.points[*best].meanOfFoldMse))
                best = k;
        out.chosen = out.smallest = best.value_or(0);
        if (!best || !rule || *rule != oneStandardErrorRule) return;
        const double limit = out.points[*best].meanOfFoldMse + out.points[*best].standardError;
        for (std::size_t k = *best; k-- > 0;)
            if (out.points[k].meanOfFoldMse <= limit) out.chosen = k;
    }

    const Recipe& m_recipe;
    const ModelKind& m_kind;
    const TrainingData& m_data;
    ModelResponse m_response;
    /// Place of each row of the table among those learned from.
    std::vector<std::uint32_t> m_place;
    InnerDealing m_inner;
};

} // namespace

std::shared_ptr<const Tuning> tuneByFolds(const Recipe& recipe, const Table& table,
                                          const TrainingData& training, Progress& progress) {
    return Tuner(recipe, table, training).run(progress);
}

ModelPart partOf(const Study& study) {
    const ModelKind& kind = kindOf(study.settings);
    if (!kind.describe) return {};
    std::vector<TunedValue> tuned;
    if (study.tuning)
        for (const TuningPoint& point : study.tuning->points)
            tuned.push_back({point.value, point.meanOfFoldMse, point.standardError});
    return kind.describe(*study.model, tuned);
}

std::string tuningCsv(const Tuning& tuning) {
    CsvWriter out;
    for (const auto* name : {"value", "mean_of_fold_mse", "standard_error"})
        out.text(name);
    out.endRow();
    for (const TuningPoint& point : tuning.points) {
        out.number(point.value).number(point.meanOfFoldMse).number(point.standardError);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
