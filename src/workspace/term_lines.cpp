#include "workspace/grids.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace oxgoad {

bool showsLevels(const Session& session, const Term& term, std::size_t coefficients) {
    constexpr std::size_t few = 4;
    const auto said = session.view().find("levels of " + termName(term));
    if (said != session.view().end()) return said->second == "open";
    const bool alone = std::none_of(term.parts.begin(), term.parts.end(), [](const TermPart& part) {
        return part.form == Form::spline || part.form == Form::wave;
    });
    return alone && coefficients <= few;
}

namespace {

/// The lines of one term or column, and what they are of.
struct TermGroup {
    std::string key;
    std::vector<TermLine> lines;
    /// Levels the analyst opened.
    bool opened = false;
    std::string term;
};

/// Lines cut into groups: a term with its levels, the constant, a column that could enter. A column alone is
/// the same group in the model and out of it.
std::vector<TermGroup> groupsOf(const Session& session, const std::vector<TermLine>& lines) {
    std::vector<TermGroup> groups;
    std::set<std::string> taken;
    for (const TermLine& line : lines) {
        if (line.kind == TermLine::Kind::level && !groups.empty()) {
            groups.back().lines.push_back(line);
            continue;
        }
        TermGroup group;
        group.lines.push_back(line);
        if (line.kind == TermLine::Kind::constant) {
            group.key = "constant";
        } else if (line.kind == TermLine::Kind::candidate) {
            group.key = "column " + line.column;
        } else {
            const Term& term = session.recipe().terms[static_cast<std::size_t>(line.term)];
            group.key =
                (term.parts.size() == 1 ? "column " + term.parts[0].column : "term " + termName(term));
            group.term = termName(term);
            const auto said = session.view().find("levels of " + group.term);
            group.opened = said != session.view().end() && said->second == "open";
        }
        if (!taken.insert(group.key).second) group.key += " again " + std::to_string(groups.size());
        groups.push_back(std::move(group));
    }
    return groups;
}

std::vector<TermLine> inPlaces(std::vector<TermGroup> groups, TermPlaces& places) {
    // New groups stand behind the one they would follow in the order of the model.
    std::string before;
    for (const TermGroup& group : groups) {
        const auto is = [](const std::string& key) {
            return [&key](const TermPlaces::Group& g) { return g.key == key; };
        };
        if (std::none_of(places.groups.begin(), places.groups.end(), is(group.key))) {
            auto at = std::find_if(places.groups.begin(), places.groups.end(), is(before));
            if (at != places.groups.end()) ++at;
            places.groups.insert(before.empty() ? places.groups.begin() : at,
                                 {group.key, group.lines.size(), group.term});
        }
        before = group.key;
    }
    std::vector<TermLine> lines;
    for (TermPlaces::Group& place : places.groups) {
        const auto found = std::find_if(groups.begin(), groups.end(),
                                        [&](const TermGroup& g) { return g.key == place.key; });
        std::size_t shown = 0;
        if (found != groups.end()) {
            const bool otherForm = !found->term.empty() && !place.term.empty() && found->term != place.term;
            if (otherForm) place.lines = found->lines.size();
            if (place.lines > 1 || found->opened) place.lines = std::max(place.lines, found->lines.size());
            if (!found->term.empty()) place.term = found->term;
            shown = found->lines.size() <= place.lines ? found->lines.size() : 1;
            lines.insert(lines.end(), found->lines.begin(),
                         found->lines.begin() + static_cast<std::ptrdiff_t>(shown));
        }
        for (; shown < place.lines; ++shown)
            lines.push_back({TermLine::Kind::gone, -1, -1, {}});
    }
    return lines;
}

} // namespace

std::vector<TermLine> termLines(const Session& session, TermPlaces* places) {
    std::vector<TermLine> lines;
    const Recipe& recipe = session.recipe();
    const auto& evidence = session.evidence();
    if (evidence && evidence->linear && evidence->intercept)
        lines.push_back({TermLine::Kind::constant, -1, 0, {}});
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        std::vector<int> own;
        if (evidence && evidence->linear)
            for (std::size_t c = 0; c < evidence->linear->coefficients.size(); ++c)
                if (evidence->linear->coefficients[c].term == static_cast<int>(t))
                    own.push_back(static_cast<int>(c));
        const bool ofFactor = std::any_of(recipe.terms[t].parts.begin(), recipe.terms[t].parts.end(),
                                          [&](const TermPart& part) {
                                              const Column* column = session.table().find(part.column);
                                              return column && column->kind() == ColumnKind::factor;
                                          });
        const bool levels = own.size() > 1 || (own.size() == 1 && ofFactor);
        lines.push_back({TermLine::Kind::term, static_cast<int>(t), levels || own.empty() ? -1 : own[0],
                         recipe.terms[t].parts[0].column});
        if (levels && showsLevels(session, recipe.terms[t], own.size()))
            for (const int c : own)
                lines.push_back({TermLine::Kind::level, static_cast<int>(t), c, {}});
    }
    const auto used = inputNames(recipe.terms);
    for (const LedgerLine& line : session.ledger().columns) {
        const ColumnSummary& column = line.summary;
        if (column.name != recipe.response && column.kind != ColumnKind::text &&
            isOffered(recipe, column.name) && std::find(used.begin(), used.end(), column.name) == used.end())
            lines.push_back({TermLine::Kind::candidate, -1, -1, column.name});
    }
    return places ? inPlaces(groupsOf(session, lines), *places) : lines;
}

EffectScale effectScale(const Session& session) {
    const auto said = session.view().find("fit.scale");
    return said != session.view().end() && said->second == "deviation" ? EffectScale::deviation
                                                                       : EffectScale::quartiles;
}

} // namespace oxgoad
