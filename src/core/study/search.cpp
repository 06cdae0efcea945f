#include "study/search.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/model_kind.h"
#include "recipe/json_reader.h"
#include "recipe/model_parts.h"
#include "recipe/validity.h"
#include "study/judge.h"
#include "study/search_told.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <numeric>
#include <set>

namespace oxgoad {

namespace {

constexpr std::size_t candidatesOfRace = 9, keepOneOf = 3;

struct Candidate {
    Recipe recipe;
    const SearchSpace* space = nullptr;
    /// How its terms were changed; empty as they stand.
    std::string terms;
    /// Whether the terms say more (1) or less (-1) than they stand.
    int more = 0;
};

/// Columns of the terms, each as it is; for kinds that read columns.
std::vector<Term> plainTerms(const std::vector<Term>& terms) {
    std::vector<Term> out;
    for (const std::string& column : inputNames(terms))
        out.push_back(plainTerm(column));
    return out;
}

class Searcher {
public:
    Searcher(const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
             const SearchPlan& plan, Threads threads, Progress& progress,
             const std::function<void(const Tried&)>& soFar)
        : m_prepared(prepared), m_file(file), m_plan(plan), m_threads(threads), m_progress(progress),
          m_soFar(soFar), m_stream(plan.seed, "candidates of a search") {
        m_base = recipe;
        m_base.choose.reset();
        m_base.forecast.reset();
        m_base.scenarios.clear();
        m_found.plan = plan;
        m_found.folds = foldsOf(recipe);
        m_base.judge = m_found.folds;
        m_folds = static_cast<std::size_t>(m_found.folds.folds);
        const auto response = prepared.table.at(recipe.response, file).numbers();
        // Of the rows that may be looked at.
        m_positive = true;
        for (std::size_t i = 0; i < response.size(); ++i)
            if (prepared.parts[i] == Part::learning && response[i] <= 0) m_positive = false;
        for (const SearchSpace& space : searchSpaces())
            if (plan.kinds.empty() ||
                std::find(plan.kinds.begin(), plan.kinds.end(), space.kind) != plan.kinds.end())
                m_spaces.push_back(&space);
    }

    SearchFound run() {
        m_start = std::chrono::steady_clock::now();
        try {
            judgeFirst();
            race(usualCandidates());
            while (!over())
                race(nextCandidates());
        } catch (const Stopped&) {
            if (m_found.tried.size() < 2 || !m_progress.serveStop()) throw;
            m_found.endedBy = "stopped";
        }
        conclude();
        return std::move(m_found);
    }

private:
    static FoldPlan foldsOf(const Recipe& recipe) {
        FoldPlan plan;
        plan.folds = 5;
        if (!recipe.judge) return plan;
        const FoldPlan& own = *recipe.judge;
        const bool usable = own.folds >= 2 && own.folds <= 10 &&
                            (own.kind == FoldKind::kFolds || own.kind == FoldKind::rollingOrigin);
        if (!usable) return plan;
        plan = own;
        plan.repeats = 1;
        return plan;
    }

    double minutes() const {
        return std::chrono::duration<double>(std::chrono::steady_clock::now() - m_start).count() / 60;
    }

    bool over() {
        if (m_plan.fits > 0 && m_found.fits >= m_plan.fits)
            m_found.endedBy = plural(m_plan.fits, "fit", "fits");
        else if (m_plan.minutes > 0 && minutes() >= m_plan.minutes)
            m_found.endedBy = readableText(m_plan.minutes, 3) + " minutes";
        else if (m_plan.patience > 0 && m_sinceBest >= m_plan.patience)
            m_found.endedBy = plural(m_plan.patience, "candidate", "candidates") + " without a better one";
        return !m_found.endedBy.empty();
    }

    void tellProgress(const std::string& what) {
        double share = 0;
        if (m_plan.fits > 0) share = static_cast<double>(m_found.fits) / static_cast<double>(m_plan.fits);
        if (m_plan.minutes > 0) share = std::max(share, minutes() / m_plan.minutes);
        if (m_plan.patience > 0)
            share = std::max(share, static_cast<double>(m_sinceBest) / static_cast<double>(m_plan.patience));
        std::string text = countText(m_found.tried.size() + 1) + " tried, " + what;
        if (m_best != SIZE_MAX)
            text += "; best so far misses by " + readableText(std::sqrt(m_found.tried[m_best].mse), 4);
        m_progress.checkpoint(std::min(1.0, share), text);
    }

    /// Nine of a race, of their kinds' usual settings first.
    std::vector<Candidate> usualCandidates() {
        std::vector<Candidate> out;
        for (const SearchSpace* space : m_spaces) {
            if (space->kind == "least squares") continue; // the straight model has been judged
            Candidate made{m_base, space};
            made.recipe.estimator = {space->kind, space->fixed};
            finish(made);
            out.push_back(std::move(made));
        }
        for (const bool curves : {true, false})
            if (m_plan.terms) {
                Candidate made{m_base, searchSpaceOf(curves ? "least squares" : "penalised")};
                if (!made.space || std::find(m_spaces.begin(), m_spaces.end(), made.space) == m_spaces.end())
                    continue;
                made.recipe.estimator = {made.space->kind, made.space->fixed};
                changeTerms(made, curves ? 1 : 2);
                finish(made);
                out.push_back(std::move(made));
            }
        return out;
    }

    std::vector<Candidate> nextCandidates() {
        std::vector<std::size_t> good;
        for (std::size_t k = 0; k < m_found.tried.size(); ++k)
            if (m_found.tried[k].whole && m_judged[k].space) good.push_back(k);
        std::sort(good.begin(), good.end(),
                  [&](auto a, auto b) { return m_found.tried[a].mse < m_found.tried[b].mse; });
        std::vector<Candidate> out;
        std::size_t tries = 0;
        while (out.size() < candidatesOfRace && tries++ < 20 * candidatesOfRace) {
            Candidate made{m_base};
            if (out.size() % 2 == 1 && !good.empty()) {
                // The better, the more often.
                const std::size_t near =
                    good[std::min(m_stream.below(good.size()), m_stream.below(good.size()))];
                made.space = m_judged[near].space;
                made.recipe = m_found.tried[near].recipe;
                made.terms = m_judged[near].terms;
                made.more = m_judged[near].more;
                made.recipe.estimator = nearSettings(*made.space, made.recipe.estimator, m_stream);
                if (m_stream.uniform() < 0.2) vary(made);
            } else {
                made.space = m_spaces[m_stream.below(m_spaces.size())];
                made.recipe.estimator = drawnSettings(*made.space, m_stream);
                vary(made);
            }
            finish(made);
            if (!m_known.insert(keyOf(made.recipe)).second) continue; // has been tried
            out.push_back(std::move(made));
        }
        if (out.empty()) m_found.endedBy = "nothing new to try";
        return out;
    }

    void vary(Candidate& made) {
        made.recipe.terms = m_base.terms;
        made.terms.clear();
        made.more = 0;
        if (m_plan.terms && kindOf(made.recipe.estimator).can.terms == Capabilities::Terms::formula)
            changeTerms(made, m_stream.below(5));
        else if (m_plan.terms && m_stream.uniform() < 0.25)
            leaveTermsOut(made);
        made.recipe.logResponse = m_plan.logs && m_positive &&
                                  kindOf(made.recipe.estimator).can.logResponse && m_stream.uniform() < 0.4;
    }

    /// Each with a chance of a quarter, one at least, never all.
    void leaveTermsOut(Candidate& made) {
        std::vector<Term> kept;
        std::vector<std::string> left;
        for (const Term& term : m_base.terms)
            if (m_stream.uniform() < 0.25)
                left.push_back(termName(term));
            else
                kept.push_back(term);
        if (left.empty() || kept.empty()) return;
        made.recipe.terms = std::move(kept);
        made.terms = "without " + nameList(left);
        made.more = -1;
    }

    /// The values of the numbers of a column in the rows that may be looked at.
    std::vector<double> valuesOf(const Column& column) const {
        std::vector<double> values;
        for (std::size_t i = 0; i < column.size(); ++i)
            if (m_prepared.parts[i] == Part::learning && !column.isMissing(i))
                values.push_back(column.numbers()[i]);
        return values;
    }

    /// 1: numbers as curves; 2: products of two as well; 3: logarithms of numbers above 0 whose largest is
    /// more than ten times the smallest; 4: without some.
    void changeTerms(Candidate& made, std::uint64_t how) {
        if (how == 0) return;
        if (how == 4) return leaveTermsOut(made);
        made.more = 1;
        std::vector<Term> terms = m_base.terms;
        if (how == 1 || how == 3) {
            for (Term& term : terms) {
                if (term.parts.size() != 1) continue;
                TermPart& part = term.parts[0];
                const Column& column = m_prepared.table.at(part.column, m_file);
                if (column.kind() != ColumnKind::number || part.form != Form::plain || part.logarithm ||
                    part.power != 1)
                    continue;
                std::vector<double> values = valuesOf(column);
                std::sort(values.begin(), values.end());
                if (values.empty()) continue;
                if (how == 3) {
                    if (!(values.front() > 0 && values.back() > 10 * values.front())) continue;
                    part.logarithm = true;
                    made.terms = "logarithms of numbers";
                    continue;
                }
                const auto distinct = std::unique(values.begin(), values.end()) - values.begin();
                if (distinct < 12) continue;
                part.form = Form::spline;
                made.terms = "numbers as curves";
            }
        } else {
            const std::size_t own = terms.size();
            constexpr std::size_t mostColumns = 12;
            for (std::size_t a = 0; a < std::min(own, mostColumns); ++a)
                for (std::size_t b = a + 1; b < std::min(own, mostColumns); ++b) {
                    if (terms[a].parts.size() != 1 || terms[b].parts.size() != 1 ||
                        terms[a].parts[0].column == terms[b].parts[0].column)
                        continue;
                    Term pair{{terms[a].parts[0], terms[b].parts[0]}};
                    if (std::find(terms.begin(), terms.end(), pair) == terms.end()) terms.push_back(pair);
                }
            if (terms.size() > own) made.terms = "all products of two";
        }
        made.recipe.terms = std::move(terms);
    }

    void finish(Candidate& made) const {
        if (kindOf(made.recipe.estimator).can.terms == Capabilities::Terms::columns)
            made.recipe.terms = plainTerms(made.recipe.terms);
        if (!kindOf(made.recipe.estimator).choosesErrors) made.recipe.errors = {};
        made.recipe = settled(made.recipe);
        made.recipe.judge = m_found.folds;
    }

    static std::string keyOf(const Recipe& recipe) {
        std::string key = estimatorJson(recipe.estimator).dump() + (recipe.logResponse ? " ln" : "");
        for (const Term& term : recipe.terms)
            key += " " + termName(term);
        return key;
    }

    std::string saysOf(const Candidate& candidate) const {
        const ModelKind& kind = kindOf(candidate.recipe.estimator);
        std::string text = kind.sentence(candidate.recipe.estimator);
        if (candidate.recipe.logResponse) text += " of ln " + m_base.response;
        if (!candidate.terms.empty()) text += ", " + candidate.terms;
        // What the sentence leaves out.
        if (candidate.space)
            for (const SettingRange& range : candidate.space->ranges) {
                const auto given = candidate.recipe.estimator.fields.find(range.key);
                const bool said = range.key == "rounds" || range.key == "leaves" || range.key == "count" ||
                                  range.key == "l1_share" || range.key == "largest" || range.key == "layers";
                if (said || given == candidate.recipe.estimator.fields.end()) continue;
                if (const auto* number = std::get_if<double>(&given->second)) {
                    std::string name = range.key;
                    std::replace(name.begin(), name.end(), '_', ' ');
                    text += "; " + name + " " + shortText(*number);
                }
            }
        return text;
    }

    /// Judges by more folds; false where it cannot be.
    bool judge(std::size_t at, std::size_t upTo) {
        Tried& tried = m_found.tried[at];
        tellProgress(tried.says);
        const auto begun = std::chrono::steady_clock::now();
        try {
            JudgeOptions options;
            options.threads = m_threads;
            options.first = tried.folds;
            options.count = upTo - tried.folds;
            FirmStage stage(m_progress, 0, 1);
            QuietStage quiet(stage);
            const FoldEvidence found = judgeByFolds(tried.recipe, m_prepared, m_file, options, quiet);
            m_found.fits += found.done;
            if (found.done < options.count) throw Stopped{};
            for (const FoldScore& fold : found.each) {
                m_judged[at].foldMse.push_back(fold.mse);
                m_judged[at].foldRows.push_back(fold.rows);
            }
            if (tried.outOfFold.empty()) tried.outOfFold.assign(m_prepared.table.rows(), nan);
            for (std::size_t i = 0; i < found.outOfFold.size(); ++i)
                if (!std::isnan(found.outOfFold[i])) tried.outOfFold[i] = found.outOfFold[i];
            tried.folds = upTo;
        } catch (const Error& error) {
            tried.ended = "could not be learned: " + error.message();
            tried.mse = nan;
        }
        tried.seconds += std::chrono::duration<double>(std::chrono::steady_clock::now() - begun).count();
        if (!std::isnan(tried.mse)) {
            double squares = 0, rows = 0, mean = 0, spread = 0;
            const auto& each = m_judged[at].foldMse;
            for (std::size_t f = 0; f < each.size(); ++f) {
                squares += each[f] * static_cast<double>(m_judged[at].foldRows[f]);
                rows += static_cast<double>(m_judged[at].foldRows[f]);
                mean += each[f] / static_cast<double>(each.size());
            }
            for (const double mse : each)
                spread += (mse - mean) * (mse - mean);
            tried.mse = squares / rows;
            const auto n = static_cast<double>(each.size());
            tried.standardError = n > 1 ? std::sqrt(spread / (n - 1) / n) : nan;
        }
        return !std::isnan(tried.mse);
    }

    std::size_t enter(const Candidate& candidate) {
        Tried tried{.recipe = candidate.recipe, .says = saysOf(candidate)};
        m_found.tried.push_back(std::move(tried));
        m_judged.push_back({.space = candidate.space, .terms = candidate.terms, .more = candidate.more});
        m_known.insert(keyOf(candidate.recipe));
        return m_found.tried.size() - 1;
    }

    void finishOne(std::size_t at) {
        Tried& tried = m_found.tried[at];
        if (tried.ended.empty())
            tried.ended = tried.folds == m_folds ? "judged by all folds"
                                                 : "stopped after " + std::to_string(tried.folds) + " of " +
                                                       plural(m_folds, "fold", "folds");
        tried.whole = tried.folds == m_folds && !std::isnan(tried.mse);
        if (!tried.whole) tried.outOfFold.clear();
        ++m_sinceBest;
        if (tried.whole && (m_best == SIZE_MAX || tried.mse < m_found.tried[m_best].mse)) {
            m_best = at;
            m_sinceBest = 0;
        }
        if (m_soFar) m_soFar(tried);
    }

    /// The straight model, and the recipe's own where that is another one, by all folds.
    void judgeFirst() {
        Candidate straight{m_base, searchSpaceOf("least squares")};
        straight.recipe.estimator = {};
        straight.recipe.logResponse = m_base.logResponse;
        finish(straight);
        m_found.straight = enter(straight);
        if (!judge(m_found.straight, m_folds))
            throw Error(ErrorCode::badRecipe,
                        "the straight model that all are compared with " + m_found.tried[0].ended,
                        {.file = m_file}, "Choose terms that least squares can take, or other folds.");
        finishOne(m_found.straight);
        if (m_base.estimator.kind == "least squares") return;
        Candidate own{m_base, searchSpaceOf(m_base.estimator.kind)};
        own.recipe.judge = m_found.folds;
        const std::size_t at = enter(own);
        judge(at, m_folds);
        finishOne(at);
    }

    void race(const std::vector<Candidate>& candidates) {
        std::vector<std::size_t> running;
        for (const Candidate& candidate : candidates) {
            if (over()) return;
            const std::size_t at = enter(candidate);
            if (judge(at, 1))
                running.push_back(at);
            else
                finishOne(at);
        }
        const std::size_t half = std::max<std::size_t>(2, (m_folds + 1) / 2);
        for (const std::size_t upTo : {std::min(half, m_folds), m_folds}) {
            std::sort(running.begin(), running.end(),
                      [&](auto a, auto b) { return raced(a) != raced(b) ? raced(a) < raced(b) : a < b; });
            const std::size_t keep = std::max<std::size_t>(1, (running.size() + keepOneOf - 1) / keepOneOf);
            for (std::size_t k = keep; k < running.size(); ++k)
                finishOne(running[k]);
            running.resize(std::min(keep, running.size()));
            std::vector<std::size_t> next;
            for (const std::size_t at : running) {
                if (over() && m_best != SIZE_MAX) {
                    finishOne(at);
                    continue;
                }
                if (judge(at, upTo))
                    next.push_back(at);
                else
                    finishOne(at);
            }
            running = std::move(next);
        }
        for (const std::size_t at : running)
            finishOne(at);
    }

    /// Over the straight model's error on the same folds.
    double raced(std::size_t at) const {
        double own = 0, straight = 0;
        for (std::size_t f = 0; f < m_judged[at].foldMse.size(); ++f) {
            own += m_judged[at].foldMse[f];
            straight += m_judged[m_found.straight].foldMse[f];
        }
        return own / straight;
    }

    void conclude() {
        for (std::size_t k = 0; k < m_found.tried.size(); ++k)
            if (m_found.tried[k].ended.empty()) finishOne(k);
        m_found.minutes = minutes();
        m_found.best = m_best;
        concludeSearch(m_found, m_judged, m_prepared, m_base, m_file, m_threads);
    }

    /// What is done inside is a part of one candidate: only the search tells how far it is.
    class QuietStage final : public Progress {
    public:
        explicit QuietStage(Progress& whole) : m_whole(whole) {}
        bool stopRequested() const override { return m_whole.stopRequested(); }

    private:
        Progress& m_whole;
    };

    const PreparedRows& m_prepared;
    const std::string& m_file;
    const SearchPlan& m_plan;
    Threads m_threads;
    Progress& m_progress;
    const std::function<void(const Tried&)>& m_soFar;
    RandomStream m_stream;
    Recipe m_base;
    SearchFound m_found;
    std::size_t m_folds = 5;
    bool m_positive = false;
    std::vector<const SearchSpace*> m_spaces;
    std::vector<JudgedCandidate> m_judged;
    std::set<std::string> m_known;
    std::size_t m_best = SIZE_MAX, m_sinceBest = 0;
    std::chrono::steady_clock::time_point m_start;
};

} // namespace

SearchFound search(const Recipe& recipe, const PreparedRows& prepared, const std::string& file,
                   const SearchPlan& plan, Threads threads, Progress& progress,
                   const std::function<void(const Tried&)>& soFar) {
    if (!(plan.minutes > 0) && plan.fits == 0 && plan.patience == 0)
        throw Error(ErrorCode::badRecipe, "a search with a budget of nothing finds nothing", {.file = file},
                    "Give it minutes, fits, or how many candidates may pass without a better one.");
    if (recipe.terms.empty())
        throw Error(ErrorCode::badRecipe, "there are no terms that a search could start from", {.file = file},
                    "Choose the columns that may be used.");
    for (const std::string& kind : plan.kinds)
        if (!searchSpaceOf(kind))
            throw Error(
                ErrorCode::badRecipe, "\"" + kind + "\" is no kind of model that a search tries",
                {.file = file}, "Name some of: " + [] {
                    std::vector<std::string> names;
                    for (const SearchSpace& space : searchSpaces())
                        names.push_back(space.kind);
                    return nameList(names, names.size());
                }() + ".");
    return Searcher(recipe, prepared, file, plan, threads, progress, soFar).run();
}

SearchPlan searchPlanFrom(std::string_view text, const std::string& file) {
    const nlohmann::json j = nlohmann::json::parse(text, nullptr, false);
    if (!j.is_object())
        throw Error(ErrorCode::badRecipe, "this is no plan of a search", {.file = file},
                    "A plan is like {\"minutes\": 5, \"kinds\": [\"forest\"], \"seed\": 1}.");
    JsonObject object(JsonValue(j, "search", file));
    SearchPlan plan;
    constexpr std::uint64_t most = 1000000000;
    object.optional("minutes", [&](const JsonValue& v) {
        plan.minutes = v.number(-1, 1e6);
        if (plan.minutes < 0) v.refuse("is below 0");
    });
    object.optional("fits", [&](const JsonValue& v) { plan.fits = v.whole(0, most); });
    object.optional("patience", [&](const JsonValue& v) { plan.patience = v.whole(0, most); });
    object.optional("seed", [&](const JsonValue& v) { plan.seed = v.whole(0, most); });
    object.optional("terms", [&](const JsonValue& v) { plan.terms = v.boolean(); });
    object.optional("logs", [&](const JsonValue& v) { plan.logs = v.boolean(); });
    object.optional("kinds", [&](const JsonValue& v) {
        v.eachItem([&](const JsonValue& each) { plan.kinds.push_back(each.text()); });
    });
    object.finish();
    return plan;
}

std::string searchPlanText(const SearchPlan& plan) {
    nlohmann::ordered_json out{{"minutes", plan.minutes}, {"fits", plan.fits},   {"patience", plan.patience},
                               {"kinds", plan.kinds},     {"terms", plan.terms}, {"logs", plan.logs},
                               {"seed", plan.seed}};
    return out.dump(1) + "\n";
}

Recipe withTried(const Recipe& recipe, const Tried& tried) {
    Recipe out = recipe;
    out.estimator = tried.recipe.estimator;
    out.terms = tried.recipe.terms;
    out.logResponse = tried.recipe.logResponse;
    out.errors = tried.recipe.errors;
    out.choose.reset();
    return settled(out);
}

} // namespace oxgoad
