#include "estimate/neighbours/neighbours.h"

#include "base/error.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/model_text.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

/// Rows that are left out one at a time, evenly spaced: enough for quantiles of their errors.
constexpr std::size_t mostLeftOut = 2000;

std::vector<Index> placesOf(const Inputs& inputs, bool factors) {
    std::vector<Index> places;
    for (std::size_t i = 0; i < inputs.size(); ++i)
        if (inputs[i].factor == factors) places.push_back(static_cast<Index>(i));
    return places;
}

MatrixXd columnsOf(const MatrixXd& points, const std::vector<Index>& places) {
    MatrixXd chosen(points.rows(), static_cast<Index>(places.size()));
    for (std::size_t j = 0; j < places.size(); ++j)
        chosen.col(static_cast<Index>(j)) = points.col(places[j]);
    return chosen;
}

/// Means and standard deviations with divisor n of the chosen columns; 0 and 1 where nothing is to be done.
void learnScale(const MatrixXd& numbers, bool standardised, VectorXd& shift, VectorXd& scale) {
    shift = VectorXd::Zero(numbers.cols());
    scale = VectorXd::Ones(numbers.cols());
    if (!standardised) return;
    const auto n = static_cast<long double>(numbers.rows());
    for (Index j = 0; j < numbers.cols(); ++j) {
        long double sum = 0, squares = 0;
        for (const double value : numbers.col(j))
            sum += value;
        const long double mean = sum / n;
        for (const double value : numbers.col(j))
            squares += (value - mean) * (value - mean);
        shift[j] = static_cast<double>(mean);
        if (squares > 0) scale[j] = static_cast<double>(std::sqrt(squares / n));
    }
}

/// Ranges of the chosen columns.
void learnRanges(const MatrixXd& numbers, VectorXd& shift, VectorXd& scale) {
    shift = VectorXd::Zero(numbers.cols());
    scale = VectorXd::Ones(numbers.cols());
    for (Index j = 0; j < numbers.cols() && numbers.rows() > 0; ++j)
        if (const double range = numbers.col(j).maxCoeff() - numbers.col(j).minCoeff(); range > 0)
            scale[j] = range;
}

double weightOf(const NeighbourOptions& options, Index input) {
    return options.columnWeights.empty() ? 1 : options.columnWeights[static_cast<std::size_t>(input)];
}

MatrixXd scaled(MatrixXd numbers, const VectorXd& shift, const VectorXd& scale) {
    for (Index j = 0; j < numbers.cols(); ++j)
        numbers.col(j) = (numbers.col(j).array() - shift[j]) / scale[j];
    return numbers;
}

NeighbourOptions optionsOf(const Settings& settings) {
    return {.count = static_cast<std::size_t>(settings.number("count")),
            .byDistance = settings.text("weights") == "by distance",
            .standardised = settings.text("scale") == "standardised",
            .gower = settings.text("scale") == "Gower",
            .levelDistance = settings.number("level_distance")};
}

std::shared_ptr<NeighboursModel> modelOf(const Settings& settings, const TrainingData& training);

/// Mean distance of some rows from any others.
double anyDistance(const NeighboursModel& model, const TrainingData& training) {
    RandomStream random(training.seed, "distance of any two rows");
    const auto n = static_cast<std::uint32_t>(model.points());
    if (n < 2) return 0;
    constexpr int pairs = 400;
    double sum = 0;
    for (int k = 0; k < pairs; ++k) {
        const auto a = static_cast<std::uint32_t>(random.below(n));
        const auto b = static_cast<std::uint32_t>((a + 1 + random.below(n - 1)) % n);
        sum += model.distanceBetween(a, b);
    }
    return sum / pairs;
}

FitResult learnNeighbours(const Settings& settings, const TrainingData& training, Progress& progress) {
    const auto n = static_cast<Index>(training.rows.size());
    progress.checkpoint(0.05, "Sorting rows by nearness");
    const auto model = modelOf(settings, training);
    const MatrixXd& points = model->pointsAsRead();

    FitResult result{.outcome = {.converged = true}};
    result.rows.fitted.resize(n);
    constexpr Index blockRows = 256;
    const auto blocks = static_cast<std::size_t>((n + blockRows - 1) / blockRows);
    parallelFor(blocks, training.threads, [&](std::size_t b) {
        progress.checkpoint(0.1 + 0.7 * static_cast<double>(b) / static_cast<double>(blocks),
                            "Looking for neighbours");
        const Index begin = static_cast<Index>(b) * blockRows, count = std::min(blockRows, n - begin);
        result.rows.fitted.segment(begin, count) = model->predict(points.middleRows(begin, count));
    });
    result.rows.residuals = Eigen::Map<const VectorXd>(training.y.data(), n) - result.rows.fitted;

    const std::size_t stride = (training.rows.size() + mostLeftOut - 1) / mostLeftOut;
    std::vector<std::uint32_t>& places = result.rows.unseenRows;
    for (std::size_t i = 0; i < training.rows.size(); i += stride)
        places.push_back(static_cast<std::uint32_t>(i));
    result.rows.unseen.resize(places.size());
    std::vector<double> distances(places.size());
    parallelFor(places.size(), training.threads, [&](std::size_t i) {
        stopIfTold(progress);
        const auto [predicted, distance] = model->without(places[i]);
        result.rows.unseen[i] = training.y[places[i]] - predicted;
        distances[i] = distance;
    });
    long double sum = 0;
    double largest = 0;
    for (const double distance : distances) {
        sum += distance;
        largest = std::max(largest, distance);
    }
    model->setScale(static_cast<double>(sum / static_cast<long double>(distances.size())), largest);
    model->setAnyDistance(anyDistance(*model, training));
    result.model = model;
    progress.checkpoint(1, "Found neighbours");
    return result;
}

std::shared_ptr<const LearnedModel> readNeighbours(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        Inputs inputs = inputsFrom(j.at("inputs"));
        NeighbourOptions options{.count = j.at("count").get<std::size_t>(),
                                 .byDistance = j.at("by_distance").get<bool>(),
                                 .standardised = j.at("standardised").get<bool>(),
                                 .gower = j.value("gower", false),
                                 .levelDistance = numberFrom(j.at("level_distance"))};
        if (j.contains("column_weights")) options.columnWeights = numbersFrom(j.at("column_weights"));
        if ((!options.columnWeights.empty() && options.columnWeights.size() != inputs.size()) ||
            std::any_of(options.columnWeights.begin(), options.columnWeights.end(),
                        [](double w) { return !(w >= 0 && std::isfinite(w)); }))
            damaged("other weights than columns");
        MatrixXd points = matrixFrom(j.at("points"));
        VectorXd y = vectorFrom(j.at("y")), weights = vectorFrom(j.at("weights"));
        if (points.cols() != static_cast<Index>(inputs.size()) || y.size() != points.rows() ||
            (weights.size() != 0 && weights.size() != y.size()) || !points.allFinite())
            damaged("other points than columns and values");
        for (std::size_t i = 0; i < inputs.size(); ++i)
            for (const double value : points.col(static_cast<Index>(i)))
                if (inputs[i].factor &&
                    !(value >= 0 && value < static_cast<double>(inputs[i].levels.size()) &&
                      value == std::floor(value)))
                    damaged("a level that is not there");
        if ((weights.array() < 0).any() || !weights.allFinite() || !y.allFinite())
            damaged("a weight or a value that cannot be");
        auto model = std::make_shared<NeighboursModel>(std::move(inputs), options, std::move(points),
                                                       std::move(y), std::move(weights));
        model->setScale(numberFrom(j.at("average_distance")), numberFrom(j.at("largest_distance")));
        if (j.contains("any_distance")) model->setAnyDistance(numberFrom(j.at("any_distance")));
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

Field countField() {
    Field field =
        soughtField("count", "Neighbours", 5.0, 1, 10000, {smallestErrorRule, oneStandardErrorRule});
    field.whole = true;
    return field;
}

/// From the most neighbours, at most a third of the rows.
std::vector<double> candidateCounts(const Settings&, std::string_view, const TrainingData& training) {
    std::vector<double> counts;
    for (const double count : {200, 150, 100, 75, 50, 40, 30, 25, 20, 15, 12, 10, 8, 7, 6, 5, 4, 3, 2, 1})
        if (3 * count <= static_cast<double>(training.rows.size()) || count == 1) counts.push_back(count);
    return counts;
}

std::shared_ptr<NeighboursModel> modelOf(const Settings& settings, const TrainingData& training) {
    const Inputs& inputs = training.inputs.inputs();
    const auto n = static_cast<Index>(training.rows.size());
    MatrixXd points(n, static_cast<Index>(inputs.size()));
    training.inputs.fill(training.rows, points);
    VectorXd weights(static_cast<Index>(training.weights.size()));
    std::copy(training.weights.begin(), training.weights.end(), weights.begin());
    NeighbourOptions options = optionsOf(settings);
    if (const auto& asked = settings.get<TextPairs>("column_weights"); !asked.empty()) {
        options.columnWeights.assign(inputs.size(), 1);
        for (const auto& [name, text] : asked) {
            const auto at = findInput(inputs, name);
            const auto weight = parseNumber(text, '.');
            if (!at || !weight || !(*weight >= 0))
                throw Error(ErrorCode::badTerm,
                            at ? "\"" + text + "\" is no weight of a column"
                               : "neighbours are to weigh a column that they do not read",
                            {.file = training.file, .column = name},
                            "Give columns of the model numbers from 0.");
            options.columnWeights[*at] = *weight;
        }
    }
    return std::make_shared<NeighboursModel>(inputs, options, std::move(points),
                                             Eigen::Map<const VectorXd>(training.y.data(), n),
                                             std::move(weights));
}

/// The nearest of the largest count are those of every smaller one, too.
MatrixXd predictEachCount(const Settings& settings, std::string_view field, std::span<const double> counts,
                          const TrainingData& training, const MatrixXd& inputs, Progress& progress) {
    std::vector<std::size_t> wanted;
    std::size_t most = 1;
    for (const double count : counts) {
        wanted.push_back(static_cast<std::size_t>(count));
        if (wanted.back() <= training.rows.size()) most = std::max(most, wanted.back());
    }
    Settings largest = settings;
    largest.fields[std::string(field)] = static_cast<double>(most);
    return modelOf(largest, training)->predictEach(inputs, wanted, progress);
}

std::string neighboursSentence(const Settings& settings) {
    if (const auto* rule = std::get_if<std::string>(&settings.get(std::string_view("count"))))
        return "nearest neighbours, as many as have " +
               (rule->starts_with(smallestErrorRule) ? std::string("the smallest error")
                                                     : "an error within one standard error of the smallest") +
               (rule->ends_with(onHeldOutRows) ? " on held-out rows" : " over folds");
    const NeighbourOptions options = optionsOf(settings);
    std::string text =
        options.count == 1 ? "the nearest neighbour" : countText(options.count) + " nearest neighbours";
    if (options.byDistance && options.count > 1) text += " weighted by distance";
    if (options.gower)
        text += " by the mean difference of columns (Gower)";
    else if (!options.standardised)
        text += " on columns as they are";
    if (!settings.get<TextPairs>("column_weights").empty()) text += ", columns weighing differently";
    return text;
}

} // namespace

NeighboursModel::NeighboursModel(Inputs inputs, NeighbourOptions options, MatrixXd points, VectorXd y,
                                 VectorXd weights)
    : m_inputs(std::move(inputs)), m_options(options), m_points(std::move(points)), m_y(std::move(y)),
      m_weights(std::move(weights)), m_numbers(placesOf(m_inputs, false)),
      m_factors(placesOf(m_inputs, true)), m_tree([&] {
          const MatrixXd numbers = columnsOf(m_points, m_numbers);
          if (m_options.gower)
              learnRanges(numbers, m_shift, m_scale);
          else
              learnScale(numbers, m_options.standardised, m_shift, m_scale);
          m_whole = 0;
          for (std::size_t j = 0; j < m_numbers.size(); ++j) {
              const double weight = weightOf(m_options, m_numbers[j]);
              m_whole += weight;
              // A column that counts nothing lies in one place.
              m_scale[static_cast<Index>(j)] /=
                  std::max(m_options.gower ? weight : std::sqrt(weight), 1e-150);
          }
          std::vector<double> codeParts;
          for (const Index factor : m_factors) {
              const double weight = weightOf(m_options, factor);
              m_whole += weight;
              codeParts.push_back(weight *
                                  (m_options.gower ? 1 : m_options.levelDistance * m_options.levelDistance));
          }
          if (!(m_whole > 0)) m_whole = 1;
          return NearestTree(scaled(numbers, m_shift, m_scale), columnsOf(m_points, m_factors),
                             std::move(codeParts), m_options.gower);
      }()) {
    if (m_options.count < 1 || static_cast<std::size_t>(m_points.rows()) < m_options.count)
        throw Error(
            ErrorCode::tooFewRows,
            plural(static_cast<std::size_t>(m_points.rows()), "learning row is", "learning rows are") +
                " too few for " + plural(m_options.count, "neighbour", "neighbours"),
            {}, "Ask for fewer neighbours, or bring more rows.");
}

const std::string& NeighboursModel::kind() const {
    static const std::string name = "neighbours";
    return name;
}

bool NeighboursModel::place(const MatrixXd& inputs, Index row, std::vector<double>& numbers,
                            std::vector<double>& codes) const {
    for (std::size_t j = 0; j < m_numbers.size(); ++j) {
        const auto k = static_cast<Index>(j);
        numbers[j] = (inputs(row, m_numbers[j]) - m_shift[k]) / m_scale[k];
        if (!std::isfinite(numbers[j])) return false;
    }
    for (std::size_t j = 0; j < m_factors.size(); ++j) {
        codes[j] = inputs(row, m_factors[j]);
        if (std::isnan(codes[j])) return false;
    }
    return true;
}

double NeighboursModel::mean(std::span<const NearestTree::Neighbour> found) const {
    long double sum = 0, whole = 0;
    const bool exact = m_options.byDistance && !found.empty() && found.front().sum == 0;
    for (const auto& [square, point] : found) {
        if (exact && square > 0) break;
        long double weight = m_weights.size() > 0 ? m_weights[point] : 1;
        if (m_options.byDistance && !exact) weight /= static_cast<long double>(distanceOf(square));
        sum += weight * m_y[point];
        whole += weight;
    }
    return static_cast<double>(sum / whole);
}

double NeighboursModel::distance(const Found& found) const {
    long double sum = 0;
    for (const auto& neighbour : found)
        sum += distanceOf(neighbour.sum);
    return found.empty() ? 0 : static_cast<double>(sum / static_cast<long double>(found.size()));
}

MatrixXd NeighboursModel::predict(const MatrixXd& inputs) const {
    return locate(inputs).values;
}

VectorXd NeighboursModel::distances(const MatrixXd& inputs) const {
    return locate(inputs).distances;
}

LearnedModel::Placed NeighboursModel::locate(const MatrixXd& inputs) const {
    Placed placed{VectorXd::Constant(inputs.rows(), std::nan("")),
                  VectorXd::Constant(inputs.rows(), std::nan(""))};
    std::vector<double> numbers(m_numbers.size()), codes(m_factors.size());
    Found found;
    for (Index i = 0; i < inputs.rows(); ++i) {
        if (!place(inputs, i, numbers, codes)) continue;
        m_tree.nearest(numbers.data(), codes.data(), m_options.count, found);
        placed.values(i, 0) = mean(found);
        placed.distances[i] = distance(found);
    }
    return placed;
}

MatrixXd NeighboursModel::predictEach(const MatrixXd& inputs, std::span<const std::size_t> counts,
                                      Progress& progress) const {
    MatrixXd said = MatrixXd::Constant(inputs.rows(), static_cast<Index>(counts.size()), std::nan(""));
    std::vector<double> numbers(m_numbers.size()), codes(m_factors.size());
    Found found;
    for (Index i = 0; i < inputs.rows(); ++i) {
        if (i % 256 == 0) stopIfTold(progress);
        if (!place(inputs, i, numbers, codes)) continue;
        m_tree.nearest(numbers.data(), codes.data(), m_options.count, found);
        for (std::size_t k = 0; k < counts.size(); ++k)
            if (counts[k] <= found.size())
                said(i, static_cast<Index>(k)) = mean(std::span(found).first(counts[k]));
    }
    return said;
}

DistanceScale NeighboursModel::distanceScale() const {
    return {"distance to the " + (m_options.count == 1 ? std::string("nearest row")
                                                       : countText(m_options.count) + " nearest rows"),
            m_average, m_largest};
}

NeighboursModel::LeftOut NeighboursModel::without(std::uint32_t point) const {
    std::vector<double> numbers(m_numbers.size()), codes(m_factors.size());
    place(m_points, static_cast<Index>(point), numbers, codes);
    Found found;
    m_tree.nearest(numbers.data(), codes.data(), m_options.count, found, point);
    return {mean(found), distance(found)};
}

std::vector<NamedNumber> NeighboursModel::says() const {
    return {
        {"neighbours", static_cast<double>(m_options.count)},
        {"rows to be near to", static_cast<double>(m_tree.size())},
        // n/k, what a line of k neighbours moves with (Hastie, Tibshirani and Friedman 2009, §2.3.2).
        {"effective parameters", static_cast<double>(m_tree.size()) / static_cast<double>(m_options.count)},
        // Where it comes near 1, near is no longer near (Beyer and others 1999, "When is nearest neighbor
        // meaningful?").
        {"distance to the nearest over that to any row", m_any > 0 ? m_average / m_any : 0}};
}

double NeighboursModel::distanceBetween(std::uint32_t a, std::uint32_t b) const {
    double sum = 0;
    for (std::size_t j = 0; j < m_numbers.size(); ++j) {
        const double d =
            (m_points(a, m_numbers[j]) - m_points(b, m_numbers[j])) / m_scale[static_cast<Index>(j)];
        sum += m_options.gower ? std::fabs(d) : d * d;
    }
    for (const Index factor : m_factors)
        if (m_points(a, factor) != m_points(b, factor))
            sum += weightOf(m_options, factor) *
                   (m_options.gower ? 1 : m_options.levelDistance * m_options.levelDistance);
    return distanceOf(sum);
}

std::string NeighboursModel::text() const {
    json out = {{"kind", kind()},
                {"inputs", inputsJson(m_inputs)},
                {"count", m_options.count},
                {"by_distance", m_options.byDistance},
                {"standardised", m_options.standardised},
                {"level_distance", numberJson(m_options.levelDistance)},
                {"average_distance", numberJson(m_average)},
                {"largest_distance", numberJson(m_largest)},
                {"any_distance", numberJson(m_any)},
                {"points", matrixJson(m_points)},
                {"y", numbersJson({m_y.begin(), m_y.end()})},
                {"weights", numbersJson({m_weights.begin(), m_weights.end()})}};
    if (m_options.gower) out["gower"] = true;
    if (!m_options.columnWeights.empty()) out["column_weights"] = numbersJson(m_options.columnWeights);
    return out.dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind neighboursKind() {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = IntervalSource::unseenErrors,
                           .iterates = false}};
    kind.name = "neighbours";
    kind.title = "Nearest neighbours";
    kind.fields = {countField(),
                   choiceField("weights", "Weights", {"equal", "by distance"}),
                   choiceField("scale", "Numbers", {"standardised", "as is", "Gower"}),
                   numberField("level_distance", "Distance of two different levels of a factor", 1, 0, 1e6),
                   {.key = "column_weights",
                    .label = "Columns that count more or less, and how much",
                    .type = FieldType::pairs,
                    .fallback = FieldValue(TextPairs())}};
    for (const double count : {1.0, 5.0, 10.0, 20.0})
        kind.offers.push_back(
            {count == 1 ? std::string("The nearest row")
                        : "Mean of the " + countText(static_cast<std::size_t>(count)) + " nearest rows",
             {"neighbours", {{"count", count}}}});
    kind.offers.push_back({"Mean of the 10 nearest rows, weighted by distance",
                           {"neighbours", {{"count", 10.0}, {"weights", std::string("by distance")}}}});
    kind.offers.push_back({"Mean of the 10 nearest rows, by the mean difference of columns",
                           {"neighbours", {{"count", 10.0}, {"scale", std::string("Gower")}}}});
    kind.offers.push_back({"Mean of the nearest rows, as many as folds say",
                           {"neighbours", {{"count", std::string(smallestErrorRule)}}}});
    kind.sentence = neighboursSentence;
    kind.candidates = candidateCounts;
    kind.predictEach = predictEachCount;
    kind.learn = learnNeighbours;
    kind.read = readNeighbours;
    return kind;
}

} // namespace oxgoad
