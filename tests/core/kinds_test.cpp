// What every kind of model must keep to, one after the other; and a kind that nobody listed, added here
// alone.
#include "base/random.h"
#include "core/stops.h"
#include "estimate/model_text.h"
#include "recipe/validity.h"
#include "study/study.h"
#include "study/tune.h"
#include "support/support.h"

#include <algorithm>
#include <array>
#include <cstring>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace kinds_test {

/// Cuts the range of its first input into equal stripes and says of each the chances of a low and of a high
/// response: two numbers a row, which its link makes the mean of.
class Stripes final : public LearnedModel {
public:
    double low = 0, width = 1;
    std::vector<double> chances;

    const std::string& kind() const override {
        static const std::string name = "stripes";
        return name;
    }
    Index outputs() const override { return 2; }
    std::size_t stripeOf(double x) const {
        const double at = std::floor((x - low) / width);
        return static_cast<std::size_t>(std::clamp(at, 0.0, static_cast<double>(chances.size() - 1)));
    }
    MatrixXd predict(const MatrixXd& inputs) const override {
        MatrixXd out = MatrixXd::Constant(inputs.rows(), 2, std::nan(""));
        for (Index i = 0; i < inputs.rows(); ++i) {
            if (inputs.row(i).hasNaN()) continue;
            out(i, 1) = chances[stripeOf(inputs(i, 0))];
            out(i, 0) = 1 - out(i, 1);
        }
        return out;
    }
    std::vector<NamedNumber> says() const override {
        return {{"stripes", static_cast<double>(chances.size())}};
    }
    std::string text() const override {
        return json{{"kind", "stripes"}, {"low", low}, {"width", width}, {"chances", chances}}.dump();
    }
};

FitResult learnStripes(const Settings& settings, const TrainingData& training, Progress& progress) {
    progress.checkpoint(0, "Cutting stripes");
    const auto n = training.rows.size();
    std::vector<double> x(n);
    for (std::size_t i = 0; i < n; ++i)
        x[i] = training.inputs.value(0, training.rows[i]);
    const auto [lowest, highest] = std::minmax_element(x.begin(), x.end());
    const double middle = std::accumulate(training.y.begin(), training.y.end(), 0.0) / static_cast<double>(n);
    std::array<double, 2> sums{}, counts{};
    for (const double y : training.y)
        sums[y > middle] += y, ++counts[y > middle];
    auto model = std::make_shared<Stripes>();
    const auto count = static_cast<std::size_t>(settings.number("count"));
    model->low = *lowest;
    model->width = std::max(1e-300, (*highest - *lowest) / static_cast<double>(count));
    model->chances.resize(count);
    std::vector<double> rows(count), high(count);
    for (std::size_t i = 0; i < n; ++i) {
        stopIfTold(progress);
        ++rows[model->stripeOf(x[i])];
        high[model->stripeOf(x[i])] += training.y[i] > middle;
    }
    for (std::size_t k = 0; k < count; ++k)
        model->chances[k] = rows[k] > 0 ? high[k] / rows[k] : counts[1] / static_cast<double>(n);
    FitResult result{.outcome = {.converged = true, .historyOf = "rows cut", .history = {0, double(n)}}};
    result.link = Link{.kind = Link::Kind::chances,
                       .values = {sums[0] / std::max(1.0, counts[0]), sums[1] / std::max(1.0, counts[1])}};
    result.rows.fitted.resize(static_cast<Index>(n));
    result.rows.residuals.resize(static_cast<Index>(n));
    for (std::size_t i = 0; i < n; ++i) {
        const double chance = model->chances[model->stripeOf(x[i])];
        const double fitted = result.link->valueOf(std::array{1 - chance, chance});
        result.rows.fitted[static_cast<Index>(i)] = fitted;
        result.rows.residuals[static_cast<Index>(i)] = training.y[i] - fitted;
        // Without the row; where it is alone in its stripe nothing else is known there.
        const std::size_t k = model->stripeOf(x[i]);
        if (rows[k] < 2) continue;
        const double without = (high[k] - (training.y[i] > middle)) / (rows[k] - 1);
        result.rows.unseenRows.push_back(static_cast<std::uint32_t>(i));
        result.rows.unseen.push_back(training.y[i] - result.link->valueOf(std::array{1 - without, without}));
    }
    result.model = std::move(model);
    return result;
}

ModelKind stripes() {
    ModelKind kind{.can = {.weights = WeightUse::refused,
                           .intervals = IntervalSource::unseenErrors,
                           .iterates = false,
                           .offset = false,
                           .logResponse = false}};
    kind.name = "stripes";
    kind.title = "Stripes";
    Field count = soughtField("count", "Stripes", 4.0, 1, 1000, {smallestErrorRule, oneStandardErrorRule});
    count.whole = true;
    kind.fields = {count};
    kind.offers = {{"Four stripes", {"stripes"}}};
    kind.sentence = [](const Settings&) { return std::string("stripes"); };
    kind.learn = learnStripes;
    kind.candidates = [](const Settings&, std::string_view, const TrainingData&) {
        return std::vector<double>{1, 2, 4, 8, 16};
    };
    kind.read = [](std::string_view text) {
        const json j = json::parse(text);
        auto model = std::make_shared<Stripes>();
        model->low = j.at("low").get<double>();
        model->width = j.at("width").get<double>();
        model->chances = j.at("chances").get<std::vector<double>>();
        return std::shared_ptr<const LearnedModel>(model);
    };
    return kind;
}

/// Everything the window offers, and the kind of this file.
const std::vector<Settings>& allSettings() {
    static const std::vector<Settings> all = [] {
        addModelKind(stripes());
        std::vector<Settings> settings;
        for (const ModelKind& kind : modelKinds())
            for (const ModelOffer& offer : kind.offers) {
                settings.push_back(offer.settings);
                // As large as 160 rows need.
                for (const auto& [key, value] : {std::pair{"passes", 60.0},
                                                 {"restarts", 1.0},
                                                 {"trees", 60.0},
                                                 {"most_rounds", 40.0},
                                                 {"generations", 6.0},
                                                 {"population", 40.0}})
                    if (std::any_of(kind.fields.begin(), kind.fields.end(),
                                    [key = key](const Field& field) { return field.key == key; }))
                        settings.back().fields[key] = value;
            }
        return settings;
    }();
    return all;
}

/// What the kind that is tested can have as its response: any number, ranks, or amounts with zeros.
enum class Drawing { numbers, ranks, zeros };
Drawing drawing = Drawing::numbers;

/// y = 10 + 3x + a step of the group + noise; w is 1 and 2.
struct Drawn {
    std::vector<double> y, x, z, w;
    std::vector<std::int32_t> group;

    explicit Drawn(unsigned seed, std::size_t n = 120) {
        RandomStream random(seed, "kinds");
        for (std::size_t i = 0; i < n; ++i) {
            x.push_back(10 * random.uniform());
            z.push_back(random.normal());
            group.push_back(static_cast<std::int32_t>(3 * random.uniform()));
            y.push_back(10 + 3 * x.back() + (group.back() == 1 ? 4 : 0) + z.back() + 2 * random.normal());
            if (drawing == Drawing::ranks) y.back() = std::clamp(std::floor(y.back() / 8), 1.0, 4.0);
            if (drawing == Drawing::zeros && random.uniform() < 0.3) y.back() = 0;
            w.push_back(1 + static_cast<double>(i % 3 == 0));
        }
    }
    void push(const Drawn& from, std::size_t i) {
        y.push_back(from.y[i]), x.push_back(from.x[i]), z.push_back(from.z[i]), w.push_back(from.w[i]);
        group.push_back(from.group[i]);
    }
    Table table() const {
        std::vector<double> t(y.size());
        std::iota(t.begin(), t.end(), 0.0);
        return Table({Column::ofNumbers("y", y), Column::ofNumbers("x", x), Column::ofNumbers("z", z),
                      Column::ofFactor("group", group, {"a", "b", "c"}), Column::ofNumbers("w", w),
                      Column::ofNumbers("t", t)});
    }
    StudyRows rows() const {
        StudyRows out;
        out.learning.table = table();
        return out;
    }
};

std::shared_ptr<const Study> learned(const Recipe& recipe, const StudyRows& rows, unsigned threads = 1,
                                     Progress& progress = quietly()) {
    const auto prepared = prepareRows(recipe, rows, {threads}, quietly());
    std::vector<std::uint32_t> all(prepared->table.rows());
    std::iota(all.begin(), all.end(), 0U);
    return learn(recipe, prepared->table, prepared->steps, "rows.csv", all, {threads}, progress);
}

VectorXd said(const Study& study, const Table& table) {
    std::vector<std::uint32_t> all(table.rows());
    std::iota(all.begin(), all.end(), 0U);
    const BoundModel bound = study.bind(table, "rows.csv");
    VectorXd out(static_cast<Index>(table.rows()));
    bound.eachBlock(all, {1}, quietly(), [&](std::size_t first, const MatrixXd& inputs) {
        out.segment(static_cast<Index>(first), inputs.rows()) = bound.rule().valuesOf(bound.model(), inputs);
    });
    return out;
}

bool sameBits(const VectorXd& a, const VectorXd& b) {
    return a.size() == b.size() &&
           std::memcmp(a.data(), b.data(), sizeof(double) * static_cast<std::size_t>(a.size())) == 0;
}

class EveryKind : public testing::TestWithParam<std::size_t> {
protected:
    const Settings& settings() const { return allSettings()[GetParam()]; }
    const ModelKind& kind() const { return kindOf(settings()); }
    void SetUp() override {
        drawing = settings().kind == "ordered"     ? Drawing::ranks
                  : settings().kind == "two parts" ? Drawing::zeros
                                                   : Drawing::numbers;
    }
    void TearDown() override { drawing = Drawing::numbers; }
    Recipe recipe() const {
        Recipe out = recipeOf("y", {"x", "z", "group"});
        out.estimator = settings();
        if (kind().series) out.roles["t"] = Role::time;
        return out;
    }
};

TEST_P(EveryKind, IsReadBackAsItWasWritten) {
    const Drawn drawn(1);
    const auto study = learned(recipe(), drawn.rows());
    const auto again = readStudy(studyText(*study));
    EXPECT_EQ(again->model->text(), study->model->text());
    EXPECT_EQ(again->rule.link, study->rule.link);
    EXPECT_EQ(again->rule.intervals, study->rule.intervals);
    EXPECT_TRUE(sameBits(said(*study, drawn.table()), said(*again, drawn.table())));
}

TEST_P(EveryKind, SaysTheSameOnAnyNumberOfThreadsAndEveryRun) {
    const Drawn drawn(2, 700);
    const auto study = learned(recipe(), drawn.rows(), 1);
    for (const unsigned threads : {1U, 3U}) {
        const auto again = learned(recipe(), drawn.rows(), threads);
        EXPECT_EQ(again->model->text(), study->model->text()) << threads;
        EXPECT_EQ(again->rule.intervals, study->rule.intervals) << threads;
    }
}

TEST_P(EveryKind, TakesWeightsAsItSays) {
    const Drawn drawn(3);
    Recipe weighted = recipe();
    weighted.roles["w"] = Role::weight;
    if (kind().can.weights == WeightUse::refused) {
        const std::string message = errorOf([&] { learned(weighted, drawn.rows()); });
        EXPECT_NE(message.find("weigh"), std::string::npos) << message;
        EXPECT_TRUE(problemOf(weighted));
        return;
    }
    const VectorXd one = said(*learned(weighted, drawn.rows()), drawn.table());
    ASSERT_TRUE(one.allFinite());
    if (kind().can.weights != WeightUse::asCopies) return;
    // Penalties and quantiles that are found, or hang on how many rows there are, are not the same.
    if (soughtKey(settings()) || settings().kind == "penalised") return;
    Drawn twice = drawn;
    for (std::size_t i = 0; i < drawn.y.size(); ++i)
        if (drawn.w[i] == 2) twice.push(drawn, i);
    const VectorXd two = said(*learned(recipe(), twice.rows()), drawn.table());
    if (settings().kind == "quantile") { // whose least loss can be that of more than one line
        const auto loss = [&](const VectorXd& fitted) {
            double sum = 0;
            const double share = settings().number("share");
            for (std::size_t i = 0; i < drawn.y.size(); ++i) {
                const double e = drawn.y[i] - fitted[static_cast<Index>(i)];
                sum += drawn.w[i] * e * (share - (e < 0 ? 1 : 0));
            }
            return sum;
        };
        EXPECT_NEAR(loss(one), loss(two), 1e-8 * loss(one));
        return;
    }
    EXPECT_LT((one - two).cwiseAbs().maxCoeff(), 1e-10);
}

TEST_P(EveryKind, HoldsWhatItsIntervalsSay) {
    if (kind().can.intervals == IntervalSource::none) return;
    double held = 0, asked = 0;
    for (unsigned seed = 1; seed <= 12; ++seed) {
        Recipe forecast = recipe();
        forecast.forecast = ForecastRequest{};
        StudyRows rows = Drawn(100 + seed, 160).rows();
        const Drawn coming(200 + seed, 100);
        rows.forecast.emplace();
        rows.forecast->table = coming.table();
        const Evidence e = unchecked(forecast, rows);
        for (std::size_t i = 0; i < coming.y.size(); ++i) {
            ASSERT_FALSE(std::isnan(e.forecast->lower[i])) << i;
            held += coming.y[i] >= e.forecast->lower[i] && coming.y[i] <= e.forecast->upper[i];
            ++asked;
        }
    }
    // 1,200 rows of 12 sets: the binomial error is 0.6 %, that of the sets more; two quantiles of 160 rows
    // are known to be narrow.
    EXPECT_GT(held / asked, settings().kind == "quantile" ? 0.88 : 0.925);
    // The rows spread alike, as no model of a growing spread says, and ranks lie on the ends of intervals.
    if (!kind().can.ownLink) {
        EXPECT_LT(held / asked, 0.985);
    }
}

TEST_P(EveryKind, NeverTakesWhatItLearnedFromForUnseen) {
    Recipe plain = recipe();
    const Drawn drawn(5, 60);
    const auto study = learned(plain, drawn.rows());
    const auto* errors = study->rule.byErrors();
    EXPECT_EQ(errors != nullptr, kind().can.intervals == IntervalSource::unseenErrors);
    if (!errors || errors->of != IntervalsByErrors::Of::leftOneOut) return;
    plain.estimator = study->settings; // what was found stays
    ASSERT_FALSE(study->trained.unseen.empty());
    for (const std::size_t k :
         {std::size_t{0}, study->trained.unseen.size() / 2, study->trained.unseen.size() - 1}) {
        const std::size_t row = study->trained.unseenRows[k];
        const auto prepared = prepareRows(plain, drawn.rows(), {1}, quietly());
        std::vector<std::uint32_t> others;
        for (std::uint32_t i = 0; i < drawn.y.size(); ++i)
            if (i != row) others.push_back(i);
        const auto without =
            learn(plain, prepared->table, prepared->steps, "rows.csv", others, {1}, quietly());
        const double error = drawn.y[row] - said(*without, drawn.table())[static_cast<Index>(row)];
        const double tolerance =
            settings().kind == "neighbours" || settings().kind == "stripes" ? 0.35 : 0.05;
        // Scales, stripes and penalties are those of all rows: nearly the refit, and not the residual.
        EXPECT_NEAR(study->trained.unseen[k], error, tolerance * std::max(1.0, std::fabs(error))) << row;
    }
}

TEST_P(EveryKind, RefusesByName) {
    const Drawn drawn(6);
    if (kind().can.terms == Capabilities::Terms::columns) {
        Recipe squared = recipe();
        squared.terms.push_back(Term{{TermPart{.column = "x", .power = 2}}});
        const std::string message = errorOf([&] { learned(squared, drawn.rows()); });
        EXPECT_NE(message.find("x"), std::string::npos) << message;
        EXPECT_NE(message.find("term"), std::string::npos) << message;
    }
    Recipe none = recipe();
    none.terms.clear();
    none.intercept = false;
    EXPECT_NE(errorOf([&] { learned(none, drawn.rows()); }), "");
}

TEST_P(EveryKind, SaysWhyRowsHaveNoPrediction) {
    Recipe forecast = recipe();
    forecast.forecast = ForecastRequest{};
    StudyRows rows = Drawn(7).rows();
    rows.forecast.emplace();
    rows.forecast->table =
        Table({Column::ofNumbers("x", {1, std::nan(""), 3}), Column::ofNumbers("z", {0, 0, 0}),
               Column::ofFactor("group", {0, 1, 2}, {"a", "b", "never seen"}),
               Column::ofNumbers("t", {300, 301, 302})});
    const Evidence e = unchecked(forecast, rows);
    EXPECT_FALSE(std::isnan(e.forecast->prediction[0]));
    for (const std::size_t row : {1U, 2U}) {
        if (kind().can.missingInputs && !std::isnan(e.forecast->prediction[row])) continue;
        EXPECT_TRUE(std::isnan(e.forecast->prediction[row])) << row;
        ASSERT_FALSE(e.forecast->reach[row].reasons.empty());
        EXPECT_NE(e.forecast->reach[row].reasons[0].find(row == 1 ? "x" : "never seen"), std::string::npos);
    }
}

TEST_P(EveryKind, StopsAtOnceAndAnywhere) {
    const StudyRows rows = Drawn(8).rows();
    StopsAfterAsked counting = neverStops();
    learned(recipe(), rows, 1, counting);
    const int asked = counting.asked();
    ASSERT_GT(asked, 0);
    for (const int after : {0, asked / 3, asked - 1}) {
        StopsAfterAsked stopping(after);
        EXPECT_THROW(learned(recipe(), rows, 1, stopping), Stopped) << after << " of " << asked;
    }
}

INSTANTIATE_TEST_SUITE_P(Kinds, EveryKind, testing::Range(std::size_t{0}, allSettings().size()),
                         [](const testing::TestParamInfo<std::size_t>& each) {
                             std::string name =
                                 kindOf(allSettings()[each.param]).title + std::to_string(each.param);
                             std::erase_if(
                                 name, [](char c) { return !std::isalnum(static_cast<unsigned char>(c)); });
                             return name;
                         });

TEST(ANewKind, HasItsSettingFoundInTheFoldsAndItsLinkCarried) {
    allSettings();
    Recipe recipe = recipeOf("y", {"x"});
    recipe.estimator = {"stripes", {{"count", std::string(smallestErrorRule)}}};
    recipe.judge = FoldPlan{};
    recipe.forecast = ForecastRequest{};
    StudyRows rows;
    rows.learning.table = Drawn(9, 300).table();
    rows.forecast.emplace();
    rows.forecast->table = Table({Column::ofNumbers("x", {0.5, 9.5})});
    EXPECT_EQ(parseRecipe(recipeText(recipe), "r"), recipe);
    const Evidence e = evaluate(recipe, rows, {}, quietly());
    ASSERT_TRUE(e.study->tuning);
    EXPECT_EQ(e.study->tuning->points.size(), 5U);
    EXPECT_GT(e.study->settings.number("count"), 1);
    EXPECT_EQ(e.study->rule.link.kind, Link::Kind::chances);
    // Below its lowest and above its highest half nothing is said: the link's values are the ends.
    EXPECT_GE(e.forecast->prediction[0], e.study->rule.link.values[0]);
    EXPECT_LE(e.forecast->prediction[1], e.study->rule.link.values[1]);
    EXPECT_GT(e.forecast->prediction[1], e.forecast->prediction[0] + 5);
    EXPECT_LT(e.forecast->lower[0], e.forecast->prediction[0]);
    // The folds find their own: the error of the folds is not that of one value for all of them.
    const auto evidence = json::parse(evidenceText(e, recipe));
    EXPECT_EQ(evidence["fit"]["tuned"]["setting"], "count");
    EXPECT_EQ(evidence["fit"]["history"]["of"], "rows cut");
    EXPECT_GT(e.folds->rmse, e.learning.rmse);
}

} // namespace kinds_test
