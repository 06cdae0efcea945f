#pragma once
// The rows while they are being prepared.
#include "prepare/step.h"
#include "table/table.h"

#include <cstdint>
#include <functional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// Something a step learned from learning rows: the median of a column, its fences, its kept levels.
struct LearnedValue {
    std::string column;
    std::string what;
    std::vector<double> numbers;
    std::vector<std::string> texts;
    bool operator==(const LearnedValue&) const = default;
};

/// Values of one step: worked out and kept when learning, looked up when applying.
class StepValues {
public:
    StepValues() = default;
    /// For applying what was learned before.
    StepValues(std::vector<LearnedValue> values, std::vector<Column> kept)
        : m_values(std::move(values)), m_kept(std::move(kept)), m_applying(true) {}

    double number(const std::string& column, const std::string& what, const std::function<double()>& learn);
    /// At least `least` of them. Errors: badStep when what was learned before is not whole.
    const std::vector<double>& numbers(const std::string& column, const std::string& what,
                                       const std::function<std::vector<double>()>& learn,
                                       std::size_t least = 1);
    const std::vector<std::string>& texts(const std::string& column, const std::string& what,
                                          const std::function<std::vector<std::string>()>& learn);
    /// Columns of the rows learned from, for steps that look back in time.
    const std::vector<Column>& columns(const std::function<std::vector<Column>()>& learn);

    bool applying() const { return m_applying; }
    const std::vector<LearnedValue>& all() const { return m_values; }
    const std::vector<Column>& kept() const { return m_kept; }

private:
    LearnedValue& find(const std::string& column, const std::string& what, bool& there);
    std::vector<LearnedValue> m_values;
    std::vector<Column> m_kept;
    bool m_applying = false;
};

/// Who left a row out: 0 nobody, -1 the analyst by hand, otherwise the number of the step, from 1.
using LeftOutBy = std::int16_t;

/// Columns and marks of n rows on which steps work one after the other. Rows are never removed: they are
/// marked.
class StepFrame {
public:
    /// `learning[i]` says whether row i is a learning row; all are when empty.
    StepFrame(Table table, std::vector<LeftOutBy> leftOut, std::vector<std::uint8_t> learning,
              std::string file);

    std::size_t rows() const { return m_rows; }
    const std::vector<Column>& columns() const { return m_columns; }
    const std::string& file() const { return m_file; }
    const Column* find(std::string_view name) const;
    /// Throws Error (unknownColumn).
    const Column& at(std::string_view name) const;
    /// The same, and refuses other kinds (Error wrongType).
    const Column& number(std::string_view name) const;
    const Column& factor(std::string_view name) const;
    const Column& date(std::string_view name) const;
    /// Replaces the column of that name, or adds one at the end; counts the cells that changed.
    void put(Column column);
    /// Adds a column; throws Error (badStep) when the name is taken or empty.
    void add(Column column);
    /// Gives a column another name; throws Error (badStep) when that is taken or empty.
    void rename(const std::string& from, const std::string& to);

    bool isOut(std::size_t row) const { return m_leftOut[row] != 0; }
    void leaveOut(std::size_t row);
    const std::vector<LeftOutBy>& leftOut() const { return m_leftOut; }
    std::size_t rowsIn() const;
    /// Learning rows that no step and nobody left out, in order. Throws Error (badStep) when there is none.
    std::vector<std::uint32_t> learningRows() const;
    /// Present values of a number column over the learning rows. Throws Error (badStep) when there is none.
    std::vector<double> learningNumbers(const Column& column) const;

    StepValues& values() { return m_values; }
    /// True when the rows are to be forecast and everything was learned before.
    bool applying() const { return m_values.applying(); }
    void note(std::string sentence) { m_notes.push_back(std::move(sentence)); }
    std::size_t changedCells() const { return m_changed; }
    const std::vector<std::string>& notes() const { return m_notes; }

    /// Makes ready for the step of that number (from 1).
    void begin(LeftOutBy step, StepValues values);

private:
    Column& slot(std::string_view name);
    std::vector<Column> m_columns;
    std::size_t m_rows = 0;
    std::vector<LeftOutBy> m_leftOut;
    std::vector<std::uint8_t> m_learning;
    std::string m_file;
    StepValues m_values;
    LeftOutBy m_step = 0;
    std::size_t m_changed = 0;
    std::vector<std::string> m_notes;
};

} // namespace oxgoad
