#include "share/reading_text.h"

#include "base/text.h"
#include "study/average_effects.h"
#include "study/say.h"
#include "write/csv.h"

#include <algorithm>

namespace oxgoad {

namespace {

void addLines(CsvWriter& out, const Effect& effect) {
    for (const EffectLine& line : effect.lines)
        for (std::size_t i = 0; i < line.at.size(); ++i) {
            out.text(effect.column).text(effect.by).text(line.label);
            if (effect.levels.empty() && effect.dates)
                out.text(dateText(static_cast<std::int32_t>(line.at[i]))).text("");
            else if (effect.levels.empty())
                out.number(line.at[i]).text("");
            else
                out.text("").text(effect.levels[static_cast<std::size_t>(line.at[i])]);
            out.number(line.mean[i]).number(line.lower[i]).number(line.upper[i]);
            out.endRow();
        }
}

} // namespace

std::string readingText(const Recipe& recipe, const Evidence& evidence) {
    std::string text = equationText(evidence) + "\n";
    for (const std::string& factor : factorsWithSlopes(evidence)) {
        text += "\nFor each level of " + factor + ":\n";
        const auto levels = equationsByLevel(evidence, factor);
        for (const LevelEquation& level : levels)
            text += "  " + level.level + ": " + level.equation + "\n";
        if (!levels.empty() && !levels.front().common.empty())
            text += "  common to all levels: common =" + levels.front().common + "\n";
        for (const LevelEquation& level : levels)
            if (const std::string slopes = slopeSentence(evidence, recipe, level, factor); !slopes.empty())
                text += slopes + "\n";
    }
    text += "\n";
    for (std::size_t c = 0; evidence.linear && c < evidence.linear->coefficients.size(); ++c)
        text += coefficientSentence(evidence, recipe, c) + "\n";
    for (const InputEvidence& input : evidence.inputs)
        text += importanceSentence(input) + "\n";
    text += "\n";
    for (std::size_t t = 0; t < recipe.terms.size(); ++t)
        if (evidence.linear && evidence.study->has(t) && recipe.terms[t].parts.size() == 1)
            if (const std::string reference = referenceSentence(evidence, recipe, t); !reference.empty())
                text += reference + "\n";
    if (evidence.logResponse && !kindOf(recipe.estimator).quantile)
        text += "Predictions are exp of the equation times " + supported(evidence.smearing, 0) +
                ", the mean of exp of the residuals (Duan 1983).\n";
    return text;
}

std::string effectsCsv(const Evidence& evidence, const Table& table, Progress& progress) {
    CsvWriter out;
    for (const auto* name : {"column", "by", "line", "at", "level", "mean", "lower", "upper"})
        out.text(name);
    out.endRow();
    for (const Input& input : evidence.study->inputs)
        addLines(out, effectOf(evidence, table, input.name, {}, progress));
    for (const Term& term : evidence.study->terms()) {
        auto columns = columnsOf(term);
        if (columns.size() != 2) continue;
        const auto isFactor = [&](const std::string& name) {
            return table.at(name, {}).kind() == ColumnKind::factor;
        };
        if (isFactor(columns[0]) && !isFactor(columns[1])) std::swap(columns[0], columns[1]);
        addLines(out, pairEffect(evidence, table, columns[0], columns[1], {}, progress));
    }
    return out.bytes();
}

std::string marginalEffectsCsv(const std::vector<MarginalEffect>& effects) {
    CsvWriter out;
    for (const auto* name : {"column", "level", "effect", "standard_error", "p", "lower", "upper"})
        out.text(name);
    out.endRow();
    for (const MarginalEffect& e : effects) {
        out.text(e.column).text(e.level);
        for (const double value : {e.effect, e.standardError, e.p, e.lower, e.upper})
            out.number(value);
        out.endRow();
    }
    return out.bytes();
}

NamedFiles readingFiles(const Recipe& recipe, const Evidence& evidence, const Table& table, Threads threads,
                        Progress& progress) {
    NamedFiles files{{"reading.txt", readingText(recipe, evidence)},
                     {"effects.csv", effectsCsv(evidence, table, progress)},
                     {"marginal_effects.csv",
                      marginalEffectsCsv(averageMarginalEffects(evidence, table, threads, progress))}};
    if (evidence.study->linear()) return files;
    const Study& study = *evidence.study;
    const auto effects = averageEffects(study, table, threads, progress);
    files.emplace_back("average_effects.csv", averageEffectsCsv(effects, study));
    files.emplace_back("row_curves.csv", rowCurvesCsv(effects, study));
    files.emplace_back("interactions.csv",
                       interactionsCsv(interactionStrengths(study, table, threads, progress)));
    return files;
}

} // namespace oxgoad
