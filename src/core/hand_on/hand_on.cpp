#include "hand_on/hand_on.h"

#include "base/error.h"
#include "base/file.h"
#include "base/text.h"
#include "estimate/linear/linear_model.h"
#include "estimate/neighbours/neighbours.h"
#include "hand_on/model_file.h"
#include "hand_on/onnx_out.h"
#include "hand_on/pmml_out.h"
#include "hand_on/report.h"
#include "hand_on/workbook_out.h"
#include "hand_on/writers.h"
#include "study/forecast_answers.h"
#include "study/say.h"

#include <algorithm>
#include <array>
#include <cstdlib>

namespace oxgoad {

namespace fs = std::filesystem;

namespace {

constexpr std::array formats{
    HandOnFormat{
        "report", "report.html", "Colleagues who read",
        "the brief, the summary, rows and preparation, terms or tree, checks, goads, forecast and clearance, "
        "in one page without outside parts"},
    HandOnFormat{"pdf", "report.pdf", "Colleagues who read", "the same on pages to print"},
    HandOnFormat{
        "rows-xlsx", "scored.xlsx", "People with a workbook program",
        "the rows to be forecast with prediction, intervals, reach and reasons, and a sheet of what is open"},
    HandOnFormat{"rows-ods", "scored.ods", "People with a workbook program", "the same in the open format"},
    HandOnFormat{"workbook", "model.xlsx", "People with a workbook program",
                 "rows put into a sheet are forecast by cell formulas, with intervals and reach"},
    HandOnFormat{"ods", "model.ods", "People with a workbook program", "the same in the open format"},
    HandOnFormat{"rows-sqlite", "scored.sqlite", "Databases",
                 "the scored rows as a table, and what is open as another"},
    HandOnFormat{"sql", "model.sql", "Databases", "one SELECT over a table named rows"},
    HandOnFormat{"python", "model.py", "Programs",
                 "a script of the standard library, with a test of its own"},
    HandOnFormat{"c", "model.c", "Programs", "a file of C without libraries, with a test of its own"},
    HandOnFormat{"onnx", "model.onnx", "Machines that serve models", "a graph of the open exchange format"},
    HandOnFormat{"pmml", "model.pmml", "Machines that serve models",
                 "the predictive model markup language, 4.4"},
    HandOnFormat{"json", "model.json", "oxgoad-run --score", "everything that was learned, to the last bit"},
    HandOnFormat{"equation", "model.mathml", "Papers", "the equation as mathematics"}};

std::vector<std::uint32_t> evenly(std::size_t rows, std::size_t most) {
    std::vector<std::uint32_t> out;
    const std::size_t stride = std::max<std::size_t>(1, (rows + most - 1) / most);
    for (std::size_t i = 0; i < rows; i += stride)
        out.push_back(static_cast<std::uint32_t>(i));
    return out;
}

/// Rows by which what is handed on tests itself: of the forecast where there is one.
std::vector<ProgramRow> exampleRows(const Program& program, const HandOnFrom& from) {
    constexpr std::size_t most = 20;
    const bool coming = from.rows.forecast.has_value();
    const Table& table = coming ? from.rows.forecast->table : from.rows.learning.table;
    const std::string& file = coming ? from.rows.forecast->report.file : from.rows.learning.report.file;
    return programRows(program, table, file, evenly(table.rows(), most));
}

std::vector<PlainSheet> aboutSheets(const HandOnFrom& from) {
    PlainSheet about{"evidence", {{"what", "value"}}};
    const Evidence& e = from.evidence;
    about.cells.push_back({"summary", summaryText(e, from.recipe)});
    about.cells.push_back({"rows learned from", countText(e.rowsLearning)});
    about.cells.push_back({"typical error, learning rows", readableText(e.learning.rmse)});
    if (e.heldOut.rows > 0)
        about.cells.push_back({"typical error, " + plural(e.heldOut.rows, "row", "rows") + " held out",
                               readableText(e.heldOut.rmse)});
    if (e.folds) about.cells.push_back({"typical error over folds", readableText(e.folds->rmse)});
    PlainSheet goads{"goads", {{"severity", "goad", "reading", "answer"}}};
    for (const Goad& goad : e.goads)
        goads.cells.push_back({goad.severity == Severity::alarm ? "alarm" : "caution", goad.title,
                               goad.reading, goad.accepted ? "accepted" : "open"});
    return {about, goads};
}

/// Formats whose libraries write files: into one of its own, whose bytes are taken.
template <class Write> std::string bytesOf(const Write& write) {
    std::string folder = (fs::temp_directory_path() / "oxgoad-XXXXXX").string(); // of nobody else
    if (!::mkdtemp(folder.data()))
        throw Error(ErrorCode::cannotWrite, "no folder can be made for a moment", {.file = folder});
    std::error_code ignored;
    try {
        write(fs::path(folder) / "handed-on");
        std::string bytes = readFile(fs::path(folder) / "handed-on");
        fs::remove_all(folder, ignored);
        return bytes;
    } catch (...) {
        fs::remove_all(folder, ignored);
        throw;
    }
}

/// How many coefficients' intervals a format has room for.
std::size_t roomOf(std::string_view name) {
    return name == "workbook" || name == "ods" ? mostInWorkbook
           : name == "c" || name == "python"   ? mostInCode
                                               : mostInSql;
}

} // namespace

std::span<const HandOnFormat> handOnFormats() {
    return formats;
}

const HandOnFormat* findHandOnFormat(std::string_view name) {
    const auto* found =
        std::find_if(formats.begin(), formats.end(), [&](const HandOnFormat& f) { return f.name == name; });
    return found == formats.end() ? nullptr : found;
}

ScoredRows scoredOf(const HandOnFrom& from) {
    ScoredRows scored{from.rows.forecast->table, *from.evidence.forecast, {}};
    scored.notes.emplace_back("model", kindOf(from.recipe.estimator).sentence(from.recipe.estimator));
    scored.notes.emplace_back("intervals",
                              percentText(scored.forecast.level) + ", " + scored.forecast.intervals);
    scored.notes.emplace_back("fingerprint of the rows learned from",
                              fingerprintOf(from.rows.learning.table));
    scored.notes.emplace_back("fingerprint of the rows given", fingerprintOf(from.rows.forecast->table));
    scored.notes.emplace_back("summary", summaryText(from.evidence, from.recipe));
    for (const Goad& goad : from.evidence.goads)
        if (!goad.accepted && goad.under.empty())
            scored.notes.emplace_back("open", goad.title + ": " + goad.reading);
    return scored;
}

std::string handOnLimit(const HandOnFormat& format, const Study& study) {
    const std::string_view name = format.name;
    if (name == "report" || name == "pdf" || name == "json" || name.starts_with("rows-")) return {};
    const LinearModel* linear = study.linear();
    if (dynamic_cast<const NeighboursModel*>(study.model.get()))
        return "not for this kind of model, which keeps the rows themselves";
    for (const Step& step : study.recipe.steps)
        if (step.on && (step.kind == "lag" || step.kind == "rolling mean"))
            return "not where a term looks back at other rows";
    if (linear && linear->serial) return "not where errors depend on those of other rows";
    if (study.rule.link.family || kindOf(study.settings).can.intervals == IntervalSource::distribution)
        return "without intervals, which are those of a distribution";
    const std::size_t most = roomOf(name);
    if (linear && linear->hasErrors() && !linear->isQuantile() &&
        static_cast<std::size_t>(linear->fit.rank()) > most)
        return "without intervals, of which there is room for " + countText(most) + " coefficients";
    return {};
}

std::string handOnBytes(const HandOnFormat& format, const HandOnFrom& from, Progress& progress,
                        std::string* lacks) {
    const std::string_view name = format.name;
    if (name.starts_with("rows-")) {
        if (!from.evidence.forecast || !from.rows.forecast)
            throw Error(ErrorCode::badTerm, "there are no rows to forecast", {}, "Choose some first.");
        const ScoredRows scored = scoredOf(from);
        return bytesOf([&](const fs::path& file) {
            (name == "rows-sqlite" ? writeScoredSqlite
             : name == "rows-ods"  ? writeScoredOds
                                   : writeScoredXlsx)(file, scored, progress);
        });
    }
    if (name == "json") return modelFileText(from.evidence, from.recipe, from.rows, from.prepared);
    if (name == "report" || name == "pdf") {
        const auto blocks = reportOf(from, progress, from.reportParts);
        return name == "pdf" ? reportPdf(blocks) : reportHtml(blocks);
    }
    const double level = from.recipe.forecast ? from.recipe.forecast->level : from.recipe.level;
    const Program program =
        programOf(*from.evidence.study, from.rows.learning.table.columns(), level, roomOf(name));
    if (lacks && !program.noIntervals.empty()) *lacks = "no intervals: " + program.noIntervals;
    if (name == "sql") return sqlOf(program);
    if (name == "equation") return mathmlOf(program);
    if (name == "onnx") return onnxOf(program);
    if (name == "pmml") return pmmlOf(program);
    const std::vector<ProgramRow> rows = exampleRows(program, from);
    if (name == "c") return cOf(program, testRowsOf(program, rows));
    if (name == "python") return pythonOf(program, testRowsOf(program, rows));
    const auto sheets = aboutSheets(from);
    return bytesOf(
        [&](const fs::path& file) { (name == "ods" ? writeOds : writeXlsx)(file, program, rows, sheets); });
}

std::vector<HandedOn> handOn(const fs::path& folder, const std::vector<std::string>& names,
                             const HandOnFrom& from, Progress& progress) {
    std::vector<HandedOn> out;
    NamedFiles files;
    std::string refusals;
    std::vector<std::string> wanted;
    for (const std::string& name : names) {
        wanted.push_back(name);
        if (name == "report") wanted.emplace_back("pdf");
    }
    for (const std::string& name : wanted) {
        const HandOnFormat* format = findHandOnFormat(name);
        if (!format) {
            std::vector<std::string> known;
            for (const HandOnFormat& each : formats)
                known.emplace_back(each.name);
            throw Error(ErrorCode::badTerm, "there is no format \"" + name + "\" to hand a model on in", {},
                        "Known are " + nameList(known, known.size()) + ".");
        }
        progress.checkpoint(0.96, "Handing on " + std::string(format->file));
        HandedOn one{name, std::string(format->file), {}, {}};
        try {
            files.emplace_back(one.file, handOnBytes(*format, from, progress, &one.lacks));
        } catch (const Error& error) {
            if (error.code() != ErrorCode::badTerm) throw;
            one.refused = error.message() + (error.remedy().empty() ? "" : ". " + error.remedy());
            refusals += (refusals.empty() ? "" : "; ") + name + ": " + one.refused;
        }
        out.push_back(std::move(one));
    }
    if (files.empty() && !names.empty())
        throw Error(ErrorCode::badTerm, "nothing could be handed on: " + refusals);
    writeFiles(folder, files);
    return out;
}

} // namespace oxgoad
