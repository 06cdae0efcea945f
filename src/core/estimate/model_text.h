#pragma once
// Models as text, from which they read back to the same bits. Numbers are the shortest decimals that do; what
// is no finite number is "nan", "inf" or "-inf".
#include "base/error.h"
#include "design/design.h"
#include "estimate/linear/least_squares.h"

#include <nlohmann/json.hpp>

#include <Eigen/Core>

#include <exception>
#include <optional>
#include <stdexcept>
#include <string>
#include <vector>

namespace oxgoad {

nlohmann::json numberJson(double value);
double numberFrom(const nlohmann::json& json);

nlohmann::json numbersJson(const std::vector<double>& values);
std::vector<double> numbersFrom(const nlohmann::json& json);

/// {"rows", "columns", "values"}, column by column; the zeros below a triangle included.
nlohmann::json matrixJson(const Eigen::MatrixXd& matrix);
Eigen::MatrixXd matrixFrom(const nlohmann::json& json);
Eigen::VectorXd vectorFrom(const nlohmann::json& json);

nlohmann::json inputsJson(const Inputs& inputs);
Inputs inputsFrom(const nlohmann::json& json);

nlohmann::json designJson(const Design& design);
Design designFrom(const nlohmann::json& json);

/// Without its vectors of rows.
nlohmann::json fitJson(const LeastSquaresFit& fit);
LeastSquaresFit fitFrom(const nlohmann::json& json);

/// A text whose parts do not hang together; what it has, as "a level that is not there".
struct DamagedText : std::out_of_range {
    using std::out_of_range::out_of_range;
};
[[noreturn]] inline void damaged(const std::string& what) {
    throw DamagedText(what);
}

/// Runs `read`; whatever it finds wrong with the text is an Error (badProject).
template <class Read> auto guardedRead(Read&& read) {
    const auto refuse = [](const std::string& what) {
        throw Error(ErrorCode::badProject, "this is not the text of a model as Oxgoad writes it" + what, {},
                    "Fit the model again.");
    };
    try {
        return read();
    } catch (const Error&) {
        throw;
    } catch (const DamagedText& damage) {
        refuse(std::string(": it has ") + damage.what());
        throw;
    } catch (const std::exception&) { // of the JSON library, or of a container that is too short
        refuse({});
        throw;
    }
}

} // namespace oxgoad
