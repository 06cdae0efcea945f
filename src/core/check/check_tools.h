#pragma once
// What several checks need: readings put together, columns tried beside the model, rows in order of time.
#include "check/checks.h"
#include "estimate/linear/screen.h"
#include "estimate/one_way.h"

#include <Eigen/Core>

#include <cstdint>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

Reading madeReading(std::string name, double value, double threshold, std::optional<double> p,
                    std::string sentence, std::string source);
/// Without a value; the sentence is "does not apply: " and why.
Reading noReading(std::string name, const std::string& why);

/// "F 3.21 on 2 and 1,096 degrees of freedom".
std::string fText(double f, double numeratorDf, double denominatorDf);
/// "p below 0.01".
std::string pThresholdText(double limit);

/// Columns tried beside those of a least squares model, a block a question: see screenBlocks. Values must be
/// finite.
class ColumnsBeside {
public:
    explicit ColumnsBeside(const CheckContext& context) : m_context(context) {}
    /// One value a learning row.
    std::size_t add(Eigen::VectorXd values) {
        m_columns.push_back(std::move(values));
        return m_columns.size() - 1;
    }
    void ask(ScreenBlock block) { m_blocks.push_back(std::move(block)); }
    std::size_t width() const { return m_columns.size(); }
    bool empty() const { return m_blocks.empty(); }
    /// What each block adds, in the order asked; forgets columns and questions. Throws Stopped.
    std::vector<Addition> answers();

private:
    const CheckContext& m_context;
    std::vector<Eigen::VectorXd> m_columns;
    std::vector<ScreenBlock> m_blocks;
};

/// Whether an addition has columns of its own and degrees of freedom to be tested with.
bool isTested(const Addition& addition);

/// Values of an input at the learning rows.
Eigen::VectorXd inputValues(const CheckContext& context, std::size_t input);
/// Less their mean and in units of their standard deviation; zeros where all are alike.
Eigen::VectorXd standardised(Eigen::VectorXd values);
/// Sums over the rows of each group of a column, a row a column of `columns` and a column a group; rows with
/// group −1 count nowhere. `roots` multiply the rows; none where empty. The same for any number of threads.
Eigen::MatrixXd sumsByGroup(const Eigen::MatrixXd& columns, std::span<const std::int32_t> group,
                            std::size_t groups, std::span<const double> roots, Threads threads);
/// Square roots of the weights of the learning rows; empty without weights.
std::vector<double> rootsOfWeights(const CheckContext& context);
/// Share of the typical error that an addition would take away: 1 − √(1 − share).
double errorTaken(const Addition& addition);

/// The time of rows: a column with the role of time, otherwise the first date, otherwise the first number all
/// whose values are years and differ. Null when there is none.
const Column* timeOf(const CheckContext& context);
/// The column with the role of groups, otherwise the factor with the most levels in which no time occurs
/// twice; null when times do not repeat or there is none.
const Column* panelOf(const CheckContext& context, const Column& time, std::string& why);

/// Errors in the order of time.
struct OrderedErrors {
    /// Places among CheckContext::errorRows, in order, one list a group; the groups of one row too.
    std::vector<std::vector<std::uint32_t>> runs;
    /// "in the order of month, within 40 levels of depot".
    std::string says;
    /// Why there is no such order; empty when there is one.
    std::string why;
    /// There is a time; otherwise the rows stand in the order of the file.
    bool timed = false;
    std::string time, group;
};
OrderedErrors errorsInOrder(const CheckContext& context);

/// Parts of each calendar that the rows go through at least twice, of each of some rows of the table (−1 for
/// none), by name.
std::vector<std::pair<std::string, std::vector<std::int32_t>>>
calendarParts(const CheckContext& context, std::span<const std::uint32_t> rows);
/// Points of time in one turn of the finest calendar that the rows go through at least twice: 12 of months; 0
/// without one.
std::size_t seasonLength(const CheckContext& context);

/// Name of the factors that can say groups: offered, not in the model.
std::vector<const Column*> factorsOutside(const CheckContext& context);

/// A move that weighs rows by a power of a number with which the spread of errors grows or shrinks: the
/// spread is taken as proportional to it, by a straight line of ln e² on its logarithm (Harvey 1976,
/// Econometrica 44), to quarters. None where the number is not above 0 everywhere, or the rows have weights
/// already.
std::optional<Move> weighBy(const CheckContext& context, const std::string& column);

/// The moves that set the groups of a column aside when judging, or count them in the errors.
Move judgeByGroup(const std::string& column);
Move errorsByGroup(const std::string& column);

/// Groups of the errors by the levels of a factor, or by the days of a date.
Grouping groupingOf(const CheckContext& context, const Column& column);

} // namespace oxgoad
