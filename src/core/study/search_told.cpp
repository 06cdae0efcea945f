#include "study/search_told.h"

#include "base/not_a_number.h"
#include "base/random.h"
#include "base/text.h"
#include "estimate/model_kind.h"
#include "recipe/model_parts.h"
#include "write/csv.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <map>
#include <numeric>

namespace oxgoad {

namespace {

constexpr std::size_t resamplings = 200;

class Conclusions {
public:
    Conclusions(SearchFound& found, const std::vector<JudgedCandidate>& judged, const PreparedRows& prepared,
                const Recipe& base, const std::string& file, Threads threads)
        : m_found(found), m_judged(judged), m_prepared(prepared), m_base(base), m_file(file),
          m_threads(threads) {}

    void run() {
        m_found.bestRmse = m_found.tried[m_found.best].rmse();
        m_found.straightRmse = m_found.tried[m_found.straight].rmse();
        findSimpler();
        resample();
        findMattered();
        m_found.says = story();
    }

private:
    int simplicityOf(std::size_t at) const {
        const int own = m_judged[at].space ? m_judged[at].space->simplicity : 3;
        return 2 * own + m_judged[at].more;
    }

    /// The simplest whose errors by fold are as good but for a standard error of the difference.
    void findSimpler() {
        const std::vector<double>& best = m_judged[m_found.best].foldMse;
        for (std::size_t k = 0; k < m_found.tried.size(); ++k) {
            if (!m_found.tried[k].whole || simplicityOf(k) >= simplicityOf(m_found.best)) continue;
            double mean = 0, spread = 0;
            const auto n = static_cast<double>(best.size());
            for (std::size_t f = 0; f < best.size(); ++f)
                mean += (m_judged[k].foldMse[f] - best[f]) / n;
            for (std::size_t f = 0; f < best.size(); ++f) {
                const double d = m_judged[k].foldMse[f] - best[f] - mean;
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
            if (whole[c] == m_found.best) bestPlace = c;
            if (whole[c] == m_found.straight) straightPlace = c;
        }
        std::vector<double> judged(resamplings, nan);
        std::vector<std::uint8_t> beats(resamplings), stays(resamplings);
        parallelFor(resamplings, m_threads, [&](std::size_t b) {
            RandomStream stream(m_found.plan.seed + b, "resampling of a search");
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
            if (!m_judged[k].space || m_judged[k].foldMse.empty()) continue;
            for (const SettingRange& range : m_judged[k].space->ranges) {
                const auto* value =
                    std::get_if<double>(&m_found.tried[k].recipe.estimator.get(std::string_view(range.key)));
                if (value)
                    byKey[{m_judged[k].space->kind, range.key}].emplace_back(*value, m_judged[k].foldMse[0]);
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
        const Tried& best = m_found.tried[m_found.best];
        std::size_t early = 0, failed = 0;
        for (const Tried& tried : m_found.tried) {
            failed += std::isnan(tried.mse);
            early += !tried.whole && !std::isnan(tried.mse);
        }
        std::string text = plural(m_found.tried.size(), "model was", "models were") + " tried with " +
                           plural(m_found.fits, "fit", "fits") + " in " +
                           (m_found.minutes < 1 ? readableText(60 * m_found.minutes, 2) + " seconds"
                                                : readableText(m_found.minutes, 2) + " minutes") +
                           ", on the same " +
                           plural(static_cast<std::size_t>(m_found.folds.folds), "fold", "folds") + "; " +
                           countText(early) + " of them fell behind and were ended early";
        if (failed > 0) text += ", and " + countText(failed) + " could not be learned";
        text += ". ";
        if (m_found.best == m_found.straight) {
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
        else if (m_found.best != m_found.straight)
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

    SearchFound& m_found;
    const std::vector<JudgedCandidate>& m_judged;
    const PreparedRows& m_prepared;
    const Recipe& m_base;
    const std::string& m_file;
    Threads m_threads;
};

} // namespace

void concludeSearch(SearchFound& found, const std::vector<JudgedCandidate>& judged,
                    const PreparedRows& prepared, const Recipe& base, const std::string& file,
                    Threads threads) {
    Conclusions(found, judged, prepared, base, file, threads).run();
}

std::vector<std::size_t> bestFirst(const std::vector<Tried>& tried) {
    std::vector<std::size_t> order(tried.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(), [&](auto a, auto b) {
        const Tried &one = tried[a], &other = tried[b];
        if (one.whole != other.whole) return one.whole;
        if (one.folds != other.folds) return one.folds > other.folds;
        if (std::isnan(one.mse) != std::isnan(other.mse)) return std::isnan(other.mse);
        return one.mse < other.mse;
    });
    return order;
}

std::string searchCsv(const SearchFound& found) {
    CsvWriter csv;
    for (const auto* name :
         {"place", "model", "kind", "settings", "folds", "rmse", "mse", "standard_error", "seconds", "ended"})
        csv.text(name);
    csv.endRow();
    const std::vector<std::size_t> order = bestFirst(found.tried);
    for (std::size_t k = 0; k < order.size(); ++k) {
        const Tried& tried = found.tried[order[k]];
        csv.count(k + 1).text(tried.says).text(tried.recipe.estimator.kind);
        csv.text(estimatorJson(tried.recipe.estimator).dump()).count(tried.folds);
        csv.number(tried.rmse()).number(tried.mse).number(tried.standardError);
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
                            {"rmse", plain(found.tried[at].rmse())}};
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
