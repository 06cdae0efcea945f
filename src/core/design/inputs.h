#pragma once
// What a model reads of a table: named columns of numbers or of levels, as learned from learning rows.
#include "base/not_a_number.h"
#include "base/parallel.h"
#include "base/progress.h"
#include "table/table.h"

#include <Eigen/Core>

#include <cstdint>
#include <functional>
#include <map>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// A column that a model reads.
struct Input {
    std::string name;
    bool factor = false;
    /// Levels that occur in the learning rows, in the table's order; factors only.
    std::vector<std::string> levels;
    std::size_t referenceLevel = 0;
    /// A date, whose values are days since 1970-01-01; or whole numbers that are years.
    bool date = false, years = false;

    bool operator==(const Input&) const = default;
    /// A value for people: "2024-05-01", "1970", "12,500"; the level of a factor.
    std::string valueText(double value) const;
};

using Inputs = std::vector<Input>;

/// Place of an input; none when there is none of that name.
std::optional<std::size_t> findInput(const Inputs& inputs, const std::string& name);

/// Learns the inputs from `rows`; missing values are passed over. References name a level per factor;
/// where none is named the first level in the table's order is the reference. Errors: unknownColumn,
/// wrongType (a text column), badTerm (a factor with one level, a reference level that no learning row has).
/// Throws Stopped.
Inputs learnInputs(const Table& table, std::span<const std::uint32_t> rows,
                   const std::vector<std::string>& names,
                   const std::map<std::string, std::string>& references, const std::string& file,
                   const Progress& progress = {});

/// Inputs over a table: the only place where a model touches columns. Learns nothing. Both must outlive it.
class BoundInputs {
public:
    /// `unseen` stands for levels that were never learned. Errors: unknownColumn, wrongType (text where
    /// numbers are needed, or the other way round).
    BoundInputs(const Inputs& inputs, const Table& table, const std::string& file, double unseen = nan);

    const Inputs& inputs() const { return *m_inputs; }
    /// A number, a day, or the index of a level among the input's; NaN when missing, `unseen` for a level
    /// never seen.
    double value(std::size_t input, std::size_t row) const;
    /// True when every input has a value that was learned.
    bool complete(std::size_t row) const;
    /// Why the row cannot be used, a phrase for each reason; empty when complete.
    std::vector<std::string> problems(std::size_t row) const;
    /// Of these the levels that were never learned.
    std::vector<std::string> unseenLevels(std::size_t row) const;
    /// All values of a number as the table has them, NaN where missing; empty for a factor or a date.
    std::span<const double> numbers(std::size_t input) const;
    /// Writes the values of one input at the chosen rows.
    void fillOne(std::size_t input, std::span<const std::uint32_t> rows, double* out) const;
    /// Writes the values of the chosen rows: rows × inputs.
    void fill(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> block) const;

private:
    struct Source {
        const Column* column = nullptr;
        /// From the table's code to the input's level; -2 for a level that was never seen.
        std::vector<std::int32_t> levelOfCode;
    };
    std::string unseenText(std::size_t input, std::size_t row) const;

    const Inputs* m_inputs;
    double m_unseen;
    std::vector<Source> m_sources;
};

/// Rows that are worked on at a time: so few that blocks of hundreds of columns stay near, and that a stop is
/// soon seen.
inline constexpr std::size_t designBlockRows = 1024;

/// Calls use(first, rows) for every block of the chosen rows, in parallel; `first` is the place of the
/// block's first row among them. Throws Stopped.
void forEachRowBlock(std::span<const std::uint32_t> rows, Threads threads, const Progress& progress,
                     const std::function<void(std::size_t first, std::span<const std::uint32_t> part)>& use);

} // namespace oxgoad
