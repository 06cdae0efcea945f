#include "design/inputs.h"

#include "base/error.h"
#include "base/text.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>
#include <string_view>
#include <unordered_map>

namespace oxgoad {

namespace {

constexpr std::int32_t unseenLevel = -2;

/// Whether all values that are learned from are whole numbers that can be years.
bool holdsYears(const Column& column, std::span<const std::uint32_t> rows) {
    if (column.kind() != ColumnKind::number) return false;
    const auto values = column.numbers();
    return !rows.empty() && std::all_of(rows.begin(), rows.end(), [&](std::uint32_t row) {
        return std::isnan(values[row]) ||
               (values[row] == std::floor(values[row]) && areYears(values[row], values[row]));
    });
}

Input learnInput(const Column& column, std::span<const std::uint32_t> rows,
                 const std::map<std::string, std::string>& references, const std::string& file) {
    Input input;
    input.name = column.name();
    input.date = column.kind() == ColumnKind::date;
    input.years = holdsYears(column, rows);
    if (column.kind() == ColumnKind::text)
        throw Error(ErrorCode::wrongType, "this is a text column, which no term can use",
                    {.file = file, .column = column.name()},
                    "Read it as a factor or leave it out of the terms.");
    input.factor = column.kind() == ColumnKind::factor;
    if (!input.factor) return input;
    std::vector<char> seen(column.levels().size(), 0);
    const auto codes = column.codes();
    for (const auto row : rows)
        if (codes[row] >= 0) seen[static_cast<std::size_t>(codes[row])] = 1;
    for (std::size_t i = 0; i < seen.size(); ++i)
        if (seen[i]) input.levels.push_back(column.levels()[i]);
    if (input.levels.size() < 2)
        throw Error(ErrorCode::badTerm,
                    input.levels.empty() ? "this factor has no level in the learning rows"
                                         : "this factor has one level only (\"" + input.levels[0] +
                                               "\") in the learning rows, so it explains nothing",
                    {.file = file, .column = column.name()}, "Take it out of the terms.");
    if (const auto asked = references.find(input.name); asked != references.end()) {
        const auto found = std::find(input.levels.begin(), input.levels.end(), asked->second);
        if (found == input.levels.end())
            throw Error(ErrorCode::badTerm,
                        "no learning row has the reference level \"" + asked->second + "\"",
                        {.file = file, .column = column.name()},
                        "Choose one of the levels that occur, for example \"" + input.levels[0] + "\".");
        input.referenceLevel = static_cast<std::size_t>(found - input.levels.begin());
    }
    return input;
}

} // namespace

std::string Input::valueText(double value) const {
    if (std::isnan(value)) return {};
    if (factor) {
        const auto level = static_cast<std::size_t>(value);
        return value >= 0 && level < levels.size() ? levels[level] : std::string();
    }
    if (date) return dateText(static_cast<std::int32_t>(value));
    std::string text = shortText(value);
    if (years) std::erase(text, ','); // 1970, not 1,970
    return text;
}

std::optional<std::size_t> findInput(const Inputs& inputs, const std::string& name) {
    for (std::size_t i = 0; i < inputs.size(); ++i)
        if (inputs[i].name == name) return i;
    return std::nullopt;
}

Inputs learnInputs(const Table& table, std::span<const std::uint32_t> rows,
                   const std::vector<std::string>& names,
                   const std::map<std::string, std::string>& references, const std::string& file,
                   const Progress& progress) {
    Inputs inputs;
    inputs.reserve(names.size());
    for (const std::string& name : names) {
        stopIfTold(progress);
        inputs.push_back(learnInput(table.at(name, file), rows, references, file));
    }
    return inputs;
}

BoundInputs::BoundInputs(const Inputs& inputs, const Table& table, const std::string& file, double unseen)
    : m_inputs(&inputs), m_unseen(unseen) {
    for (const Input& input : inputs) {
        Source source;
        source.column = &table.at(input.name, file);
        const bool factor = source.column->kind() == ColumnKind::factor;
        if (factor != input.factor || source.column->kind() == ColumnKind::text)
            throw Error(ErrorCode::wrongType,
                        "holds " + std::string(kindName(source.column->kind())) +
                            " values where the model learned from " +
                            (input.factor ? "levels of a factor" : "numbers"),
                        {.file = file, .column = input.name},
                        "Correct the file, or say how the column is to be read.");
        if (factor) {
            std::unordered_map<std::string_view, std::int32_t> placeOf;
            for (const std::string& level : input.levels)
                placeOf.emplace(level, static_cast<std::int32_t>(placeOf.size()));
            for (const std::string& level : source.column->levels()) {
                const auto found = placeOf.find(level);
                source.levelOfCode.push_back(found == placeOf.end() ? unseenLevel : found->second);
            }
        }
        m_sources.push_back(std::move(source));
    }
}

double BoundInputs::value(std::size_t input, std::size_t row) const {
    const Source& source = m_sources[input];
    if (source.column->isMissing(row)) return std::nan("");
    if (!(*m_inputs)[input].factor) return source.column->asNumber(row);
    const auto level = source.levelOfCode[static_cast<std::size_t>(source.column->codes()[row])];
    return level == unseenLevel ? m_unseen : level;
}

bool BoundInputs::complete(std::size_t row) const {
    for (std::size_t i = 0; i < m_sources.size(); ++i)
        if (!std::isfinite(value(i, row))) return false;
    return true;
}

std::vector<std::string> BoundInputs::problems(std::size_t row) const {
    std::vector<std::string> found;
    for (std::size_t i = 0; i < m_sources.size(); ++i)
        if (m_sources[i].column->isMissing(row))
            found.push_back((*m_inputs)[i].name + " is missing");
        else if (!std::isfinite(value(i, row)))
            found.push_back(unseenText(i, row));
    return found;
}

std::vector<std::string> BoundInputs::unseenLevels(std::size_t row) const {
    std::vector<std::string> found;
    for (std::size_t i = 0; i < m_sources.size(); ++i)
        if (!m_sources[i].column->isMissing(row) && !std::isfinite(value(i, row)))
            found.push_back(unseenText(i, row));
    return found;
}

std::string BoundInputs::unseenText(std::size_t input, std::size_t row) const {
    return (*m_inputs)[input].name + " = " + m_sources[input].column->cellText(row) +
           " was never learned from";
}

std::span<const double> BoundInputs::numbers(std::size_t input) const {
    const Column& column = *m_sources[input].column;
    return column.kind() == ColumnKind::number ? column.numbers() : std::span<const double>();
}

void BoundInputs::fillOne(std::size_t input, std::span<const std::uint32_t> rows, double* out) const {
    const std::size_t n = rows.size();
    const Source& source = m_sources[input];
    if ((*m_inputs)[input].factor) {
        std::vector<double> worth(source.levelOfCode.size() + 1, m_unseen);
        worth[0] = nan;
        for (std::size_t code = 0; code < source.levelOfCode.size(); ++code)
            if (source.levelOfCode[code] != unseenLevel) worth[code + 1] = source.levelOfCode[code];
        const auto codes = source.column->codes(); // -1 where missing
        for (std::size_t i = 0; i < n; ++i)
            out[i] = worth[static_cast<std::size_t>(codes[rows[i]] + 1)];
    } else if (source.column->kind() == ColumnKind::number) {
        const auto numbers = source.column->numbers();
        for (std::size_t i = 0; i < n; ++i)
            out[i] = numbers[rows[i]];
    } else {
        for (std::size_t i = 0; i < n; ++i)
            out[i] = source.column->asNumber(rows[i]);
    }
}

void BoundInputs::fill(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> block) const {
    for (std::size_t j = 0; j < m_sources.size(); ++j)
        fillOne(j, rows, block.col(static_cast<Eigen::Index>(j)).data());
}

void forEachRowBlock(std::span<const std::uint32_t> rows, Threads threads, const Progress& progress,
                     const std::function<void(std::size_t, std::span<const std::uint32_t>)>& use) {
    parallelFor((rows.size() + designBlockRows - 1) / designBlockRows, threads, [&](std::size_t b) {
        stopIfTold(progress);
        use(b * designBlockRows,
            rows.subspan(b * designBlockRows, std::min(designBlockRows, rows.size() - b * designBlockRows)));
    });
}

} // namespace oxgoad
