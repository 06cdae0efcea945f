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
            if (!all.offsets.empty()) m_offsets.push_back(all.offsets[place[row]]);
        }
        m_data.rows = m_rows;
        m_data.y = m_y;
        m_data.weights = m_weights;
        m_data.units = m_units;
        m_data.offsets = m_offsets;
        m_data.threads = {1}; // folds run beside each other
    }
    PartOfData(const PartOfData&) = delete;
    PartOfData& operator=(const PartOfData&) = delete;
    const TrainingData& data() const { return m_data; }

private:
    std::vector<std::uint32_t> m_rows, m_units;
    std::vector<double> m_y, m_weights, m_offsets;
    TrainingData m_data;
};

/// Takes a value by the rule; the smallest error without.
void chooseValue(Tuning& out, const std::string* rule) {
    std::optional<std::size_t> best;
    for (std::size_t k = 0; k < out.points.size(); ++k)
        if (!std::isnan(out.points[k].meanOfFoldMse) &&
            (!best || out.points[k].meanOfFoldMse < out.points[*best].meanOfFoldMse))
            best = k;
    out.chosen = out.smallest = best.value_or(0);
    if (!best || !rule || !rule->starts_with(oneStandardErrorRule)) return;
    const double limit = out.points[*best].meanOfFoldMse + out.points[*best].standardError;
    for (std::size_t k = *best; k-- > 0;)
        if (out.points[k].meanOfFoldMse <= limit) out.chosen = k;
}

class Tuner {
public:
    Tuner(const Recipe& recipe, const Table& table, const TrainingData& training,
          std::span<const std::uint32_t> heldOut)
        : m_recipe(recipe), m_kind(kindOf(recipe.estimator)), m_data(training),
          m_response(recipe, table, training.file), m_place(table.rows(), 0),
          m_inner(dealWithin(recipe, table, training, training.rows.size() <= 2000)), m_heldOut(heldOut) {
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
        const auto* rule = std::get_if<std::string>(&asked);
        const bool byHeldOut = rule && rule->ends_with(onHeldOutRows);
        if (byHeldOut && !m_heldOut.empty()) {
            judgeHeldOut(*out, values, progress);
        } else if (m_inner.dealing) {
            judge(*out, values, progress);
            tellOthers(*out, values, progress);
            if (byHeldOut) out->note = "no rows are held out here, so it was found by " + m_inner.judgedBy;
        }
        chooseValue(*out, rule);
        out->settings = m_recipe.estimator;
        out->settings.fields[out->field] = out->points[out->chosen].value;
        return out;
    }

    /// Whether all values cost little more than one.
    bool allAtOnce() const { return m_kind.predictEach && !m_recipe.logResponse; }

    void tellTest(Tuning& out, Progress& progress) const {
        if (!allAtOnce()) return;
        std::vector<double> values;
        for (const TuningPoint& point : out.points)
            values.push_back(point.value);
        const auto found = judgeRows(m_data, m_heldOut, out.field, values, progress);
        for (std::size_t k = 0; k < values.size(); ++k)
            out.points[k].testMse = found[k].first;
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

    /// Beside what the folds say: of rows held out, and of the learning rows where a model more is little.
    void tellOthers(Tuning& out, const std::vector<double>& values, Progress& progress) const {
        if (!allAtOnce()) return;
        if (!m_heldOut.empty()) {
            const auto found = judgeRows(m_data, m_heldOut, out.field, values, progress);
            for (std::size_t k = 0; k < values.size(); ++k)
                out.points[k].heldOutMse = found[k].first;
        }
        if (m_kind.costly) return;
        const auto found = judgeRows(m_data, m_data.rows, out.field, values, progress);
        for (std::size_t k = 0; k < values.size(); ++k)
            out.points[k].learningMse = found[k].first;
    }

    void judgeHeldOut(Tuning& out, const std::vector<double>& values, Progress& progress) const {
        out.judgedBy = plural(m_heldOut.size(), "held-out row", "held-out rows");
        out.note = "the held-out rows chose it, so that what they say of its error is too good";
        out.folds = 1;
        progress.checkpoint(0.1, "Finding " + out.field + " by held-out rows");
        const auto found = judgeRows(m_data, m_heldOut, out.field, values, progress);
        for (std::size_t k = 0; k < values.size(); ++k)
            std::tie(out.points[k].meanOfFoldMse, out.points[k].standardError) = found[k];
    }

    /// The mean squared error of each value; NaN for those that cannot be learned from so few rows.
    std::vector<double> judgeFold(std::size_t f, const std::string& field, const std::vector<double>& values,
                                  Progress& progress) const {
        std::vector<double> mse(values.size(), nan);
        const Fold fold = m_inner.dealing->fold(f);
        if (fold.judged.empty() || fold.learning.empty()) return mse;
        const PartOfData part(m_data, m_place, fold.learning);
        const auto found = judgeRows(part.data(), fold.judged, field, values, progress);
        for (std::size_t k = 0; k < values.size(); ++k)
            mse[k] = found[k].first;
        return mse;
    }

    /// Of each value the mean squared error over rows that the data do not hold, and its standard error.
    std::vector<std::pair<double, double>>
    judgeRows(const TrainingData& data, std::span<const std::uint32_t> judged, const std::string& field,
              const std::vector<double>& values, Progress& progress) const {
        std::vector<std::pair<double, double>> mse(values.size(), {nan, nan});
        MatrixXd inputs(static_cast<Index>(judged.size()), static_cast<Index>(m_data.inputs.inputs().size()));
        m_data.inputs.fill(judged, inputs);
        StopOnly quiet(progress);
        // Smearing belongs to each value's own residuals, so that logarithms are learned one by one.
        if (allAtOnce()) {
            const MatrixXd said = m_kind.predictEach(m_recipe.estimator, field, values, data, inputs, quiet);
            for (std::size_t k = 0; k < values.size(); ++k)
                mse[k] = mseOf(judged, said.col(static_cast<Index>(k)), Link{});
            return mse;
        }
        for (std::size_t k = 0; k < values.size(); ++k) {
            Settings settings = m_recipe.estimator;
            settings.fields[field] = values[k];
            try {
                const FitResult fit = m_kind.learn(settings, data, quiet);
                const PredictionRule rule = ruleOf(m_recipe, m_kind, fit, data.weights);
                mse[k] = mseOf(judged, rule.valuesOf(*fit.model, inputs), rule.link);
            } catch (const Error& error) {
                if (error.code() != ErrorCode::tooFewRows) throw;
            }
        }
        return mse;
    }

    std::pair<double, double> mseOf(std::span<const std::uint32_t> rows, const Eigen::VectorXd& values,
                                    const Link& link) const {
        double squares = 0, fourth = 0, count = 0;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            const double said = values[static_cast<Index>(i)];
            if (std::isnan(said)) continue;
            const double e =
                m_response.asRead(rows[i]) - link.toResponseScale(said + m_response.offset(rows[i]));
            squares += e * e;
            fourth += e * e * e * e;
            ++count;
        }
        const double mean = count > 0 ? squares / count : nan;
        const double spread = std::max(0.0, fourth - count * mean * mean) / (count - 1);
        return {mean, count > 1 ? std::sqrt(spread / count) : nan};
    }

    const Recipe& m_recipe;
    const ModelKind& m_kind;
    const TrainingData& m_data;
    ModelResponse m_response;
    /// Place of each row of the table among those learned from.
    std::vector<std::uint32_t> m_place;
    InnerDealing m_inner;
    std::span<const std::uint32_t> m_heldOut;
};

} // namespace

SettingSeeds tuneWithOtherSeeds(const Recipe& recipe, const PreparedRows& prepared, const Study& study,
                                std::size_t count, Threads threads, Progress& progress) {
    SettingSeeds out;
    if (!study.tuning) {
        out.why = "no setting was left to folds";
        return out;
    }
    const auto* rule = std::get_if<std::string>(&recipe.estimator.get(std::string_view(study.tuning->field)));
    const FoldPlan plan = recipe.judge.value_or(FoldPlan{});
    if (study.tuning->folds < 2 || !plan.hasSeed() || (rule && rule->ends_with(onHeldOutRows))) {
        out.why = "the setting was not found by folds that a seed deals";
        return out;
    }
    constexpr double quick = 60000;
    if (static_cast<double>(study.rows.size() * study.inputs.size()) > quick) {
        out.why = "so many rows take long with other seeds; folds that are dealt several times find it over "
                  "all of them";
        return out;
    }
    const ModelKind& kind = kindOf(recipe.estimator);
    const auto sizeOf = [&](double value) {
        if (kind.sizeAt) return kind.sizeAt(*study.model, study.tuning->field, value);
        std::string unit = study.tuning->label;
        if (!unit.empty()) unit[0] = static_cast<char>(std::tolower(static_cast<unsigned char>(unit[0])));
        return NamedNumber{unit, value};
    };
    const TrainingAgain again(recipe, prepared, study, threads);
    Recipe other = recipe;
    other.judge = plan;
    Tuning average = *study.tuning;
    std::vector<double> counts(average.points.size(), 1);
    for (std::size_t k = 1; k <= count; ++k) {
        ProgressStage stage(progress, static_cast<double>(k - 1) / static_cast<double>(count),
                            static_cast<double>(k) / static_cast<double>(count));
        other.judge->seed = plan.seed + k;
        const auto tuned = tuneByFolds(other, prepared.table, again.data(), {}, stage);
        out.sizes.push_back(sizeOf(tuned->points[tuned->chosen].value).value);
        for (std::size_t v = 0; v < std::min(counts.size(), tuned->points.size()); ++v) {
            if (std::isnan(tuned->points[v].meanOfFoldMse)) continue;
            average.points[v].meanOfFoldMse += tuned->points[v].meanOfFoldMse;
            average.points[v].standardError += tuned->points[v].standardError;
            ++counts[v];
        }
    }
    for (std::size_t v = 0; v < counts.size(); ++v) {
        average.points[v].meanOfFoldMse /= counts[v];
        average.points[v].standardError /= counts[v];
    }
    chooseValue(average, rule);
    const NamedNumber own = sizeOf(study.tuning->points[study.tuning->chosen].value);
    out.unit = own.name;
    out.own = own.value;
    out.field = average.field;
    out.value = average.points[average.chosen].value;
    out.onAverage = sizeOf(out.value).value;
    return out;
}

std::shared_ptr<const Tuning> tuneByFolds(const Recipe& recipe, const Table& table,
                                          const TrainingData& training,
                                          std::span<const std::uint32_t> heldOut, Progress& progress) {
    return Tuner(recipe, table, training, heldOut).run(progress);
}

std::shared_ptr<const Study> withTestErrors(std::shared_ptr<const Study> study, const PreparedRows& prepared,
                                            std::span<const std::uint32_t> test, Threads threads,
                                            Progress& progress) {
    if (!study->tuning || test.empty()) return study;
    const TrainingAgain again(study->recipe, prepared, *study, threads);
    auto tuning = std::make_shared<Tuning>(*study->tuning);
    Tuner(study->recipe, prepared.table, again.data(), test).tellTest(*tuning, progress);
    auto told = std::make_shared<Study>(*study);
    told->tuning = std::move(tuning);
    return told;
}

TuningDrawn drawnTuning(const Study& study) {
    const Tuning& tuning = *study.tuning;
    const ModelKind& kind = kindOf(study.settings);
    TuningDrawn out{.sizeName = tuning.label, .taken = tuning.chosen, .smallest = tuning.smallest};
    const auto root = [](double mse) { return std::sqrt(mse); };
    for (const TuningPoint& point : tuning.points) {
        double size = point.value;
        if (kind.sizeAt) {
            const NamedNumber at = kind.sizeAt(*study.model, tuning.field, point.value);
            out.sizeName = at.name;
            size = at.value;
        }
        out.size.push_back(size);
        out.folds.push_back(root(point.meanOfFoldMse));
        const double se = std::isnan(point.standardError) ? 0 : point.standardError;
        out.low.push_back(root(std::max(0.0, point.meanOfFoldMse - se)));
        out.high.push_back(root(point.meanOfFoldMse + se));
        out.learning.push_back(root(point.learningMse));
        out.heldOut.push_back(root(point.heldOutMse));
        out.test.push_back(root(point.testMse));
    }
    const TuningPoint& best = tuning.points[tuning.smallest];
    const double limit = best.meanOfFoldMse + (std::isnan(best.standardError) ? 0 : best.standardError);
    out.simplest = tuning.smallest;
    for (std::size_t k = tuning.smallest; k-- > 0;)
        if (tuning.points[k].meanOfFoldMse <= limit) out.simplest = k;
    const auto sized = [&](std::size_t k) { return shortText(out.size[k]) + " " + out.sizeName; };
    out.says = "the error by " + tuning.judgedBy + " is smallest at " + sized(out.smallest) + " (" +
               readableText(out.folds[out.smallest], 4) + ")";
    if (out.simplest != out.smallest)
        out.says += ", and " + sized(out.simplest) + " come within one standard error of it";
    if (out.taken != out.smallest && out.taken != out.simplest) out.says += "; taken are " + sized(out.taken);
    return out;
}

ModelPart partOf(const Study& study) {
    const ModelKind& kind = kindOf(study.settings);
    if (!kind.describe) return {};
    std::vector<TunedValue> tuned;
    if (study.tuning)
        for (const TuningPoint& point : study.tuning->points)
            tuned.push_back(
                {point.value, point.meanOfFoldMse, point.standardError, point.heldOutMse, point.testMse});
    return kind.describe(*study.model, tuned);
}

std::string tuningCsv(const Tuning& tuning) {
    CsvWriter out;
    for (const auto* name :
         {"value", "mean_of_fold_mse", "standard_error", "held_out_mse", "learning_mse", "test_mse"})
        out.text(name);
    out.endRow();
    for (const TuningPoint& point : tuning.points) {
        out.number(point.value).number(point.meanOfFoldMse).number(point.standardError);
        out.number(point.heldOutMse).number(point.learningMse).number(point.testMse);
        out.endRow();
    }
    return out.bytes();
}

} // namespace oxgoad
