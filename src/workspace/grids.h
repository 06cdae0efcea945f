#pragma once
// What each table of the window holds.
#include "workspace/grid_model.h"
#include "workspace/session.h"

#include <QColor>
#include <QVariant>
#include <vector>

namespace oxgoad {

/// What a drawing of an interval needs, on the scale all rows share. Several marks for a term of many
/// columns.
struct IntervalDrawing {
    struct Mark {
        double estimate, lower, upper;
    };
    std::vector<Mark> marks;
    double low = 0, high = 0;
};
/// A bracket that holds lines of one group together.
struct BracketDrawing {
    bool begins = false, ends = false;
};
/// Counts or a line to be drawn small. `steps` draws a level each.
struct ShapeDrawing {
    enum class Kind { bars, line, steps } kind = Kind::line;
    std::vector<double> values;
    double low = 0, high = 0;
    /// Where rows lie along it, drawn as small bars below; empty for none.
    std::vector<double> below{};
};

/// One line per column of the rows.
GridModel::Content ledgerGrid(const Session& session);
/// The rows themselves in a given order; the first two columns are row number and part, with who left a row
/// out.
/// Whether the numbers of a column are years, whose thousands are not parted.
bool areYears(const Session& session, const Column& column);
/// A cell for people: numbers of a column written one way, their thousands parted.
QString shownCell(const Column& column, std::size_t row, bool years);
GridModel::Content rowsGrid(const Session& session, std::shared_ptr<const std::vector<std::uint32_t>> order);
/// The preparation, one line a step, with rows and columns in and out.
GridModel::Content stepsGrid(Session& session);
/// What each part of the rows holds.
GridModel::Content partsGrid(const Session& session);
/// Columns before and after a step.
GridModel::Content stepEffectGrid(const StepEffect& effect);
/// The first rows of something that is about to be read.
GridModel::Content previewGrid(const Table& table);
/// Cells that do not fit their column.
GridModel::Content faultsGrid(const Session& session);
/// Rows with the largest studentised residuals and held-out errors, largest first.
GridModel::Content outlyingGrid(const Session& session);
/// Readings of the checks.
GridModel::Content readingsGrid(const Session& session);
/// The rows to be forecast.
GridModel::Content forecastGrid(const Session& session);

/// A line of the term table: a term in the model, a level of one, or a column that could enter.
struct TermLine {
    /// `gone` keeps the place of a line that is no longer there.
    enum class Kind { constant, term, level, candidate, gone } kind = Kind::candidate;
    int term = -1;
    int coefficient = -1;
    std::string column;
};
/// In what order the coefficients of a term stand: as the model names them, from low to high, or the smallest
/// p first. Those without an estimate are last.
enum class LevelOrder { named, lowToHigh, byP };
LevelOrder levelOrder(const Session& session, const Term& term);
void setLevelOrder(Session& session, const Term& term, LevelOrder order);
/// Whether the coefficients of a term are shown one by one: as the analyst chose, or when they are few and
/// mean something alone.
bool showsLevels(const Session& session, const Term& term, std::size_t coefficients);
/// The places lines have while somebody works in the list: lines must not move under the hand that ticks
/// them. What is put in or taken out keeps its place, and a factor put in shows its levels only once the
/// places are forgotten.
struct TermPlaces {
    struct Group {
        /// What the lines are of, and how many lines they take.
        std::string key;
        std::size_t lines = 1;
        /// The term when it was last in the model: another form of it may take other lines.
        std::string term;
    };
    std::vector<Group> groups;
    /// The response that the places are of.
    std::string response;
    /// What is looked for: only terms, levels and columns with it in their name have a line, in capitals or
    /// not, and of a closed factor the levels that have it. All where it is empty.
    QString find;
};
/// With `places`, in these places, which are filled in when they are empty.
std::vector<TermLine> termLines(const Session& session, TermPlaces* places = nullptr);
GridModel::Content termsGrid(Session& session, std::vector<TermLine> lines);
/// A coefficient of a term beside its name: "annual" for "contract = annual" of contract, the whole name of
/// others.
std::string levelName(const Term& term, const std::string& coefficient);

/// What the drawn intervals of the term table are the effect of.
enum class EffectScale { quartiles, deviation };
EffectScale effectScale(const Session& session);

/// What the fit says, a line each: R², residual sd, F, errors.
QStringList fitSummary(const Session& session);

/// Estimate with the decimals that its standard error supports (two digits of the error).
QString supportedText(double value, double error);

} // namespace oxgoad

Q_DECLARE_METATYPE(oxgoad::IntervalDrawing)
Q_DECLARE_METATYPE(oxgoad::ShapeDrawing)
Q_DECLARE_METATYPE(oxgoad::BracketDrawing)
