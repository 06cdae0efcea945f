// Models of the mean, of ranks and of two parts, against values made independently.
#include "base/random.h"
#include "base/text.h"
#include "estimate/ordered/ordered.h"
#include "estimate/two_parts/two_parts.h"
#include "model/power_family.h"
#include "study/evaluate.h"
#include "support/support.h"

#include <cmath>

using namespace oxgoad;
using namespace oxgoad::test;
using nlohmann::json;

namespace mean_models_test {

/// The rows of tests/reference/make/mean_values.py.
std::string madeRows(bool zeros) {
    std::string text = "y,a,b,g,w,o\n";
    for (int i = 0; i < 60; ++i) {
        const double a = (i * 7) % 13, b = ((i * 5) % 11) / 4.0;
        double y = (((i * i * 17 + i * 29) % 97) + 3) / 8.0 * (1 + a / 3);
        if (zeros && i % 3 == 1) y = 0;
        text += exactText(y) + "," + exactText(a) + "," + exactText(b) + "," +
                ((i * 3) % 4 == 0 ? "yes" : "no") + "," + std::to_string(1 + i % 3) + "," +
                exactText(((i % 5) - 2) / 4.0) + "\n";
    }
    return text;
}

struct MeanCase {
    std::string kind;
    double power;
    std::string link;
    bool zeros, weights, offset;
    /// Coefficients, their errors, dispersion, deviance, log-likelihood.
    std::array<double, 11> values;
};

// By tests/reference/make/mean_values.py: Newton's method in 50 digits.
const MeanCase meanCases[] = {
    {"gamma",
     2.0,
     "log",
     false,
     false,
     false,
     {2.2845208874000367, 0.11636089287478035, -0.069212440291129022, -0.27081328737634266,
      0.23342310775351692, 0.0222675804012821, 0.1037698834180428, 0.18333629169403677, 0.37537622705299843,
      33.756168056655857, -224.42018194087981}},
    {"gamma",
     2.0,
     "log",
     false,
     true,
     true,
     {2.3211455822855152, 0.11578402423064718, -0.084308866397923572, -0.31115298981749597,
      0.28217742972927681, 0.026016519268114218, 0.1210463788424629, 0.21076089272508754, 0.97371152013189499,
      72.312906849028793, -228.32434701715565}},
    {"gamma",
     2.0,
     "identity",
     false,
     false,
     false,
     {2.341959394211174, 2.4581723309225076, 2.142192071549885, -1.9506466538608557, 2.0220294437452781,
      0.31197408102098009, 0.82862515923678871, 2.010726058141887, 0.32688426247836286, 29.865898288274399,
      -220.75044565382973}},
    {"inverse Gaussian",
     3.0,
     "log",
     false,
     true,
     false,
     {2.0419607432051803, 0.13785038829366996, 0.027036341332264949, -0.304188208947514, 0.29471270955611267,
      0.028136576717469655, 0.13142051219183929, 0.17577105379862873, 0.055060141342597058,
      11.017243636345839, -278.05694434808283}},
    {"counts",
     1.0,
     "log",
     true,
     true,
     true,
     {1.691286029519482, 0.11497120909753185, -0.078263640432499618, -0.22925143606820476,
      0.45811583201571101, 0.044834963325181427, 0.18053503855804701, 0.37700049228397755, 28.553703331962464,
      1570.3709895268013, NAN}},
    {"counts",
     1.0,
     "identity",
     false,
     false,
     false,
     {8.5794201414335967, 1.9547044062269049, -0.53027888423279451, -3.6990578220390311, 3.8079598814268182,
      0.36786908593616058, 1.7273242906395759, 2.6152921734820491, 6.1684766952180183, 391.06967244029377,
      NAN}},
    {"tweedie",
     1.5,
     "log",
     true,
     false,
     false,
     {1.8829267745798269, 0.10910410895723395, -0.13038485082111024, -0.17711815782151731,
      0.41115364745268133, 0.039831707527387545, 0.17551915010888623, 0.33631309348442958, 3.8614845718942594,
      361.80346164770312, -190.3242519406994}},
    {"tweedie",
     1.25,
     "log",
     true,
     true,
     false,
     {1.8501004842622764, 0.10129921763952182, -0.090409251254467545, -0.2216696285565488,
      0.42995740873037411, 0.040522899838605568, 0.17345051635233968, 0.34887361290215851, 13.701497566683278,
      987.94781606117332, -197.73887098307901}},
};

Recipe recipeFor(const MeanCase& c) {
    Recipe recipe = recipeOf("y", {"a", "b", "g"});
    recipe.reference["g"] = "no";
    recipe.estimator.kind = c.kind;
    recipe.estimator.fields["link"] = c.link;
    if (c.kind == "tweedie") recipe.estimator.fields["power"] = c.power;
    if (c.weights) recipe.roles["w"] = Role::weight;
    if (c.offset) recipe.roles["o"] = Role::offset;
    return recipe;
}

Evidence evidenceOf(const Recipe& recipe, const std::string& text) {
    StudyRows rows;
    rows.learning = readBytes(text);
    return unchecked(recipe, rows);
}

TEST(MeanModels, AgreeWithFiftyDigits) {
    for (const MeanCase& c : meanCases) {
        SCOPED_TRACE(c.kind + " " + c.link + (c.weights ? " weighted" : "") + (c.offset ? " offset" : ""));
        const Evidence e = evidenceOf(recipeFor(c), madeRows(c.zeros));
        ASSERT_TRUE(e.linear && e.linear->generalised);
        const auto digits = [](double found, double right, double count, const char* what) {
            EXPECT_LT(std::fabs(found - right), std::pow(10, -count) * std::fabs(right)) << what;
        };
        for (std::size_t j = 0; j < 4; ++j) {
            digits(e.linear->coefficients[j].estimate, c.values[j], 11, "coefficient");
            digits(e.linear->coefficients[j].standardError, c.values[4 + j], 10, "error");
        }
        const Generalised& of = *e.linear->generalised;
        digits(of.dispersion, c.values[8], 11, "dispersion");
        digits(of.deviance, c.values[9], 11, "deviance");
        if (std::isnan(c.values[10]))
            EXPECT_TRUE(std::isnan(of.logLikelihood));
        else
            digits(of.logLikelihood, c.values[10], 10, "likelihood");
        EXPECT_TRUE(e.study->outcome.converged);
        EXPECT_TRUE(e.study->linear()->fit.proven());
    }
}

TEST(MeanModels, AreReadBackToTheSameBits) {
    for (const MeanCase& c : meanCases) {
        const Evidence e = evidenceOf(recipeFor(c), madeRows(c.zeros));
        const std::string text = studyText(*e.study);
        EXPECT_EQ(studyText(*readStudy(text)), text);
    }
}

TEST(MeanModels, FitTheMarginsOfACanonicalLink) {
    // Counts with a log link: the score equations make sums of fitted and actual alike in every level
    // (McCullagh and Nelder 1989, §6.3).
    const MeanCase c{"counts", 1, "log", true, false, false, {}};
    const Evidence e = evidenceOf(recipeFor(c), madeRows(true));
    double actual = 0, fitted = 0;
    for (std::size_t i = 0; i < e.rows.fitted.size(); ++i)
        actual += e.rows.actual[i], fitted += e.rows.fitted[i];
    EXPECT_NEAR(fitted, actual, 1e-9 * actual);
}

TEST(MeanModels, RefuseWhatTheyCannotHave) {
    const auto problem = [](const std::string& kind, const std::string& text) {
        Recipe recipe = recipeOf("y", {"a", "g"});
        recipe.estimator.kind = kind;
        try {
            static_cast<void>(evidenceOf(recipe, text));
        } catch (const Error& error) {
            return std::string(error.what());
        }
        return std::string();
    };
    std::string rows = "y,a,g\n", zeros = "y,a,g\n", none = rows;
    for (int i = 0; i < 30; ++i) {
        rows +=
            std::to_string(i == 7 ? -1 : 1 + i % 5) + "," + std::to_string(i % 7) + (i % 2 ? ",p\n" : ",q\n");
        zeros += std::to_string(i % 3 == 0 ? 0 : 1 + i % 5) + "," + std::to_string(i % 7) + "," +
                 (i % 3 == 0 ? "idle" : "busy") + "\n";
        none += "0," + std::to_string(i % 7) + (i % 2 ? ",p\n" : ",q\n");
    }
    EXPECT_NE(problem("gamma", rows).find("row 8"), std::string::npos) << problem("gamma", rows);
    EXPECT_NE(problem("counts", rows).find("row 8"), std::string::npos);
    EXPECT_NE(problem("counts", zeros).find("g = idle"), std::string::npos) << problem("counts", zeros);
    EXPECT_NE(problem("tweedie", none).find("are 0"), std::string::npos);
    EXPECT_NE(problem("two parts", none).find("are 0"), std::string::npos);
    EXPECT_NE(problem("two parts", zeros).find("part levels"), std::string::npos)
        << problem("two parts", zeros);
}

TEST(MeanModels, FindThePowerByLikelihood) {
    // Sums of a Poisson number of gammas, which is what Tweedie's distribution is: power 1.5 from shape 1.
    RandomStream random(3, "tweedie");
    std::string text = "y,a\n";
    for (int i = 0; i < 3000; ++i) {
        const double a = random.uniform();
        const double mean = std::exp(1 + a);
        const double phi = 1.5, p = 1.5;
        const double count = std::pow(mean, 2 - p) / (phi * (2 - p)),
                     scale = phi * (p - 1) * std::pow(mean, p - 1);
        double y = 0;
        for (double t = -std::log(1 - random.uniform()); t < count; t -= std::log(1 - random.uniform()))
            y -= scale * std::log(1 - random.uniform()); // (2 − p)/(p − 1) = 1: exponentials
        text += exactText(y) + "," + exactText(a) + "\n";
    }
    Recipe recipe = recipeOf("y", {"a"});
    recipe.estimator = Settings{"tweedie", {{"power", std::string("likelihood")}}};
    const Evidence e = evidenceOf(recipe, text);
    ASSERT_TRUE(e.linear->generalised->powerFound);
    EXPECT_NEAR(e.linear->generalised->power, 1.5, 0.05);
    // No power beside it is likelier, each with the dispersion that is likeliest for it.
    const auto profile = [&](double power) {
        Recipe other = recipe;
        other.estimator.fields["power"] = power;
        const Evidence at = evidenceOf(other, text);
        double best = -INFINITY;
        for (double log = 0; log < 0.8; log += 0.004) {
            double sum = 0;
            for (std::size_t i = 0; i < at.rows.actual.size(); ++i)
                sum += PowerFamily{power}.logDensity(at.rows.actual[i], at.rows.fitted[i], std::exp(log));
            best = std::max(best, sum);
        }
        return best;
    };
    const double found = e.linear->generalised->power, own = profile(found);
    for (const double power : {found - 0.01, found + 0.01})
        EXPECT_GT(own, profile(power)) << power;
    EXPECT_NEAR(e.linear->coefficients[1].estimate, 1, 4 * e.linear->coefficients[1].standardError);
}

TEST(PowerFamilies, QuantilesAndChancesAreInverse) {
    for (const double p : {1.2, 1.5, 1.8, 2.0, 3.0})
        for (const double mean : {0.3, 5.0, 2e4})
            for (const double share : {0.03, 0.5, 0.975}) {
                const PowerFamily family{p};
                const double phi = 0.7 * std::pow(mean, 2 - p);
                const double q = family.quantile(share, mean, phi);
                if (q > 0)
                    EXPECT_NEAR(family.below(q, mean, phi), share, 1e-9) << p << " " << mean;
                else
                    EXPECT_GE(family.below(0, mean, phi), share);
            }
}

TEST(PowerFamilies, DeviancesKeepTheirDigitsNearTheMean) {
    for (const double p : {1.0, 1.3, 1.7, 2.0, 3.0}) {
        const PowerFamily family{p};
        // d = (y − μ)²/μ^p to leading order.
        const double mean = 3, y = mean * (1 + 1e-7);
        EXPECT_NEAR(family.unitDeviance(y, mean) / (std::pow(y - mean, 2) / std::pow(mean, p)), 1, 1e-5) << p;
        EXPECT_EQ(family.unitDeviance(mean, mean), 0) << p;
        EXPECT_LT(family.devianceResidual(mean / 2, mean), 0);
    }
}

TEST(MeanModels, IntervalsCoverWhatTheyPromise) {
    RandomStream random(11, "coverage of gamma");
    const auto gammaOf = [&](double mean, int shape) { // a sum of exponentials
        double y = 0;
        for (int k = 0; k < shape; ++k)
            y -= mean / shape * std::log(1 - random.uniform());
        return y;
    };
    std::string text = "y,a\n", coming = "y,a\n";
    for (int i = 0; i < 4300; ++i) {
        const double a = random.uniform() * 3;
        (i < 300 ? text : coming) += exactText(gammaOf(std::exp(2 + a), 2)) + "," + exactText(a) + "\n";
    }
    Recipe recipe = recipeOf("y", {"a"});
    recipe.estimator.kind = "gamma";
    recipe.forecast = ForecastRequest{};
    recipe.forecast->level = 0.9;
    StudyRows rows;
    rows.learning = readBytes(text);
    rows.forecast = readBytes(coming);
    const Evidence e = unchecked(recipe, rows);
    ASSERT_TRUE(e.forecast);
    const auto actual = rows.forecast->table.at("y", "").numbers();
    double inside = 0;
    for (std::size_t i = 0; i < actual.size(); ++i)
        inside += actual[i] >= e.forecast->lower[i] && actual[i] <= e.forecast->upper[i];
    EXPECT_NEAR(inside / static_cast<double>(actual.size()), 0.9, 0.02);
}

TEST(Ordered, AgreesWithThePublicSurvey) {
    // Values of reference ologit_anes96: mpmath at 60 digits, data of the American National Election Study
    // 1996 (public domain).
    Recipe recipe = recipeOf("PID", {"selfLR", "age", "educ", "income"});
    recipe.estimator.kind = "ordered";
    const StudyRows rows = publishedRows("anes96");
    const Evidence e = unchecked(recipe, rows);
    const auto* model = dynamic_cast<const OrderedModel*>(e.study->model.get());
    ASSERT_TRUE(model);
    const std::array coefficients{1.027525856278606, -0.004288774309152411, 0.17747159012997635,
                                  0.04917374365534288};
    const std::array errors{0.053278645242079134, 0.003715751911492774, 0.04071095206820047,
                            0.010723412101359558};
    const std::array cuts{3.941928027663474, 5.179901126035316, 5.8788501107760895,
                          6.13401751726003,  6.783645215172471, 7.953806500290905};
    const std::array cutErrors{0.36511668353875304, 0.3767268246214469, 0.3885974329584086,
                               0.39373715661040304, 0.4060269602915872, 0.4261919399674972};
    for (Eigen::Index j = 0; j < 4; ++j) {
        const auto at = static_cast<std::size_t>(j);
        EXPECT_NEAR(model->slopes.fit.coefficients[j] / coefficients[at], 1, 1e-10);
        EXPECT_NEAR(model->slopes.fit.standardErrors[j] / errors[at], 1, 1e-10);
    }
    for (std::size_t k = 0; k < 6; ++k) {
        EXPECT_NEAR(model->cuts[k] / cuts[k], 1, 1e-10);
        EXPECT_NEAR(model->cutErrors[k] / cutErrors[k], 1, 1e-10);
    }
    EXPECT_NEAR(model->logLikelihood, -1501.4904695312384, 1e-9);
    EXPECT_NEAR(model->nullLogLikelihood, -1750.3467099898216, 1e-9);
    const json out = json::parse(evidenceText(e, recipe));
    EXPECT_EQ(out["ordered"]["cut_points"].size(), 6U);
    EXPECT_NEAR(out["fit"]["coefficients"][0]["estimate"].get<double>(), coefficients[0], 1e-10);
    EXPECT_NEAR(out["fit"]["log_likelihood"].get<double>(), -1501.4904695312384, 1e-9);
    EXPECT_EQ(studyText(*readStudy(studyText(*e.study))), studyText(*e.study));
}

TEST(Ordered, ReadsLevelsInTheirOrder) {
    RandomStream random(5, "ordered");
    std::string text = "grade,a\n";
    const std::vector<std::string> order{"low", "medium", "high"};
    for (int i = 0; i < 600; ++i) {
        const double a = random.normal(), u = random.uniform();
        const double said = 1.5 * a + std::log(u / (1 - u));
        text += order[said < -1 ? 0 : said < 1 ? 1 : 2] + "," + exactText(a) + "\n";
    }
    Recipe recipe = recipeOf("grade", {"a"});
    recipe.estimator = Settings{"ordered", {{"order", order}}};
    StudyRows rows;
    rows.learning = readBytes(text);
    const Evidence e = unchecked(recipe, rows);
    const auto* model = dynamic_cast<const OrderedModel*>(e.study->model.get());
    ASSERT_TRUE(model);
    EXPECT_EQ(model->names, order);
    EXPECT_NEAR(model->slopes.fit.coefficients[0], 1.5, 4 * model->slopes.fit.standardErrors[0]);
    EXPECT_NEAR(model->cuts[0], -1, 0.3);
    EXPECT_GT(model->brantP, 0.001) << "slopes are alike";
    EXPECT_EQ(model->brantDf, 1);
    for (const char* link : {"probit", "complementary log-log"}) {
        recipe.estimator.fields["link"] = std::string(link);
        EXPECT_NO_THROW(static_cast<void>(unchecked(recipe, rows))) << link;
    }
    recipe.estimator.fields["order"] = std::vector<std::string>{"low", "high"};
    try {
        static_cast<void>(unchecked(recipe, rows));
        ADD_FAILURE() << "an order that lacks a level";
    } catch (const Error& error) {
        EXPECT_NE(std::string(error.what()).find("medium"), std::string::npos);
    }
}

TEST(TwoParts, AreTheProductOfBoth) {
    RandomStream random(9, "two parts");
    std::string text = "y,a\n";
    for (int i = 0; i < 2000; ++i) {
        const double a = random.normal();
        const bool any = random.uniform() < 1 / (1 + std::exp(-(0.3 + a)));
        const double mean = std::exp(1 + 0.5 * a);
        text +=
            (any ? exactText(-mean / 2 * (std::log(1 - random.uniform()) + std::log(1 - random.uniform())))
                 : "0") +
            "," + exactText(a) + "\n";
    }
    Recipe recipe = recipeOf("y", {"a"});
    recipe.estimator.kind = "two parts";
    const Evidence e = evidenceOf(recipe, text);
    const json out = json::parse(evidenceText(e, recipe));
    const json& whether = out["two_parts"]["whether"]["coefficients"];
    const json& amount = out["two_parts"]["amount"]["coefficients"];
    EXPECT_NEAR(whether[0]["estimate"].get<double>(), 0.3, 0.2);
    EXPECT_NEAR(whether[1]["estimate"].get<double>(), 1, 0.25);
    EXPECT_NEAR(amount[0]["estimate"].get<double>(), 1, 0.12);
    EXPECT_NEAR(amount[1]["estimate"].get<double>(), 0.5, 0.12);
    Eigen::MatrixXd at(1, 1);
    at << 0.7;
    const auto value = [](const json& list, std::size_t k) { return list[k]["estimate"].get<double>(); };
    const double any = 1 / (1 + std::exp(-(value(whether, 0) + 0.7 * value(whether, 1))));
    EXPECT_NEAR(e.study->model->predict(at)(0, 0), any * std::exp(value(amount, 0) + 0.7 * value(amount, 1)),
                1e-9);
    EXPECT_EQ(studyText(*readStudy(studyText(*e.study))), studyText(*e.study));
}

TEST(TwoParts, WhetherMayHaveTermsOfItsOwn) {
    RandomStream random(10, "terms of whether");
    std::string text = "y,a,b,any\n";
    for (int i = 0; i < 600; ++i) {
        const double a = random.normal(), b = random.normal();
        const bool any = random.uniform() < 1 / (1 + std::exp(-(0.3 + a)));
        text += (any ? exactText(std::exp(1 + 0.5 * b + 0.3 * random.normal())) : "0") + "," + exactText(a) +
                "," + exactText(b) + "," + (any ? "1" : "0") + "\n";
    }
    Recipe recipe = recipeOf("y", {"a", "b"});
    recipe.estimator = {"two parts", {{"whether", std::vector<std::string>{"a"}}}};
    EXPECT_EQ(parseRecipe(recipeText(recipe), "").estimator, recipe.estimator);
    const Evidence e = evidenceOf(recipe, text);
    const json out = json::parse(evidenceText(e, recipe));
    const json& whether = out["two_parts"]["whether"]["coefficients"];
    ASSERT_EQ(whether.size(), 2U) << "the constant and a";
    EXPECT_EQ(out["two_parts"]["amount"]["coefficients"].size(), 3U);
    // The logit of a alone says the same.
    Recipe alone = recipeOf("any", {"a"});
    alone.estimator.kind = "ordered";
    const json other = json::parse(evidenceText(evidenceOf(alone, text), alone));
    EXPECT_GE(digits(whether[0]["estimate"].get<double>(),
                     -other["ordered"]["cut_points"][0]["estimate"].get<double>()),
              9);
    // Kept, read back, and what it does not read does not matter to whether.
    const auto again = readStudy(studyText(*e.study));
    EXPECT_EQ(studyText(*again), studyText(*e.study));
    const auto& model = dynamic_cast<const TwoPartsModel&>(*again->model);
    Eigen::MatrixXd at(2, 2);
    at << 0.5, -1, 0.5, 2;
    EXPECT_EQ(model.parts(at)(0, 0), model.parts(at)(1, 0));
    EXPECT_NE(model.parts(at)(0, 1), model.parts(at)(1, 1));
    recipe.estimator.fields["whether"] = std::vector<std::string>{"c"};
    EXPECT_NE(errorOf([&] { evidenceOf(recipe, text); }).find("\"c\" is named under \"whether\""),
              std::string::npos);
}

} // namespace mean_models_test
