// What columns do on average, against closed forms.
#include "base/random.h"
#include "study/average_effects.h"
#include "study/evaluate.h"
#include "support/support.h"

#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;

namespace average_effects_test {

struct Fitted {
    std::shared_ptr<const PreparedRows> prepared;
    Evidence evidence;
};

Fitted fitted(const std::vector<Term>& terms, const std::string& kind = "least squares") {
    RandomStream random(7, "average effects");
    std::string text = "y,a,b,g\n";
    for (int i = 0; i < 400; ++i) {
        const double a = random.uniform() * 10, b = random.normal();
        const int g = static_cast<int>(random.below(3));
        text += exactText(3 + 2 * a - 5 * b + 4 * g + a * b) + "," + exactText(a) + "," + exactText(b) + "," +
                std::string(1, static_cast<char>('p' + g)) + "\n";
    }
    StudyRows rows;
    rows.learning = readBytes(text);
    Recipe recipe = recipeOf("y", {});
    recipe.terms = terms;
    recipe.estimator.kind = kind;
    Progress progress;
    return {prepareRows(recipe, rows, {1}, progress), unchecked(recipe, rows)};
}

std::vector<Term> straight() {
    return recipeOf("y", {"a", "b", "g"}).terms;
}

TEST(AverageEffects, OfAStraightModelAreItsSlopes) {
    const Fitted f = fitted(straight());
    const auto effects = averageEffects(*f.evidence.study, f.prepared->table, {1}, quietly());
    ASSERT_EQ(effects.size(), 3U);
    for (const std::size_t j : {0, 1}) {
        const AverageEffect& effect = effects[j];
        const double slope = f.evidence.linear->coefficients[j + 1].estimate;
        double mean = 0;
        for (std::size_t k = 1; k < effect.at.size(); ++k) {
            const double step = effect.at[k] - effect.at[k - 1];
            EXPECT_NEAR(effect.accumulated[k] - effect.accumulated[k - 1], slope * step, 1e-9);
            EXPECT_NEAR(effect.partial[k] - effect.partial[k - 1], slope * step, 1e-9);
            mean += static_cast<double>(effect.rows[k]) *
                    (effect.accumulated[k] + effect.accumulated[k - 1]) / 2 / 400;
        }
        EXPECT_NEAR(mean, 0, 1e-9) << "centred over the rows";
        EXPECT_EQ(std::accumulate(effect.rows.begin(), effect.rows.end(), std::size_t{0}), 400U);
    }
    EXPECT_TRUE(effects[2].accumulated.empty());
    EXPECT_NEAR(effects[2].partial[1] - effects[2].partial[0], f.evidence.linear->coefficients[3].estimate,
                1e-9);
}

TEST(AverageEffects, NameThePairThatActsTogether) {
    const Fitted none = fitted(straight());
    for (const PairStrength& pair : interactionStrengths(*none.evidence.study, none.prepared->table, {2}, {}))
        EXPECT_LT(pair.hSquared, 1e-18) << pair.first << " " << pair.second;
    std::vector<Term> terms = straight();
    terms.push_back(Term{{TermPart{"a"}, TermPart{"b"}}});
    const Fitted f = fitted(terms);
    const auto pairs = interactionStrengths(*f.evidence.study, f.prepared->table, {1}, {});
    ASSERT_EQ(pairs.size(), 3U);
    EXPECT_EQ(pairs[0].first + " " + pairs[0].second, "a b");
    EXPECT_GT(pairs[0].hSquared, 0.02);
    EXPECT_LT(pairs[1].hSquared, 1e-18);
    // By hand: the share of the centred product in the variance of the pair's dependence.
    const Fitted tree = fitted(straight(), "tree");
    const auto grown = interactionStrengths(*tree.evidence.study, tree.prepared->table, {1}, {});
    EXPECT_EQ(grown[0].first + " " + grown[0].second, "a b");
}

} // namespace average_effects_test
