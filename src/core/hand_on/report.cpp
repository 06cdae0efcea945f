#include "hand_on/report.h"

#include "base/error.h"
#include "base/text.h"
#include "hand_on/hand_on.h"
#include "hand_on/notation.h"
#include "study/fold_evidence.h"
#include "study/forecast_answers.h"
#include "study/input_evidence.h"
#include "study/say.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace oxgoad {

namespace {

using Kind = ReportBlock::Kind;

constexpr std::array<std::pair<std::string_view, std::string_view>, 8> partsOfReports{
    {{"rows", "rows"},
     {"model", "model"},
     {"errors", "errors"},
     {"goads", "goads"},
     {"forecast", "forecast"},
     {"totals", "totals and what if"},
     {"clearance", "clearance"},
     {"methods", "methods"}}};

class Reporter {
public:
    Reporter(const HandOnFrom& from, Progress& progress, const std::vector<std::string>& parts)
        : m_e(from.evidence), m_recipe(from.recipe), m_progress(progress), m_parts(parts) {
        for (const std::string& part : parts)
            if (std::none_of(partsOfReports.begin(), partsOfReports.end(),
                             [&](const auto& known) { return known.first == part; }))
                throw Error(ErrorCode::badTerm, "a report has no part \"" + part + "\"", {},
                            "Parts are rows, model, errors, goads, forecast, totals, clearance, methods.");
    }

    std::vector<ReportBlock> run() {
        m_progress.checkpoint(0.97, "Writing the report");
        add(Kind::title, m_e.response + " by " + kindOf(m_recipe.estimator).sentence(m_recipe.estimator));
        add(Kind::paragraph, summaryText(m_e, m_recipe));
        openGoadsFirst();
        static constexpr std::array tell{&Reporter::rows,    &Reporter::model,    &Reporter::errors,
                                         &Reporter::checks,  &Reporter::forecast, &Reporter::answers,
                                         &Reporter::cleared, &Reporter::methods};
        static_assert(tell.size() == partsOfReports.size());
        for (std::size_t k = 0; k < tell.size(); ++k)
            if (m_parts.empty() ||
                std::find(m_parts.begin(), m_parts.end(), partsOfReports[k].first) != m_parts.end())
                (this->*tell[k])();
        return std::move(m_blocks);
    }

private:
    void add(Kind kind, std::string text) { m_blocks.push_back({.kind = kind, .text = std::move(text)}); }
    void heading(const std::string& text) { add(Kind::heading, text); }
    void table(std::vector<std::vector<std::string>> cells) {
        if (cells.size() > 1) m_blocks.push_back({.kind = Kind::table, .cells = std::move(cells)});
    }
    std::string unitOf(const std::string& column) const {
        const auto unit = m_recipe.units.find(column);
        return unit == m_recipe.units.end() ? column : column + ", " + unit->second;
    }
    static std::string there(double value, int digits = 4) {
        return std::isfinite(value) ? readableText(value, digits) : "";
    }

    void openGoadsFirst() {
        std::size_t open = 0;
        for (const Goad& goad : m_e.goads)
            open += !goad.accepted && goad.under.empty();
        add(Kind::paragraph, open == 0 ? "Nothing is open."
                                       : plural(open, "goad is", "goads are") +
                                             " open; they are listed under \"What to look at\".");
    }

    void rows() {
        heading("Rows");
        table({{"rows", "number"},
               {"read", countText(m_e.rowsRead)},
               {"learned from", countText(m_e.rowsLearning)},
               {"held out", countText(m_e.rowsHeldOut)},
               {"locked for the test", countText(m_e.rowsTest)},
               {"left out", countText(m_e.rowsLeftOut)},
               {"with missing values", countText(m_e.rowsMissing)}});
        std::string steps;
        for (std::size_t i = 0; i < m_recipe.steps.size(); ++i) {
            if (!m_recipe.steps[i].on) continue;
            steps += std::to_string(i + 1) + ". " + stepSentence(m_recipe.steps[i]) + "\n";
            if (i < m_e.steps.size())
                for (const std::string& note : m_e.steps[i].notes)
                    steps += "   " + note + "\n";
        }
        if (!steps.empty()) add(Kind::lines, steps);
        for (const LeftOutRow& row : m_recipe.leaveOut)
            add(Kind::paragraph, "Row " + countText(row.row) + " was left out: " + row.reason);
    }

    void model() {
        heading("The model");
        if (m_e.linear) {
            add(Kind::paragraph, equationText(m_e));
            std::vector<std::vector<std::string>> cells{
                {"name", "estimate", "standard error", "p", "lower", "upper"}};
            constexpr std::size_t most = 200;
            for (const CoefficientEvidence& c : m_e.linear->coefficients) {
                if (cells.size() > most) break;
                cells.push_back({c.name, supported(c.estimate, c.standardError), there(c.standardError, 2),
                                 std::isfinite(c.p) ? probabilityText(c.p) : std::string(),
                                 supported(c.lower, c.standardError), supported(c.upper, c.standardError)});
            }
            table(std::move(cells));
            if (m_e.linear->coefficients.size() > most)
                add(Kind::paragraph, countText(m_e.linear->coefficients.size() - most) +
                                         " more coefficients are in coefficients.csv.");
        } else {
            const ModelPart part = partOf(*m_e.study);
            if (!part.text.empty()) add(Kind::lines, part.text);
            std::string columns;
            for (const InputEvidence& input : m_e.inputs)
                columns += importanceSentence(input) + "\n";
            add(Kind::lines, columns);
        }
    }

    void errors() {
        heading("How far off it is");
        std::vector<std::vector<std::string>> cells{
            {"judged by", "rows", "typical error", "mean absolute error", "R²"}};
        const auto line = [&](const std::string& by, const Scores& s) {
            if (s.rows > 0)
                cells.push_back({by, countText(s.rows), there(s.rmse), there(s.mae), there(s.rSquared, 3)});
        };
        line("rows learned from", m_e.learning);
        line("rows held out", m_e.heldOut);
        if (m_e.test) line("test rows", *m_e.test);
        if (m_e.folds)
            cells.push_back({foldPlanText(m_e.folds->plan), "", there(m_e.folds->rmse), "",
                             there(m_e.folds->rSquared, 3)});
        table(std::move(cells));
        plotRows();
    }

    void plotRows() {
        ReportBlock against{.kind = Kind::plot,
                            .text = "Actual against predicted; the line is where both are equal.",
                            .xTitle = "predicted " + unitOf(m_e.response),
                            .yTitle = "actual " + unitOf(m_e.response)};
        constexpr std::size_t most = 1200;
        const std::size_t n = m_e.rows.fitted.size(), stride = std::max<std::size_t>(1, n / most);
        double low = INFINITY, high = -INFINITY;
        for (std::size_t i = 0; i < n; i += stride) {
            const double x = m_e.rows.fitted[i], y = m_e.rows.actual[i];
            if (!std::isfinite(x) || !std::isfinite(y)) continue;
            against.x.push_back(x);
            against.y.push_back(y);
            low = std::min({low, x, y});
            high = std::max({high, x, y});
        }
        if (against.x.size() < 2) return;
        against.lineX = against.lineY = {low, high};
        m_blocks.push_back(std::move(against));
    }

    void checks() {
        heading("What to look at");
        std::vector<std::vector<std::string>> cells{{"", "goad", "reading", "answer"}};
        for (const Goad& goad : m_e.goads)
            cells.push_back({goad.severity == Severity::alarm ? "alarm" : "caution", goad.title, goad.reading,
                             goad.accepted ? "accepted: " + *goad.accepted : "open"});
        if (cells.size() == 1) add(Kind::paragraph, "No check found anything.");
        table(std::move(cells));
    }

    void forecast() {
        if (!m_e.forecast) return;
        const ForecastEvidence& f = *m_e.forecast;
        heading("Forecast");
        add(Kind::paragraph,
            plural(f.prediction.size(), "row", "rows") + " of " + f.file + ": " + countText(f.inside) +
                " inside, " + countText(f.edge) + " at the edge of and " + countText(f.outside) +
                " outside what was learned; " + countText(f.unpredicted) +
                " without a prediction. Intervals of " + percentText(f.level) + ", " + f.intervals + ".");
        std::vector<std::vector<std::string>> cells{
            {"row", "prediction", "lower", "upper", "reach", "reasons"}};
        constexpr std::size_t most = 100;
        const auto scale = [&](double value) {
            return std::isfinite(value) ? groupedText(std::round(value)) : std::string();
        };
        double size = 0;
        for (const double v : f.prediction)
            if (std::isfinite(v)) size = std::max(size, std::fabs(v));
        for (std::size_t i = 0; i < std::min(most, f.prediction.size()); ++i) {
            std::string reasons;
            for (const std::string& reason : f.reach[i].reasons)
                reasons += (reasons.empty() ? "" : "; ") + reason;
            const auto said = [&](double value) { return size > 1000 ? scale(value) : there(value); };
            cells.push_back({countText(i + 1), said(f.prediction[i]), said(f.lower[i]), said(f.upper[i]),
                             std::string(gradeName(f.reach[i].grade)), reasons});
        }
        table(std::move(cells));
        if (f.prediction.size() > most)
            add(Kind::paragraph,
                "The other " + countText(f.prediction.size() - most) + " rows are in forecast.csv.");
    }

    void answers() {
        if (!m_e.answers) return;
        const ForecastAnswers& a = *m_e.answers;
        const auto csv = [&](const std::string& title, const std::string& bytes) {
            std::vector<std::vector<std::string>> cells(1);
            bool quoted = false;
            cells.back().emplace_back();
            for (std::size_t i = 0; i < bytes.size(); ++i) {
                const char c = bytes[i];
                if (c == '"' && quoted && i + 1 < bytes.size() && bytes[i + 1] == '"') {
                    cells.back().back() += c;
                    ++i;
                } else if (c == '"') {
                    quoted = !quoted;
                } else if (!quoted && c == ',') {
                    cells.back().emplace_back();
                } else if (!quoted && c == '\n') {
                    if (i + 1 < bytes.size()) cells.emplace_back(1);
                } else if (c != '\r') {
                    cells.back().back() += c;
                }
            }
            constexpr std::size_t most = 60;
            if (cells.size() > most) cells.resize(most);
            if (cells.size() < 2) return;
            heading(title);
            table(std::move(cells));
        };
        if (!a.totals.empty()) csv("Totals", totalsCsv(a));
        if (a.crossTable) csv("Cross table", crossTableCsv(*a.crossTable));
        if (!a.scenarios.empty()) csv("What if", scenariosCsv(a));
    }

    void cleared() {
        if (!m_e.forecast) return;
        heading("Clearance");
        const Clearance clearance = m_recipe.clearance.value_or(Clearance{});
        add(Kind::paragraph,
            clearance.by.empty()
                ? std::string("Nobody has signed this forecast.")
                : "Signed by " + clearance.by + (clearance.on.empty() ? "" : ", " + clearance.on) + ".");
    }

    void methods() {
        heading("Methods");
        std::vector<std::string> sources;
        std::string text = "Model: " + kindOf(m_recipe.estimator).sentence(m_recipe.estimator) + ".\n";
        if (m_recipe.judge) text += "Judged by " + foldPlanText(*m_recipe.judge) + ".\n";
        for (const Reading& reading : m_e.readings)
            if (!reading.source.empty() && reading.source != "common practice, no source" &&
                std::find(sources.begin(), sources.end(), reading.source) == sources.end() &&
                sources.size() < 40)
                sources.push_back(reading.source);
        for (const std::string& source : sources)
            text += source + "\n";
        add(Kind::lines, text);
        heading("The recipe");
        add(Kind::lines, recipeText(m_recipe));
    }

    const Evidence& m_e;
    const Recipe& m_recipe;
    Progress& m_progress;
    const std::vector<std::string>& m_parts;
    std::vector<ReportBlock> m_blocks;
};

std::string escaped(const std::string& text) {
    return markupText(harmless(text, true), true);
}

std::string place(double value) {
    return exactText(std::round(value * 10) / 10);
}

/// A plot as a picture of vectors, in ink alone, so that it can be printed in grey.
std::string svgOf(const ReportBlock& plot) {
    constexpr double width = 640, height = 380, left = 90, bottom = 50, top = 12, right = 12;
    const auto [x0, x1] = std::minmax_element(plot.x.begin(), plot.x.end());
    const auto [y0, y1] = std::minmax_element(plot.y.begin(), plot.y.end());
    const double xl = *x0, xh = *x1 > *x0 ? *x1 : *x0 + 1, yl = *y0, yh = *y1 > *y0 ? *y1 : *y0 + 1;
    const auto px = [&](double x) { return left + (x - xl) / (xh - xl) * (width - left - right); };
    const auto py = [&](double y) {
        return height - bottom - (y - yl) / (yh - yl) * (height - bottom - top);
    };
    std::string out =
        "<figure><svg viewBox=\"0 0 640 380\" role=\"img\" xmlns=\"http://www.w3.org/2000/svg\"><title>" +
        escaped(plot.text) + "</title>";
    for (const double t : roundTicks(xl, xh))
        out += "<line class=\"g\" x1=\"" + place(px(t)) + "\" x2=\"" + place(px(t)) + "\" y1=\"" +
               place(top) + "\" y2=\"" + place(height - bottom) + "\"/><text x=\"" + place(px(t)) +
               "\" y=\"" + place(height - bottom + 16) + "\" text-anchor=\"middle\">" + groupedText(t) +
               "</text>";
    for (const double t : roundTicks(yl, yh))
        out += "<line class=\"g\" x1=\"" + place(left) + "\" x2=\"" + place(width - right) + "\" y1=\"" +
               place(py(t)) + "\" y2=\"" + place(py(t)) + "\"/><text x=\"" + place(left - 6) + "\" y=\"" +
               place(py(t) + 4) + "\" text-anchor=\"end\">" + groupedText(t) + "</text>";
    for (std::size_t i = 0; i < plot.x.size(); ++i)
        out += "<circle cx=\"" + place(px(plot.x[i])) + "\" cy=\"" + place(py(plot.y[i])) + "\" r=\"2\"/>";
    if (plot.lineX.size() > 1) {
        out += "<clipPath id=\"c\"><rect x=\"" + place(left) + "\" y=\"" + place(top) + "\" width=\"" +
               place(width - left - right) + "\" height=\"" + place(height - bottom - top) +
               "\"/></clipPath><polyline clip-path=\"url(#c)\" points=\"";
        for (std::size_t i = 0; i < plot.lineX.size(); ++i)
            out += place(px(plot.lineX[i])) + "," + place(py(plot.lineY[i])) + " ";
        out += "\"/>";
    }
    out += "<text x=\"" + place((left + width) / 2) + "\" y=\"" + place(height - 10) +
           "\" text-anchor=\"middle\">" + escaped(plot.xTitle) + "</text><text transform=\"translate(14," +
           place(height / 2) + ") rotate(-90)\" text-anchor=\"middle\">" + escaped(plot.yTitle) + "</text>";
    return out + "</svg><figcaption>" + escaped(plot.text) + "</figcaption></figure>\n";
}

} // namespace

std::vector<double> roundTicks(double low, double high) {
    std::vector<double> ticks;
    const double step = std::pow(10, std::floor(std::log10((high - low) / 4)));
    const double by = (high - low) / step > 20 ? 5 * step : (high - low) / step > 8 ? 2 * step : step;
    if (!(by > 0) || !std::isfinite(by)) return ticks;
    for (double t = std::ceil(low / by) * by; t <= high + by * 1e-9; t += by)
        ticks.push_back(std::fabs(t) < by * 1e-9 ? 0 : t);
    return ticks;
}

std::vector<bool> columnsOfNumbers(const std::vector<std::vector<std::string>>& cells) {
    std::vector<bool> numbers(cells[0].size(), true);
    for (std::size_t c = 0; c < numbers.size(); ++c)
        for (std::size_t r = 1; r < cells.size(); ++r)
            if (c < cells[r].size() &&
                cells[r][c].find_first_not_of("0123456789.,-+−eE% ") != std::string::npos)
                numbers[c] = false;
    return numbers;
}

std::span<const std::pair<std::string_view, std::string_view>> reportParts() {
    return partsOfReports;
}

std::vector<ReportBlock> reportOf(const HandOnFrom& from, Progress& progress,
                                  const std::vector<std::string>& parts) {
    return Reporter(from, progress, parts).run();
}

std::string reportHtml(const std::vector<ReportBlock>& blocks) {
    std::string title = "Report";
    for (const ReportBlock& block : blocks)
        if (block.kind == Kind::title) title = block.text;
    std::string out =
        "<!DOCTYPE html>\n<html lang=\"en\"><head><meta charset=\"utf-8\"><title>" + escaped(title) +
        "</title>\n<style>\nbody{font:16px/1.5 \"Open "
        "Sans\",sans-serif;color:#1c2730;background:#fff;max-width:60em;"
        "margin:2em auto;padding:0 1em}\nh1{font-size:1.6em}h2{font-size:1.2em;border-bottom:1px solid "
        "#8a949b;margin-top:2em}\ntable{border-collapse:collapse;margin:1em "
        "0}th,td{text-align:left;padding:.2em "
        ".8em .2em 0;vertical-align:top;border-bottom:1px solid #d5dadd}\ntd.n,th.n{text-align:right;"
        "font-variant-numeric:tabular-nums;white-space:nowrap}\npre{white-space:pre-wrap;background:#f4f5f3;"
        "padding:.8em;font-size:.85em}\nsvg{max-width:40em;font-size:12px;fill:#1c2730}svg "
        "circle{fill:none;stroke:#1c2730;stroke-opacity:.5}svg line.g{stroke:#d5dadd}svg "
        "polyline{fill:none;stroke:#1c2730;stroke-width:1.5}\nfigure{margin:1em 0}@media "
        "print{body{font-size:11px;max-width:none}h2{break-after:avoid}tr,figure{break-inside:avoid}}\n</"
        "style></head>"
        "<body>\n";
    for (const ReportBlock& block : blocks)
        switch (block.kind) {
        case Kind::title:
            out += "<h1>" + escaped(block.text) + "</h1>\n";
            break;
        case Kind::heading:
            out += "<h2>" + escaped(block.text) + "</h2>\n";
            break;
        case Kind::paragraph:
            out += "<p>" + escaped(block.text) + "</p>\n";
            break;
        case Kind::lines:
            out += "<pre>" + escaped(block.text) + "</pre>\n";
            break;
        case Kind::plot:
            out += svgOf(block);
            break;
        case Kind::table: {
            const std::vector<bool> numbers = columnsOfNumbers(block.cells);
            const std::size_t columns = numbers.size();
            out += "<table>";
            for (std::size_t r = 0; r < block.cells.size(); ++r) {
                out += "<tr>";
                for (std::size_t c = 0; c < block.cells[r].size(); ++c)
                    out += std::string(r == 0 ? "<th" : "<td") +
                           (c < columns && numbers[c] ? " class=\"n\">" : ">") + escaped(block.cells[r][c]) +
                           (r == 0 ? "</th>" : "</td>");
                out += "</tr>\n";
            }
            out += "</table>\n";
            break;
        }
        }
    return out + "</body></html>\n";
}

} // namespace oxgoad
