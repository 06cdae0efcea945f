#include "prepare/frame.h"

#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <cassert>
#include <cmath>

namespace oxgoad {

LearnedValue& StepValues::find(const std::string& column, const std::string& what, bool& there) {
    const auto found = std::find_if(m_values.begin(), m_values.end(), [&](const LearnedValue& v) {
        return v.column == column && v.what == what;
    });
    there = found != m_values.end();
    if (there) return *found;
    // A value that learning never came to, because its column was not there then.
    if (m_applying)
        throw Error(ErrorCode::badStep, "nothing was learned about " + column + " from the learning rows",
                    {.column = column});
    m_values.push_back({column, what, {}, {}});
    return m_values.back();
}

double StepValues::number(const std::string& column, const std::string& what,
                          const std::function<double()>& learn) {
    return numbers(column, what, [&] { return std::vector<double>{learn()}; }).front();
}

const std::vector<double>& StepValues::numbers(const std::string& column, const std::string& what,
                                               const std::function<std::vector<double>()>& learn,
                                               std::size_t least) {
    bool there = false;
    LearnedValue& value = find(column, what, there);
    if (!there) value.numbers = learn();
    if (value.numbers.size() < least)
        throw Error(ErrorCode::badStep, "what was learned about " + column + " is not whole",
                    {.column = column});
    return value.numbers;
}

const std::vector<std::string>& StepValues::texts(const std::string& column, const std::string& what,
                                                  const std::function<std::vector<std::string>()>& learn) {
    bool there = false;
    LearnedValue& value = find(column, what, there);
    if (!there) value.texts = learn();
    return value.texts;
}

const std::vector<Column>& StepValues::columns(const std::function<std::vector<Column>()>& learn) {
    if (!m_applying) m_kept = learn();
    return m_kept;
}

StepFrame::StepFrame(Table table, std::vector<LeftOutBy> leftOut, std::vector<std::uint8_t> learning,
                     std::string file)
    : m_columns(table.columns()), m_rows(table.rows()), m_leftOut(std::move(leftOut)),
      m_learning(std::move(learning)), m_file(std::move(file)) {
    m_leftOut.resize(m_rows, 0);
    assert(m_learning.empty() || m_learning.size() == m_rows);
}

void StepFrame::begin(LeftOutBy step, StepValues values) {
    m_step = step;
    m_values = std::move(values);
    m_changed = 0;
    m_notes.clear();
}

const Column* StepFrame::find(std::string_view name) const {
    const auto found =
        std::find_if(m_columns.begin(), m_columns.end(), [&](const Column& c) { return c.name() == name; });
    return found == m_columns.end() ? nullptr : &*found;
}

const Column& StepFrame::at(std::string_view name) const {
    if (const Column* column = find(name)) return *column;
    std::vector<std::string> names;
    for (const Column& column : m_columns)
        names.push_back(column.name());
    const std::string meant = didYouMean(name, names);
    throw Error(ErrorCode::unknownColumn, "there is no column \"" + std::string(name) + "\" here",
                {.file = m_file},
                (meant.empty() ? "" : meant + " ") + "Choose another column, or switch the step off.");
}

namespace {

const Column& ofKind(const Column& column, ColumnKind kind, const std::string& file) {
    if (column.kind() == kind) return column;
    throw Error(ErrorCode::wrongType,
                "this step wants a " + std::string(kindName(kind)) + " column, and this is a " +
                    std::string(kindName(column.kind())) + " column",
                {.file = file, .column = column.name()}, "Change its type in a step before.");
}

} // namespace

const Column& StepFrame::number(std::string_view name) const {
    return ofKind(at(name), ColumnKind::number, m_file);
}
const Column& StepFrame::factor(std::string_view name) const {
    return ofKind(at(name), ColumnKind::factor, m_file);
}
const Column& StepFrame::date(std::string_view name) const {
    return ofKind(at(name), ColumnKind::date, m_file);
}

Column& StepFrame::slot(std::string_view name) {
    return const_cast<Column&>(at(name));
}

void StepFrame::put(Column column) {
    assert(column.size() == m_rows);
    if (!find(column.name())) {
        m_changed += m_rows - column.missingCount();
        m_columns.push_back(std::move(column));
        return;
    }
    Column& old = slot(column.name());
    if (old.kind() != column.kind()) {
        m_changed += m_rows;
    } else if (old.kind() == ColumnKind::number) {
        const auto a = old.numbers();
        const auto b = column.numbers();
        for (std::size_t i = 0; i < m_rows; ++i)
            m_changed += !(a[i] == b[i] || (std::isnan(a[i]) && std::isnan(b[i])));
    } else if (old.kind() == ColumnKind::date) {
        const auto a = old.days();
        const auto b = column.days();
        for (std::size_t i = 0; i < m_rows; ++i)
            m_changed += a[i] != b[i];
    } else {
        for (std::size_t i = 0; i < m_rows; ++i)
            m_changed += old.cellText(i) != column.cellText(i);
    }
    old = std::move(column);
}

namespace {

void requireFree(const StepFrame& frame, const std::string& name) {
    if (trimmed(name).empty())
        throw Error(ErrorCode::badStep, "the new column has no name", {}, "Give it one.");
    if (frame.find(name))
        throw Error(ErrorCode::badStep, "there is a column \"" + name + "\" already", {.file = frame.file()},
                    "Choose another name.");
}

} // namespace

void StepFrame::add(Column column) {
    requireFree(*this, column.name());
    put(std::move(column));
}

void StepFrame::rename(const std::string& from, const std::string& to) {
    Column& column = slot(from);
    if (from == to) return;
    requireFree(*this, to);
    column = column.renamed(to);
}

void StepFrame::leaveOut(std::size_t row) {
    assert(row < m_rows);
    if (m_leftOut[row] == 0) m_leftOut[row] = m_step;
}

std::size_t StepFrame::rowsIn() const {
    return static_cast<std::size_t>(std::count(m_leftOut.begin(), m_leftOut.end(), LeftOutBy{0}));
}

std::vector<std::uint32_t> StepFrame::learningRows() const {
    std::vector<std::uint32_t> rows;
    for (std::size_t i = 0; i < m_rows; ++i)
        if (m_leftOut[i] == 0 && (m_learning.empty() || m_learning[i] != 0))
            rows.push_back(static_cast<std::uint32_t>(i));
    if (rows.empty())
        throw Error(ErrorCode::badStep, "there is no learning row left to learn from", {.file = m_file},
                    "Leave fewer rows out, or hold fewer out.");
    return rows;
}

std::vector<double> StepFrame::learningNumbers(const Column& column) const {
    std::vector<double> values;
    values.reserve(m_rows);
    const auto numbers = column.numbers();
    for (std::size_t i = 0; i < m_rows; ++i)
        if (m_leftOut[i] == 0 && (m_learning.empty() || m_learning[i] != 0) && !std::isnan(numbers[i]))
            values.push_back(numbers[i]);
    if (values.empty()) (void)learningRows(); // says so when there is no row at all
    if (values.empty())
        throw Error(ErrorCode::badStep, "all values in learning rows are missing",
                    {.file = m_file, .column = column.name()}, "Choose another column.");
    return values;
}

} // namespace oxgoad
