#include "study/damped_trend.h"

#include "base/text.h"
#include "estimate/linear/linear_model.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

std::optional<DampedTrend> dampedTrend(const Evidence& evidence, const PreparedRows& prepared,
                                       const std::string& file, Progress& progress) {
    const Study& study = *evidence.study;
    const LinearModel* model = study.linear();
    if (!model || !evidence.forecast) return std::nullopt;
    // The first date or year that enters as a trend.
    std::optional<std::size_t> time;
    const auto& terms = model->design.terms();
    for (std::size_t i = 0; i < study.inputs.size() && !time; ++i)
        for (const Term& term : terms)
            for (const TermPart& part : term.parts)
                if ((study.inputs[i].date || study.inputs[i].years) && part.column == study.inputs[i].name &&
                    part.form != Form::wave)
                    time = i;
    if (!time) return std::nullopt;
    DampedTrend out{.column = study.inputs[*time].name};
    const BoundInputs learned(study.inputs, prepared.table, file);
    std::vector<double> times(study.rows.size());
    learned.fillOne(*time, study.rows, times.data());
    const auto scale = findPeriods(times, study.inputs[*time].date);
    if (!scale || times.empty()) return std::nullopt;
    const double last = *std::max_element(times.begin(), times.end());
    const std::int64_t lastPeriod = scale->at(last).value_or(0);
    std::vector<std::uint8_t> seasonal;
    for (const auto& column : model->design.columns()) {
        bool wave = false;
        for (const TermPart& part : terms[column.term].parts)
            wave = wave || part.form == Form::wave;
        seasonal.push_back(wave);
    }
    const Table& coming = evidence.forecast->rows;
    const BoundModel bound = study.bind(coming, file);
    std::vector<std::uint32_t> rows;
    for (std::uint32_t i = 0; i < coming.rows(); ++i)
        if (std::isfinite(evidence.forecast->prediction[i])) rows.push_back(i);
    bound.eachBlock(rows, {1}, progress, [&](std::size_t first, const MatrixXd& inputs) {
        MatrixXd slower = inputs;
        for (Index i = 0; i < inputs.rows(); ++i) {
            double& at = slower(i, static_cast<Index>(*time));
            const auto period = scale->at(at);
            if (!period || *period <= lastPeriod) continue;
            const auto steps = static_cast<double>(*period - lastPeriod);
            const double left = out.phi * (1 - std::pow(out.phi, steps)) / (1 - out.phi);
            at = last + (at - last) * left / steps;
            ++out.rows;
        }
        const MatrixXd plain = model->matrix(inputs), changed = model->matrix(slower);
        for (Index i = 0; i < inputs.rows(); ++i) {
            const auto row = rows[first + static_cast<std::size_t>(i)];
            double by = 0;
            for (Index j = 0; j < plain.cols(); ++j)
                if (const double b = model->fit.coefficients[j];
                    !std::isnan(b) && !seasonal[static_cast<std::size_t>(j)])
                    by += b * (changed(i, j) - plain(i, j));
            const double middle = evidence.forecast->middle[row];
            out.total += study.rule.toResponseScale(middle);
            out.damped += study.rule.toResponseScale(middle + by);
        }
    });
    if (out.rows == 0) return std::nullopt;
    out.says = "Were the trend of " + out.column + " damped (each period's step " + readableText(out.phi, 2) +
               " of the one before), the total would be " + readableText(out.damped, 5) + " in place of " +
               readableText(out.total, 5) + ".";
    return out;
}

} // namespace oxgoad
