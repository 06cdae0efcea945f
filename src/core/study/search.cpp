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
#include "study/search_space.h"
#include "write/csv.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <chrono>
#include <cmath>
#include <map>
#include <numeric>
#include <set>

namespace oxgoad {

namespace {

constexpr std::size_t candidatesOfRace = 9, keepOneOf = 3, resamplings = 200;

struct Candidate {
    Recipe recipe;
    const SearchSpace* space = nullptr;
    /// How its terms were changed; empty as they stand.
    std::string terms;
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
            Candidate made{m_base, space, {}};
            made.recipe.estimator = {space->kind, space->fixed};
            finish(made);
            out.push_back(std::move(made));
        }
        for (const bool curves : {true, false})
            if (m_plan.terms) {
                Candidate made{m_base, searchSpaceOf(curves ? "least squares" : "penalised"), {}};
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
            if (m_found.tried[k].whole && m_of[k]) good.push_back(k);
        std::sort(good.begin(), good.end(),
                  [&](auto a, auto b) { return m_found.tried[a].mse < m_found.tried[b].mse; });
        std::vector<Candidate> out;
        std::size_t tries = 0;
        while (out.size() < candidatesOfRace && tries++ < 20 * candidatesOfRace) {
            Candidate made{m_base, nullptr, {}};
            if (out.size() % 2 == 1 && !good.empty()) {
                // The better, the more often.
                const std::size_t near =
                    good[std::min(m_stream.below(good.size()), m_stream.below(good.size()))];
                made.space = m_of[near];
                made.recipe = m_found.tried[near].recipe;
                made.terms = m_termsOf[near];
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
        if (m_plan.terms && kindOf(made.recipe.estimator).can.terms == Capabilities::Terms::formula)
            changeTerms(made, m_stream.below(3));
        made.recipe.logResponse = m_plan.logs && m_positive &&
                                  kindOf(made.recipe.estimator).can.logResponse && m_stream.uniform() < 0.4;
    }

    /// 1: numbers as curves; 2: products of two as well.
    void changeTerms(Candidate& made, std::uint64_t how) {
        if (how == 0) return;
        std::vector<Term> terms = m_base.terms;
        if (how == 1) {
            for (Term& term : terms) {
                if (term.parts.size() != 1) continue;
                TermPart& part = term.parts[0];
                const Column& column = m_prepared.table.at(part.column, m_file);
                if (column.kind() != ColumnKind::number || part.form != Form::plain || part.logarithm ||
                    part.power != 1)
                    continue;
                std::set<double> distinct;
                for (std::size_t i = 0; i < column.size() && distinct.size() < 12; ++i)
                    if (!column.isMissing(i)) distinct.insert(column.numbers()[i]);
                if (distinct.size() < 12) continue;
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
            made.recipe.terms = plainTerms(m_base.terms);
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
                m_foldMse[at].push_back(fold.mse);
                m_foldRows[at].push_back(fold.rows);
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
            const auto& each = m_foldMse[at];
            for (std::size_t f = 0; f < each.size(); ++f) {
                squares += each[f] * static_cast<double>(m_foldRows[at][f]);
                rows += static_cast<double>(m_foldRows[at][f]);
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
        m_of.push_back(candidate.space);
        m_termsOf.push_back(candidate.terms);
        m_foldMse.emplace_back();
        m_foldRows.emplace_back();
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
        Candidate straight{m_base, searchSpaceOf("least squares"), {}};
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
        Candidate own{m_base, searchSpaceOf(m_base.estimator.kind), {}};
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
        for (std::size_t f = 0; f < m_foldMse[at].size(); ++f) {
            own += m_foldMse[at][f];
            straight += m_foldMse[m_found.straight][f];
        }
        return own / straight;
    }

    void conclude() {
        for (std::size_t k = 0; k < m_found.tried.size(); ++k)
            if (m_found.tried[k].ended.empty()) finishOne(k);
        m_found.minutes = minutes();
        m_found.best = m_best;
        const Tried& best = m_found.tried[m_best];
        m_found.bestRmse = std::sqrt(best.mse);
        m_found.straightRmse = std::sqrt(m_found.tried[m_found.straight].mse);
        findSimpler();
        resample();
        findMattered();
        m_found.says = story();
    }

    int simplicityOf(std::size_t at) const {
        const int own = m_of[at] ? m_of[at]->simplicity : 3;
        return 2 * own + (m_termsOf[at].empty() ? 0 : 1);
    }

    /// The simplest whose errors by fold are as good but for a standard error of the difference.
    void findSimpler() {
        const std::vector<double>& best = m_foldMse[m_best];
        for (std::size_t k = 0; k < m_found.tried.size(); ++k) {
            if (!m_found.tried[k].whole || simplicityOf(k) >= simplicityOf(m_best)) continue;
            double mean = 0, spread = 0;
            const auto n = static_cast<double>(best.size());
            for (std::size_t f = 0; f < best.size(); ++f)
                mean += (m_foldMse[k][f] - best[f]) / n;
            for (std::size_t f = 0; f < best.size(); ++f) {
                const double d = m_foldMse[k][f] - best[f] - mean;
                spread += d * d;
            }
            if (mean > std::sqrt(spread / (n - 1) / n)) continue;
            if (!m_found.simpler || simplicityOf(k) < simplicityOf(*m_found.simpler) ||
                (simplicityOf(k) == simplicityOf(*m_found.simpler) &&
                 m_found.tried[k].mse < m_found.tried[*m_found.simpler].mse))
                m_found.simpler = k;
        }
        if (m_found.simpler) m_found.simplerRmse = std::sqrt(m_found.tried[*m_found.simpler].mse);
    }

    void resample() {
        std::vector<std::size_t> whole;
        for (std::size_t k = 0; k < m_found.tried.size(); ++k)
            if (m_found.tried[k].whole) whole.push_back(k);
        const auto response = m_prepared.table.at(m_base.response, m_file).numbers();
        // Squared errors of rows that all of them predict.
        std::vector<std::vector<float>> errors(whole.size());
        std::size_t rows = 0;
        for (std::size_t i = 0; i < response.size(); ++i) {
            if (!std::all_of(whole.begin(), whole.end(),
                             [&](std::size_t k) { return !std::isnan(m_found.tried[k].outOfFold[i]); }))
                continue;
            ++rows;
            for (std::size_t c = 0; c < whole.size(); ++c) {
                const double e = response[i] - m_found.tried[whole[c]].outOfFold[i];
                errors[c].push_back(static_cast<float>(e * e));
            }
        }
        if (rows < 10) {
            m_found.corrected = m_found.correctedLower = m_found.correctedUpper = nan;
            return;
        }
        std::size_t bestPlace = 0, straightPlace = 0;
        for (std::size_t c = 0; c < whole.size(); ++c) {
            if (whole[c] == m_best) bestPlace = c;
            if (whole[c] == m_found.straight) straightPlace = c;
        }
        std::vector<double> judged(resamplings, nan);
        std::vector<std::uint8_t> beats(resamplings), stays(resamplings);
        parallelFor(resamplings, m_threads, [&](std::size_t b) {
            RandomStream stream(m_plan.seed + b, "resampling of a search");
            std::vector<std::uint16_t> times(rows, 0);
            for (std::size_t i = 0; i < rows; ++i)
                ++times[stream.below(rows)];
            std::vector<double> in(whole.size(), 0), out(whole.size(), 0);
            double outRows = 0;
            for (std::size_t i = 0; i < rows; ++i)
                outRows += times[i] == 0;
            for (std::size_t c = 0; c < whole.size(); ++c)
                for (std::size_t i = 0; i < rows; ++i)
                    (times[i] > 0 ? in : out)[c] += errors[c][i] * std::max<double>(1, times[i]);
            const auto chosen = static_cast<std::size_t>(std::min_element(in.begin(), in.end()) - in.begin());
            judged[b] = out[chosen] / outRows;
            beats[b] = in[bestPlace] < in[straightPlace];
            stays[b] = chosen == bestPlace;
        });
        double sum = 0, beat = 0, stay = 0;
        for (std::size_t b = 0; b < resamplings; ++b) {
            sum += judged[b] / resamplings;
            beat += beats[b], stay += stays[b];
        }
        // Never better than what it is corrected from.
        m_found.corrected = std::max(m_found.bestRmse, std::sqrt(sum));
        std::sort(judged.begin(), judged.end());
        m_found.correctedLower = std::sqrt(judged[resamplings / 40]);
        m_found.correctedUpper = std::sqrt(judged[resamplings - 1 - resamplings / 40]);
        m_found.certainty = beat / resamplings;
        m_found.stability = stay / resamplings;
    }

    void findMattered() {
        std::map<std::pair<std::string, std::string>, std::vector<std::pair<double, double>>> byKey;
        for (std::size_t k = 0; k < m_found.tried.size(); ++k) {
            if (!m_of[k] || m_foldMse[k].empty()) continue;
            for (const SettingRange& range : m_of[k]->ranges) {
                const auto* value =
                    std::get_if<double>(&m_found.tried[k].recipe.estimator.get(std::string_view(range.key)));
                if (value) byKey[{m_of[k]->kind, range.key}].emplace_back(*value, m_foldMse[k][0]);
            }
        }
        constexpr std::size_t fewest = 9;
        for (auto& [key, values] : byKey) {
            const std::size_t n = values.size();
            if (n < fewest) continue;
            std::vector<std::size_t> byError(n);
            std::iota(byError.begin(), byError.end(), std::size_t{0});
            std::sort(values.begin(), values.end());
            std::sort(byError.begin(), byError.end(),
                      [&, &of = values](auto a, auto b) { return of[a].second < of[b].second; });
            std::vector<double> rank(n);
            for (std::size_t r = 0; r < n; ++r)
                rank[byError[r]] = static_cast<double>(r);
            const double middle = static_cast<double>(n - 1) / 2;
            double whole = 0, between = 0;
            for (std::size_t third = 0; third < 3; ++third) {
                const std::size_t begin = third * n / 3, end = (third + 1) * n / 3;
                double mean = 0;
                for (std::size_t i = begin; i < end; ++i) {
                    mean += rank[i] / static_cast<double>(end - begin);
                    whole += (rank[i] - middle) * (rank[i] - middle);
                }
                between += static_cast<double>(end - begin) * (mean - middle) * (mean - middle);
            }
            m_found.mattered.push_back({key.first, key.second, between / whole, n});
        }
        std::stable_sort(m_found.mattered.begin(), m_found.mattered.end(),
                         [](const auto& a, const auto& b) { return a.share > b.share; });
    }

    static std::string percentOf(double share) { return readableText(100 * share, 3) + " %"; }

    std::string money(double value) const {
        const auto unit = m_base.units.find(m_base.response);
        return readableText(value, 4) + (unit == m_base.units.end() ? "" : " " + unit->second);
    }

    std::string story() const {
        const Tried& best = m_found.tried[m_best];
        std::size_t early = 0, failed = 0;
        for (const Tried& tried : m_found.tried) {
            failed += std::isnan(tried.mse);
            early += !tried.whole && !std::isnan(tried.mse);
        }
        std::string text = plural(m_found.tried.size(), "model was", "models were") + " tried with " +
                           plural(m_found.fits, "fit", "fits") + " in " +
                           (m_found.minutes < 1 ? readableText(60 * m_found.minutes, 2) + " seconds"
                                                : readableText(m_found.minutes, 2) + " minutes") +
                           ", on the same " + plural(m_folds, "fold", "folds") + "; " + countText(early) +
                           " of them fell behind and were ended early";
        if (failed > 0) text += ", and " + countText(failed) + " could not be learned";
        text += ". ";
        if (m_best == m_found.straight) {
            text += "Nothing was better than the straight model, which misses by " +
                    money(m_found.straightRmse) + " (root mean squared error out of fold). ";
        } else {
            text += "The best is " + best.says + ": it misses by " + money(m_found.bestRmse) +
                    " (root mean squared error out of fold), " +
                    percentOf(1 - m_found.bestRmse / m_found.straightRmse) +
                    " less than the straight model (" + money(m_found.straightRmse) + "), and in " +
                    percentOf(m_found.certainty) + " of " + std::to_string(resamplings) +
                    " resamplings of the rows it is the better of the two. ";
        }
        if (std::isfinite(m_found.corrected))
            text += "The best of many looks better than it is: corrected for having been chosen, expect " +
                    money(m_found.corrected) + " (95 % of resamplings between " +
                    money(m_found.correctedLower) + " and " + money(m_found.correctedUpper) + "). ";
        if (m_found.simpler)
            text += "Nearly as good and simpler: " + m_found.tried[*m_found.simpler].says + " (" +
                    money(m_found.simplerRmse) + "), within one standard error. ";
        else if (m_best != m_found.straight)
            text += "Nothing simpler comes within one standard error of it. ";
        std::string mattered;
        std::size_t told = 0;
        for (const SettingMattered& each : m_found.mattered) {
            if (each.share < 0.15 || told == 3) break;
            std::string name = each.setting;
            std::replace(name.begin(), name.end(), '_', ' ');
            mattered += (told++ == 0 ? "" : "; ") + name + " of " + kindTitle(each.kind) + " (" +
                        percentOf(each.share) + " of the spread of errors)";
        }
        if (!mattered.empty()) text += "What mattered: " + mattered + ". ";
        text += "It ended by " + m_found.endedBy +
                ". Rows held out and rows locked for the test were neither learned from nor looked at.";
        return text;
    }

    static std::string kindTitle(const std::string& kind) {
        std::string title = findModelKind(kind)->title;
        title[0] = static_cast<char>(std::tolower(static_cast<unsigned char>(title[0])));
        return title;
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
    std::vector<const SearchSpace*> m_of;
    std::vector<std::string> m_termsOf;
    std::vector<std::vector<double>> m_foldMse;
    std::vector<std::vector<std::size_t>> m_foldRows;
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

std::string searchCsv(const SearchFound& found) {
    CsvWriter csv;
    for (const auto* name :
         {"place", "model", "kind", "settings", "folds", "rmse", "mse", "standard_error", "seconds", "ended"})
        csv.text(name);
    csv.endRow();
    std::vector<std::size_t> order(found.tried.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) {
        const Tried &one = found.tried[a], &other = found.tried[b];
        if (one.whole != other.whole) return one.whole;
        if (one.folds != other.folds) return one.folds > other.folds;
        return one.mse < other.mse;
    });
    for (std::size_t k = 0; k < order.size(); ++k) {
        const Tried& tried = found.tried[order[k]];
        csv.count(k + 1).text(tried.says).text(tried.recipe.estimator.kind);
        csv.text(estimatorJson(tried.recipe.estimator).dump()).count(tried.folds);
        csv.number(std::sqrt(tried.mse)).number(tried.mse).number(tried.standardError);
        csv.number(tried.seconds).text(tried.ended);
        csv.endRow();
    }
    return csv.bytes();
}

std::string searchJson(const SearchFound& found) {
    using nlohmann::ordered_json;
    const auto plain = [](double value) {
        return std::isfinite(value) ? ordered_json(value) : ordered_json(nullptr);
    };
    const auto tried = [&](std::size_t at) {
        return ordered_json{{"model", found.tried[at].says},
                            {"estimator", estimatorJson(found.tried[at].recipe.estimator)},
                            {"rmse", plain(std::sqrt(found.tried[at].mse))}};
    };
    ordered_json mattered = ordered_json::array();
    for (const SettingMattered& each : found.mattered)
        mattered.push_back({{"kind", each.kind},
                            {"setting", each.setting},
                            {"share", each.share},
                            {"candidates", each.candidates}});
    const ordered_json out{{"folds", foldPlanText(found.folds)},
                           {"tried", found.tried.size()},
                           {"fits", found.fits},
                           {"minutes", found.minutes},
                           {"ended_by", found.endedBy},
                           {"best", tried(found.best)},
                           {"straight", tried(found.straight)},
                           {"simpler", found.simpler ? tried(*found.simpler) : ordered_json(nullptr)},
                           {"corrected_rmse", plain(found.corrected)},
                           {"corrected_lower", plain(found.correctedLower)},
                           {"corrected_upper", plain(found.correctedUpper)},
                           {"better_than_straight_in", found.certainty},
                           {"best_in", found.stability},
                           {"mattered", mattered},
                           {"says", found.says}};
    return out.dump(1, ' ', false, ordered_json::error_handler_t::replace) + "\n";
}

} // namespace oxgoad
