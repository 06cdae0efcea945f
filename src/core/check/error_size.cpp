#include "base/not_a_number.h"
#include "base/text.h"
#include "check/check_tools.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

void addWorseThanMean(const CheckContext& context, Findings& findings) {
    const std::string name = "worse than the mean";
    const std::string source = "common practice, no source";
    if (context.unseen.what.empty() || std::isnan(context.unseenRSquared)) {
        findings.readings.push_back(
            noReading(name, "the model is judged by no rows that it did not learn from"));
        return;
    }
    const double ratio = std::sqrt(std::max(0.0, 1 - context.unseenRSquared));
    const double limit = context.limitOf(name, 1);
    findings.readings.push_back(
        madeReading(name, ratio, limit, {},
                    "error of " + countText(context.unseen.rows.size()) + " " + context.unseen.what +
                        " over that of predicting the mean of the learning rows; R² there is " +
                        readableText(context.unseenRSquared, 3),
                    source));
    if (!(ratio > limit)) return;
    Goad goad;
    goad.key = goad.check = name;
    goad.severity = Severity::alarm;
    goad.tells = Tells::first;
    goad.title = "The model is worse than no model";
    goad.reading = "on " + context.unseen.what + " its typical error is " + readableText(context.unseenRmse) +
                   ", " + readableText(100 * (ratio - 1), 2) +
                   " % more than that of saying the mean of the learning rows every time (R² " +
                   readableText(context.unseenRSquared, 3) + ")";
    goad.threshold = shortText(limit) + " times the error of the mean";
    goad.source = source;
    goad.station = "compare";
    goad.cost = 1 - 1 / ratio;
    goad.costSays = "the share of the typical error that predicting the mean would take away";
    goad.size = ratio;
    findings.goads.push_back(std::move(goad));
}

void addErrorOverMean(const CheckContext& context, Findings& findings) {
    const std::string name = "error over the mean";
    const std::string source = "common practice, no source";
    const bool unseen = !context.unseen.what.empty();
    const Column& response = context.table.at(context.response(), context.file);
    double sum = 0, smallest = INFINITY;
    std::size_t n = 0;
    if (unseen)
        for (const double v : context.unseen.actual) {
            sum += v;
            smallest = std::min(smallest, v);
            ++n;
        }
    else
        for (const auto row : context.learningRows) {
            sum += response.numbers()[row];
            smallest = std::min(smallest, response.numbers()[row]);
            ++n;
        }
    const double mean = sum / static_cast<double>(n);
    if (!(mean > 0) || smallest < 0) {
        findings.readings.push_back(noReading(
            name, "the response is below 0 in places, so that its mean is no size to compare with"));
        return;
    }
    const double error = unseen ? context.unseenRmse : context.learning.rmse;
    const double limit = context.limitOf(name, 0.1);
    const std::string of = unseen ? context.unseen.what : "learning rows";
    findings.readings.push_back(madeReading(
        name, error / mean, limit, {},
        "RMSE " + readableText(error) + " over a mean of " + readableText(mean) + ", on " + of, source));
}

} // namespace

void checkErrorSize(const CheckContext& context, Findings& findings) {
    addWorseThanMean(context, findings);
    addErrorOverMean(context, findings);
}

} // namespace oxgoad
