// Regressions with autoregressive errors: against an independent state space program (values from
// tests/reference/make/serial_values.py), dense matrices, simulation, and at their edges.
#include "base/random.h"
#include "base/text.h"
#include "core/stops.h"
#include "estimate/linear/linear_model.h"
#include "estimate/linear/serial_errors.h"
#include "study/forecast_answers.h"
#include "support/support.h"

#include <Eigen/Cholesky>
#include <Eigen/LU>

#include <cmath>
#include <numeric>

using namespace oxgoad;
using namespace oxgoad::test;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace serial_errors_test {

Recipe serialRecipe(const FieldValue& order, const std::vector<std::string>& columns,
                    const std::string& time = "year", const std::string& response = "volume") {
    Recipe recipe = recipeOf(response, columns);
    recipe.estimator = {"autoregressive errors", {{"order", order}}};
    recipe.roles[time] = Role::time;
    return recipe;
}

Evidence of(const Recipe& recipe, const std::string& text, const std::string& coming = {}) {
    StudyRows rows;
    rows.learning = readBytes(text);
    if (!coming.empty()) rows.forecast = readBytes(coming);
    return unchecked(recipe, rows);
}

std::string yearsOf(const StudyRows& rows, const std::string& value,
                    const std::vector<std::size_t>& gaps = {}) {
    const Table& table = rows.learning.table;
    std::string text = "year,t,y\n";
    for (std::size_t i = 0; i < table.rows(); ++i) {
        if (std::find(gaps.begin(), gaps.end(), i) != gaps.end()) continue;
        text += exactText(table.columns()[0].asNumber(i)) + "," + std::to_string(i) + "," +
                exactText(table.find(value)->asNumber(i)) + "\n";
    }
    return text;
}

const SerialErrors& serialOf(const Evidence& e) {
    return *e.study->linear()->serial;
}

struct Reference {
    const char* table;
    const char* value;
    int order;
    std::vector<std::size_t> gaps;
    double logLikelihood;
    std::vector<double> parameters; // constant, slope, phi, innovation variance by n
    std::vector<double> ahead;
    double lastSd;
};

TEST(SerialErrors, AgreeWithAnIndependentProgram) {
    const std::vector<Reference> all{
        {"nile",
         "volume",
         1,
         {},
         -634.790084043,
         {1055.76731, -2.75338223, 0.372366488, 19080.6882},
         {764.34938, 771.688158, 772.692758, 771.338723, 769.10641},
         148.832499},
        {"nile",
         "volume",
         2,
         {},
         -633.967760235,
         {1057.83103, -2.79250514, 0.32478424, 0.127030957, 18763.3904},
         {756.230019, 763.273269, 766.091712, 766.370999, 765.288928},
         148.655045},
        {"nile",
         "volume",
         3,
         {},
         -633.759619770,
         {1058.52658, -2.8092568, 0.31632494, 0.105880572, 0.0640906428, 18683.2587},
         {753.129167, 758.335657, 761.595953, 762.576863, 762.122913},
         148.335399},
        {"nile",
         "volume",
         2,
         {10, 11, 12, 40, 77},
         -603.952055629,
         {1063.72748, -2.87324064, 0.318934406, 0.142384882, 19352.1374},
         {754.173223, 760.847799, 763.446844, 763.678368, 762.574515},
         151.241412},
        {"sunspots",
         "sunspots",
         2,
         {},
         -1303.150146169,
         {34.4299175, 0.0990771944, 1.38285594, -0.697661749, 267.443917},
         {19.2530556, 45.1074098, 69.4825456, 85.1834432, 89.9211127},
         36.2691932}};
    for (const Reference& r : all) {
        const StudyRows rows = publishedRows(r.table);
        Recipe recipe = serialRecipe(double(r.order), {"t"}, "year", "y");
        recipe.forecast = ForecastRequest{};
        std::string coming = "year,t\n";
        const std::size_t n = rows.learning.table.rows();
        const double last = rows.learning.table.columns()[0].asNumber(n - 1);
        for (int h = 1; h <= 5; ++h)
            coming += exactText(last + h) + "," + std::to_string(n - 1 + static_cast<std::size_t>(h)) + "\n";
        const Evidence e = of(recipe, yearsOf(rows, r.value, r.gaps), coming);
        const LinearModel& model = *e.study->linear();
        const SerialErrors& serial = serialOf(e);
        EXPECT_NEAR(serial.of().logLikelihood, r.logLikelihood, 1e-6) << r.table << r.order;
        EXPECT_NEAR(model.fit.constant, r.parameters[0], 1e-4 * std::fabs(r.parameters[0]));
        EXPECT_NEAR(model.fit.coefficients[0], r.parameters[1], 1e-4 * std::fabs(r.parameters[1]));
        for (int k = 0; k < r.order; ++k)
            EXPECT_NEAR(serial.autoregression().phi[k], r.parameters[2 + static_cast<std::size_t>(k)], 2e-5);
        const auto learned = static_cast<double>(n - r.gaps.size());
        EXPECT_NEAR(serial.of().variance * (learned - 2) / learned, r.parameters.back(),
                    1e-4 * r.parameters.back());
        for (std::size_t h = 0; h < 5; ++h)
            EXPECT_NEAR(e.forecast->prediction[h], r.ahead[h], 1e-4 * std::fabs(r.ahead[h])) << h;
        // Theirs is of the innovations alone, ours of the coefficients too.
        EXPECT_GT(e.forecast->valueError[4], r.lastSd);
        EXPECT_LT(e.forecast->valueError[4], 1.2 * r.lastSd);
    }
}

/// Rows of one series; errors u_t = 0.7 u_{t−1} + ε.
struct Simulated {
    std::string learning = "month,x,y\n", coming = "month,x,y\n";
    std::vector<double> truth;
    Simulated(unsigned seed, int n, double phi, int horizon = 6) {
        RandomStream random(seed, "serial errors");
        double u = random.normal() / std::sqrt(1 - phi * phi);
        for (int t = 0; t < n + horizon; ++t) {
            if (t > 0) u = phi * u + random.normal();
            const double x = std::sin(t / 3.0) + 0.02 * t;
            const int month = t % 12, year = 2000 + t / 12;
            const double y = 10 + 2 * x + u;
            (t < n ? learning : coming) += std::to_string(year) + (month < 9 ? "-0" : "-") +
                                           std::to_string(month + 1) + "-01," + exactText(x) + "," +
                                           (t < n ? exactText(y) : std::string()) + "\n";
            if (t >= n) truth.push_back(y);
        }
    }
};

TEST(SerialErrors, HoldTheirLevelsWhereLeastSquaresDoesNot) {
    double held = 0, slopes = 0, plainSlopes = 0, totals = 0, asked = 0, sets = 0;
    for (unsigned seed = 1; seed <= 150; ++seed) {
        const Simulated s(seed, 120, 0.7);
        Recipe recipe = serialRecipe(1.0, {"x"}, "month", "y");
        recipe.forecast = ForecastRequest{};
        recipe.forecast->level = 0.9;
        recipe.forecast->totals = {TotalRequest{}};
        recipe.level = 0.9;
        const Evidence e = of(recipe, s.learning, s.coming);
        double sum = 0;
        for (std::size_t h = 0; h < s.truth.size(); ++h) {
            held += s.truth[h] >= e.forecast->lower[h] && s.truth[h] <= e.forecast->upper[h];
            ++asked;
            sum += s.truth[h];
        }
        const auto& total = e.answers->totals.front().lines.front();
        totals += sum >= total.lower && sum <= total.upper;
        const auto slope = [](const Evidence& from) {
            const auto& fit = from.study->linear()->fit;
            return std::fabs(fit.coefficients[0] - 2) < 1.658 * fit.standardErrors[0];
        };
        slopes += slope(e);
        Recipe plain = recipe;
        plain.estimator = {};
        plainSlopes += slope(of(plain, s.learning, s.coming));
        ++sets;
    }
    EXPECT_NEAR(held / asked, 0.9, 0.03);
    EXPECT_NEAR(totals / sets, 0.9, 0.07);
    EXPECT_NEAR(slopes / sets, 0.9, 0.07);
    EXPECT_LT(plainSlopes / sets, 0.8) << "errors that depend are taken for independent";
}

TEST(SerialErrors, SayWhatDenseMatricesSay) {
    // Generalised least squares with the inverse of the whole covariance, two series with gaps.
    RandomStream random(5, "dense");
    std::string text = "t,place,x,y\n";
    std::vector<double> y, x;
    std::vector<int> time, place;
    for (int p = 0; p < 2; ++p)
        for (int t = 0; t < 25; ++t) {
            if (t == 7 || (p == 1 && t > 10 && t < 14)) continue;
            time.push_back(t), place.push_back(p), x.push_back(random.normal() + 0.1 * t);
            y.push_back(3 + 1.5 * x.back() + random.normal() + (y.empty() ? 0 : 0.5 * (y.back() - 3)));
            text += std::to_string(2 * t) + (p == 0 ? ",a," : ",b,") + exactText(x.back()) + "," +
                    exactText(y.back()) + "\n";
        }
    Recipe recipe = serialRecipe(2.0, {"x"}, "t", "y");
    recipe.roles["place"] = Role::group;
    recipe.forecast = ForecastRequest{};
    const Evidence e = of(recipe, text, "t,place,x\n50,a,1\n56,b,2\n30,a,0\n51,a,1\n");
    const SerialErrors& serial = serialOf(e);
    const auto& phi = serial.autoregression().phi;
    // Autocovariances by their recursion from the model's own first ones.
    std::vector<double> covariance{serial.autoregression().stationary(0, 0),
                                   serial.autoregression().stationary(0, 1)};
    for (std::size_t k = 2; k < 60; ++k)
        covariance.push_back(phi[0] * covariance[k - 1] + phi[1] * covariance[k - 2]);
    // They keep the Yule–Walker equations.
    EXPECT_NEAR(covariance[0], phi[0] * covariance[1] + phi[1] * covariance[2] + 1, 1e-12);
    const auto n = static_cast<Index>(y.size());
    MatrixXd v = MatrixXd::Zero(n, n), design(n, 2);
    VectorXd response(n);
    const auto at = [&](Index i) { return static_cast<std::size_t>(i); };
    for (Index i = 0; i < n; ++i) {
        design.row(i) << 1, x[at(i)];
        response[i] = y[at(i)];
        for (Index j = 0; j < n; ++j)
            if (place[at(i)] == place[at(j)])
                v(i, j) = covariance[static_cast<std::size_t>(std::abs(time[at(i)] - time[at(j)]))];
    }
    const Eigen::LLT<MatrixXd> factor(v);
    const MatrixXd information = design.transpose() * factor.solve(design);
    const VectorXd b = information.ldlt().solve(design.transpose() * factor.solve(response));
    const VectorXd u = response - design * b;
    const double variance = u.dot(factor.solve(u)) / static_cast<double>(n - 2);
    const LinearModel& model = *e.study->linear();
    EXPECT_NEAR(model.fit.constant, b[0], 1e-8);
    EXPECT_NEAR(model.fit.coefficients[0], b[1], 1e-8);
    EXPECT_NEAR(serial.of().variance, variance, 1e-8 * variance);
    const MatrixXd covarianceOfB = variance * information.inverse();
    EXPECT_NEAR(model.fit.constantError, std::sqrt(covarianceOfB(0, 0)), 1e-8);
    EXPECT_NEAR(model.fit.standardErrors[0], std::sqrt(covarianceOfB(1, 1)), 1e-8);
    double logDeterminant = 0;
    for (Index i = 0; i < n; ++i)
        logDeterminant += 2 * std::log(factor.matrixL()(i, i));
    const double squares = u.dot(factor.solve(u)), rows = static_cast<double>(n);
    EXPECT_NEAR(serial.of().logLikelihood,
                -0.5 * (rows * std::log(2 * M_PI * squares / rows) + rows + logDeterminant), 1e-7);
    // The forecast of a row (Goldberger 1962, Journal of the American Statistical Association 57): what goes
    // with its error, and the variance with the coefficients in it. Rows to forecast: a at 25, b at 28, a in
    // the middle of what was learned, and one between two periods.
    const auto check = [&](std::size_t row, int p, int t, double value, bool onlyBefore) {
        VectorXd c = VectorXd::Zero(n);
        for (Index i = 0; i < n; ++i)
            if (place[at(i)] == p && (!onlyBefore || time[at(i)] < t))
                c[i] = covariance[static_cast<std::size_t>(std::abs(time[at(i)] - t))];
        const VectorXd w = factor.solve(c);
        const Eigen::RowVector2d own(1, value);
        EXPECT_NEAR(e.forecast->prediction[row], (own * b)(0) + w.dot(u), 1e-8);
        const Eigen::RowVector2d effective = own - w.transpose() * design;
        const double total =
            variance * (covariance[0] - c.dot(w)) + (effective * covarianceOfB * effective.transpose())(0);
        EXPECT_NEAR(e.forecast->valueError[row], std::sqrt(total), 1e-8);
    };
    check(0, 0, 25, 1, false);
    check(1, 1, 28, 2, false);
    EXPECT_TRUE(std::isfinite(e.forecast->prediction[2]));
    EXPECT_TRUE(std::isnan(e.forecast->prediction[3]));
    EXPECT_NE(e.forecast->reach[3].reasons.front().find("lies between"), std::string::npos);
    // A later time alone is no reach of the terms.
    EXPECT_EQ(e.forecast->reach[0].grade, ReachGrade::inside) << e.forecast->reach[0].reasons.front();
    // What is learned of a row is what is said of it.
    const Table learnedFrom = readBytes(text).table;
    const BoundModel bound = e.study->bind(learnedFrom, "rows.csv");
    std::vector<std::uint32_t> all(static_cast<std::size_t>(n));
    std::iota(all.begin(), all.end(), 0U);
    const auto said = bound.predict(all, {1}, quietly());
    for (Index i = 0; i < n; ++i)
        EXPECT_NEAR(said[at(i)], e.study->trained.fitted[i], 1e-9);
}

TEST(SerialErrors, FindTheOrderAndAreLeastSquaresWithout) {
    const Simulated strong(3, 200, 0.7), none(4, 200, 0);
    const Evidence found = of(serialRecipe(std::string("AICc"), {"x"}, "month", "y"), strong.learning);
    EXPECT_GE(serialOf(found).autoregression().order(), 1);
    EXPECT_TRUE(serialOf(found).of().found);
    EXPECT_EQ(std::get<double>(found.study->settings.get("order")),
              static_cast<double>(serialOf(found).autoregression().order()));
    const Evidence flat = of(serialRecipe(0.0, {"x"}, "month", "y"), none.learning);
    Recipe plain = serialRecipe(0.0, {"x"}, "month", "y");
    plain.estimator = {};
    const Evidence squares = of(plain, none.learning);
    EXPECT_NEAR(flat.study->linear()->fit.coefficients[0], squares.study->linear()->fit.coefficients[0],
                1e-12);
    EXPECT_NEAR(flat.study->linear()->fit.standardErrors[0], squares.study->linear()->fit.standardErrors[0],
                1e-12);
}

TEST(SerialErrors, RefuseWithTheWayOut) {
    const auto refusal = [](const std::string& text, FieldValue order = 1.0, bool time = true) {
        Recipe recipe = serialRecipe(order, {"x"}, "t", "y");
        if (!time) recipe.roles.clear();
        return errorOf([&] { of(recipe, text); });
    };
    std::string even = "t,x,y\n", twice = even, uneven = even;
    RandomStream random(1, "refusals");
    for (int t = 0; t < 20; ++t) {
        const std::string rest = "," + exactText(random.normal()) + "," + exactText(random.normal()) + "\n";
        even += std::to_string(t) + rest;
        twice += std::to_string(t / 2) + rest;
        uneven += exactText(t + (t > 9 ? 0.3 : 0.0)) + rest;
    }
    EXPECT_EQ(refusal(even), "");
    EXPECT_NE(refusal(even, 1.0, false).find("role of the time"), std::string::npos);
    EXPECT_NE(refusal(twice).find("rows 1 and 2 have the same t"), std::string::npos) << refusal(twice);
    EXPECT_NE(refusal(twice).find("role of the group"), std::string::npos);
    EXPECT_NE(refusal(uneven).find("even steps"), std::string::npos) << refusal(uneven);
    EXPECT_NE(refusal("t,x,y\n1,1,2\n2,3,1\n3,2,5\n4,4,4\n5,6,6\n", 4.0).find("longer series"),
              std::string::npos);
    EXPECT_NE(refusal("t,x,y\n1,1,1\n2,3,3\n3,2,2\n4,4,4\n5,6,6\n").find("exactly"), std::string::npos);
}

TEST(SerialErrors, FindPeriodsOfDatesAndNumbers) {
    const auto days = [](std::initializer_list<int> values) {
        std::vector<double> out(values.begin(), values.end());
        return findPeriods(out, true);
    };
    // 2024-01-31, 02-29, 03-31: ends of months.
    const auto ends = days({19753, 19782, 19813});
    ASSERT_TRUE(ends && ends->months);
    EXPECT_EQ(ends->at(19813), 2);
    // Weeks with one left out.
    const auto weeks = days({19753, 19760, 19774});
    ASSERT_TRUE(weeks && !weeks->months);
    EXPECT_EQ(weeks->step, 7);
    EXPECT_EQ(weeks->at(19774), 3);
    EXPECT_FALSE(weeks->at(19761));
    // Quarters.
    const auto quarters = days({19723, 19814, 19905});
    ASSERT_TRUE(quarters && quarters->months);
    EXPECT_EQ(quarters->step, 3);
    EXPECT_EQ(quarters->text(true), "3 months");
    const std::vector<double> odd{0, 0.5, 1.2};
    EXPECT_FALSE(findPeriods(odd, false));
}

TEST(SerialErrors, AreReadBackToTheSameBits) {
    const Simulated s(9, 60, 0.6);
    const Evidence e = of(serialRecipe(2.0, {"x"}, "month", "y"), s.learning);
    const auto again = readModel(e.study->model->text());
    const Table table = readBytes(s.coming).table;
    MatrixXd inputs(static_cast<Index>(table.rows()), static_cast<Index>(e.study->inputs.size()));
    std::vector<std::uint32_t> all(table.rows());
    std::iota(all.begin(), all.end(), 0U);
    BoundInputs(e.study->inputs, table, "rows.csv").fill(all, inputs);
    const auto one = e.study->model->linear()->at(inputs), other = again->linear()->at(inputs);
    for (Index i = 0; i < inputs.rows(); ++i) {
        EXPECT_EQ(one.mean[i], other.mean[i]);
        EXPECT_EQ(one.variance[i], other.variance[i]);
        EXPECT_EQ(one.besides[i], other.besides[i]);
    }
}

} // namespace serial_errors_test
