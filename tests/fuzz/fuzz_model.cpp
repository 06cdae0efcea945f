// Texts of kept models of every kind and form, with values changed, taken out and moved, and then used as a
// project uses them: refused, or as harmless as a model that was learned. The input is only where chance
// begins.
#include "base/error.h"
#include "base/random.h"
#include "study/evaluate.h"

#include <cstdio>
#include <cstdlib>

#include <nlohmann/json.hpp>

using namespace oxgoad;
using nlohmann::json;

namespace {

struct Kept {
    Recipe recipe;
    StudyRows rows;
    std::shared_ptr<const PreparedRows> prepared;
    std::shared_ptr<const Study> study;
    json text;
};

std::string rowsText() {
    RandomStream random(3, "kept models");
    std::string text = "y,x,z,g,h,day,w,o,rank,spent,t\n";
    for (int i = 0; i < 70; ++i) {
        const double x = 1 + random.uniform() * 9;
        const std::uint64_t g = random.below(4), h = random.below(3);
        text += std::to_string(20 + 3 * x + static_cast<double>(g) + random.normal()) + "," +
                std::to_string(x) + "," + (i % 13 == 0 ? "" : std::to_string(random.normal())) + "," +
                std::string(1, static_cast<char>('a' + g)) + "," +
                std::string(1, static_cast<char>('p' + h)) + ",2024-0" + std::to_string(1 + i % 9) + "-11," +
                std::to_string(random.below(3)) + "," + std::to_string(random.uniform()) + "," +
                std::to_string(random.below(4)) + "," + (random.below(2) == 0 ? "0" : std::to_string(x)) +
                "," + std::to_string(i) + "\n";
    }
    return text;
}

const std::vector<Kept>& keptModels() {
    static const std::vector<Kept> models = [] {
        const std::string many =
            R"("terms": ["x", {"column": "z", "as": "curve"}, "g", {"product": ["x", "g"]},
            {"column": "h", "as": "deviations"}, {"column": "day", "as": "wave"}])";
        const std::string few = R"("terms": ["x", "g", {"log": "x"}])";
        const std::vector<std::string> recipes{
            many,
            few + R"(, "response_in_logs": true, "roles": {"w": "weight", "o": "offset"})",
            many + R"(, "errors": {"kind": "HC3"})",
            few + R"(, "errors": {"kind": "by group", "column": "h", "correction": "few groups"})",
            few + R"(, "errors": {"kind": "serial", "column": "day"}, "intercept": false)",
            few + R"(, "estimator": {"kind": "robust", "function": "bisquare"})",
            few + R"(, "estimator": {"kind": "quantile", "share": 0.9})",
            many + R"(, "estimator": {"kind": "penalised", "l1_share": 0.5, "penalty": 0.3})",
            R"("terms": ["x", "z", "g"], "estimator": {"kind": "neighbours", "count": 3})",
            R"("terms": ["x", "z", "g"], "estimator": {"kind": "tree", "smallest_leaf": 3})",
            R"("terms": ["x", "g"], "estimator": {"kind": "neighbours", "count": {"tuned": {"rule": "smallest error"}}})",
            many + R"(, "estimator": {"kind": "gamma"}, "roles": {"o": "offset"})",
            few + R"(, "estimator": {"kind": "tweedie", "link": "identity"})",
            R"("response": "rank", )" + few + R"(, "estimator": {"kind": "ordered"})",
            R"("response": "spent", "terms": ["z"], "estimator": {"kind": "two parts"})",
            few +
                R"(, "estimator": {"kind": "autoregressive errors", "order": 2}, "roles": {"t": "time", "h": "group"})",
            R"("terms": ["x", "z", "g"], "estimator": {"kind": "forest", "trees": 3})",
            R"("terms": ["x", "g"], "estimator": {"kind": "quantile forest", "trees": 3})",
            R"("terms": ["x", "g"], "estimator": {"kind": "boosted", "rounds": 3, "leaves": 4, "smallest_leaf": 4})",
            R"("terms": ["x", "g"], "estimator": {"kind": "network", "layers": [3], "passes": 5, "restarts": 1})",
            R"("terms": ["x", "g"], "estimator": {"kind": "formula", "generations": 3, "population": 20})",
            many + R"(, "choose": {"way": "forward", "by": "BIC"})",
            many + R"(, "steps": [{"do": "fill missing", "columns": ["z"], "with": "median"}])",
            R"("terms": [{"column": "x", "as": "straight pieces"}, {"column": "g", "as": "trend"}, {"product": ["g", "h"]}])"};
        std::vector<Kept> made;
        Progress progress;
        for (const std::string& recipe : recipes) {
            try {
                Kept kept;
                kept.recipe = parseRecipe(
                    R"({"recipe": 1, "rows": {"file": "rows.csv"}, )" +
                        std::string(recipe.starts_with(R"("response")") ? "" : R"("response": "y", )") +
                        recipe + "}",
                    "recipe");
                kept.rows.learning = readTextBytes(rowsText(), "rows.csv", {}, {1}, progress);
                kept.prepared = prepareRows(kept.recipe, kept.rows, {1}, progress);
                kept.study = evaluate(kept.recipe, kept.rows, *kept.prepared,
                                      {.threads = {1},
                                       .folds = EvaluateOptions::Folds::never,
                                       .checks = ChecksWanted::quick},
                                      progress)
                                 .study;
                kept.text = json::parse(studyText(*kept.study));
                kept.text["model"] = json::parse(kept.text["model"].get<std::string>());
                made.push_back(std::move(kept));
            } catch (const Error& error) {
                std::fprintf(stderr, "%s: %s\n", recipe.c_str(), error.what());
                std::abort();
            }
        }
        return made;
    }();
    return models;
}

json strangeValue(RandomStream& random) {
    static const std::vector<json> values{7,
                                          200,
                                          -7,
                                          -1,
                                          0,
                                          1,
                                          65536,
                                          9223372036854775807LL,
                                          1e300,
                                          -1e300,
                                          0.5,
                                          "nan",
                                          "inf",
                                          "",
                                          "x",
                                          true,
                                          false,
                                          nullptr,
                                          json::array(),
                                          json::object(),
                                          2147483648LL,
                                          -2147483648LL,
                                          1e-310,
                                          json::array({0, 0})};
    return values[random.below(values.size())];
}

/// A part of the text, found by going down at random.
json* somewhere(json& text, RandomStream& random) {
    json* at = &text;
    while (at->is_structured() && !at->empty() && (at == &text || random.below(12) != 0)) {
        auto it = at->begin();
        std::advance(it, static_cast<std::ptrdiff_t>(random.below(at->size())));
        at = &*it;
    }
    return at;
}

void spoil(json& text, RandomStream& random) {
    json* at = somewhere(text, random);
    switch (random.below(8)) {
    case 0:
        if (at->is_structured() && !at->empty()) {
            auto it = at->begin();
            std::advance(it, static_cast<std::ptrdiff_t>(random.below(at->size())));
            at->erase(it);
        } else {
            *at = strangeValue(random);
        }
        break;
    case 1:
        if (at->is_array() && !at->empty())
            at->push_back((*at)[random.below(at->size())]);
        else
            *at = strangeValue(random);
        break;
    case 2:
        if (at->is_array())
            for (std::uint64_t k = random.below(300); k > 0; --k)
                at->push_back(at->empty() ? strangeValue(random) : json((*at)[0]));
        else
            *at = strangeValue(random);
        break;
    case 3: {
        const json other = *somewhere(text, random);
        if (at != &text) *at = other;
        break;
    }
    case 4:
        if (at->is_number_integer())
            *at = at->get<std::int64_t>() + (random.below(2) == 0 ? 1 : -1);
        else
            *at = strangeValue(random);
        break;
    case 5:
        if (at->is_array() && at->size() > 1)
            std::swap((*at)[0], (*at)[at->size() - 1]);
        else
            *at = strangeValue(random);
        break;
    default:
        *at = strangeValue(random);
    }
}

} // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    std::uint64_t seed = 14695981039346656037ULL;
    for (std::size_t i = 0; i < size; ++i)
        seed = (seed ^ data[i]) * 1099511628211ULL;
    RandomStream random(seed, "edits of models");
    const Kept& kept = keptModels()[random.below(keptModels().size())];
    json text = kept.text;
    for (std::uint64_t k = random.below(4) == 0 ? 2 : 1; k > 0; --k)
        spoil(random.below(8) == 0 ? text : text["model"], random);
    if (!text.is_object()) return 0;
    if (text.contains("model") && !text["model"].is_string()) text["model"] = text["model"].dump();
    Progress progress;
    try {
        const std::shared_ptr<Study> study =
            readStudy(text.dump(-1, ' ', false, json::error_handler_t::replace));
        // As a project puts it together with the rows it kept.
        study->rows = kept.study->rows;
        study->weights = kept.study->weights;
        study->trained = kept.study->trained;
        requireRows(*study);
        apply(*study, kept.prepared->table, "rows.csv", study->rows, {1}, progress);
        studyText(*study);
        // The dearest part by far, for some of what was read.
        if (random.below(4) != 0) return 0;
        evaluate(kept.recipe, kept.rows, *kept.prepared,
                 {.threads = {1},
                  .study = study,
                  .folds = EvaluateOptions::Folds::never,
                  .checks = random.below(20) == 0 ? ChecksWanted::all : ChecksWanted::quick},
                 progress);
    } catch (const Error&) {
    }
    return 0;
}
