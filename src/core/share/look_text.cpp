#include "share/look_text.h"

#include "share/exports.h"
#include "write/csv.h"

#include <nlohmann/json.hpp>

#include <algorithm>
#include <cmath>
#include <span>

namespace oxgoad {

namespace {

using Json = nlohmann::ordered_json;

Json number(double value) {
    return std::isfinite(value) ? Json(value) : Json(nullptr);
}

/// The strongest of all, so many at most.
std::span<const Association> strongest(const Pairs& pairs, std::size_t most) {
    return std::span(pairs.strongest).first(std::min(most, pairs.strongest.size()));
}

std::string_view measureName(AssociationKind kind) {
    switch (kind) {
    case AssociationKind::correlation:
        return "correlation";
    case AssociationKind::correlationRatio:
        return "correlation ratio";
    default:
        return "Cramér's V";
    }
}

} // namespace

std::string lookJson(const LookReport& report) {
    Json out;
    out["response"] = report.response;
    out["against"] = againstName(report.against);
    out["learning_rows"] = report.rows;
    out["ranking"] = Json::array();
    for (const RankedColumn& r : report.ranking)
        out["ranking"].push_back({{"column", r.name},
                                  {"kind", kindName(r.kind)},
                                  {"rows", r.rows},
                                  {"missing_share", number(r.missingShare)},
                                  {"straight_r2", number(r.straight)},
                                  {"straight_unseen_r2", number(r.straightUnseen)},
                                  {"curved_unseen_r2", number(r.curved)},
                                  {"rank_correlation", number(r.rankCorrelation)},
                                  {"p", number(r.p)},
                                  {"p_adjusted", number(r.pAdjusted)}});
    out["slopes_differ"] = Json::array();
    for (const auto& [column, by] : report.slopes)
        out["slopes_differ"].push_back({{"column", column},
                                        {"factor", by.factor},
                                        {"f", number(by.test.f)},
                                        {"numerator_df", by.test.numeratorDf},
                                        {"denominator_df", by.test.denominatorDf},
                                        {"p", number(by.test.p)},
                                        {"p_adjusted", number(by.pAdjusted)}});
    const Pairs& pairs = report.pairs;
    out["pairs_in_all"] = pairs.strongest.size();
    out["pairs"] = Json::array();
    for (const Association& pair : strongest(pairs, mostPairsOfJson))
        out["pairs"].push_back({{"a", pairs.columns[pair.a]},
                                {"b", pairs.columns[pair.b]},
                                {"measure", measureName(pair.kind)},
                                {"value", number(pair.value)},
                                {"rows", pair.rows}});
    out["groups"] = Json::array();
    for (const std::size_t column : pairs.order) {
        const int group = pairs.group[column];
        if (group == 0) continue;
        while (out["groups"].size() < static_cast<std::size_t>(group))
            out["groups"].push_back(Json::array());
        out["groups"][static_cast<std::size_t>(group) - 1].push_back(pairs.columns[column]);
    }
    return out.dump(2, ' ', false, Json::error_handler_t::replace) + "\n";
}

std::string rankingCsv(const LookReport& report) {
    CsvWriter out;
    for (const auto* name : {"column", "kind", "rows", "missing_share", "straight_r2", "straight_unseen_r2",
                             "curved_unseen_r2", "rank_correlation", "p", "p_adjusted"})
        out.text(name);
    out.endRow();
    for (const RankedColumn& r : report.ranking) {
        out.text(r.name).text(kindName(r.kind)).count(r.rows);
        for (const double value :
             {r.missingShare, r.straight, r.straightUnseen, r.curved, r.rankCorrelation, r.p, r.pAdjusted})
            out.number(value);
        out.endRow();
    }
    return out.bytes();
}

std::string pairsCsv(const LookReport& report, const Progress& progress) {
    CsvWriter out;
    for (const auto* name : {"column_a", "column_b", "measure", "value", "rows", "group_a", "group_b"})
        out.text(name);
    out.endRow();
    const Pairs& pairs = report.pairs;
    std::size_t lines = 0;
    for (const Association& pair : strongest(pairs, mostPairsOfCsv)) {
        if (lines++ % 4096 == 0) stopIfTold(progress);
        out.text(pairs.columns[pair.a]).text(pairs.columns[pair.b]).text(measureName(pair.kind));
        out.number(pair.value).count(pair.rows);
        for (const std::size_t column : {pair.a, pair.b})
            out.count(static_cast<std::size_t>(pairs.group[column]));
        out.endRow();
    }
    return out.bytes();
}

void writeLook(const std::filesystem::path& folder, const LookReport& report, const Progress& progress) {
    writeFiles(folder, {{"look.json", lookJson(report)},
                        {"ranking.csv", rankingCsv(report)},
                        {"pairs.csv", pairsCsv(report, progress)}});
}

} // namespace oxgoad
