#include "estimate/linear/linear_model.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/model_text.h"

#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

MatrixXd LinearModel::matrix(const MatrixXd& inputs) const {
    MatrixXd block(inputs.rows(), static_cast<Index>(design.columns().size()));
    design.fill(inputs, block);
    return block;
}

VectorXd LinearModel::predict(const MatrixXd& inputs) const {
    return fit.predict(matrix(inputs));
}

VectorXd LinearModel::distances(const MatrixXd& inputs) const {
    return fit.leverage(matrix(inputs));
}

std::vector<std::string> LinearModel::problems(std::span<const double> inputs) const {
    std::vector<std::string> found;
    for (const Design::Guard& guard : design.guards()) {
        const double value = inputs[guard.piece.input];
        if (!std::isnan(value) && !std::isfinite(guard.piece.basis.at(value)))
            found.push_back(guard.name + " is not defined at " + readableText(value, 6));
    }
    return found;
}

std::vector<NamedNumber> LinearModel::says() const {
    std::vector<NamedNumber> said{{"coefficients", static_cast<double>(fit.rank())},
                                  {"degrees of freedom", fit.degreesOfFreedom}};
    if (iterated) said.push_back({"iterations", static_cast<double>(iterated->iterations)});
    if (penalised) {
        said.front().value = static_cast<double>(penalised->kept) + (fit.intercept ? 1 : 0);
        said.push_back({"penalty", penalised->penalty});
        said.push_back({"l1 share", penalised->l1Share});
        said.push_back({"effective degrees of freedom", penalised->effectiveDegreesOfFreedom});
    }
    return said;
}

std::string LinearModel::text() const {
    json out = {{"kind", kindName},
                {"design", designJson(design)},
                {"fit", fitJson(fit)},
                {"error_units", errorUnits},
                {"error_lags", errorLags},
                {"share", numberJson(share)},
                {"quantile_fit", numberJson(quantileFit)},
                {"average_leverage", numberJson(averageLeverage)},
                {"largest_leverage", numberJson(largestLeverage)}};
    if (iterated)
        out["iterated"] = {{"iterations", iterated->iterations},
                           {"converged", iterated->converged},
                           {"scale", numberJson(iterated->scale)},
                           {"rows_doubted", iterated->rowsDoubted},
                           {"exact_vertex", iterated->exactVertex}};
    if (penalised)
        out["penalised"] = {
            {"penalty", numberJson(penalised->penalty)},
            {"l1_share", numberJson(penalised->l1Share)},
            {"duality_gap", numberJson(penalised->dualityGap)},
            {"effective_degrees_of_freedom", numberJson(penalised->effectiveDegreesOfFreedom)},
            {"kept", penalised->kept}};
    if (lower && upper)
        out["bounds"] = {
            {"level", numberJson(boundsLevel)}, {"lower", fitJson(*lower)}, {"upper", fitJson(*upper)}};
    return out.dump(-1, ' ', false, json::error_handler_t::replace);
}

std::shared_ptr<const LearnedModel> readLinearModel(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        auto model = std::make_shared<LinearModel>();
        model->kindName = j.at("kind").get<std::string>();
        model->design = designFrom(j.at("design"));
        const auto columns = static_cast<Index>(model->design.columns().size());
        const auto fitOf = [&](const json& from) {
            LeastSquaresFit fit = fitFrom(from);
            if (fit.columns != columns) throw std::out_of_range("columns");
            return fit;
        };
        model->fit = fitOf(j.at("fit"));
        model->errorUnits = j.at("error_units").get<std::size_t>();
        model->errorLags = j.at("error_lags").get<int>();
        model->share = numberFrom(j.at("share"));
        model->quantileFit = numberFrom(j.at("quantile_fit"));
        model->averageLeverage = numberFrom(j.at("average_leverage"));
        model->largestLeverage = numberFrom(j.at("largest_leverage"));
        if (j.contains("iterated")) {
            const json& from = j.at("iterated");
            Iterated iterated;
            iterated.iterations = from.at("iterations").get<int>();
            iterated.converged = from.at("converged").get<bool>();
            iterated.scale = numberFrom(from.at("scale"));
            iterated.rowsDoubted = from.at("rows_doubted").get<std::size_t>();
            iterated.exactVertex = from.at("exact_vertex").get<bool>();
            model->iterated = std::move(iterated);
        }
        if (j.contains("penalised")) {
            const json& from = j.at("penalised");
            model->penalised = Penalised{numberFrom(from.at("penalty")), numberFrom(from.at("l1_share")),
                                         numberFrom(from.at("duality_gap")),
                                         numberFrom(from.at("effective_degrees_of_freedom")),
                                         from.at("kept").get<std::size_t>()};
        }
        if (j.contains("bounds")) {
            const json& from = j.at("bounds");
            model->boundsLevel = numberFrom(from.at("level"));
            model->lower = std::make_shared<LeastSquaresFit>(fitOf(from.at("lower")));
            model->upper = std::make_shared<LeastSquaresFit>(fitOf(from.at("upper")));
        }
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

Design learnDesign(const Teaching& teaching) {
    Design design =
        Design::learn(teaching.inputs, teaching.rows, teaching.terms, teaching.file, teaching.passedOver);
    if (design.guards().empty()) return design;
    const BoundDesign bound(design, teaching.inputs);
    for (const auto row : teaching.rows)
        if (!bound.complete(row))
            throw Error(ErrorCode::badTerm, bound.problems(row).front() + " in row " + countText(row + 1),
                        {.file = teaching.file}, "Leave the row out or take the term out.");
    return design;
}

LinearFit fitLinear(const Teaching& teaching, bool keepOrthonormal, Progress& progress) {
    LinearFit made{learnDesign(teaching), {}};
    const BoundDesign bound(made.design, teaching.inputs);
    const auto needed = made.design.columns().size() + (teaching.intercept ? 1 : 0);
    if (teaching.rows.size() < needed)
        throw Error(ErrorCode::tooFewRows,
                    plural(teaching.rows.size(), "learning row is", "learning rows are") + " too few for " +
                        plural(needed, "coefficient", "coefficients"),
                    {.file = teaching.file}, "Take terms out, hold fewer rows out, or bring more rows.");
    made.fit = fitLeastSquares(DesignRows(bound, teaching.rows), teaching.y,
                               {.intercept = teaching.intercept,
                                .threads = teaching.threads,
                                .weights = teaching.weights,
                                .keepOrthonormal = keepOrthonormal},
                               progress);
    return made;
}

} // namespace oxgoad
