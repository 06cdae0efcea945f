#include "estimate/learning_course.h"

#include "base/text.h"
#include "estimate/model_text.h"

#include <cmath>

namespace oxgoad {

using nlohmann::json;

json courseJson(const LearningCourse& course) {
    json runs = json::array();
    for (const auto& run : course.runs)
        runs.push_back({{"name", run.name},
                        {"step", numbersJson(run.step)},
                        {"learning", numbersJson(run.learning)},
                        {"unseen", numbersJson(run.unseen)}});
    json spreads = json::array();
    for (const auto& each : course.spreads) {
        std::vector<double> values;
        for (const auto& five : each.values)
            values.insert(values.end(), five.begin(), five.end());
        spreads.push_back(
            {{"name", each.name}, {"step", numbersJson(each.step)}, {"values", numbersJson(values)}});
    }
    return {{"steps", course.steps},
            {"loss", course.loss},
            {"unseen_rows", course.unseenRows},
            {"runs", runs},
            {"spreads", spreads},
            {"taken", course.taken},
            {"taken_at", numberJson(course.takenAt)},
            {"says", course.says}};
}

LearningCourse courseFrom(const json& j) {
    LearningCourse course{j.at("steps").get<std::string>(), j.at("loss").get<std::string>(),
                          j.at("unseen_rows").get<std::string>()};
    for (const json& each : j.at("runs")) {
        LearningCourse::Run run{each.at("name").get<std::string>(), numbersFrom(each.at("step")),
                                numbersFrom(each.at("learning")), numbersFrom(each.at("unseen"))};
        if (run.learning.size() != run.step.size() || run.unseen.size() != run.step.size())
            damaged("a course of other steps");
        course.runs.push_back(std::move(run));
    }
    for (const json& each : j.at("spreads")) {
        LearningCourse::Spread spread{each.at("name").get<std::string>(), numbersFrom(each.at("step")), {}};
        const std::vector<double> values = numbersFrom(each.at("values"));
        if (values.size() != 5 * spread.step.size()) damaged("a course of other steps");
        for (std::size_t k = 0; k < spread.step.size(); ++k)
            spread.values.push_back(
                {values[5 * k], values[5 * k + 1], values[5 * k + 2], values[5 * k + 3], values[5 * k + 4]});
        course.spreads.push_back(std::move(spread));
    }
    course.taken = j.at("taken").get<std::size_t>();
    course.takenAt = numberFrom(j.at("taken_at"));
    course.says = j.at("says").get<std::string>();
    if (!course.runs.empty() && course.taken >= course.runs.size()) damaged("a run that is not there");
    return course;
}

void putCourse(const LearningCourse& course, json& said, ModelPart& part) {
    const auto plain = [](double value) { return std::isfinite(value) ? json(value) : json(nullptr); };
    json runs = json::array();
    part.file = "course.csv";
    part.header = {"run", course.steps, "learning", "unseen"};
    for (const auto& run : course.runs) {
        json each{
            {"name", run.name}, {"step", run.step}, {"learning", json::array()}, {"unseen", json::array()}};
        for (std::size_t k = 0; k < run.step.size(); ++k) {
            each["learning"].push_back(plain(run.learning[k]));
            each["unseen"].push_back(plain(run.unseen[k]));
            part.table.push_back({run.name, exactText(run.step[k]), exactText(run.learning[k]),
                                  std::isfinite(run.unseen[k]) ? exactText(run.unseen[k]) : ""});
        }
        runs.push_back(each);
    }
    json spreads = json::array();
    for (const auto& each : course.spreads)
        spreads.push_back({{"name", each.name}, {"step", each.step}, {"values", each.values}});
    said["course"] = {
        {"steps", course.steps}, {"loss", course.loss},        {"unseen_rows", course.unseenRows},
        {"taken", course.taken}, {"taken_at", course.takenAt}, {"says", course.says},
        {"runs", runs},          {"spreads", spreads}};
    if (!course.says.empty()) part.text += course.says + "\n";
}

} // namespace oxgoad
