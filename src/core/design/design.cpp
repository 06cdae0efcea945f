#include "design/design.h"

#include "base/double_double.h"
#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::int32_t unseenLevel = -2;

double transformed(double value, const TermPart& part) {
    if (part.logarithm) return value > 0 ? std::log(value) : std::nan("");
    if (part.power == 1) return value;
    if (part.power == 2) return value * value;
    return std::pow(value, part.power);
}

DoubleDouble exactly(double value, int power, bool logarithm) {
    if (logarithm) {
        const double rounded = std::log(value);
        return normalised(rounded, static_cast<double>(std::log(static_cast<long double>(value)) - rounded));
    }
    DoubleDouble product(1);
    for (int k = 0; k < std::abs(power); ++k)
        product = product * DoubleDouble(value);
    return power < 0 ? DoubleDouble(1) / product : product;
}

/// Column names of one part: its indicators, or itself.
std::vector<std::pair<std::string, DesignColumn::Piece>>
piecesOf(const TermPart& part, const DesignInput& input, std::size_t index) {
    std::vector<std::pair<std::string, DesignColumn::Piece>> pieces;
    if (!input.factor) {
        pieces.push_back({partName(part), {index, -1, part.power, part.logarithm}});
        return pieces;
    }
    for (std::size_t level = 0; level < input.levels.size(); ++level)
        if (level != input.referenceLevel)
            pieces.push_back(
                {input.name + " = " + input.levels[level], {index, static_cast<int>(level), 1, false}});
    return pieces;
}

DesignInput learnInput(const Column& column, std::span<const std::uint32_t> rows,
                       const std::map<std::string, std::string>& references, const std::string& file) {
    DesignInput input;
    input.name = column.name();
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

void requireSensible(const std::vector<Term>& terms) {
    for (std::size_t i = 0; i < terms.size(); ++i) {
        if (terms[i].parts.empty())
            throw Error(ErrorCode::badTerm, "term " + std::to_string(i + 1) + " is empty", {},
                        "Name its columns.");
        for (const TermPart& part : terms[i].parts)
            if (part.power == 0 || std::abs(part.power) > 30)
                throw Error(ErrorCode::badTerm, "the power " + std::to_string(part.power) + " cannot be used",
                            {.column = part.column}, "Powers go from −30 to 30, without 0.");
        for (std::size_t j = 0; j < i; ++j)
            if (terms[i] == terms[j])
                throw Error(ErrorCode::badTerm, "the term " + termName(terms[i]) + " is there twice", {},
                            "Take one of them out.");
    }
}

} // namespace

Term plainTerm(std::string column) {
    return Term{{TermPart{std::move(column)}}};
}

std::string partName(const TermPart& part) {
    if (part.logarithm) return "ln(" + part.column + ")";
    return part.power == 1 ? part.column : part.column + "^" + std::to_string(part.power);
}

std::string termName(const Term& term) {
    std::string name;
    for (const TermPart& part : term.parts)
        name += (name.empty() ? "" : " × ") + partName(part);
    return name;
}

std::vector<std::string> inputNames(const std::vector<Term>& terms) {
    std::vector<std::string> names;
    for (const Term& term : terms)
        for (const TermPart& part : term.parts)
            if (std::find(names.begin(), names.end(), part.column) == names.end())
                names.push_back(part.column);
    return names;
}

Design Design::learn(const Table& table, std::span<const std::uint32_t> rows, const std::vector<Term>& terms,
                     const std::map<std::string, std::string>& references, const std::string& file) {
    requireSensible(terms);
    Design design;
    design.m_terms = terms;
    std::map<std::string, std::size_t> indexOf;
    for (const std::string& name : inputNames(terms)) {
        indexOf[name] = design.m_inputs.size();
        design.m_inputs.push_back(learnInput(table.at(name, file), rows, references, file));
    }
    for (std::size_t t = 0; t < terms.size(); ++t) {
        std::vector<DesignColumn> columns{DesignColumn{{}, t, {}}};
        for (const TermPart& part : terms[t].parts) {
            const std::size_t index = indexOf.at(part.column);
            const DesignInput& input = design.m_inputs[index];
            if (input.factor && (part.power != 1 || part.logarithm))
                throw Error(ErrorCode::badTerm,
                            "a factor has no " + std::string(part.logarithm ? "logarithm" : "powers"),
                            {.file = file, .column = part.column}, "Use the factor as it is.");
            std::vector<DesignColumn> products;
            for (const DesignColumn& before : columns)
                for (const auto& [name, piece] : piecesOf(part, input, index)) {
                    DesignColumn column = before;
                    column.name += (column.name.empty() ? "" : " × ") + name;
                    column.pieces.push_back(piece);
                    products.push_back(std::move(column));
                }
            columns = std::move(products);
        }
        design.m_columns.insert(design.m_columns.end(), columns.begin(), columns.end());
    }
    return design;
}

BoundDesign::BoundDesign(const Design& design, const Table& table, const std::string& file)
    : m_design(&design) {
    for (const DesignInput& input : design.inputs()) {
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
        if (factor)
            for (const std::string& level : source.column->levels()) {
                const auto found = std::find(input.levels.begin(), input.levels.end(), level);
                source.levelOfCode.push_back(found == input.levels.end()
                                                 ? unseenLevel
                                                 : static_cast<std::int32_t>(found - input.levels.begin()));
            }
        m_sources.push_back(std::move(source));
    }
}

double BoundDesign::inputValue(std::size_t input, std::size_t row) const {
    const Source& source = m_sources[input];
    if (source.column->isMissing(row)) return std::nan("");
    if (source.levelOfCode.empty()) return source.column->asNumber(row);
    const auto level = source.levelOfCode[static_cast<std::size_t>(source.column->codes()[row])];
    return level == unseenLevel ? std::nan("") : level;
}

bool BoundDesign::complete(std::size_t row) const {
    for (std::size_t i = 0; i < m_sources.size(); ++i)
        if (std::isnan(inputValue(i, row))) return false;
    for (const Term& term : m_design->terms())
        for (const TermPart& part : term.parts) {
            if (part.power == 1 && !part.logarithm) continue;
            for (std::size_t i = 0; i < m_sources.size(); ++i)
                if (m_design->inputs()[i].name == part.column &&
                    !std::isfinite(transformed(inputValue(i, row), part)))
                    return false;
        }
    return true;
}

std::vector<std::string> BoundDesign::problems(std::size_t row) const {
    std::vector<std::string> found;
    for (std::size_t i = 0; i < m_sources.size(); ++i) {
        const DesignInput& input = m_design->inputs()[i];
        if (m_sources[i].column->isMissing(row))
            found.push_back(input.name + " is missing");
        else if (std::isnan(inputValue(i, row)))
            found.push_back(input.name + " = " + m_sources[i].column->cellText(row) +
                            " was never learned from");
    }
    for (const Term& term : m_design->terms())
        for (const TermPart& part : term.parts)
            for (std::size_t i = 0; i < m_sources.size(); ++i) {
                if (m_design->inputs()[i].name != part.column || (part.power == 1 && !part.logarithm))
                    continue;
                const double value = inputValue(i, row);
                if (!std::isnan(value) && !std::isfinite(transformed(value, part)))
                    found.push_back(partName(part) + " is not defined at " + readableText(value, 6));
            }
    return found;
}

void BoundDesign::fill(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> block) const {
    const auto& columns = m_design->columns();
    const auto n = rows.size();
    for (std::size_t j = 0; j < columns.size(); ++j) {
        double* out = block.col(static_cast<Eigen::Index>(j)).data();
        bool first = true;
        for (const auto& piece : columns[j].pieces) {
            const Source& source = m_sources[piece.input];
            auto put = [&](auto valueAt) {
                if (first)
                    for (std::size_t i = 0; i < n; ++i)
                        out[i] = valueAt(rows[i]);
                else
                    for (std::size_t i = 0; i < n; ++i)
                        out[i] *= valueAt(rows[i]);
            };
            const TermPart part{{}, piece.power, piece.logarithm};
            if (piece.level >= 0) {
                const auto codes = source.column->codes();
                put([&](std::uint32_t r) {
                    return source.levelOfCode[static_cast<std::size_t>(codes[r])] == piece.level ? 1.0 : 0.0;
                });
            } else if (source.column->kind() == ColumnKind::number) {
                const auto numbers = source.column->numbers();
                if (part.power == 1 && !part.logarithm)
                    put([&](std::uint32_t r) { return numbers[r]; });
                else
                    put([&](std::uint32_t r) { return transformed(numbers[r], part); });
            } else {
                const auto days = source.column->days();
                put([&](std::uint32_t r) { return transformed(days[r], part); });
            }
            first = false;
        }
    }
}

void BoundDesign::fillExact(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> hi,
                            Eigen::Ref<Eigen::MatrixXd> lo) const {
    fill(rows, hi);
    lo.setZero();
    const auto& columns = m_design->columns();
    for (std::size_t j = 0; j < columns.size(); ++j) {
        const auto& pieces = columns[j].pieces;
        const auto plain = [](const DesignColumn::Piece& piece) {
            return piece.level >= 0 || (piece.power == 1 && !piece.logarithm);
        };
        const auto numbers = std::count_if(pieces.begin(), pieces.end(),
                                           [](const DesignColumn::Piece& piece) { return piece.level < 0; });
        if (numbers <= 1 && std::all_of(pieces.begin(), pieces.end(), plain)) continue;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            DoubleDouble product(1);
            for (const auto& piece : pieces) {
                const double value = inputValue(piece.input, rows[i]);
                product = product * (piece.level >= 0 ? DoubleDouble(value == piece.level ? 1 : 0)
                                                      : exactly(value, piece.power, piece.logarithm));
            }
            hi(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j)) = product.hi;
            lo(static_cast<Eigen::Index>(i), static_cast<Eigen::Index>(j)) = product.lo;
        }
    }
}

void forEachBlock(const BoundDesign& design, std::span<const std::uint32_t> rows, Threads threads,
                  Progress& progress, const std::function<void(std::size_t, const Eigen::MatrixXd&)>& use) {
    parallelFor((rows.size() + designBlockRows - 1) / designBlockRows, threads, [&](std::size_t b) {
        if (progress.stopRequested()) throw Stopped{};
        const auto part =
            rows.subspan(b * designBlockRows, std::min(designBlockRows, rows.size() - b * designBlockRows));
        Eigen::MatrixXd block(static_cast<Eigen::Index>(part.size()),
                              static_cast<Eigen::Index>(design.design().columns().size()));
        design.fill(part, block);
        use(b * designBlockRows, block);
    });
}

} // namespace oxgoad
