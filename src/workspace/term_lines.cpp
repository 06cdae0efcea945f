#include "workspace/grids.h"

#include "base/text.h"
#include "workspace/grid_text.h"
#include "workspace/text.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <set>
#include <string_view>
#include <unordered_map>
#include <unordered_set>

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

const std::map<std::string, LevelOrder>& levelOrders() {
    static const std::map<std::string, LevelOrder> orders{{"low to high", LevelOrder::lowToHigh},
                                                          {"by p", LevelOrder::byP}};
    return orders;
}

} // namespace

LevelOrder levelOrder(const Session& session, const Term& term) {
    const auto said = session.view().find("order of " + termName(term));
    if (said == session.view().end()) return LevelOrder::named;
    const auto known = levelOrders().find(said->second);
    return known == levelOrders().end() ? LevelOrder::named : known->second;
}

void setLevelOrder(Session& session, const Term& term, LevelOrder order) {
    session.view().erase("order of " + termName(term));
    for (const auto& [name, known] : levelOrders())
        if (known == order) session.view()["order of " + termName(term)] = name;
}

namespace {

/// Coefficients of a term in their order.
void putInOrder(std::vector<int>& own, const std::vector<CoefficientEvidence>& coefficients,
                LevelOrder order) {
    if (order == LevelOrder::named) return;
    // Of p that are the same, too small to be told apart among them, the larger t comes first.
    const auto valueOf = [&](int c) {
        const CoefficientEvidence& one = coefficients[static_cast<std::size_t>(c)];
        return order == LevelOrder::byP ? std::pair(one.p, -std::fabs(one.t)) : std::pair(one.estimate, 0.0);
    };
    std::stable_sort(own.begin(), own.end(), [&](int a, int b) {
        const auto first = valueOf(a), second = valueOf(b);
        if (std::isnan(first.first) || std::isnan(second.first))
            return !std::isnan(first.first) && std::isnan(second.first);
        return first < second;
    });
}

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
    std::unordered_set<std::string> placed;
    for (const TermPlaces::Group& place : places.groups)
        placed.insert(place.key);
    std::unordered_map<std::string, std::vector<const TermGroup*>> following; // new ones, by the one before
    std::string before;
    for (const TermGroup& group : groups) {
        if (placed.count(group.key) > 0)
            before = group.key;
        else
            following[before].push_back(&group);
    }
    if (!following.empty()) {
        std::vector<TermPlaces::Group> all;
        const auto addAfter = [&](const std::string& key) {
            for (const TermGroup* group : following[key])
                all.push_back({group->key, group->lines.size(), group->term});
        };
        addAfter({});
        for (TermPlaces::Group& place : places.groups) {
            const std::string key = place.key;
            all.push_back(std::move(place));
            addAfter(key);
        }
        places.groups = std::move(all);
    }
    std::unordered_map<std::string_view, const TermGroup*> groupOf;
    for (const TermGroup& group : groups)
        groupOf.emplace(group.key, &group);
    std::vector<TermLine> lines;
    for (TermPlaces::Group& place : places.groups) {
        const auto at = groupOf.find(place.key);
        std::size_t shown = 0;
        if (at != groupOf.end()) {
            const TermGroup* found = at->second;
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

std::string levelName(const Term& term, const std::string& coefficient) {
    const std::string head = termName(term) + " = ";
    return coefficient.starts_with(head) ? coefficient.substr(head.size()) : coefficient;
}

std::vector<TermLine> termLines(const Session& session, TermPlaces* places) {
    const QString wanted = places ? places->find : QString();
    const auto has = [&](const std::string& name) {
        return wanted.isEmpty() || qs(name).contains(wanted, Qt::CaseInsensitive);
    };
    std::vector<TermLine> lines;
    const Recipe& recipe = session.recipe();
    const auto& evidence = session.evidence();
    // It is there from the start, so that the first tick moves nothing.
    const bool linear = evidence ? evidence->linear.has_value()
                                 : kindOf(recipe.estimator).can.terms == Capabilities::Terms::formula;
    if (linear && has("constant"))
        lines.push_back({TermLine::Kind::constant, -1, evidence && evidence->intercept ? 0 : -1, {}});
    std::vector<std::vector<int>> coefficientsOf(recipe.terms.size());
    if (evidence && evidence->linear)
        for (std::size_t c = 0; c < evidence->linear->coefficients.size(); ++c)
            if (const int t = evidence->linear->coefficients[c].term;
                t >= 0 && static_cast<std::size_t>(t) < coefficientsOf.size())
                coefficientsOf[static_cast<std::size_t>(t)].push_back(static_cast<int>(c));
    for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
        std::vector<int>& own = coefficientsOf[t];
        const bool ofFactor = std::any_of(recipe.terms[t].parts.begin(), recipe.terms[t].parts.end(),
                                          [&](const TermPart& part) {
                                              const Column* column = session.table().find(part.column);
                                              return column && column->kind() == ColumnKind::factor;
                                          });
        const bool levels = own.size() > 1 || (own.size() == 1 && ofFactor);
        const int alone = levels || own.empty() ? -1 : own[0];
        const bool named = has(termName(recipe.terms[t]));
        if (!levels || (named && !showsLevels(session, recipe.terms[t], own.size())))
            own.clear();
        else if (!named) // of a factor that is not called so the levels that are
            std::erase_if(own, [&](int c) {
                return !has(levelName(recipe.terms[t],
                                      evidence->linear->coefficients[static_cast<std::size_t>(c)].name));
            });
        if (!named && own.empty()) continue;
        lines.push_back({TermLine::Kind::term, static_cast<int>(t), alone, recipe.terms[t].parts[0].column});
        if (own.empty()) continue;
        putInOrder(own, evidence->linear->coefficients, levelOrder(session, recipe.terms[t]));
        for (const int c : own)
            lines.push_back({TermLine::Kind::level, static_cast<int>(t), c, {}});
    }
    const auto names = inputNames(recipe.terms);
    const std::set<std::string_view> used(names.begin(), names.end());
    for (const LedgerLine& line : session.ledger().columns) {
        const ColumnSummary& column = line.summary;
        if (column.name != recipe.response && column.kind != ColumnKind::text &&
            isOffered(recipe, column.name) && used.count(column.name) == 0 && has(column.name))
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
