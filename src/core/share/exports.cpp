#include "share/exports.h"

#include "base/error.h"
#include "base/file.h"
#include "base/file_target.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "check/influence.h"
#include "study/forecast_answers.h"
#include "study/importance.h"
#include "study/say.h"
#include "write/csv.h"

#include <algorithm>
#include <array>
#include <cassert>
#include <cmath>
#include <system_error>
#include <unistd.h>
#include <utility>
#include <vector>

namespace oxgoad {

namespace fs = std::filesystem;

std::string coefficientsCsv(const Evidence& evidence) {
    CsvWriter out;
    for (const auto* name : {"name", "estimate", "standard_error", "t", "p", "lower", "upper"})
        out.text(name);
    out.endRow();
    const std::vector<CoefficientEvidence> none;
    for (const CoefficientEvidence& c : evidence.linear ? evidence.linear->coefficients : none) {
        out.text(c.name);
        for (const double value : {c.estimate, c.standardError, c.t, c.p, c.lower, c.upper})
            out.number(value);
        out.endRow();
    }
    return out.bytes();
}

std::string rowsCsv(const Evidence& evidence) {
    CsvWriter out;
    for (const auto* name : {"row", "part", "actual", "fitted", "residual", "leverage",
                             "studentised_residual", "cooks_distance"})
        out.text(name);
    const RowEvidence& rows = evidence.rows;
    const std::vector<double> none(rows.state.size(), std::nan(""));
    const LinearRows* linear = evidence.linear ? &evidence.linear->rows : nullptr;
    const bool robust = linear && !linear->robustWeight.empty();
    if (robust) out.text("robust_weight");
    if (evidence.folds) out.text("out_of_fold");
    out.endRow();
    for (std::size_t i = 0; i < rows.state.size(); ++i) {
        out.count(i + 1).text(stateName(rows.state[i]));
        for (const auto* values :
             {&rows.actual, &rows.fitted, &rows.residual, linear ? &linear->leverage : &none,
              linear ? &linear->studentized : &none, linear ? &linear->cook : &none})
            out.number((*values)[i]);
        if (robust) out.number(linear->robustWeight[i]);
        if (evidence.folds) out.number(evidence.folds->outOfFold[i]);
        out.endRow();
    }
    return out.bytes();
}

std::string influenceCsv(const Evidence& evidence, const Table& table, const std::string& file,
                         Threads threads, Progress& progress) {
    CsvWriter out;
    for (const auto* name : {"row", "leverage", "deleted_residual", "dffits", "cooks_distance"})
        out.text(name);
    const Study& study = *evidence.study;
    const LinearModel* model = study.linear();
    if (!model || !evidence.linear) {
        out.endRow();
        return out.bytes();
    }
    const LeastSquaresFit& fit = model->fit;
    const bool closed = kindOf(study.recipe.estimator).leastSquares;
    if (closed) {
        if (fit.intercept) out.text("dfbetas_intercept");
        for (const std::size_t column : fit.kept)
            out.text("dfbetas_" + model->design.columns()[column].name);
    }
    out.endRow();
    const std::size_t n = study.rows.size();
    std::vector<double> leverages(n), studentized(n);
    for (std::size_t i = 0; i < n; ++i) {
        leverages[i] = evidence.linear->rows.leverage[study.rows[i]];
        studentized[i] = evidence.linear->rows.studentized[study.rows[i]];
    }
    Eigen::MatrixXd betas(closed ? static_cast<Eigen::Index>(n) : 0, closed ? fit.rank() : 0);
    if (closed) {
        const BoundDesign design(model->design, table, file);
        forEachDfbetas(fit, DesignRows(design, study.rows), study.weights, leverages, studentized, threads,
                       progress, [&](Eigen::Index first, const Eigen::MatrixXd& block) {
                           betas.middleRows(first, block.rows()) = block;
                       });
    }
    for (std::size_t i = 0; i < n; ++i) {
        out.count(study.rows[i] + 1);
        for (const double v : {leverages[i], studentized[i], dffits(studentized[i], leverages[i]),
                               evidence.linear->rows.cook[study.rows[i]]})
            out.number(v);
        for (Eigen::Index k = 0; k < betas.cols(); ++k)
            out.number(betas(static_cast<Eigen::Index>(i), k));
        out.endRow();
    }
    return out.bytes();
}

std::string forecastCsv(const Evidence& evidence, const Table& table) {
    static constexpr std::array added{"prediction", "mean_lower", "mean_upper", "lower",
                                      "upper",      "reach",      "reasons"};
    const ForecastEvidence& forecast = *evidence.forecast;
    CsvWriter out;
    for (const Column& column : table.columns()) {
        const bool taken = std::find(added.begin(), added.end(), column.name()) != added.end();
        out.text(taken ? "given_" + column.name() : column.name());
    }
    for (const auto* name : added)
        out.text(name);
    out.endRow();
    for (std::size_t i = 0; i < table.rows(); ++i) {
        for (const Column& column : table.columns()) {
            if (column.kind() == ColumnKind::number)
                out.number(column.asNumber(i));
            else
                out.text(column.cellText(i));
        }
        for (const auto* values : {&forecast.prediction, &forecast.meanLower, &forecast.meanUpper,
                                   &forecast.lower, &forecast.upper})
            out.number((*values)[i]);
        std::string reasons;
        for (const std::string& reason : forecast.reach[i].reasons)
            reasons += (reasons.empty() ? "" : "; ") + reason;
        out.text(gradeName(forecast.reach[i].grade)).text(reasons);
        out.endRow();
    }
    return out.bytes();
}

namespace {

void addForecast(NamedFiles& files, const Recipe& recipe, const Evidence& evidence, const StudyRows& rows) {
    files.emplace_back("forecast.csv", forecastCsv(evidence, rows.forecast->table));
    files.emplace_back("clearance.json", clearanceText(recipe, evidence, rows));
    if (!evidence.answers) return;
    const ForecastAnswers& answers = *evidence.answers;
    if (!answers.totals.empty()) files.emplace_back("totals.csv", totalsCsv(answers));
    if (answers.crossTable) files.emplace_back("cross_table.csv", crossTableCsv(*answers.crossTable));
    if (!answers.scenarios.empty()) files.emplace_back("scenarios.csv", scenariosCsv(answers));
    if (!answers.reach.empty()) files.emplace_back("reach_tested.json", reachTestedText(answers));
}

/// What only the kind of model tells.
/// contributions.csv: of each row to be forecast what the model says on average and what each column adds.
void addContributions(NamedFiles& files, const Study& study, const Table& coming) {
    constexpr std::size_t most = 100000;
    if (coming.rows() == 0 ||
        study.model->contributions(std::vector<double>(study.inputs.size(), nan)).amounts.empty())
        return;
    const BoundModel bound = study.bind(coming, {});
    CsvWriter out;
    out.text("row").text("start");
    for (const Input& input : study.inputs)
        out.text(input.name);
    out.text("said");
    out.endRow();
    std::vector<double> inputs(study.inputs.size());
    for (std::size_t row = 0; row < std::min(most, coming.rows()); ++row) {
        for (std::size_t j = 0; j < inputs.size(); ++j)
            inputs[j] = bound.inputs().value(j, row);
        const Contributions said = study.model->contributions(inputs);
        double sum = said.start;
        out.count(row + 1).number(said.start);
        for (const double amount : said.amounts) {
            out.number(amount);
            sum += amount;
        }
        out.number(sum);
        out.endRow();
    }
    files.emplace_back("contributions.csv", out.bytes());
}

void addPart(NamedFiles& files, const ModelPart& part) {
    if (part.file.empty()) return;
    CsvWriter out;
    for (const std::string& name : part.header)
        out.text(name);
    out.endRow();
    for (const PartRow& row : part.table) {
        for (const std::string& cell : row)
            out.text(cell);
        out.endRow();
    }
    files.emplace_back(part.file, out.bytes());
    files.emplace_back(part.key + ".txt", part.text);
}

} // namespace

void writeEvidence(const fs::path& folder, const Recipe& recipe, const Evidence& evidence,
                   const StudyRows& rows, const NamedFiles& more) {
    NamedFiles files{{"evidence.json", evidenceText(evidence, recipe)},
                     {"coefficients.csv", coefficientsCsv(evidence)},
                     {"rows.csv", rowsCsv(evidence)},
                     {"summary.txt", summaryText(evidence, recipe) + "\n"}};
    if (evidence.forecast && rows.forecast) addForecast(files, recipe, evidence, rows);
    if (!evidence.importance.lines.empty())
        files.emplace_back("importance.csv", importanceCsv(evidence.importance));
    addPart(files, partOf(*evidence.study));
    if (evidence.forecast) addContributions(files, *evidence.study, evidence.forecast->rows);
    files.insert(files.end(), more.begin(), more.end());
    for ([[maybe_unused]] const auto& [name, bytes] : files)
        assert(std::find(filesOfRuns.begin(), filesOfRuns.end(), name) != filesOfRuns.end());
    const bool overOlder = fs::exists(folder / "evidence.json");
    writeFiles(folder, files);
    if (!overOlder) return;
    // What an earlier run wrote and this one does not would be read as part of it.
    for (const std::string_view name : filesOfRuns)
        if (std::none_of(files.begin(), files.end(),
                         [name](const auto& file) { return file.first == name; })) {
            std::error_code ignored;
            fs::remove(folder / name, ignored);
        }
}

void writeFiles(const fs::path& folder, const NamedFiles& files) {
    std::error_code failure;
    if (fs::exists(folder) && !fs::is_directory(folder))
        throw Error(ErrorCode::cannotWrite, "this is a file, so no folder of that name can be made",
                    {.file = folder.string()}, "Choose another folder.");
    fs::create_directories(folder, failure);
    const fs::path stage = folder / (".writing-" + std::to_string(::getpid()));
    if (!failure) fs::create_directory(stage, failure);
    if (failure)
        throw Error(ErrorCode::cannotWrite, "nothing can be written into this folder: " + failure.message(),
                    {.file = folder.string()}, "Choose another folder.");
    try {
        std::vector<fs::path> targets;
        for (const auto& [name, bytes] : files)
            targets.push_back(writableTarget(folder / name));
        for (const auto& [name, bytes] : files)
            replaceFile(stage / name, name.ends_with(".txt") ? harmless(bytes, true) : bytes);
        for (std::size_t k = 0; k < files.size(); ++k) {
            const auto& [name, bytes] = files[k];
            if (targets[k] == folder / name)
                fs::rename(stage / name, targets[k]);
            else // a link, which may lead to another disk
                replaceFile(targets[k], readFile(stage / name));
        }
    } catch (const fs::filesystem_error& error) {
        fs::remove_all(stage, failure);
        throw Error(ErrorCode::cannotWrite, "cannot be written: " + error.code().message(),
                    {.file = folder.string()});
    } catch (...) {
        fs::remove_all(stage, failure);
        throw;
    }
    fs::remove_all(stage, failure);
}

} // namespace oxgoad
