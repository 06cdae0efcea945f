// Models as text: numbers to the same bits, parts that do not hang together refused, whatever reads them.
#include "base/random.h"
#include "estimate/linear/linear_kinds.h"
#include "estimate/linear/linear_model.h"
#include "estimate/model_text.h"
#include "support/support.h"

#include <bit>
#include <limits>

using namespace oxgoad;
using namespace oxgoad::test;
using nlohmann::json;

namespace model_text_test {

std::uint64_t bits(double value) {
    return std::bit_cast<std::uint64_t>(value);
}

std::shared_ptr<const LearnedModel> someModel() {
    RandomStream random(9, "model text");
    std::string text = "x,g,y\n";
    for (int i = 0; i < 60; ++i) {
        const double x = random.normal();
        text += std::to_string(x) + "," + std::string(1, static_cast<char>('a' + i % 3)) + "," +
                std::to_string(2 * x + i % 3 + 0.1 * random.normal()) + "\n";
    }
    Recipe recipe = recipeOf("y", {"x", "g"});
    TermPart curve{"x"};
    curve.form = Form::spline;
    recipe.terms[0] = {{curve}};
    StudyRows rows;
    rows.learning = readBytes(text);
    return evaluate(recipe, rows, {}, quietly()).study->model;
}

/// The text of a model with one part changed, read again.
std::string refused(const std::function<void(json&)>& change) {
    json j = json::parse(someModel()->text());
    change(j);
    return errorOf([&] { readModel(j.dump()); });
}

TEST(ModelText, NumbersComeBackToTheSameBits) {
    RandomStream random(10, "numbers");
    std::vector<double> values{0.0,
                               -0.0,
                               1e-320,
                               -1e-320,
                               5e-324,
                               std::numeric_limits<double>::max(),
                               1.0 / 3,
                               1e308,
                               0.1,
                               -1e-308,
                               std::numeric_limits<double>::epsilon()};
    for (int i = 0; i < 2000; ++i)
        values.push_back(std::bit_cast<double>(random.next()));
    for (const double value : values) {
        if (!std::isfinite(value)) continue;
        EXPECT_EQ(bits(numberFrom(json::parse(numberJson(value).dump()))), bits(value)) << value;
    }
    EXPECT_TRUE(std::isnan(numberFrom(numberJson(std::nan("")))));
    EXPECT_EQ(numberFrom(numberJson(INFINITY)), INFINITY);
    EXPECT_EQ(numberFrom(numberJson(-INFINITY)), -INFINITY);
    EXPECT_ANY_THROW(numberFrom(json("much")));
    Eigen::MatrixXd matrix(2, 3);
    matrix << 1, 2, 3, 4, std::nan(""), 6;
    const Eigen::MatrixXd back = matrixFrom(json::parse(matrixJson(matrix).dump()));
    EXPECT_EQ(back.rows(), 2);
    EXPECT_EQ(back(1, 0), 4);
    EXPECT_TRUE(std::isnan(back(1, 1)));
    EXPECT_EQ(matrixFrom(matrixJson(Eigen::MatrixXd(0, 4))).cols(), 4);
}

TEST(ModelText, PartsThatDoNotHangTogetherAreRefused) {
    EXPECT_EQ(refused([](json&) {}), "") << "as it is it reads";
    const std::vector<std::function<void(json&)>> changes{
        [](json& j) { j["kind"] = "magic"; },
        [](json& j) { j.erase("fit"); },
        [](json& j) { j["fit"]["factor"]["rows"] = 1000000000; },
        [](json& j) { j["fit"]["factor"]["values"].erase(0); },
        [](json& j) { j["fit"]["coefficients"].erase(0); },
        [](json& j) { j["fit"]["shift"].erase(0); },
        [](json& j) { j["fit"]["scale"].erase(0); },
        [](json& j) { j["fit"]["projections"].erase(0); },
        [](json& j) { j["fit"]["kept"][0] = 99; },
        [](json& j) { j["fit"]["columns"] = 2; },
        [](json& j) { j["fit"]["constant"] = "a lot"; },
        [](json& j) { j["design"]["columns"].erase(0); },
        [](json& j) { j["design"]["columns"][0]["term"] = 7; },
        [](json& j) { j["design"]["columns"][0]["pieces"][0]["input"] = 7; },
        [](json& j) { j["design"]["columns"][0]["pieces"][0]["basis"]["kind"] = 99; },
        [](json& j) { j["design"]["columns"][1]["pieces"][0]["basis"]["values"] = json::array({1}); },
        [](json& j) { j["design"]["columns"][1]["pieces"][0]["basis"]["power"] = 100000; },
        [](json& j) { j["design"]["columns"][1]["pieces"][0]["basis"]["power"] = -2147483647 - 1; },
        [](json& j) { j["design"]["inputs"][1]["reference"] = 3; },
        [](json& j) { j["design"]["columns"][0]["pieces"] = json::array(); },
        [](json& j) { j["fit"]["projections"] = json::array(); },
        [](json& j) { j["fit"]["rows"] = -1; },
        [](json& j) {
            j["fit"]["unseen"] = {{"rows", 0}, {"columns", 5}, {"values", json::array()}};
        },
        [](json& j) { j["design"]["inputs"] = json::array(); },
        [](json& j) { j["design"]["inputs"] = json::array_t(20000, j["design"]["inputs"][0]); },
        [](json& j) {
            json& pieces = j["design"]["columns"][0]["pieces"];
            pieces = json::array_t(20000, pieces[0]);
        },
        [](json& j) { j = json::array(); }};
    for (std::size_t i = 0; i < changes.size(); ++i)
        EXPECT_NE(refused(changes[i]).find("not the text of a model"), std::string::npos) << "change " << i;
    for (const std::int64_t level :
         {std::int64_t{7}, std::int64_t{200}, std::int64_t{-7}, std::numeric_limits<std::int64_t>::max()}) {
        bool set = false;
        EXPECT_NE(refused([&](json& j) { // of a column that says a level
                      for (json& column : j["design"]["columns"])
                          for (json& piece : column["pieces"])
                              if (piece["basis"].contains("level")) {
                                  piece["basis"]["level"] = level;
                                  set = true;
                              }
                  })
                      .find("not the text of a model"),
                  std::string::npos)
            << level;
        EXPECT_TRUE(set);
    }
    EXPECT_NE(errorOf([] { readModel("{"); }), "");
    EXPECT_NE(errorOf([] { readModel(""); }), "");
}

TEST(ModelText, AMatrixOfInputsIsWhatTheTableGives) {
    const Table table =
        readBytes("x,g,day\n1,a,2024-01-01\n2,b,2024-06-30\n3,a,2024-02-29\n5,c,2023-12-31\n").table;
    const std::vector<std::uint32_t> rows{0, 1, 2, 3};
    TermPart wave{"day"}, log{"x"};
    wave.form = Form::wave;
    log.logarithm = true;
    const Design design = Design::learn(
        table, rows,
        {plainTerm("x"), Term{{log}}, plainTerm("g"), Term{{TermPart{"x"}, TermPart{"g"}}}, Term{{wave}}}, {},
        "");
    const BoundDesign bound(design, table, "");
    Eigen::MatrixXd fromTable(4, static_cast<Eigen::Index>(design.columns().size())), fromInputs = fromTable;
    bound.fill(rows, fromTable);
    Eigen::MatrixXd inputs(4, static_cast<Eigen::Index>(design.inputs().size()));
    bound.inputs().fill(rows, inputs);
    design.fill(inputs, fromInputs);
    EXPECT_EQ(fromTable, fromInputs);
    for (Eigen::Index j = 0; j < fromTable.cols(); ++j)
        for (std::uint32_t row = 0; row < 4; ++row) {
            double product = 1;
            for (const auto& piece : design.columns()[static_cast<std::size_t>(j)].pieces)
                product *= piece.basis.at(bound.inputValue(piece.input, row));
            EXPECT_EQ(fromTable(row, j), product) << j << " " << row;
        }
    inputs(1, 0) = std::nan("");
    design.fill(inputs, fromInputs);
    EXPECT_TRUE(std::isnan(fromInputs(1, 0))) << "what is missing stays missing";
    EXPECT_FALSE(std::isnan(fromInputs(0, 0)));
}

} // namespace model_text_test
