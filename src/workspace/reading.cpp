#include "workspace/reading.h"

#include "base/text.h"
#include "study/say.h"
#include "workspace/text.h"

namespace oxgoad {

namespace {

QString wholeTerm(const Evidence& e, const Recipe& recipe, std::size_t t) {
    const TermEvidence& term = e.linear->terms[t];
    if (!term.why.empty()) return QString("%1 as a whole: no test; %2.").arg(qs(term.name), qs(term.why));
    if (std::isnan(term.f)) return {};
    QString text = QString("%1 as a whole: F %2 with %3, p %4")
                       .arg(qs(term.name), qs(readableText(term.f, 3)),
                            qs(plural(static_cast<std::size_t>(term.degreesOfFreedom), "degree of freedom",
                                      "degrees of freedom")),
                            qs(probabilityText(term.p)));
    if (recipe.errors.kind != CovarianceKind::homoskedastic)
        text += ", with " + qs(errorsText(recipe.errors));
    return text + ".";
}

} // namespace

QStringList readingOf(const Session& session, const TermLine& line) {
    const auto& e = session.evidence();
    if (!e) return {};
    const Recipe& recipe = session.recipe();
    QStringList said;
    if (line.coefficient >= 0)
        said << qs(coefficientSentence(*e, recipe, static_cast<std::size_t>(line.coefficient)));
    if (line.kind != TermLine::Kind::term) return said;
    const auto t = static_cast<std::size_t>(line.term);
    if (!e->linear) {
        for (const InputEvidence& input : e->inputs)
            if (input.name == line.column) said << qs(importanceSentence(input));
        return said;
    }
    if (!e->study->has(t)) {
        said << QObject::tr("%1 was looked at and is not in the model: the choice (%2) passed it over.")
                    .arg(qs(termName(recipe.terms[t])),
                         recipe.choose ? qs(choosePlanText(*recipe.choose)) : QString());
        return said;
    }
    if (line.coefficient < 0) said << wholeTerm(*e, recipe, t);
    const Term& term = recipe.terms[t];
    if (term.parts.size() == 1) {
        if (const std::string reference = referenceSentence(*e, recipe, t); !reference.empty())
            said << qs(reference);
        return said;
    }
    // A product with a factor: the slopes it comes to.
    QStringList slopes;
    for (const TermPart& part : term.parts)
        for (const LevelEquation& level : equationsByLevel(*e, part.column))
            if (const std::string sentence = slopeSentence(*e, recipe, level, part.column); !sentence.empty())
                slopes << qs(sentence);
    if (!slopes.isEmpty()) said << slopes.join("\n");
    return said;
}

QString equationFor(const Session& session, const std::string& factor) {
    const auto& e = session.evidence();
    if (!e) return {};
    QString text = qs(equationText(*e));
    const auto levels = equationsByLevel(*e, factor);
    for (const LevelEquation& level : levels)
        text += "\n\n" + qs(factor) + " = " + qs(level.level) + ":\n" + qs(level.equation);
    if (!levels.empty() && !levels.front().common.empty())
        text += "\n\n" + QObject::tr("common to all levels:") + "\ncommon =" + qs(levels.front().common);
    return text;
}

} // namespace oxgoad
