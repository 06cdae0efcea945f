#include "estimate/linear/linear_model.h"

#include "base/error.h"
#include "base/text.h"
#include "estimate/linear/apart_reader.h"
#include "estimate/model_text.h"

#include <algorithm>
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

namespace {

/// Values of inputs as rows of a model matrix.
class InputRows final : public RowSource {
public:
    InputRows(const Design& design, const MatrixXd& inputs) : m_design(design), m_inputs(inputs) {}
    Index rows() const override { return m_inputs.rows(); }
    Index columns() const override { return static_cast<Index>(m_design.columns().size()); }
    void fill(Index begin, Eigen::Ref<MatrixXd> block) const override {
        m_design.fill(m_inputs.middleRows(begin, block.rows()), block);
    }
    std::shared_ptr<const RowLevels> levels() const override {
        const auto& known = m_design.levelColumns();
        auto made = std::make_shared<RowLevels>();
        made->levels = static_cast<Index>(known->levels);
        made->perLevel = static_cast<Index>(known->perLevel);
        made->columns = known->columns;
        made->ones = known->ones;
        made->rest = known->rest;
        if (known->own)
            made->fillOwn = [this, known](std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) {
                known->own->fill(m_inputs(places, Eigen::all), block);
            };
        for (const double level : m_inputs.col(static_cast<Index>(known->input)))
            made->of.push_back(known->placeOf[static_cast<std::size_t>(level)]);
        made->fill = [this](std::span<const std::uint32_t> places, Eigen::Ref<MatrixXd> block) {
            const MatrixXd chosen = m_inputs(places, Eigen::all);
            for (Index k = 0; k < block.cols(); ++k)
                m_design.fillColumn(
                    static_cast<std::size_t>(m_design.levelColumns()->rest[static_cast<std::size_t>(k)]),
                    chosen, block.col(k).data());
        };
        return made;
    }

private:
    const Design& m_design;
    const MatrixXd& m_inputs;
};

} // namespace

MatrixXd LinearModel::predict(const MatrixXd& inputs) const {
    VectorXd mean = meanAt(inputs);
    if (serial)
        for (Index i = 0; i < inputs.rows(); ++i) {
            const auto carried = serial->at(inputs.row(i));
            mean[i] += carried ? carried->value : std::nan("");
        }
    if (fit.dependent.empty()) return mean;
    constexpr Index atOnce = 256;
    for (Index begin = 0; begin < inputs.rows(); begin += atOnce) {
        const MatrixXd rows = matrix(inputs.middleRows(begin, std::min(atOnce, inputs.rows() - begin)));
        for (Index i = 0; i < rows.rows(); ++i)
            if (fit.partsFrom(rows.row(i).transpose())) mean[begin + i] = std::nan("");
    }
    return mean;
}

VectorXd LinearModel::meanAt(const MatrixXd& inputs) const {
    const auto& levels = design.levelColumns();
    constexpr std::size_t many = 64;
    if (!levels || levels->levels < many) return fit.predict(matrix(inputs));
    // Levels by their coefficients, the others about their means, as the fit itself does.
    VectorXd mean = VectorXd::Constant(inputs.rows(), fit.constant);
    VectorXd column(inputs.rows());
    for (const Index j : levels->rest) {
        const double b = fit.coefficients[j];
        if (std::isnan(b)) continue;
        design.fillColumn(static_cast<std::size_t>(j), inputs, column.data());
        mean += ((column.array() - fit.shift[j]) * b).matrix();
        mean.array() += fit.shift[j] * b;
    }
    MatrixXd own = MatrixXd::Ones(inputs.rows(), static_cast<Index>(levels->perLevel));
    if (levels->own) levels->own->fill(inputs, own);
    for (Index i = 0; i < inputs.rows(); ++i) {
        const double level = inputs(i, static_cast<Index>(levels->input));
        if (std::isnan(level)) {
            mean[i] = level;
            continue;
        }
        const auto place = levels->placeOf[static_cast<std::size_t>(level)];
        for (std::size_t s = 0; s < levels->perLevel && place < levels->levels; ++s)
            if (const Index at = levels->columns[place * levels->perLevel + s]; at >= 0)
                if (const double b = fit.coefficients[at]; !std::isnan(b))
                    mean[i] += b * own(i, static_cast<Index>(s));
    }
    return mean;
}

double Generalised::workingWeight(double said) const {
    const double mean = log ? std::exp(said) : said;
    const double slope = log ? mean : 1;
    return mean > 0 ? slope * slope / PowerFamily{power}.variance(mean) : std::nan("");
}

VectorXd LinearModel::distances(const MatrixXd& inputs) const {
    return generalised ? at(inputs).leverage : leveragesAt(inputs);
}

VectorXd LinearModel::leveragesAt(const MatrixXd& inputs) const {
    const auto& levels = design.levelColumns();
    if (fit.factor.levels() == 0 || !levels) return fit.leverage(matrix(inputs));
    if (!inputs.col(static_cast<Index>(levels->input)).allFinite()) return fit.leverage(matrix(inputs));
    const InputRows rows(design, inputs);
    const ApartReader reader(fit, rows);
    ApartReader::Rows turned = reader.read(0, inputs.rows());
    reader.turn(turned);
    return ApartReader::leverages(turned);
}

LinearModel::AtInputs LinearModel::at(const MatrixXd& inputs) const {
    AtInputs said;
    said.mean = predict(inputs);
    const auto& levels = design.levelColumns();
    if (fit.factor.levels() > 0 && levels && (!fit.covarianceRoot || fit.covarianceRoot->apart()) &&
        inputs.col(static_cast<Index>(levels->input)).allFinite()) {
        const InputRows rows(design, inputs);
        const ApartReader reader(fit, rows);
        ApartReader::Rows turned = reader.read(0, inputs.rows());
        reader.turn(turned);
        said.leverage = ApartReader::leverages(turned);
        if (fit.covarianceRoot) said.variance = reader.variances(turned);
        said.degreesOfFreedom = VectorXd::Constant(inputs.rows(), fit.testDegreesOfFreedom());
    } else {
        const MatrixXd block = matrix(inputs);
        said.leverage = fit.leverage(block);
        said.degreesOfFreedom = fit.meanDegreesOfFreedom(block);
        if (fit.covarianceRoot) said.variance = fit.meanVariance(block);
    }
    if (said.variance.size() == 0)
        said.variance = said.leverage * (fit.residualStandardDeviation * fit.residualStandardDeviation);
    if (serial) {
        said.besides.resize(inputs.rows());
        MatrixXd rows = fit.inOrthonormalBasis(matrix(inputs));
        for (Index i = 0; i < inputs.rows(); ++i) {
            const auto carried = serial->at(inputs.row(i));
            said.besides[i] =
                carried ? serial->of().variance * std::max(0.0, carried->variance - 1) : std::nan("");
            if (carried) rows.row(i) -= serial->rowsCarried(*carried, rows.cols());
        }
        said.variance = fit.covarianceRoot->times(MatrixXd(rows.transpose())).colwise().squaredNorm();
    }
    if (generalised) // rows learned from weigh by their means too
        for (Index i = 0; i < said.leverage.size(); ++i)
            said.leverage[i] *= generalised->workingWeight(said.mean[i]);
    return said;
}

std::vector<std::string> LinearModel::problems(std::span<const double> inputs) const {
    std::vector<std::string> found;
    for (const Design::Guard& guard : design.guards()) {
        const double value = inputs[guard.piece.input];
        if (!std::isnan(value) && !std::isfinite(guard.piece.basis.at(value)))
            found.push_back(guard.name + " is not defined at " + readableText(value, 6));
    }
    if (serial) {
        const std::size_t time = serial->of().time;
        const bool series = !serial->of().group || std::isfinite(inputs[*serial->of().group]);
        if (series && std::isfinite(inputs[time]) &&
            !serial->at(
                Eigen::Map<const Eigen::RowVectorXd>(inputs.data(), static_cast<Index>(inputs.size()))))
            found.push_back(design.inputs()[time].name + " " + design.inputs()[time].valueText(inputs[time]) +
                            " lies between two of the times learned from");
    }
    const bool there = std::none_of(inputs.begin(), inputs.end(), [](double v) { return std::isnan(v); });
    if (fit.dependent.empty() || !there || !found.empty()) return found;
    const VectorXd row =
        matrix(Eigen::Map<const MatrixXd>(inputs.data(), 1, static_cast<Index>(inputs.size()))).row(0);
    const Dependency* parts = fit.partsFrom(row);
    if (!parts) return found;
    const std::string& name = design.columns()[parts->column].name;
    std::string with;
    for (std::size_t k = 0; k < parts->combination.size() && k < 3; ++k)
        with += (k > 0 ? ", " : "") + design.columns()[parts->combination[k].first].name;
    if (parts->combination.size() > 3) with += " and others";
    found.push_back(with.empty() ? name + " was " + shortText(parts->constant) +
                                       " in all rows learned from, which do not say what it does"
                                 : name + " parts from what " + with +
                                       " say of it in all rows learned from, which do not tell them apart");
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
    if (serial) {
        said.push_back({"order of the errors", static_cast<double>(serial->autoregression().order())});
        for (Index k = 0; k < serial->autoregression().order(); ++k)
            said.push_back({"coefficient of the error " + std::to_string(k + 1) + " before",
                            serial->autoregression().phi[k]});
    }
    if (generalised) {
        said.push_back({"dispersion", generalised->dispersion});
        if (generalised->power > 1 && generalised->power < 2) said.push_back({"power", generalised->power});
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
    if (generalised)
        out["generalised"] = {{"power", numberJson(generalised->power)},
                              {"log_link", generalised->log},
                              {"dispersion", numberJson(generalised->dispersion)},
                              {"deviance", numberJson(generalised->deviance)},
                              {"null_deviance", numberJson(generalised->nullDeviance)},
                              {"log_likelihood", numberJson(generalised->logLikelihood)},
                              {"power_found", generalised->powerFound}};
    if (serial) out["serial"] = serial->json();
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
            if (fit.columns != columns) damaged("other coefficients than columns");
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
        if (j.contains("generalised")) {
            const json& from = j.at("generalised");
            model->generalised =
                Generalised{numberFrom(from.at("power")),         from.at("log_link").get<bool>(),
                            numberFrom(from.at("dispersion")),    numberFrom(from.at("deviance")),
                            numberFrom(from.at("null_deviance")), numberFrom(from.at("log_likelihood")),
                            from.at("power_found").get<bool>()};
            if (!(model->generalised->power >= 1 && model->generalised->power <= 3))
                damaged("a variance that is no power of the mean between 1 and 3");
        }
        if (j.contains("serial")) {
            model->serial = SerialErrors::from(j.at("serial"));
            const SerialErrors::Of& of = model->serial->of();
            const Inputs& inputs = model->design.inputs();
            const bool grouped = of.group && *of.group < inputs.size() && inputs[*of.group].factor;
            if (of.time >= inputs.size() || inputs[of.time].factor || (of.group && !grouped) ||
                of.series.size() != (grouped ? inputs[*of.group].levels.size() : 1) ||
                (!of.rows.empty() && of.rows.front().cols() != model->fit.rank()) ||
                !model->fit.covarianceRoot || model->fit.covarianceRoot->apart() ||
                model->fit.covarianceRoot->rank() != model->fit.rank())
                damaged("errors in time of other rows");
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

Design learnDesign(const TrainingData& training) {
    Design design =
        Design::learn(training.inputs, training.rows, training.terms, training.file, training.notSelected);
    if (design.guards().empty()) return design;
    const BoundDesign bound(design, training.inputs);
    for (const auto row : training.rows)
        if (!bound.complete(row))
            throw Error(ErrorCode::badTerm, bound.problems(row).front() + " in row " + countText(row + 1),
                        {.file = training.file}, "Leave the row out or take the term out.");
    return design;
}

namespace {

LinearFit fitted(Design design, const TrainingData& training, LeastSquaresOptions options,
                 Progress& progress) {
    LinearFit made{std::move(design), {}};
    const BoundDesign bound(made.design, training.inputs);
    const auto needed = made.design.columns().size() + (training.intercept ? 1 : 0);
    if (training.rows.size() < needed)
        throw Error(ErrorCode::tooFewRows,
                    plural(training.rows.size(), "learning row is", "learning rows are") + " too few for " +
                        plural(needed, "coefficient", "coefficients"),
                    {.file = training.file}, "Take terms out, hold fewer rows out, or bring more rows.");
    options.intercept = training.intercept;
    options.threads = training.threads;
    options.weights = training.weights;
    made.fit = fitLeastSquares(DesignRows(bound, training.rows), training.y, options, progress);
    return made;
}

} // namespace

LinearFit fitLinear(const TrainingData& training, bool keepOrthonormal, Progress& progress) {
    return fitted(learnDesign(training), training, {.keepOrthonormal = keepOrthonormal}, progress);
}

LinearFit fitLinearTogether(const TrainingData& training, const std::string& what, Progress& progress) {
    Design design = learnDesign(training);
    requireOneMatrix(design, what, training.file);
    constexpr double mostValues = 1e9; // of the basis of all columns at all rows
    if (const double values =
            static_cast<double>(design.columns().size() + 1) * static_cast<double>(training.rows.size());
        values > mostValues)
        throw Error(
            ErrorCode::badTerm,
            what + " of " + plural(design.columns().size(), "column", "columns") + " and " +
                plural(training.rows.size(), "row", "rows") + " would need " +
                shortText(std::ceil(8e-9 * values)) + " GB",
            {.file = training.file},
            "Take least squares, lump rare levels into one, take terms out, or learn from fewer rows.");
    const bool wide = design.columns().size() > 1000; // where levels would be apart
    return fitted(
        std::move(design), training,
        {.levels = wide ? LeastSquaresOptions::Levels::together : LeastSquaresOptions::Levels::asNeeded},
        progress);
}

} // namespace oxgoad
