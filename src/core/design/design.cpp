#include "design/design.h"

#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <cmath>
#include <numeric>
#include <string_view>
#include <unordered_set>

namespace oxgoad {

namespace {

/// A model matrix wider than this is a mistake: mostly a factor of names or numbers. One factor may make
/// more, as its levels can be eliminated one by one.
constexpr std::size_t mostColumns = 5000, mostLevels = 50000, mostInAll = 2 * mostLevels;

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
bool learnsFromRows(const TermPart& part) {
    return part.form == Form::centred || part.form == Form::standardised || part.form == Form::pieces ||
           part.form == Form::spline;
}

std::vector<double> valuesFor(const TermPart& part, const BoundInputs& inputs, std::size_t input,
                              std::span<const std::uint32_t> rows) {
    std::vector<double> values;
    if (!learnsFromRows(part)) return values;
    values.reserve(rows.size());
    for (const auto row : rows)
        values.push_back(inputs.value(input, row));
    return values;
}

[[noreturn]] void tooWide(const Term& term, std::size_t columns, const std::string& file) {
    throw Error(
        ErrorCode::badTerm,
        termName(term) + " would make " + plural(columns, "column", "columns") + " of the model matrix",
        {.file = file, .column = term.parts[0].column},
        "At most " + countText(mostLevels) + " levels of one factor, " + countText(mostInAll) +
            " columns with their products, and " + countText(mostColumns) +
            " columns beside these can be fitted. Lump its rare levels into one, read it as a number, or "
            "take it out.");
}

} // namespace

std::vector<std::string> inputNames(const std::vector<Term>& terms) {
    std::vector<std::string> names;
    std::unordered_set<std::string_view> known;
    for (const Term& term : terms)
        for (const TermPart& part : term.parts)
            if (known.insert(part.column).second) names.push_back(part.column);
    return names;
}

Design Design::learn(const Table& table, std::span<const std::uint32_t> rows, const std::vector<Term>& terms,
                     const std::map<std::string, std::string>& references, const std::string& file,
                     const Progress& progress) {
    requireSensible(terms);
    const Inputs inputs = learnInputs(table, rows, inputNames(terms), references, file, progress);
    return learn(BoundInputs(inputs, table, file), rows, terms, file, {}, progress);
}

Design Design::of(Inputs inputs, std::vector<Term> terms, std::vector<DesignColumn> columns,
                  std::vector<Guard> guards, const std::function<void(const Design&)>& requireWhole) {
    Design design;
    design.m_inputs = std::move(inputs);
    design.m_terms = std::move(terms);
    design.m_columns = std::move(columns);
    design.m_guards = std::move(guards);
    requireWhole(design);
    design.findLevelColumns();
    return design;
}

void requireOneMatrix(const Design& design, const std::string& what, const std::string& file) {
    if (design.columns().size() <= mostColumns) return;
    throw Error(ErrorCode::badTerm,
                what + " has no room for " + plural(design.columns().size(), "column", "columns") +
                    " of the model matrix",
                {.file = file},
                "Take least squares, which eliminates the levels of one factor one by one, lump rare levels "
                "into one, or take terms out.");
}

Design Design::learn(const BoundInputs& inputs, std::span<const std::uint32_t> rows,
                     const std::vector<Term>& terms, const std::string& file,
                     std::span<const std::uint8_t> notSelected, const Progress& progress) {
    requireSensible(terms);
    Design design;
    design.m_terms = terms;
    design.m_inputs = inputs.inputs();
    // Columns of the levels of each factor so far, alone and in products: those of one factor are eliminated.
    std::vector<std::size_t> ofFactor(design.m_inputs.size(), 0);
    // Learned of the rows once, however many products have them.
    std::vector<std::pair<TermPart, std::vector<NamedBasis>>> known;
    const auto numbers = [&](const TermPart& part, std::size_t index) {
        const ColumnKind kind = design.m_inputs[index].date ? ColumnKind::date : ColumnKind::number;
        const auto values = [&] { return valuesFor(part, inputs, index, rows); };
        if (!learnsFromRows(part)) return learnNumberBasis(part, kind, values(), file);
        for (const auto& [before, functions] : known)
            if (before == part) return functions;
        known.emplace_back(part, learnNumberBasis(part, kind, values(), file));
        return known.back().second;
    };
    for (std::size_t t = 0; t < terms.size(); ++t) {
        if (!notSelected.empty() && notSelected[t] != 0) continue;
        stopIfTold(progress);
        std::vector<DesignColumn> columns{DesignColumn{{}, t, {}}};
        for (const TermPart& part : terms[t].parts) {
            const std::size_t index = findInput(design.m_inputs, part.column).value();
            const Input& input = design.m_inputs[index];
            const auto functions = input.factor
                                       ? learnFactorBasis(part, input.levels, input.referenceLevel, file)
                                       : numbers(part, index);
            for (const NamedBasis& function : functions)
                if (function.basis.canFail())
                    design.m_guards.push_back({{index, function.basis}, function.name});
            const std::size_t made = columns.size() * functions.size();
            if (made > mostInAll || functions.size() > mostLevels) tooWide(terms[t], made, file);
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
        for (std::size_t i = 0; i < ofFactor.size(); ++i)
            ofFactor[i] += static_cast<std::size_t>(
                std::count_if(columns.begin(), columns.end(), [&](const DesignColumn& column) {
                    return std::any_of(column.pieces.begin(), column.pieces.end(), [&](const auto& piece) {
                        return piece.input == i && piece.basis.kind == Basis::Kind::indicator;
                    });
                }));
        design.m_columns.insert(design.m_columns.end(), columns.begin(), columns.end());
        const std::size_t most = ofFactor.empty() ? 0 : *std::max_element(ofFactor.begin(), ofFactor.end());
        if (design.m_columns.size() - most > mostColumns || design.m_columns.size() > mostInAll)
            tooWide(terms[t], columns.size(), file);
    }
    design.findLevelColumns();
    if (const std::size_t beside = design.m_levelColumns ? design.m_levelColumns->rest.size() : 0;
        beside > mostColumns)
        tooWide(terms.back(), beside, file);
    return design;
}

bool BoundDesign::complete(std::size_t row) const {
    if (!m_inputs.complete(row)) return false;
    return std::all_of(m_design->guards().begin(), m_design->guards().end(), [&](const Design::Guard& guard) {
        return std::isfinite(guard.piece.basis.at(inputValue(guard.piece.input, row)));
    });
}

std::vector<std::string> BoundDesign::problems(std::size_t row) const {
    std::vector<std::string> found = m_inputs.problems(row);
    for (const Design::Guard& guard : m_design->guards()) {
        const double value = inputValue(guard.piece.input, row);
        if (!std::isnan(value) && !std::isfinite(guard.piece.basis.at(value)))
            found.push_back(guard.name + " is not defined at " + readableText(value, 6));
    }
    return found;
}

namespace {

/// Columns from `begin` on that are 1 at one level each of the same input and 0 elsewhere; the end of them.
std::size_t endOfIndicators(const Design& design, std::size_t begin) {
    const auto& columns = design.columns();
    const auto isOne = [&](std::size_t j) {
        return columns[j].pieces.size() == 1 && columns[j].pieces[0].basis.kind == Basis::Kind::indicator &&
               columns[j].pieces[0].input == columns[begin].pieces[0].input &&
               design.inputs()[columns[j].pieces[0].input].factor;
    };
    std::size_t end = begin;
    while (end < columns.size() && isOne(end))
        ++end;
    return end;
}

/// Writes them at levels of their input, into columns of the block from `first` on: most of each is 0.
void fillIndicators(const Design& design, std::size_t begin, std::size_t end, const double* levels,
                    Eigen::Ref<Eigen::MatrixXd> block, Eigen::Index first) {
    const Input& input = design.inputs()[design.columns()[begin].pieces[0].input];
    constexpr Eigen::Index none = -1;
    std::vector<Eigen::Index> columnOf(input.levels.size(), none);
    for (std::size_t j = begin; j < end; ++j)
        columnOf[static_cast<std::size_t>(design.columns()[j].pieces[0].basis.level)] =
            first + static_cast<Eigen::Index>(j - begin);
    auto own = block.middleCols(first, static_cast<Eigen::Index>(end - begin));
    own.setZero();
    for (Eigen::Index i = 0; i < block.rows(); ++i) {
        if (std::isnan(levels[i]))
            own.row(i).setConstant(levels[i]);
        else if (const Eigen::Index j = columnOf[static_cast<std::size_t>(levels[i])]; j != none)
            block(i, j) = 1;
    }
}

} // namespace

void BoundDesign::fill(std::span<const std::uint32_t> rows, Eigen::Ref<Eigen::MatrixXd> block) const {
    std::vector<Eigen::Index> all(m_design->columns().size());
    std::iota(all.begin(), all.end(), Eigen::Index{0});
    fillColumns(rows, all, block);
}

void BoundDesign::fillColumns(std::span<const std::uint32_t> rows, std::span<const Eigen::Index> chosen,
                              Eigen::Ref<Eigen::MatrixXd> block) const {
    const auto& columns = m_design->columns();
    // Columns that are an input as it is come straight from the table; inputs of others are laid out first,
    // once.
    Eigen::MatrixXd inputs;
    std::vector<char> there(m_design->inputs().size(), 0);
    for (std::size_t k = 0; k < chosen.size(); ++k) {
        const auto j = static_cast<std::size_t>(chosen[k]);
        const auto first = static_cast<Eigen::Index>(k);
        double* out = block.col(first).data();
        const auto& pieces = columns[j].pieces;
        if (pieces.size() == 1 && pieces[0].basis.isPlain() && !m_design->inputs()[pieces[0].input].factor) {
            m_inputs.fillOne(pieces[0].input, rows, out);
            continue;
        }
        if (inputs.size() == 0) inputs.resize(block.rows(), static_cast<Eigen::Index>(there.size()));
        for (const auto& piece : pieces) {
            if (there[piece.input]) continue;
            there[piece.input] = 1;
            m_inputs.fillOne(piece.input, rows, inputs.col(static_cast<Eigen::Index>(piece.input)).data());
        }
        std::size_t end = endOfIndicators(*m_design, j);
        while (end > j && (k + (end - j) > chosen.size() ||
                           chosen[k + (end - j) - 1] != static_cast<Eigen::Index>(end - 1)))
            --end; // those that are chosen without a gap
        if (end > j) {
            fillIndicators(*m_design, j, end, inputs.col(static_cast<Eigen::Index>(pieces[0].input)).data(),
                           block, first);
            k += end - j - 1;
            continue;
        }
        m_design->fillColumn(j, inputs, out);
    }
}

void Design::fill(const Eigen::MatrixXd& inputs, Eigen::Ref<Eigen::MatrixXd> block) const {
    for (std::size_t j = 0; j < m_columns.size(); ++j) {
        if (const std::size_t end = endOfIndicators(*this, j); end > j) {
            const auto input = static_cast<Eigen::Index>(m_columns[j].pieces[0].input);
            fillIndicators(*this, j, end, inputs.col(input).data(), block, static_cast<Eigen::Index>(j));
            j = end - 1;
            continue;
        }
        fillColumn(j, inputs, block.col(static_cast<Eigen::Index>(j)).data());
    }
}

void Design::fillColumn(std::size_t column, const Eigen::MatrixXd& inputs, double* out) const {
    const Eigen::Index n = inputs.rows();
    bool first = true;
    if (m_columns[column].pieces.empty()) std::fill(out, out + n, 1.0);
    for (const auto& piece : m_columns[column].pieces) {
        const double* in = inputs.col(static_cast<Eigen::Index>(piece.input)).data();
        const Basis& basis = piece.basis;
        auto put = [&](auto valueAt) {
            if (first)
                for (Eigen::Index i = 0; i < n; ++i)
                    out[i] = valueAt(in[i]);
            else
                for (Eigen::Index i = 0; i < n; ++i)
                    out[i] *= valueAt(in[i]);
        };
        if (m_inputs[piece.input].factor) {
            // What each level is worth, looked up.
            std::vector<double> worth;
            for (std::size_t level = 0; level < m_inputs[piece.input].levels.size(); ++level)
                worth.push_back(basis.at(static_cast<double>(level)));
            put([&](double level) {
                return std::isnan(level) ? level : worth[static_cast<std::size_t>(level)];
            });
        } else if (basis.isPlain()) {
            put([](double value) { return value; });
        } else {
            put([&](double value) { return basis.at(value); });
        }
        first = false;
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
    forEachRowBlock(rows, threads, progress, [&](std::size_t first, std::span<const std::uint32_t> part) {
        Eigen::MatrixXd block(static_cast<Eigen::Index>(part.size()),
                              static_cast<Eigen::Index>(design.design().columns().size()));
        design.fill(part, block);
        use(first, block);
    });
}

} // namespace oxgoad
