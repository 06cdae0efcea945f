#include "base/text.h"
#include "check/check_tools.h"

#include <cmath>

namespace oxgoad {

void checkOneLevel(const CheckContext& context, Findings& findings) {
    const std::string name = "largest effect is one level";
    const std::string source = "common practice, no source";
    constexpr double fewShare = 0.05;
    const CheckedEffect *level = nullptr, *other = nullptr;
    for (const CheckedEffect& effect : context.linear->effects) {
        if (!std::isfinite(effect.effect)) continue;
        const CheckedEffect*& best = effect.level ? level : other;
        if (!best || std::fabs(effect.effect) > std::fabs(best->effect)) best = &effect;
    }
    // Of levels the second largest counts among the others.
    for (const CheckedEffect& effect : context.linear->effects)
        if (effect.level && &effect != level && std::isfinite(effect.effect) &&
            (!other || std::fabs(effect.effect) > std::fabs(other->effect)))
            other = &effect;
    if (!level || !other || !(std::fabs(other->effect) > 0)) {
        findings.readings.push_back(
            noReading(name, level ? "there is no other effect" : "no level of a factor is in the model"));
        return;
    }
    const double ratio = std::fabs(level->effect) / std::fabs(other->effect);
    const double share = static_cast<double>(level->rows) / static_cast<double>(context.learningRows.size());
    const double limit = context.limitOf(name, 1);
    findings.readings.push_back(madeReading(
        name, ratio, limit, {},
        level->name + " (" + readableText(level->effect, 3) + ", " + plural(level->rows, "row", "rows") +
            ") over the largest other effect, " + other->name + " (" + readableText(other->effect, 3) + ")",
        source));
    if (!(ratio > limit) || share >= fewShare) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.title = "The largest effect is that of " + level->name;
    goad.reading = "a change of " + readableText(level->effect, 3) + " rests on " +
                   plural(level->rows, "row", "rows") + "; look whether they are what they seem";
    goad.threshold = "the largest effect, of a level with fewer than 5 % of the rows";
    goad.source = source;
    goad.station = "fit";
    goad.size = ratio;
    const auto equals = level->name.find(" = ");
    goad.column = level->name.substr(0, equals);
    goad.moves.push_back(seeColumn());
    goad.moves.push_back(leaveOutTerm(goad.column));
    findings.goads.push_back(std::move(goad));
}

} // namespace oxgoad
