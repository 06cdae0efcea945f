#include "design/design.h"

#include "base/error.h"
#include "base/text.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

constexpr std::int32_t unseenLevel = -2;

/// A model matrix wider than this is a mistake: mostly a factor of names or numbers.
constexpr std::size_t mostColumns = 5000;

/// Whether all values that are learned from are whole numbers that can be years.
bool holdsYears(const Column& column, std::span<const std::uint32_t> rows) {
    if (column.kind() != ColumnKind::number) return false;
    const auto values = column.numbers();
    return !rows.empty() && std::all_of(rows.begin(), rows.end(), [&](std::uint32_t row) {
        return values[row] == std::floor(values[row]) && areYears(values[row], values[row]);
    });
}

DesignInput learnInput(const Column& column, std::span<const std::uint32_t> rows,
                       const std::map<std::string, std::string>& references, const std::string& file) {
    DesignInput input;
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

void requireSensible(const std::vector<Term>& terms) {
    for (std::size_t i = 0; i < terms.size(); ++i) {
        if (terms[i].parts.empty())
            throw Error(ErrorCode::badTerm, "term " + std::to_string(i + 1) + " is empty", {},
                        "Name its columns.");
        for (const TermPart& part : terms[i].parts)
            if (part.power == 0 || std::abs(part.power) > 30)
                throw Error(ErrorCode::badTerm, "the power " + std::to_string(part.power) + " cannot be used",
                            {.column = part.column}, "Powers go from −30 to 30, without 0.");
        for (std::size_t a = 0; a < terms[i].parts.size(); ++a)
            for (std::size_t b = 0; b < a; ++b)
                if (terms[i].parts[a] == terms[i].parts[b])
                    throw Error(ErrorCode::badTerm,
                                termName(terms[i]) + " is a product of " + partName(terms[i].parts[a]) +
                                    " with itself",
                                {.column = terms[i].parts[a].column},
                                "For a bend of a number use its square or a curve; a factor needs no product "
                                "with itself.");
        for (std::size_t j = 0; j < i; ++j)
            if (terms[i] == terms[j])
                throw Error(ErrorCode::badTerm, "the term " + termName(terms[i]) + " is there twice", {},
                            "Take one of them out.");
    }
}

/// The values a part's means, scales or knots are learned from; none where it learns nothing.
std::vector<double> valuesFor(const TermPart& part, const Column& column,
                              std::span<const std::uint32_t> rows) {
    std::vector<double> values;
    if (part.form != Form::centred && part.form != Form::standardised && part.form != Form::pieces &&
        part.form != Form::spline)
        return values;
    values.reserve(rows.size());
    for (const auto row : rows)
        values.push_back(column.asNumber(row));
    return values;
}

[[noreturn]] void tooWide(const Term& term, std::size_t columns, const std::string& file) {
    throw Error(ErrorCode::badTerm,
                termName(term) + " would make " + plural(columns, "column", "columns") +
                    " of the model matrix",
                {.file = file, .column = term.parts[0].column},
                "At most " + countText(mostColumns) +
                    " can be fitted. Lump its rare levels into one, read it as a number, or take it out.");
}

} // namespace

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
            const auto functions =
                input.factor ? learnFactorBasis(part, input.levels, input.referenceLevel, file)
                             : learnNumberBasis(part, table.at(part.column, file).kind(),
                                                valuesFor(part, table.at(part.column, file), rows), file);
            for (const NamedBasis& function : functions)
                if (function.basis.canFail())
                    design.m_guards.push_back({{index, function.basis}, function.name});
            if (columns.size() * functions.size() + design.m_columns.size() > mostColumns)
                tooWide(terms[t], columns.size() * functions.size(), file);
            std::vector<DesignColumn> products;
            products.reserve(columns.size() * functions.size());
            for (const DesignColumn& before : columns)
                for (const auto& [name, basis] : functions) {
                    DesignColumn column = before;
                    const bool wrap = part.form == Form::centred && terms[t].parts.size() > 1;
                    column.name += (column.name.empty() ? "" : " × ") + (wrap ? "(" + name + ")" : name);
                    column.pieces.push_back({index, basis});
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
    return std::all_of(m_design->guards().begin(), m_design->guards().end(), [&](const Design::Guard& guard) {
        return std::isfinite(guard.piece.basis.at(inputValue(guard.piece.input, row)));
    });
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
    for (const Design::Guard& guard : m_design->guards()) {
        const double value = inputValue(guard.piece.input, row);
        if (!std::isnan(value) && !std::isfinite(guard.piece.basis.at(value)))
            found.push_back(guard.name + " is not defined at " + readableText(value, 6));
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
            const Basis& basis = piece.basis;
            auto put = [&](auto valueAt) {
                if (first)
                    for (std::size_t i = 0; i < n; ++i)
                        out[i] = valueAt(rows[i]);
                else
                    for (std::size_t i = 0; i < n; ++i)
                        out[i] *= valueAt(rows[i]);
            };
            if (!source.levelOfCode.empty()) {
                // A factor: what each of the table's codes is worth, looked up.
                const auto codes = source.column->codes();
                std::vector<double> worth;
                worth.reserve(source.levelOfCode.size());
                for (const auto level : source.levelOfCode)
                    worth.push_back(level == unseenLevel ? 0 : basis.at(level));
                put([&](std::uint32_t r) { return worth[static_cast<std::size_t>(codes[r])]; });
            } else if (source.column->kind() == ColumnKind::number) {
                const auto numbers = source.column->numbers();
                if (basis.isPlain())
                    put([&](std::uint32_t r) { return numbers[r]; });
                else
                    put([&](std::uint32_t r) { return basis.at(numbers[r]); });
            } else {
                const auto days = source.column->days();
                put([&](std::uint32_t r) { return basis.at(days[r]); });
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
        const auto isNumber = [&](const DesignColumn::Piece& piece) {
            return !m_design->inputs()[piece.input].factor;
        };
        const auto inDoubles = [&](const DesignColumn::Piece& piece) {
            return piece.basis.isPlain() || piece.basis.kind == Basis::Kind::indicator ||
                   piece.basis.kind == Basis::Kind::codes;
        };
        const auto numbers = std::count_if(pieces.begin(), pieces.end(), isNumber);
        if (numbers <= 1 && std::all_of(pieces.begin(), pieces.end(), inDoubles)) continue;
        for (std::size_t i = 0; i < rows.size(); ++i) {
            DoubleDouble product(1);
            for (const auto& piece : pieces)
                product = product * piece.basis.exactly(inputValue(piece.input, rows[i]));
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

std::string DesignInput::valueText(double value) const {
    if (std::isnan(value)) return {};
    if (factor) {
        const auto level = static_cast<std::size_t>(value);
        return value >= 0 && level < levels.size() ? levels[level] : std::string();
    }
    if (date) return dateText(static_cast<std::int32_t>(value));
    std::string text = readableText(value);
    if (years) std::erase(text, ','); // 1970, not 1,970
    return text;
}

} // namespace oxgoad
