// Steps on numbers: derived columns, transformations, scales, bands.
#include "base/error.h"
#include "base/text.h"
#include "prepare/expression.h"
#include "prepare/steps/kinds.h"
#include "table/summary.h"

#include "base/not_a_number.h"
#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

struct Transformation {
    std::string_view name;
    /// In front of the column's name.
    std::string_view ending;
    double lowest;
    bool lowestAllowed;
};
constexpr double anywhere = -std::numeric_limits<double>::infinity();
constexpr std::array transformations{Transformation{"ln", "ln ", 0, false},
                                     Transformation{"log10", "log10 ", 0, false},
                                     Transformation{"square root", "root ", 0, true},
                                     Transformation{"square", "square ", anywhere, true},
                                     Transformation{"reciprocal", "reciprocal ", anywhere, true},
                                     Transformation{"power", "power ", 0, true}};

double transformed(std::string_view by, double x, double power) {
    if (by == "ln") return std::log(x);
    if (by == "log10") return std::log10(x);
    if (by == "square root") return std::sqrt(x);
    if (by == "square") return x * x;
    if (by == "reciprocal") return 1 / x;
    return std::pow(x, power);
}

} // namespace

StepKind deriveColumn() {
    StepKind kind{.name = "derive", .title = "Work out a new column", .group = "numbers"};
    kind.fields = {textField("name", "Name"),
                   {.key = "expression", .label = "Expression", .type = FieldType::expression}};
    kind.sentence = [](const Step& step) { return step.text("name") + " = " + step.text("expression"); };
    kind.run = [](const Step& step, StepFrame& frame) {
        const Expression expression = Expression::parse(step.text("expression"), frame.columns());
        std::vector<double> values = expression.evaluate(frame.columns());
        if (expression.isDate()) {
            std::vector<std::int32_t> days;
            for (const double value : values)
                days.push_back(std::isnan(value) ? Column::missingDay : static_cast<std::int32_t>(value));
            frame.add(Column::ofDates(step.text("name"), std::move(days)));
            return;
        }
        frame.add(Column::ofNumbers(step.text("name"), std::move(values)));
    };
    return kind;
}

StepKind transformNumbers() {
    StepKind kind{.name = "transform", .title = "Take logs, roots or powers", .group = "numbers"};
    std::vector<std::string> names;
    for (const auto& t : transformations)
        names.emplace_back(t.name);
    kind.fields = {columnsField({ColumnKind::number}), choiceField("by", "By", names),
                   numberField("power", "Power", 2, -20, 20),
                   flagField("keep", "Keep the old column, add a new one", true)};
    kind.sentence = [](const Step& step) {
        const std::string& by = step.text("by");
        return "Take " + (by == "power" ? "the power " + shortText(step.number("power")) : by) + " of " +
               nameList(step.texts("columns")) + (step.flag("keep") ? " as a new column" : "");
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const std::string& by = step.text("by");
        const double power = step.number("power");
        const auto* how = std::find_if(transformations.begin(), transformations.end(),
                                       [&](const Transformation& t) { return t.name == by; });
        const bool wholePower = by == "power" && power == std::floor(power);
        for (const std::string& name : step.texts("columns")) {
            const Column column = frame.number(name);
            std::vector<double> values(column.numbers().begin(), column.numbers().end());
            std::size_t refused = 0;
            std::size_t first = 0;
            double example = 0;
            for (std::size_t i = 0; i < values.size(); ++i) {
                const double x = values[i];
                if (std::isnan(x)) continue;
                const bool fits =
                    (wholePower || x > how->lowest || (how->lowestAllowed && x == how->lowest)) &&
                    !(x == 0 && (by == "reciprocal" || (by == "power" && power < 0)));
                values[i] = fits ? transformed(by, x, power) : nan;
                if (std::isfinite(values[i])) continue;
                values[i] = nan;
                if (frame.isOut(i)) continue;
                if (refused++ == 0) {
                    first = i + 1;
                    example = x;
                }
            }
            if (refused > 0 && !frame.applying())
                throw Error(
                    ErrorCode::badStep,
                    plural(refused, "value has", "values have") + " no " + by + "; the first is " +
                        shortText(example) + " in row " + countText(first),
                    {.file = frame.file(), .column = name},
                    "Leave these rows out first, replace the values, or choose another transformation.");
            if (refused > 0)
                frame.note(name + ": " + plural(refused, "value has", "values have") + " no " + by +
                           " and became missing");
            const std::string label =
                by == "power" ? name + " to the " + shortText(power) : std::string(how->ending) + name;
            if (step.flag("keep"))
                frame.add(Column::ofNumbers(label, std::move(values)));
            else
                frame.put(Column::ofNumbers(name, std::move(values)));
        }
    };
    return kind;
}

StepKind standardise() {
    StepKind kind{.name = "standardise", .title = "Standardise", .group = "numbers"};
    kind.fields = {
        columnsField({ColumnKind::number}),
        choiceField("by", "By", {"mean and standard deviation", "median and quartile spread", "mean only"}),
        flagField("keep", "Keep the old column, add a new one", false)};
    kind.learns = true;
    kind.sentence = [](const Step& step) {
        return "Standardise " + nameList(step.texts("columns")) + " by the " + step.text("by") +
               " of the learning rows";
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        for (const std::string& name : step.texts("columns")) {
            const Column column = frame.number(name);
            const auto& scale = frame.values().numbers(
                name, step.text("by"),
                [&] {
                    const auto summary = summarizeNumbers(frame.learningNumbers(column));
                    if (step.text("by") == "median and quartile spread")
                        return std::vector<double>{summary->median,
                                                   summary->upperQuartile - summary->lowerQuartile};
                    return std::vector<double>{
                        summary->mean, step.text("by") == "mean only" ? 1 : summary->standardDeviation};
                },
                2);
            if (!(scale[1] > 0))
                throw Error(ErrorCode::badStep, "the learning rows have no spread",
                            {.file = frame.file(), .column = name},
                            "Leave the column away; it says nothing.");
            std::vector<double> values(column.numbers().begin(), column.numbers().end());
            for (double& value : values)
                value = (value - scale[0]) / scale[1];
            frame.note(name + ": less " + shortText(scale[0]) + ", divided by " + shortText(scale[1]));
            if (step.flag("keep"))
                frame.add(Column::ofNumbers(name + " standardised", std::move(values)));
            else
                frame.put(Column::ofNumbers(name, std::move(values)));
        }
    };
    return kind;
}

StepKind cutIntoBands() {
    StepKind kind{.name = "cut into bands", .title = "Cut into bands", .group = "numbers"};
    kind.fields = {columnField({ColumnKind::number}),
                   choiceField("at", "Limits at", {"quantiles", "equal widths", "given limits"}),
                   wholeField("bands", "Number of bands", 4, 2, 100),
                   {.key = "limits",
                    .label = "Given limits",
                    .type = FieldType::numbers,
                    .fallback = std::vector<double>()},
                   textField("name", "Name (empty: the old one and \"band\")", StepValue(std::string()))};
    kind.learns = true;
    kind.sentence = [](const Step& step) {
        std::string how;
        if (step.text("at") == "given limits") {
            std::vector<std::string> limits;
            for (const double limit : step.get<std::vector<double>>("limits"))
                limits.push_back(shortText(limit));
            how = "at " + nameList(limits, 10);
        } else {
            how = "into " + exactText(step.number("bands")) + " bands at " + step.text("at") +
                  " of the learning rows";
        }
        return "Cut " + step.text("column") + " " + how;
    };
    kind.run = [](const Step& step, StepFrame& frame) {
        const Column column = frame.number(step.text("column"));
        const std::string& at = step.text("at");
        const auto& limits = frame.values().numbers(
            column.name(), "limits",
            [&] {
                std::vector<double> cuts;
                if (at == "given limits") {
                    cuts = step.get<std::vector<double>>("limits");
                    if (cuts.empty())
                        throw Error(ErrorCode::badStep, "no limits are given", {.column = column.name()},
                                    "Give some.");
                } else {
                    std::vector<double> values = frame.learningNumbers(column);
                    sortNumbers(values);
                    const auto bands = step.number("bands");
                    for (double i = 1; i < bands; ++i)
                        cuts.push_back(at == "quantiles"
                                           ? quantileOfSorted(values, i / bands)
                                           : values.front() + (values.back() - values.front()) * i / bands);
                }
                std::sort(cuts.begin(), cuts.end());
                cuts.erase(std::unique(cuts.begin(), cuts.end()), cuts.end());
                return cuts;
            },
            0);
        std::vector<std::string> levels;
        for (std::size_t i = 0; i <= limits.size(); ++i)
            levels.push_back(i == 0               ? "below " + shortText(limits[0])
                             : i == limits.size() ? "from " + shortText(limits[i - 1])
                                                  : shortText(limits[i - 1]) + " to " + shortText(limits[i]));
        for (std::size_t i = 1; i < levels.size(); ++i)
            if (levels[i] == levels[i - 1])
                throw Error(ErrorCode::badStep, "the limits lie too close together to be told apart",
                            {.column = column.name()}, "Ask for fewer bands.");
        std::vector<std::int32_t> codes(frame.rows(), Column::missingCode);
        for (std::size_t i = 0; i < codes.size(); ++i)
            if (const double x = column.numbers()[i]; !std::isnan(x))
                codes[i] = static_cast<std::int32_t>(std::upper_bound(limits.begin(), limits.end(), x) -
                                                     limits.begin());
        frame.note("a band holds its lower limit and not its upper one");
        frame.add(
            Column::ofFactor(newName(step, column.name(), " band"), std::move(codes), std::move(levels)));
    };
    return kind;
}

} // namespace oxgoad
