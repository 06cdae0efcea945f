#include "estimate/model_text.h"

#include "estimate/linear/robust_errors.h"

#include <algorithm>
#include <cmath>
#include <cstdlib>
#include <limits>
#include <set>
#include <stdexcept>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using nlohmann::json;

namespace {

json vectorJson(const VectorXd& vector) {
    json values = json::array();
    for (const double value : vector)
        values.push_back(numberJson(value));
    return values;
}

json partJson(const TermPart& part) {
    return {{"column", part.column},
            {"power", part.power},
            {"logarithm", part.logarithm},
            {"form", static_cast<int>(part.form)},
            {"count", part.count},
            {"knots", numbersJson(part.knots)},
            {"period", numberJson(part.period)},
            {"order", part.order},
            {"scores", numbersJson(part.scores)}};
}

TermPart partFrom(const json& j) {
    TermPart part;
    part.column = j.at("column").get<std::string>();
    part.power = j.at("power").get<int>();
    part.logarithm = j.at("logarithm").get<bool>();
    const int form = j.at("form").get<int>();
    if (form < 0 || form > static_cast<int>(Form::trend)) damaged("a form that is not known");
    part.form = static_cast<Form>(form);
    part.count = j.at("count").get<int>();
    part.knots = numbersFrom(j.at("knots"));
    part.period = numberFrom(j.at("period"));
    part.order = j.at("order").get<std::vector<std::string>>();
    part.scores = numbersFrom(j.at("scores"));
    return part;
}

json basisJson(const Basis& basis) {
    json out = {{"kind", static_cast<int>(basis.kind)},
                {"power", basis.power},
                {"level", basis.level},
                {"shift", numberJson(basis.shift)},
                {"scale", numberJson(basis.scale)}};
    if (basis.values) out["values"] = numbersJson(*basis.values);
    return out;
}

Basis basisFrom(const json& j) {
    Basis basis;
    const int kind = j.at("kind").get<int>();
    if (kind < 0 || kind > static_cast<int>(Basis::Kind::codes))
        damaged("a kind of function that is not known");
    basis.kind = static_cast<Basis::Kind>(kind);
    basis.power = j.at("power").get<int>();
    basis.level = j.at("level").get<int>();
    basis.shift = numberFrom(j.at("shift"));
    basis.scale = numberFrom(j.at("scale"));
    if (j.contains("values"))
        basis.values = std::make_shared<const std::vector<double>>(numbersFrom(j.at("values")));
    return basis;
}

json pieceJson(const DesignColumn::Piece& piece) {
    return {{"input", piece.input}, {"basis", basisJson(piece.basis)}};
}

DesignColumn::Piece pieceFrom(const json& j) {
    return {j.at("input").get<std::size_t>(), basisFrom(j.at("basis"))};
}

/// Everything that Basis::at and the fillers of columns read without asking must be there.
void requireWhole(const DesignColumn::Piece& piece, const Inputs& inputs) {
    if (piece.input >= inputs.size()) damaged("a column of an input that is not there");
    const Basis& basis = piece.basis;
    const Input& input = inputs[piece.input];
    const std::size_t values = basis.values ? basis.values->size() : 0;
    if (basis.power > 1000 || basis.power < -1000) damaged("a power that cannot be");
    const bool indicator = basis.kind == Basis::Kind::indicator, codes = basis.kind == Basis::Kind::codes;
    if ((indicator || codes) != input.factor)
        damaged("a function of a factor for a number, or one of a number");
    if (indicator && (basis.level < 0 || static_cast<std::size_t>(basis.level) >= input.levels.size()))
        damaged("a level that is not there");
    if (codes && values != input.levels.size()) damaged("codes that are not one a level");
    if (basis.kind == Basis::Kind::spline &&
        (basis.power < 0 || values < 3 || static_cast<std::size_t>(basis.power) + 2 > values))
        damaged("a curve without its knots");
}

} // namespace

json numberJson(double value) {
    if (std::isfinite(value)) return value;
    return std::isnan(value) ? "nan" : value > 0 ? "inf" : "-inf";
}

double numberFrom(const json& j) {
    if (j.is_number()) return j.get<double>();
    const auto& text = j.get_ref<const std::string&>();
    if (text == "nan") return std::numeric_limits<double>::quiet_NaN();
    if (text == "inf") return std::numeric_limits<double>::infinity();
    if (text == "-inf") return -std::numeric_limits<double>::infinity();
    throw std::invalid_argument("number");
}

json numbersJson(const std::vector<double>& values) {
    json out = json::array();
    for (const double value : values)
        out.push_back(numberJson(value));
    return out;
}

std::vector<double> numbersFrom(const json& j) {
    std::vector<double> values;
    for (const auto& value : j)
        values.push_back(numberFrom(value));
    return values;
}

json matrixJson(const MatrixXd& matrix) {
    json values = json::array();
    for (Index j = 0; j < matrix.cols(); ++j)
        for (Index i = 0; i < matrix.rows(); ++i)
            values.push_back(numberJson(matrix(i, j)));
    return {{"rows", matrix.rows()}, {"columns", matrix.cols()}, {"values", std::move(values)}};
}

MatrixXd matrixFrom(const json& j) {
    const auto rows = j.at("rows").get<Index>(), columns = j.at("columns").get<Index>();
    const json& values = j.at("values");
    // Counted before it is made.
    if (rows < 0 || columns < 0 || (columns > 0 && rows > static_cast<Index>(values.size()) / columns) ||
        rows * columns != static_cast<Index>(values.size()))
        damaged("a matrix of another size than its values");
    MatrixXd matrix(rows, columns);
    for (Index c = 0; c < columns; ++c)
        for (Index r = 0; r < rows; ++r)
            matrix(r, c) = numberFrom(values[static_cast<std::size_t>(c * rows + r)]);
    return matrix;
}

VectorXd vectorFrom(const json& j) {
    const std::vector<double> values = numbersFrom(j);
    return Eigen::Map<const VectorXd>(values.data(), static_cast<Index>(values.size()));
}

namespace {

json levelsJson(const TriangularFactor::Levels& levels) {
    json out = {{"places", levels.places}, {"shared", matrixJson(levels.shared)}};
    if (levels.single()) {
        out["lengths"] = vectorJson(levels.own.col(0));
    } else {
        out["firsts"] = levels.firsts;
        out["own"] = matrixJson(levels.own);
    }
    return out;
}

/// Beside so many other columns. Places are checked where it is known what they count.
TriangularFactor::Levels levelsFrom(const json& j, Index rest) {
    auto places = j.at("places").get<std::vector<Index>>();
    MatrixXd shared = matrixFrom(j.at("shared"));
    const auto count = static_cast<Index>(places.size());
    if (shared.rows() != count || shared.cols() != rest) damaged("levels of another size");
    if (j.contains("lengths")) {
        const VectorXd lengths = vectorFrom(j.at("lengths"));
        if (lengths.size() != count) damaged("levels of another size");
        return TriangularFactor::Levels::ofLengths(std::move(places), lengths, std::move(shared));
    }
    TriangularFactor::Levels levels{std::move(places), j.at("firsts").get<std::vector<Index>>(),
                                    matrixFrom(j.at("own")), std::move(shared)};
    if (static_cast<Index>(levels.firsts.size()) != count || levels.own.rows() != count ||
        levels.own.cols() < 1)
        damaged("levels of another size");
    // Each begins its level or goes on with the one before it, none longer than its triangle has room for.
    for (Index d = 0; d < count; ++d)
        if (const Index first = levels.first(d);
            first != d && (d == 0 || first != levels.first(d - 1) || d - first >= levels.own.cols()))
            damaged("levels of another size");
    return levels;
}

json rowsJson(const DirectionRows& rows) {
    if (!rows.apart()) return matrixJson(rows.columns());
    const Index levels = rows.ofLevels().cols();
    if (rows.triangular())
        return {{"factor_levels", levelsJson(rows.factor()->ofLevels())},
                {"triangle", matrixJson(rows.factor()->triangle())}};
    json entries = json::array(); // row, level, value
    for (Index l = 0; l < levels; ++l)
        for (DirectionRows::Sparse::InnerIterator entry(rows.ofLevels(), l); entry; ++entry)
            entries.push_back({entry.row(), l, numberJson(entry.value())});
    return {{"levels", levels}, {"entries", std::move(entries)}, {"rest", matrixJson(rows.rest())}};
}

/// In the directions of a factor of this rank.
DirectionRows rowsFrom(const json& j, Index rank) {
    if (j.contains("values")) return DirectionRows(matrixFrom(j));
    if (j.contains("triangle")) {
        MatrixXd triangle = matrixFrom(j.at("triangle"));
        if (triangle.rows() != triangle.cols()) damaged("a root that is no triangle");
        return {levelsFrom(j.at("factor_levels"), triangle.rows()), std::move(triangle)};
    }
    MatrixXd rest = matrixFrom(j.at("rest"));
    const auto levels = j.at("levels").get<Index>();
    if (levels < 0 || levels > rank) damaged("levels of another size");
    std::vector<Eigen::Triplet<double>> entries;
    for (const auto& one : j.at("entries")) {
        const auto row = one.at(0).get<Index>(), level = one.at(1).get<Index>();
        if (row < 0 || row >= rest.rows() || level < 0 || level >= levels)
            damaged("an entry outside its matrix");
        entries.emplace_back(static_cast<int>(row), static_cast<int>(level), numberFrom(one.at(2)));
    }
    DirectionRows::Sparse ofLevels(rest.rows(), levels);
    ofLevels.setFromTriplets(entries.begin(), entries.end());
    return {std::move(ofLevels), std::move(rest)};
}

/// Rows in the directions of a factor of this rank, so many of which are of levels.
bool hangsTogether(const DirectionRows& rows, Index rank, Index levels) {
    return rows.apart() ? rows.rank() == rank && rows.ofLevels().cols() == levels
                        : rows.rank() == rank || rows.rows() == 0;
}

} // namespace

json inputsJson(const Inputs& inputs) {
    json out = json::array();
    for (const Input& input : inputs)
        out.push_back({{"name", input.name},
                       {"factor", input.factor},
                       {"levels", input.levels},
                       {"reference", input.referenceLevel},
                       {"date", input.date},
                       {"years", input.years}});
    return out;
}

Inputs inputsFrom(const json& j) {
    Inputs inputs;
    for (const auto& one : j) {
        Input input;
        input.name = one.at("name").get<std::string>();
        input.factor = one.at("factor").get<bool>();
        input.levels = one.at("levels").get<std::vector<std::string>>();
        input.referenceLevel = one.at("reference").get<std::size_t>();
        input.date = one.at("date").get<bool>();
        input.years = one.at("years").get<bool>();
        if (input.factor && input.referenceLevel >= input.levels.size())
            damaged("a reference level that is not there");
        inputs.push_back(std::move(input));
    }
    std::set<std::string_view> names;
    for (const Input& input : inputs) {
        if (!names.insert(input.name).second) damaged("an input that is there twice");
        if (std::set<std::string_view>(input.levels.begin(), input.levels.end()).size() !=
            input.levels.size())
            damaged("a level that is there twice");
    }
    return inputs;
}

json designJson(const Design& design) {
    json out = {{"inputs", inputsJson(design.inputs())},
                {"terms", json::array()},
                {"columns", json::array()},
                {"guards", json::array()}};
    for (const Term& term : design.terms()) {
        json parts = json::array();
        for (const TermPart& part : term.parts)
            parts.push_back(partJson(part));
        out["terms"].push_back(std::move(parts));
    }
    for (const DesignColumn& column : design.columns()) {
        json pieces = json::array();
        for (const auto& piece : column.pieces)
            pieces.push_back(pieceJson(piece));
        out["columns"].push_back(
            {{"name", column.name}, {"term", column.term}, {"pieces", std::move(pieces)}});
    }
    for (const Design::Guard& guard : design.guards())
        out["guards"].push_back({{"name", guard.name}, {"piece", pieceJson(guard.piece)}});
    return out;
}

namespace {

/// Columns go term by term, each with a function of every part of its term and nothing else. Inputs that no
/// column reads may stand beside: a time and its series, or those of the other part of a model of two.
void requireWhole(const Design& design) {
    const auto& terms = design.terms();
    for (std::size_t j = 0; j < design.columns().size(); ++j) {
        const DesignColumn& column = design.columns()[j];
        const std::size_t before = j == 0 ? 0 : design.columns()[j - 1].term;
        if (column.term >= terms.size() || column.term < before) damaged("a column of another term");
        const auto& parts = terms[column.term].parts;
        if (column.pieces.size() != parts.size() || parts.empty()) damaged("a column without its parts");
        for (std::size_t k = 0; k < parts.size(); ++k) {
            requireWhole(column.pieces[k], design.inputs());
            if (design.inputs()[column.pieces[k].input].name != parts[k].column)
                damaged("a column of another input than its term");
        }
    }
    for (const Design::Guard& guard : design.guards())
        requireWhole(guard.piece, design.inputs());
}

} // namespace

Design designFrom(const json& j) {
    Inputs inputs = inputsFrom(j.at("inputs"));
    std::vector<Term> terms;
    for (const auto& parts : j.at("terms")) {
        Term term;
        for (const auto& part : parts)
            term.parts.push_back(partFrom(part));
        terms.push_back(std::move(term));
    }
    std::vector<DesignColumn> columns;
    for (const auto& one : j.at("columns")) {
        DesignColumn column{one.at("name").get<std::string>(), one.at("term").get<std::size_t>(), {}};
        for (const auto& piece : one.at("pieces"))
            column.pieces.push_back(pieceFrom(piece));
        columns.push_back(std::move(column));
    }
    std::vector<Design::Guard> guards;
    for (const auto& one : j.at("guards"))
        guards.push_back({pieceFrom(one.at("piece")), one.at("name").get<std::string>()});
    return Design::of(std::move(inputs), std::move(terms), std::move(columns), std::move(guards),
                      [](const Design& design) { requireWhole(design); });
}

json fitJson(const LeastSquaresFit& fit) {
    json dependent = json::array();
    for (const Dependency& one : fit.dependent) {
        json combination = json::array();
        for (const auto& [column, weight] : one.combination)
            combination.push_back({column, numberJson(weight)});
        dependent.push_back(
            {{"column", one.column}, {"constant", numberJson(one.constant)}, {"combination", combination}});
    }
    json out = {{"rows", fit.rows},
                {"columns", fit.columns},
                {"intercept", fit.intercept},
                {"kept", fit.kept},
                {"dependent", dependent},
                {"rank_tolerance", numberJson(fit.rankToleranceUsed)},
                {"coefficients", vectorJson(fit.coefficients)},
                {"standard_errors", vectorJson(fit.standardErrors)},
                {"constant", numberJson(fit.constant)},
                {"constant_error", numberJson(fit.constantError)},
                {"residual_sum_of_squares", numberJson(fit.residualSumOfSquares)},
                {"total_sum_of_squares", numberJson(fit.totalSumOfSquares)},
                {"degrees_of_freedom", numberJson(fit.degreesOfFreedom)},
                {"residual_standard_deviation", numberJson(fit.residualStandardDeviation)},
                {"condition_number", numberJson(fit.conditionNumber)},
                {"digits_left", numberJson(fit.digitsLeft)},
                {"response_digits_left", numberJson(fit.responseDigitsLeft)},
                {"from_orthogonal", numberJson(fit.fromOrthogonal)},
                {"worked_out_anew", fit.workedOutAnew},
                {"fits_exactly", fit.fitsExactly},
                {"exact", fit.exact},
                {"rows_fixed", fit.rowsFixed},
                {"unseen", rowsJson(fit.unseen)},
                {"undefined_there", fit.undefinedThere},
                {"factor", matrixJson(fit.factor.triangle())},
                {"inverse", matrixJson(fit.factor.inverse())},
                {"projections", vectorJson(fit.projections)},
                {"shift", vectorJson(fit.shift)},
                {"scale", vectorJson(fit.scale)},
                {"response_shift", numberJson(fit.responseShift)},
                {"response_scale", numberJson(fit.responseScale)}};
    if (fit.factor.levels() > 0) out["factor_levels"] = levelsJson(fit.factor.ofLevels());
    if (fit.covarianceRoot) out["covariance_root"] = rowsJson(*fit.covarianceRoot);
    if (fit.covarianceDegreesOfFreedom)
        out["covariance_degrees_of_freedom"] = numberJson(*fit.covarianceDegreesOfFreedom);
    if (fit.fewGroups) {
        json groups = json::array();
        for (std::size_t g = 0; g < fit.fewGroups->products().size(); ++g)
            groups.push_back({matrixJson(fit.fewGroups->products()[g]), matrixJson(fit.fewGroups->own()[g])});
        out["few_groups"] = std::move(groups);
    }
    return out;
}

LeastSquaresFit fitFrom(const json& j) {
    LeastSquaresFit fit;
    fit.rows = j.at("rows").get<Index>();
    fit.columns = j.at("columns").get<Index>();
    fit.intercept = j.at("intercept").get<bool>();
    fit.kept = j.at("kept").get<std::vector<std::size_t>>();
    for (const auto& one : j.at("dependent")) {
        Dependency dependency{one.at("column").get<std::size_t>(), numberFrom(one.at("constant")), {}};
        for (const auto& pair : one.at("combination"))
            dependency.combination.emplace_back(pair.at(0).get<std::size_t>(), numberFrom(pair.at(1)));
        fit.dependent.push_back(std::move(dependency));
    }
    fit.rankToleranceUsed = numberFrom(j.at("rank_tolerance"));
    fit.coefficients = vectorFrom(j.at("coefficients"));
    fit.standardErrors = vectorFrom(j.at("standard_errors"));
    fit.constant = numberFrom(j.at("constant"));
    fit.constantError = numberFrom(j.at("constant_error"));
    fit.residualSumOfSquares = numberFrom(j.at("residual_sum_of_squares"));
    fit.totalSumOfSquares = numberFrom(j.at("total_sum_of_squares"));
    fit.degreesOfFreedom = numberFrom(j.at("degrees_of_freedom"));
    fit.residualStandardDeviation = numberFrom(j.at("residual_standard_deviation"));
    fit.conditionNumber = numberFrom(j.at("condition_number"));
    fit.digitsLeft = numberFrom(j.at("digits_left"));
    fit.responseDigitsLeft = numberFrom(j.at("response_digits_left"));
    fit.fromOrthogonal = numberFrom(j.value("from_orthogonal", json(0.0)));
    fit.workedOutAnew = j.value("worked_out_anew", false);
    fit.fitsExactly = j.at("fits_exactly").get<bool>();
    fit.exact = j.at("exact").get<bool>();
    fit.rowsFixed = j.at("rows_fixed").get<std::size_t>();
    fit.unseen = rowsFrom(j.at("unseen"), fit.rank());
    fit.undefinedThere = j.at("undefined_there").get<bool>();
    MatrixXd triangle = matrixFrom(j.at("factor")), inverse = matrixFrom(j.at("inverse"));
    fit.projections = vectorFrom(j.at("projections"));
    fit.shift = vectorFrom(j.at("shift"));
    fit.scale = vectorFrom(j.at("scale"));
    fit.responseShift = numberFrom(j.at("response_shift"));
    fit.responseScale = numberFrom(j.at("response_scale"));
    if (j.contains("covariance_root")) fit.covarianceRoot = rowsFrom(j.at("covariance_root"), fit.rank());
    if (j.contains("covariance_degrees_of_freedom"))
        fit.covarianceDegreesOfFreedom = numberFrom(j.at("covariance_degrees_of_freedom"));
    if (j.contains("few_groups")) {
        std::vector<MatrixXd> products, own;
        for (const auto& group : j.at("few_groups")) {
            products.push_back(matrixFrom(group.at(0)));
            own.push_back(matrixFrom(group.at(1)));
        }
        fit.fewGroups = fewGroupsOf(std::move(products), std::move(own));
    }
    // What the parts are read with must hang together: nothing below looks at sizes again.
    const Index rank = fit.rank();
    const auto isColumn = [&](std::size_t column) { return column < static_cast<std::size_t>(fit.columns); };
    if (fit.columns < 0 || fit.rows < rank || fit.coefficients.size() != fit.columns ||
        static_cast<Index>(fit.kept.size() + fit.dependent.size()) > fit.columns)
        damaged("other coefficients than columns");
    for (std::size_t k = 0; k < fit.kept.size(); ++k)
        if (!isColumn(fit.kept[k]) || (k > 0 && fit.kept[k] <= fit.kept[k - 1]))
            damaged("a column kept that is not there");
    for (const Dependency& dependency : fit.dependent) {
        if (!isColumn(dependency.column) ||
            std::binary_search(fit.kept.begin(), fit.kept.end(), dependency.column))
            damaged("a dependent column that is not there");
        for (const auto& [other, weight] : dependency.combination)
            if (!isColumn(other)) damaged("a column that depends on one that is not there");
    }
    if (!(fit.degreesOfFreedom >= 0 && fit.degreesOfFreedom <= static_cast<double>(fit.rows)))
        damaged("more degrees of freedom than rows");
    const auto is = [](const MatrixXd& m, Index rows, Index columns) {
        return m.rows() == rows && m.cols() == columns;
    };
    TriangularFactor::Levels levels;
    if (j.contains("factor_levels")) {
        levels = levelsFrom(j.at("factor_levels"), triangle.rows());
        std::vector<char> there(static_cast<std::size_t>(std::max<Index>(rank, 0)), 0);
        for (const Index place : levels.places) {
            if (place < (fit.intercept ? 1 : 0) || place >= rank || there[static_cast<std::size_t>(place)])
                damaged("a place that is not there or twice");
            there[static_cast<std::size_t>(place)] = 1;
        }
    }
    const auto apart = static_cast<Index>(levels.places.size());
    if (fit.coefficients.size() != fit.columns || fit.standardErrors.size() != fit.columns ||
        fit.shift.size() != fit.columns || fit.scale.size() != fit.columns ||
        fit.projections.size() != rank || !is(triangle, rank - apart, rank - apart) ||
        !is(inverse, rank - apart, rank - apart) || !hangsTogether(fit.unseen, rank, apart) ||
        (fit.covarianceRoot &&
         (fit.covarianceRoot->rank() != rank || !hangsTogether(*fit.covarianceRoot, rank, apart))))
        damaged("a factor of another size than its columns");
    if (fit.fewGroups)
        for (std::size_t g = 0; g < fit.fewGroups->products().size(); ++g)
            if (!is(fit.fewGroups->products()[g], rank, rank) || !is(fit.fewGroups->own()[g], rank, rank))
                damaged("groups of another size than the columns");
    fit.factor = apart > 0 ? TriangularFactor(std::move(levels), std::move(triangle), std::move(inverse))
                           : TriangularFactor(std::move(triangle), std::move(inverse));
    return fit;
}

} // namespace oxgoad
