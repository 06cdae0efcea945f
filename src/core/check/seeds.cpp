#include "base/text.h"
#include "check/check_tools.h"

#include <algorithm>
#include <cmath>
#include <map>

namespace oxgoad {

namespace {

/// By how much the root mean square of as many errors as are held out differs from draw to draw of the rows,
/// as a share: √((κ − 1)/4m · (1 − m/n)), κ the kurtosis of all errors, 30 at most (delta method). 0 where
/// all rows are judged.
double chanceOf(const CheckContext& context) {
    if (!context.unseen.heldOut) return 0;
    const auto m = static_cast<double>(context.unseen.rows.size()),
               n = m + static_cast<double>(context.learningRows.size());
    double squares = 0, fourths = 0, count = 0;
    const auto add = [&](double e) {
        if (!std::isfinite(e)) return;
        squares += e * e;
        fourths += e * e * e * e;
        ++count;
    };
    for (std::size_t i = 0; i < context.unseen.rows.size(); ++i)
        add(context.unseen.actual[i] - context.unseen.predicted[i]);
    const auto response = context.table.at(context.recipe.response, context.file).numbers();
    for (std::size_t i = 0; i < context.learningRows.size(); ++i)
        add(response[context.learningRows[i]] - context.fitted[i]);
    // One row far off would say all of it.
    const double kurtosis = std::clamp(count * fourths / (squares * squares), 3.0, 30.0);
    return std::sqrt((kurtosis - 1) / (4 * m) * (1 - m / n));
}

} // namespace

namespace {

/// "7 leaves with 12 seeds, 9 with 5".
std::string sizesText(const SettingSeeds& seeds) {
    std::map<double, std::size_t> counts;
    for (const double size : seeds.sizes)
        ++counts[size];
    std::vector<std::pair<std::size_t, double>> sorted;
    for (const auto& [size, count] : counts)
        sorted.emplace_back(count, size);
    std::stable_sort(sorted.begin(), sorted.end(),
                     [](const auto& a, const auto& b) { return a.first > b.first; });
    constexpr std::size_t few = 5;
    std::string text;
    for (std::size_t k = 0; k < std::min(few, sorted.size()); ++k)
        text += (k == 0 ? "" : ", ") + readableText(sorted[k].second) + (k == 0 ? " " + seeds.unit : "") +
                " with " + (k == 0 ? plural(sorted[k].first, "seed", "seeds") : countText(sorted[k].first));
    return text + (sorted.size() > few ? ", …" : "");
}

void checkSettingSeeds(const CheckContext& context, Findings& findings) {
    const std::string name = "setting hangs on the seed";
    SettingSeeds seeds;
    if (context.otherSettings)
        seeds = context.otherSettings(*context.progress);
    else
        seeds.why = "no setting was left to folds";
    if (!seeds.why.empty() || seeds.sizes.size() < 2) {
        findings.readings.push_back(noReading(name, seeds.why.empty() ? "too few seeds said" : seeds.why));
        return;
    }
    const auto n = static_cast<double>(seeds.sizes.size());
    const auto same = static_cast<double>(std::count(seeds.sizes.begin(), seeds.sizes.end(), seeds.own));
    std::vector<double> sorted = seeds.sizes;
    std::sort(sorted.begin(), sorted.end());
    const double middle = sorted[sorted.size() / 2];
    const double limit = context.limitOf(name, 0.9);
    const std::string says =
        sizesText(seeds) + "; " + readableText(seeds.own) +
        " with the recipe's own; on average over all dealings best: " + readableText(seeds.onAverage);
    findings.readings.push_back(madeReading(name, 1 - same / n, limit, {},
                                            "share of seeds whose folds choose another size: " + says,
                                            "common practice, no source"));
    // One lucky dealing: hardly any other chooses it, and those in the middle choose half as much again.
    if (!(1 - same / n > limit) || std::max(seeds.own, middle) < 1.5 * std::min(seeds.own, middle)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "One dealing of the folds decided the " + seeds.unit;
    goad.reading = says;
    goad.threshold = "chosen by at most " + percentText(1 - limit) +
                     " of other seeds, and 1.5 times more or fewer than the one in the middle";
    goad.source = "common practice, no source";
    goad.station = "fit";
    goad.moves.push_back(
        {.label = "take the best on average",
         .edit = [field = seeds.field, value = seeds.value](Recipe& recipe, const std::string&) {
             recipe.estimator.fields[field] = value;
         }});
    findings.goads.push_back(std::move(goad));
}

} // namespace

void checkSeeds(const CheckContext& context, Findings& findings) {
    checkSettingSeeds(context, findings);
    const std::string name = "hangs on the seed";
    const std::string source = "common practice, no source";
    SeedSpread seeds;
    if (context.otherSeeds)
        seeds = context.otherSeeds(*context.progress);
    else
        seeds.why = "nothing in the judgement is drawn at random";
    if (!seeds.why.empty() || seeds.rmse.size() < 2) {
        findings.readings.push_back(
            noReading(name, seeds.why.empty() ? "too few seeds could be judged" : seeds.why));
        return;
    }
    const auto n = static_cast<double>(seeds.rmse.size());
    double mean = 0, squares = 0;
    for (const double v : seeds.rmse)
        mean += v / n;
    for (const double v : seeds.rmse)
        squares += (v - mean) * (v - mean);
    const double spread = std::sqrt(squares / (n - 1));
    const auto [least, most] = std::minmax_element(seeds.rmse.begin(), seeds.rmse.end());
    const auto turned = [](const std::vector<double>& values, double own, double at) {
        return std::count_if(values.begin(), values.end(), [&](double v) { return (v > at) != (own > at); });
    };
    const auto mean_turned = turned(seeds.overMean, seeds.ownOverMean, 1);
    const auto gap_turned = turned(seeds.overLearning, seeds.ownOverLearning, 1.1);
    std::string turns;
    if (mean_turned > 0)
        turns += "; whether it is better than the mean turns with " +
                 plural(static_cast<std::size_t>(mean_turned), "seed", "seeds");
    if (gap_turned > 0)
        turns += "; whether the error is 10 % above that of learning rows turns with " +
                 plural(static_cast<std::size_t>(gap_turned), "seed", "seeds");
    const double limit = context.limitOf(name, 0.1);
    findings.readings.push_back(
        madeReading(name, spread / mean, limit, {},
                    "standard deviation over the mean of RMSE " + seeds.what + ": from " +
                        readableText(*least) + " to " + readableText(*most) + ", " + readableText(seeds.own) +
                        " with the recipe's own" + (turns.empty() ? "; no conclusion turns" : turns),
                    source));
    // So few held-out rows tell their own error no better: that much is said beside it.
    if (!(spread / mean > limit) || !(spread / mean > 1.6 * chanceOf(context))) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = mean_turned > 0 ? Severity::alarm : Severity::caution;
    goad.title = "The typical error hangs on the seed";
    goad.reading =
        "RMSE from " + readableText(*least) + " to " + readableText(*most) + " " + seeds.what + turns;
    goad.threshold = "a standard deviation of " + percentText(limit) +
                     " of the error, and of 1.6 times what as many rows differ by chance";
    goad.source = source;
    goad.station = "compare";
    goad.cost = spread / mean;
    goad.costSays = "by this share the typical error differs from seed to seed";
    goad.size = spread / mean;
    if (!context.recipe.judge)
        goad.moves.push_back({.label = "judge by ten folds",
                              .edit = [](Recipe& recipe, const std::string&) { recipe.judge = FoldPlan{}; }});
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
