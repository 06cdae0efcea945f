#include "estimate/two_parts/two_parts.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/distributions.h"
#include "estimate/model_text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

Settings amountOf(const Settings& settings) {
    Settings amount{settings.text("kind")};
    if (amount.kind != "least squares") amount.fields["link"] = settings.text("link");
    return amount;
}

/// Terms that do not say whether there is anything, one a term; empty when all do.
std::vector<std::uint8_t> notWhether(const Settings& settings, const TrainingData& training) {
    const auto& names = settings.get<std::vector<std::string>>("whether");
    if (names.empty()) return {};
    std::vector<std::uint8_t> out(training.terms.size(), 1);
    for (const std::string& name : names) {
        std::vector<std::string> known;
        bool there = false;
        for (std::size_t t = 0; t < training.terms.size(); ++t) {
            known.push_back(termName(training.terms[t]));
            if (known.back() != name) continue;
            there = true;
            const bool chosen = training.notSelected.empty() || training.notSelected[t] == 0;
            if (chosen) out[t] = 0;
        }
        if (!there)
            throw Error(
                ErrorCode::badTerm, "\"" + name + "\" is named under \"whether\" and is no term of the model",
                {.file = training.file}, "Name some of its terms: " + nameList(known, known.size()) + ".");
    }
    return out;
}

FitResult learnTwoParts(const Settings& settings, const TrainingData& training, Progress& progress) {
    std::vector<double> any(training.y.size());
    std::vector<std::uint32_t> rows;
    std::vector<double> amounts, weights;
    for (std::size_t i = 0; i < any.size(); ++i) {
        any[i] = training.y[i] > 0 ? 2 : 1;
        if (!(training.y[i] > 0)) continue;
        rows.push_back(training.rows[i]);
        amounts.push_back(training.y[i]);
        if (!training.weights.empty()) weights.push_back(training.weights[i]);
    }
    if (rows.empty() || rows.size() == any.size())
        throw Error(ErrorCode::noSpread,
                    rows.empty() ? "all values of the response are 0" : "no value of the response is 0",
                    {.file = training.file},
                    rows.empty() ? "There is nothing to be modelled; choose another response."
                                 : "One part is enough: choose gamma regression.");
    auto model = std::make_shared<TwoPartsModel>();
    FitOutcome outcome{.converged = true};
    {
        ProgressStage stage(progress, 0, 0.5);
        TrainingData whether = training;
        whether.y = any;
        const std::vector<std::uint8_t> without = notWhether(settings, training);
        if (!without.empty()) whether.notSelected = without;
        FitResult fit = orderedKind().learn({"ordered"}, whether, stage);
        model->whether = std::dynamic_pointer_cast<const OrderedModel>(fit.model);
        outcome = fit.outcome;
    }
    {
        ProgressStage stage(progress, 0.5, 1);
        TrainingData amount = training;
        amount.rows = rows;
        amount.y = amounts;
        amount.weights = weights;
        const Settings how = amountOf(settings);
        FitResult fit = kindOf(how).learn(how, amount, stage);
        model->amount = fit.model;
        model->link = fit.link.value_or(Link{});
        const double spread = fit.model->linear()->fit.residualStandardDeviation;
        model->dispersion = spread * spread;
        if (!fit.outcome.converged) outcome = fit.outcome;
    }
    MatrixXd inputs(static_cast<Index>(any.size()), static_cast<Index>(training.inputs.inputs().size()));
    training.inputs.fill(training.rows, inputs);
    FitResult result{.outcome = outcome};
    result.rows.fitted = model->predict(inputs).col(0);
    for (Index i = 0; i < result.rows.fitted.size(); ++i)
        if (std::isnan(result.rows.fitted[i])) result.rows.fitted[i] = 0; // levels without any amount
    result.rows.residuals =
        Eigen::Map<const VectorXd>(training.y.data(), static_cast<Index>(any.size())) - result.rows.fitted;
    result.model = std::move(model);
    return result;
}

json coefficientsOf(const LinearModel& model) {
    json out = json::array();
    const auto& columns = model.design.columns();
    const auto add = [&](const std::string& name, double b, double error) {
        if (!std::isnan(b)) out.push_back({{"name", name}, {"estimate", b}, {"standard_error", error}});
    };
    if (model.kindName != "ordered") add("intercept", model.fit.constant, model.fit.constantError);
    for (std::size_t j = 0; j < columns.size(); ++j)
        add(columns[j].name, model.fit.coefficients[static_cast<Index>(j)],
            model.fit.standardErrors[static_cast<Index>(j)]);
    return out;
}

ModelPart describeTwoParts(const LearnedModel& learned, std::span<const TunedValue>) {
    const auto& model = dynamic_cast<const TwoPartsModel&>(learned);
    ModelPart part{.key = "two_parts"};
    json whether = coefficientsOf(model.whether->slopes);
    // P(y > 0) = 1 / (1 + exp(−(constant + x'b))): the cut with the other sign is the constant.
    whether.insert(whether.begin(), json{{"name", "intercept"},
                                         {"estimate", -model.whether->cuts[0]},
                                         {"standard_error", model.whether->cutErrors[0]}});
    const json amount = coefficientsOf(*model.amount->linear());
    const json said{{"whether", {{"link", "logit"}, {"coefficients", whether}}},
                    {"amount",
                     {{"kind", model.amount->kind()},
                      {"dispersion", numberJson(model.dispersion)},
                      {"coefficients", amount}}}};
    part.json = said.dump(-1, ' ', false, json::error_handler_t::replace);
    part.file = "two_parts.csv";
    part.header = {"part", "name", "estimate", "standard_error"};
    using Named = std::pair<const char*, const json*>;
    for (const auto& [name, list] : {Named{"whether", &whether}, Named{"amount", &amount}})
        for (const json& each : *list) {
            part.table.push_back(
                {name, each["name"].get<std::string>(), exactText(each["estimate"].get<double>()),
                 each["standard_error"].is_number() ? exactText(each["standard_error"].get<double>()) : ""});
            part.text += (std::string(name) == "whether" ? "whether there is anything (logit), "
                                                         : "how much (" + model.amount->kind() + "), ") +
                         part.table.back()[1] + ": " + readableText(each["estimate"].get<double>(), 5) + "\n";
        }
    return part;
}

std::shared_ptr<const LearnedModel> readTwoParts(std::string_view text) {
    return guardedRead([&] {
        const json j = json::parse(text);
        auto model = std::make_shared<TwoPartsModel>();
        model->whether = std::dynamic_pointer_cast<const OrderedModel>(readModel(j.at("whether").dump()));
        model->amount = readModel(j.at("amount").dump());
        if (!model->whether || model->whether->values.size() != 2 || !model->amount->linear())
            damaged("parts that are none");
        model->dispersion = numberFrom(j.at("dispersion"));
        if (j.contains("power")) {
            model->link.family = PowerFamily{numberFrom(j.at("power"))};
            if (!(model->link.family->power >= 1 && model->link.family->power <= 3))
                damaged("a family that is not known");
        }
        model->link.kind = j.at("log_link").get<bool>() ? Link::Kind::logOfMean : Link::Kind::identity;
        return std::shared_ptr<const LearnedModel>(std::move(model));
    });
}

} // namespace

const std::string& TwoPartsModel::kind() const {
    static const std::string name = "two parts";
    return name;
}

MatrixXd TwoPartsModel::parts(const MatrixXd& inputs) const {
    MatrixXd out(inputs.rows(), 2);
    out.col(0) = whether->predict(inputs).col(1);
    out.col(1) = amount->predict(inputs).col(0);
    for (double& value : out.col(1))
        value = link.toResponseScale(value);
    return out;
}

MatrixXd TwoPartsModel::predict(const MatrixXd& inputs) const {
    const MatrixXd both = parts(inputs);
    return both.col(0).cwiseProduct(both.col(1));
}

MatrixXd TwoPartsModel::quantiles(const MatrixXd& inputs, std::span<const double> shares) const {
    const auto count = static_cast<Index>(shares.size());
    if (inputs.rows() == 0) return MatrixXd(0, count);
    const MatrixXd both = parts(inputs);
    MatrixXd out(inputs.rows(), count);
    for (Index i = 0; i < inputs.rows(); ++i)
        for (Index s = 0; s < count; ++s) {
            const double any = both(i, 0), mean = both(i, 1);
            const double share = (shares[static_cast<std::size_t>(s)] - (1 - any)) / any;
            if (std::isnan(any) || std::isnan(mean))
                out(i, s) = nan;
            else if (share <= 0)
                out(i, s) = 0;
            else if (link.family)
                out(i, s) = link.family->quantile(std::min(share, 1 - 1e-12), mean, dispersion);
            else
                out(i, s) =
                    std::max(0.0, mean + normalQuantile(std::min(share, 1 - 1e-12)) * std::sqrt(dispersion));
        }
    return out;
}

std::vector<std::string> TwoPartsModel::problems(std::span<const double> inputs) const {
    std::vector<std::string> found = whether->problems(inputs);
    for (std::string& problem : amount->problems(inputs))
        if (std::find(found.begin(), found.end(), problem) == found.end())
            found.push_back(std::move(problem));
    return found;
}

std::vector<NamedNumber> TwoPartsModel::says() const {
    return {{"coefficients of whether", static_cast<double>(whether->slopes.fit.kept.size() + 1)},
            {"coefficients of how much", static_cast<double>(amount->linear()->fit.rank())},
            {"dispersion of how much", dispersion}};
}

std::string TwoPartsModel::text() const {
    json out{{"kind", "two parts"},
             {"whether", json::parse(whether->text())},
             {"amount", json::parse(amount->text())},
             {"dispersion", numberJson(dispersion)},
             {"log_link", link.isLogarithmic()}};
    if (link.family) out["power"] = numberJson(link.family->power);
    return out.dump(-1, ' ', false, json::error_handler_t::replace);
}

ModelKind twoPartsKind() {
    ModelKind kind{.can = {.weights = WeightUse::accepted,
                           .intervals = IntervalSource::distribution,
                           .iterates = true,
                           .terms = Capabilities::Terms::formula,
                           .offset = false,
                           .response = Capabilities::Response::notNegative,
                           .logResponse = false,
                           .ownLink = true}};
    kind.name = "two parts";
    kind.title = "Two parts";
    Field amount =
        choiceField("kind", "How much, where there is any", {"gamma", "inverse Gaussian", "least squares"});
    Field link = choiceField("link", "Terms say how much by", {"log", "identity"});
    amount.within = link.within = "amount";
    Field whether;
    whether.key = "whether";
    whether.label = "Terms that say whether there is anything (none named: all)";
    whether.type = FieldType::texts;
    whether.fallback = std::vector<std::string>{};
    kind.fields = {amount, link, whether};
    kind.offers = {{"Two parts: whether anything, and how much (gamma)", {"two parts"}}};
    kind.sentence = [](const Settings& settings) {
        const auto& names = settings.get<std::vector<std::string>>("whether");
        return "two parts, whether by the logit" +
               (names.empty() ? std::string() : " of " + nameList(names)) + " and how much by " +
               settings.text("kind");
    };
    kind.learn = learnTwoParts;
    kind.describe = describeTwoParts;
    kind.read = readTwoParts;
    return kind;
}

} // namespace oxgoad
