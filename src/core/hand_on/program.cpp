#include "hand_on/program.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/boosted/boosted.h"
#include "estimate/decompositions.h"
#include "estimate/distributions.h"
#include "estimate/forest/forest.h"
#include "estimate/formula/formula.h"
#include "estimate/linear/linear_model.h"
#include "estimate/model_kind.h"
#include "estimate/neighbours/neighbours.h"
#include "estimate/network/network.h"
#include "estimate/ordered/ordered.h"
#include "estimate/tree/tree.h"
#include "estimate/two_parts/two_parts.h"
#include "hand_on/say.h"
#include "hand_on/translate.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>
#include <map>
#include <numbers>

namespace oxgoad {

using namespace scoring;
using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;
using Op = ScoreNode::Op;

std::size_t Program::place(const std::string& source) const {
    for (std::size_t i = 0; i < sources.size(); ++i)
        if (sources[i].name == source) return i;
    return sources.size();
}

namespace {

[[noreturn]] void cannot(const std::string& what, const std::string& remedy) {
    throw Error(ErrorCode::badTerm, what, {}, remedy);
}

/// Leaves out assignments and columns that nothing asks for.
class Pruner {
public:
    explicit Pruner(Program& program) : m_program(program) {}

    void run() {
        m_step.assign(m_program.steps.size(), unused);
        m_source.assign(m_program.sources.size(), unused);
        for (const Said* said : {&m_program.prediction, &m_program.lower, &m_program.upper})
            if (*said) mark(**said);
        for (const Program::Reason& reason : m_program.reasons)
            mark(*reason.holds);
        for (std::size_t k = m_step.size(); k-- > 0;)
            if (m_step[k] != unused) mark(*m_program.steps[k].value);
        std::vector<Program::Step> steps;
        for (std::size_t k = 0; k < m_step.size(); ++k)
            if (m_step[k] != unused) {
                m_step[k] = steps.size();
                steps.push_back(m_program.steps[k]);
            }
        std::vector<Program::Source> sources;
        for (std::size_t k = 0; k < m_source.size(); ++k)
            if (m_source[k] != unused) {
                m_source[k] = sources.size();
                sources.push_back(m_program.sources[k]);
            }
        for (Program::Step& step : steps)
            step.value = renumbered(step.value);
        for (Said* said : {&m_program.prediction, &m_program.lower, &m_program.upper})
            if (*said) *said = renumbered(*said);
        for (Program::Reason& reason : m_program.reasons)
            reason.holds = renumbered(reason.holds);
        m_program.steps = std::move(steps);
        m_program.sources = std::move(sources);
    }

private:
    static constexpr std::size_t unused = SIZE_MAX;
    void mark(const ScoreNode& node) {
        if (node.op == Op::variable) m_step[node.index] = 0;
        if (node.op == Op::source) m_source[node.index] = 0;
        for (const Said& part : node.of)
            mark(*part);
    }
    Said renumbered(const Said& said) const {
        ScoreNode copy = *said;
        if (copy.op == Op::variable) copy.index = m_step[copy.index];
        if (copy.op == Op::source) copy.index = m_source[copy.index];
        for (Said& part : copy.of)
            part = renumbered(part);
        return node(std::move(copy));
    }
    Program& m_program;
    std::vector<std::size_t> m_step, m_source;
};

class ProgramBuilder {
public:
    ProgramBuilder(const Study& study, std::span<const Column> raw, double level, std::size_t mostIn)
        : m_study(study), m_mostIn(mostIn) {
        m_program.response = study.recipe.response;
        m_program.level = level;
        m_program.sentence = kindOf(study.settings).sentence(study.settings);
        if (const auto unit = study.recipe.units.find(study.recipe.response);
            unit != study.recipe.units.end())
            m_program.unit = unit->second;
        for (const Column& column : raw)
            m_columns.declare(column);
    }

    Program run() {
        for (std::size_t i = 0; i < m_study.recipe.steps.size(); ++i)
            if (m_study.recipe.steps[i].on && i < m_study.steps.size() && m_study.steps[i].done)
                m_columns.run(m_study.recipe.steps[i], m_study.steps[i]);
        takeInputs();
        const LinearModel* linear = m_study.linear();
        if (linear && linear->serial)
            cannot("What the errors of rows before leave cannot be said by the row alone", keptInstead);
        if (linear)
            sayLinear(*linear);
        else if (const auto* tree = dynamic_cast<const TreeModel*>(m_study.model.get()))
            sayTree(*tree);
        else if (const auto* ordered = dynamic_cast<const OrderedModel*>(m_study.model.get()))
            sayOrdered(*ordered);
        else if (const auto* parts = dynamic_cast<const TwoPartsModel*>(m_study.model.get()))
            sayTwoParts(*parts);
        else if (const auto* forest = dynamic_cast<const ForestModel*>(m_study.model.get()))
            sayForest(*forest);
        else if (const auto* boosted = dynamic_cast<const BoostedModel*>(m_study.model.get()))
            sayBoosted(*boosted);
        else if (const auto* network = dynamic_cast<const NetworkModel*>(m_study.model.get()))
            sayNetwork(*network);
        else if (const auto* formula = dynamic_cast<const FormulaModel*>(m_study.model.get()))
            sayFormula(*formula);
        else
            cannot(kindOf(m_study.settings).title +
                       (dynamic_cast<const NeighboursModel*>(m_study.model.get())
                            ? " keeps the rows themselves, which this format cannot hold"
                            : " cannot be written out in this format"),
                   keptInstead);
        return finished();
    }

private:
    Said keep(std::string says, Said value) { return m_columns.keep(std::move(says), std::move(value)); }

    /// A sum, by steps of some terms where it has many: formulas of workbooks are only so long.
    Said summed(const std::string& says, const std::vector<Said>& parts) {
        constexpr std::size_t atOnce = 40;
        if (parts.size() <= atOnce) return sumOf(parts);
        std::vector<Said> sums;
        for (std::size_t begin = 0; begin < parts.size(); begin += atOnce) {
            const std::size_t end = std::min(begin + atOnce, parts.size());
            sums.push_back(keep(says + ", terms " + countText(begin + 1) + " to " + countText(end),
                                joined(Op::add, parts, begin, end)));
        }
        return summed(says, sums);
    }
    /// 1 where a factor has one of its levels, 0 elsewhere.
    Said knownLevel(std::size_t input) {
        constexpr std::size_t atOnce = 40;
        const Input& known = m_study.inputs[input];
        std::vector<Said> parts;
        for (std::size_t begin = 0; begin < known.levels.size(); begin += atOnce) {
            std::vector<std::size_t> some;
            for (std::size_t k = begin; k < std::min(begin + atOnce, known.levels.size()); ++k)
                some.push_back(k);
            parts.push_back(choose(levelAmong(input, some), number(1), number(0)));
            if (known.levels.size() > atOnce)
                parts.back() = keep(known.name + " is one of some", parts.back());
        }
        return keep(known.name + " is known", summed(known.name + " is known", parts));
    }

    /// Inputs of the model as numbers and texts, and what is known of them.
    void takeInputs() {
        for (const Input& input : m_study.inputs) {
            const Symbol& symbol = m_columns.at(input.name);
            const bool text = symbol.kind == ColumnKind::factor || symbol.kind == ColumnKind::text;
            if (text != input.factor)
                cannot("the column " + input.name + " changes its kind on the way", keptInstead);
            m_values.push_back(keep(input.name, symbol.value));
        }
        if (!m_study.rule.offset.empty())
            m_offset = keep(m_study.rule.offset, m_columns.at(m_study.rule.offset).value);
    }

    Said levelIs(std::size_t input, std::size_t level) const {
        return same(m_values[input], word(m_study.inputs[input].levels[level]));
    }

    /// Whether a factor has one of some levels.
    Said levelAmong(std::size_t input, const std::vector<std::size_t>& levels) const {
        std::vector<Said> any;
        for (const auto level : levels)
            any.push_back(levelIs(input, level));
        return anyOf(any);
    }

    Said basisOf(const DesignColumn::Piece& piece) {
        const Basis& basis = piece.basis;
        const Said& x = m_values[piece.input];
        const auto& levels = m_study.inputs[piece.input].levels;
        switch (basis.kind) {
        case Basis::Kind::power:
            return wholePower(x, basis.power);
        case Basis::Kind::logarithm:
            return lnOf(x);
        case Basis::Kind::standard:
            return (x - number(basis.shift)) / number(basis.scale);
        case Basis::Kind::hinge:
            return choose(below(number(basis.shift), x), x - number(basis.shift), whereThere(x, number(0)));
        case Basis::Kind::spline:
            return splinePart(x, *basis.values, static_cast<std::size_t>(basis.power));
        case Basis::Kind::cosine:
        case Basis::Kind::sine:
            return unary(basis.kind == Basis::Kind::cosine ? Op::cosine : Op::sine,
                         number(2 * std::numbers::pi * basis.power / basis.scale) * x);
        case Basis::Kind::yearCosine:
        case Basis::Kind::yearSine:
            return unary(basis.kind == Basis::Kind::yearCosine ? Op::cosine : Op::sine,
                         number(2 * std::numbers::pi * basis.power) * yearShare(piece.input));
        case Basis::Kind::indicator:
            return choose(levelIs(piece.input, static_cast<std::size_t>(basis.level)), number(1),
                          whereThere(x, number(0)));
        case Basis::Kind::codes: {
            // Added up, so that no format has to look into as many choices as there are levels.
            std::vector<Said> parts;
            for (std::size_t level = 0; level < levels.size(); ++level)
                if ((*basis.values)[level] != 0)
                    parts.push_back(
                        choose(levelIs(piece.input, level), number((*basis.values)[level]), number(0)));
            return whereThere(x, sumOf(parts));
        }
        }
        return missing();
    }

    /// Share of the calendar year that has passed when the day begins.
    Said yearShare(std::size_t input) {
        auto& known = m_yearShares[input];
        if (!known) {
            const DateParts parts = datePartsOf(m_columns, m_values[input], m_study.inputs[input].name);
            const Said first = keep("first day of the year", dayOfYear(parts.year)),
                       next = keep("first day of the next year", dayOfYear(parts.year + number(1)));
            known = keep("share of the year", (m_values[input] - first) / (next - first));
        }
        return known;
    }

    /// ((x − ξ_k)³₊ − (x − ξ_K)³₊)/(ξ_K − ξ_k), less the same of the last but one, over the squared width.
    static Said splinePart(const Said& x, const std::vector<double>& knots, std::size_t k) {
        const std::size_t last = knots.size() - 1;
        const double width = knots[last] - knots[0], scale = width * width;
        // As one cubic beyond each knot, so that no more than three are looked at.
        const auto cube = [&](std::size_t i) {
            const Said d = x - number(knots[i]);
            return choose(below(number(knots[i]), x), d * d * d, whereThere(x, number(0)));
        };
        const double a = 1 / (knots[last] - knots[k]), b = 1 / (knots[last] - knots[last - 1]);
        return (number(a) * (cube(k) - cube(last)) - number(b) * (cube(last - 1) - cube(last))) /
               number(scale);
    }

    /// The columns of the model matrix, and where they have values that were learned from.
    std::vector<Said> columnsOf(const LinearModel& model) {
        const Design& design = model.design;
        const LeastSquaresFit& fit = model.fit;
        if (fit.kept.size() > 2000)
            cannot(plural(fit.kept.size(), "coefficient is", "coefficients are") +
                       " too many to be written out",
                   keptInstead);
        std::vector<Said> columns(design.columns().size());
        for (std::size_t j = 0; j < columns.size(); ++j) {
            const DesignColumn& column = design.columns()[j];
            Said value = basisOf(column.pieces[0]);
            for (std::size_t k = 1; k < column.pieces.size(); ++k)
                value = value * basisOf(column.pieces[k]);
            columns[j] = keep(column.name, value);
        }
        for (const Dependency& one : fit.dependent)
            requireWithin(one, fit, columns);
        return columns;
    }

    /// Below 1/(1 + exp(−t)) and its like: P(y <= k) at cut − x'b.
    Said chanceBelow(const OrderedModel& model, std::size_t cut, const Said& said) {
        const Said t = number(model.cuts[cut]) - said;
        switch (model.form) {
        case OrderedModel::Form::logit:
            return number(1) / (number(1) + unary(Op::exp, number(0) - t));
        case OrderedModel::Form::complementaryLogLog:
            return number(1) - unary(Op::exp, number(0) - unary(Op::exp, t));
        case OrderedModel::Form::probit:
            break;
        }
        cannot("these formats have no normal distribution, which the probit needs", keptInstead);
    }

    /// x'b without a constant, whose place the cuts take.
    Said slopesOf(const OrderedModel& model) {
        const LinearModel& slopes = model.slopes;
        for (const auto j : slopes.fit.kept)
            m_program.coefficients.emplace_back(slopes.design.columns()[j].name,
                                                slopes.fit.coefficients[static_cast<Index>(j)]);
        const std::vector<Said> columns = columnsOf(slopes);
        return keep("x'b", defined(meanOf(slopes.fit, columns) - number(slopes.fit.constant)));
    }

    void sayOrdered(const OrderedModel& model) {
        requireKnownLevels();
        const Said said = slopesOf(model);
        std::vector<Said> parts{number(model.values.back())};
        for (std::size_t k = 0; k < model.cuts.size(); ++k)
            parts.push_back(number(model.values[k] - model.values[k + 1]) *
                            keep("chance of " + model.names[k] + " or below", chanceBelow(model, k, said)));
        m_program.prediction = keep("expected score", summed("expected score", parts));
        none("intervals of ranks are not written out; model.json has them");
    }

    void sayTwoParts(const TwoPartsModel& model) {
        requireKnownLevels();
        const Said any = keep("chance that there is anything",
                              number(1) - chanceBelow(*model.whether, 0, slopesOf(*model.whether)));
        const LinearModel& amount = *model.amount->linear();
        const std::vector<Said> columns = columnsOf(amount);
        const Said said = keep("how much, as the terms say it", defined(meanOf(amount.fit, columns)));
        m_program.prediction =
            keep("chance times amount", any * (model.link.isLogarithmic() ? unary(Op::exp, said) : said));
        none("intervals of two parts are not written out; model.json has them");
    }

    void sayLinear(const LinearModel& model) {
        const Design& design = model.design;
        const LeastSquaresFit& fit = model.fit;
        requireKnownLevels();
        const std::vector<Said> columns = columnsOf(model);
        if (fit.intercept) m_program.coefficients.emplace_back("constant", fit.constant);
        for (const auto j : fit.kept)
            m_program.coefficients.emplace_back(design.columns()[j].name,
                                                fit.coefficients[static_cast<Index>(j)]);
        const Said mean =
            keep(fit.intercept ? "what the model says" : "what the model says, without a constant",
                 defined(meanOf(fit, columns)));
        middle(mean);
        if (model.lower && model.upper) {
            // Two lines may cross.
            const Said low = keep("lower quantile", plusOffset(defined(meanOf(*model.lower, columns)))),
                       high = keep("upper quantile", plusOffset(defined(meanOf(*model.upper, columns))));
            m_program.lower = carriedQuantile(binary(Op::least, low, high));
            m_program.upper = carriedQuantile(binary(Op::most, low, high));
            return;
        }
        if (!model.hasErrors() || model.isQuantile())
            boundByErrors();
        else
            boundByTheory(model, columns);
    }

    /// Constant and coefficients over columns about their means, as the fit itself adds them up.
    Said meanOf(const LeastSquaresFit& fit, const std::vector<Said>& columns) {
        std::vector<Said> parts;
        double level = fit.constant;
        for (const auto j : fit.kept) {
            const auto at = static_cast<Index>(j);
            const double b = fit.coefficients[at];
            if (b == 0) continue;
            level += b * fit.shift[at];
            parts.push_back(number(b) * (columns[j] - number(fit.shift[at])));
        }
        parts.push_back(number(level));
        return summed("coefficients", parts);
    }

    void boundByTheory(const LinearModel& model, const std::vector<Said>& columns) {
        const LeastSquaresFit& fit = model.fit;
        const auto rank = static_cast<std::size_t>(fit.rank());
        const double t = studentQuantile(m_program.level, fit.testDegreesOfFreedom());
        if (m_study.rule.link.family)
            none("intervals of the distribution about a mean are not written out; model.json has them");
        else if (fit.fewGroups)
            none("degrees of freedom of errors by few groups differ from row to row");
        else if (fit.rowsFixed > 0 || !fit.unseen.empty())
            none("some rows alone fix their fitted value, so that errors are not known everywhere");
        else if (rank > m_mostIn)
            none("intervals of " + countText(rank) + " coefficients are too long to be written out (" +
                 countText(m_mostIn) + " at most)");
        else if (!(m_study.rule.spread > 0) || !std::isfinite(t))
            none("there are no degrees of freedom left");
        if (!m_program.noIntervals.empty()) return;
        // [1, (x − shift)·scale] R⁻¹, and the root of the covariance of its directions.
        MatrixXd root = MatrixXd::Identity(fit.rank(), fit.rank());
        fit.factor.turn(root);
        MatrixXd half; // m × rank with variance |half·z|²
        if (fit.covarianceRoot)
            half = fit.covarianceRoot->times(MatrixXd(root.transpose()));
        else
            half = root.transpose() * fit.residualStandardDeviation;
        const MatrixXd upper = upperTriangle(std::move(half));
        const Index m = upper.rows();
        std::vector<Said> z;
        if (fit.intercept) z.push_back(number(1));
        for (const auto j : fit.kept) {
            const auto at = static_cast<Index>(j);
            z.push_back((columns[j] - number(fit.shift[at])) * number(fit.scale[at]));
        }
        for (std::size_t k = fit.intercept ? 1 : 0; k < z.size(); ++k)
            z[k] = keep("shifted " + countText(k), z[k]);
        std::vector<Said> squares;
        for (Index i = 0; i < m; ++i) {
            std::vector<Said> parts;
            for (Index j = i; j < upper.cols(); ++j)
                if (upper(i, j) != 0) parts.push_back(number(upper(i, j)) * z[static_cast<std::size_t>(j)]);
            if (parts.empty()) continue;
            const Said u = keep("direction " + countText(static_cast<std::size_t>(i + 1)),
                                summed("direction " + countText(static_cast<std::size_t>(i + 1)), parts));
            squares.push_back(u * u);
        }
        const Said variance = keep("variance of the mean", summed("variance", squares));
        const Said own = number(m_study.rule.spread * m_study.rule.spread) / weight();
        bound(number(t) * unary(Op::root, own + variance));
    }

    /// The row's weight, or the usual one.
    Said weight() {
        const double usual = m_study.rule.usualWeight;
        if (m_study.rule.weight.empty()) return number(usual);
        const Symbol* symbol = m_columns.find(m_study.rule.weight);
        if (!symbol || symbol->kind != ColumnKind::number) return number(usual);
        return keep("weight", choose(below(number(0), symbol->value), symbol->value, number(usual)));
    }

    void boundByErrors() {
        const double half = m_study.rule.halfByErrors(m_program.level);
        if (!std::isfinite(half)) {
            none(intervalsText(m_study.rule.intervals));
            return;
        }
        bound(m_study.rule.weight.empty()
                  ? number(half)
                  : number(half) * unary(Op::root, number(m_study.rule.usualWeight) / weight()));
    }

    void none(const std::string& why) { m_program.noIntervals = why; }

    void bound(const Said& half) {
        const Said h = keep("half of the interval", half);
        m_program.lower = carriedQuantile(m_middle - h);
        m_program.upper = carriedQuantile(m_middle + h);
    }

    /// What the model says, with the offset, and the prediction.
    void middle(const Said& said) {
        m_middle = m_offset ? keep("with the offset", plusOffset(said)) : said;
        const Link& link = m_study.rule.link;
        if (link.kind == Link::Kind::chances) cannot("chances cannot be written out yet", keptInstead);
        m_program.prediction = !link.isLogarithmic() ? m_middle
                               : link.kind == Link::Kind::logarithm && link.smearing != 1
                                   ? unary(Op::exp, m_middle) * number(link.smearing)
                                   : unary(Op::exp, m_middle);
    }

    Said plusOffset(const Said& value) const { return m_offset ? value + m_offset : value; }

    Said carriedQuantile(const Said& value) const {
        return m_study.rule.link.isLogarithmic() ? unary(Op::exp, value) : value;
    }

    /// Where a row has a prediction at all.
    void require(Said holds) {
        m_required = m_required ? both(m_required, std::move(holds)) : std::move(holds);
    }
    Said defined(const Said& value) const {
        return m_required ? choose(m_required, value, missing()) : value;
    }

    void requireKnownLevels() {
        for (std::size_t i = 0; i < m_study.inputs.size(); ++i) {
            if (!m_study.inputs[i].factor) continue;
            const Said known = knownLevel(i);
            require(below(number(0.5), known));
            m_program.reasons.push_back({both(other(m_values[i], word("")), below(known, number(0.5))),
                                         m_study.inputs[i].name + " has a level that was never learned from",
                                         true});
        }
    }

    /// Rows outside of what dependent columns span have no prediction: see LeastSquaresFit::partsFrom.
    void requireWithin(const Dependency& one, const LeastSquaresFit& fit, const std::vector<Said>& columns) {
        constexpr double unlisted = 1e-6, rounding = 1e-12;
        const auto abs = [](const Said& value) { return unary(Op::absolute, value); };
        const auto j = static_cast<Index>(one.column);
        const Said& x = columns[one.column];
        std::vector<Said> said{number(one.constant)}, size{abs(x - number(fit.shift[j]))},
            digits{abs(x), number(std::fabs(one.constant))};
        for (const auto& [k, w] : one.combination) {
            said.push_back(number(w) * columns[k]);
            size.push_back(number(std::fabs(w)) * abs(columns[k] - number(fit.shift[static_cast<Index>(k)])));
            digits.push_back(number(std::fabs(w)) * abs(columns[k]));
        }
        const Said apart = keep("apart", abs(x - sumOf(said)) - number(unlisted) * sumOf(size) -
                                             number(rounding) * sumOf(digits));
        require(atMost(apart, number(0)));
        m_program.reasons.push_back(
            {below(number(0), apart), "the rows learned from do not determine what it says here", true});
    }

    void sayTree(const TreeModel& model) {
        const std::vector<TreeNode> nodes = model.cutBack();
        std::size_t leaves = 0;
        for (const TreeNode& node : nodes)
            leaves += !node.asks();
        constexpr std::size_t most = 1000;
        if (leaves > most)
            cannot("a tree of " + countText(leaves) + " leaves is too large to be written out (" +
                       countText(most) + " at most)",
                   "Cut it back, or use what is kept: " + std::string(keptInstead));
        nameUnknownLevels();
        // From the leaves up; places far down are steps of their own, so that no formula is too deep.
        std::vector<Said> said(nodes.size());
        std::vector<std::size_t> size(nodes.size(), 1);
        for (std::size_t t = nodes.size(); t-- > 0;) {
            const TreeNode& node = nodes[t];
            if (!node.asks()) {
                said[t] = number(node.mean);
                continue;
            }
            const auto l = static_cast<std::size_t>(node.left), r = static_cast<std::size_t>(node.right);
            said[t] = choose(goesLeft(model, nodes, node), said[l], said[r]);
            size[t] = size[l] + size[r];
            constexpr std::size_t atOnce = 12;
            if (size[t] > atOnce) {
                said[t] = keep("place " + countText(t + 1), said[t]);
                size[t] = 1;
            }
        }
        middle(keep("what the tree says", said[0]));
        boundByErrors();
    }

    Said goesLeft(const TreeModel& model, const std::vector<TreeNode>& nodes, const TreeNode& node) const {
        std::vector<double> lacking(m_study.inputs.size(), nan);
        const bool larger = nodes[static_cast<std::size_t>(node.left)].rows >
                            nodes[static_cast<std::size_t>(node.right)].rows;
        return wayLeft(static_cast<std::size_t>(node.input), node.below,
                       model.goesLeft(nodes, node, lacking.data()), larger, [&](std::size_t level) {
                           return std::binary_search(node.levels.begin(), node.levels.end(),
                                                     static_cast<std::int32_t>(level));
                       });
    }

    /// Whether a row goes left: its number is below, or its level among those that do.
    template <class Has>
    Said wayLeft(std::size_t input, double limit, bool missingLeft, bool unknownLeft, Has has) const {
        const Input& known = m_study.inputs[input];
        if (!known.factor) {
            const Said left = below(m_values[input], number(limit));
            return missingLeft ? either(left, lacks(m_values[input])) : left;
        }
        std::vector<std::size_t> left, right;
        for (std::size_t level = 0; level < known.levels.size(); ++level)
            (has(level) ? left : right).push_back(level);
        Said goes = levelAmong(input, left);
        if (unknownLeft) { // all but what goes right
            std::vector<Said> none{other(m_values[input], word(""))};
            for (const auto level : right)
                none.push_back(other(m_values[input], word(known.levels[level])));
            goes = allOf(none);
        }
        return missingLeft ? either(goes, lacks(m_values[input])) : goes;
    }

    void nameUnknownLevels() {
        for (std::size_t i = 0; i < m_study.inputs.size(); ++i) {
            if (!m_study.inputs[i].factor) continue;
            const Said known = knownLevel(i);
            m_program.reasons.push_back({both(other(m_values[i], word("")), below(known, number(0.5))),
                                         m_study.inputs[i].name + " has a level that was never learned from",
                                         true});
        }
    }

    /// Trees as choices within choices, from the leaves up; places far down are steps of their own.
    Said sumOfTrees(const TreeSet& trees) {
        constexpr std::size_t most = 5000;
        if (trees.leaves() > most)
            cannot(countText(trees.trees()) + " trees with " + countText(trees.leaves()) +
                       " leaves are too large to be written out (" + countText(most) + " at most)",
                   "Take fewer trees or smaller ones. " + std::string(keptInstead));
        nameUnknownLevels();
        std::vector<Said> parts;
        for (std::size_t t = 0; t < trees.trees(); ++t) {
            const std::size_t begin = trees.firstOf(t),
                              end = t + 1 < trees.trees() ? trees.firstOf(t + 1) : trees.places();
            std::vector<Said> said(end - begin);
            std::vector<std::size_t> size(end - begin, 1);
            for (std::size_t at = end; at-- > begin;) {
                const TreeSet::Node& node = trees.nodes()[at];
                if (node.input == TreeNode::none) {
                    said[at - begin] = number(node.value);
                    continue;
                }
                const auto input = static_cast<std::size_t>(node.input);
                const Input& known = m_study.inputs[input];
                const std::size_t l = at + 1 - begin, r = static_cast<std::size_t>(node.right) - begin;
                const bool missingLeft =
                    known.factor ? trees.has(node, known.levels.size()) : node.missingLeft;
                const Said goes = wayLeft(input, node.value, missingLeft, node.unknownLeft,
                                          [&](std::size_t level) { return trees.has(node, level); });
                said[at - begin] = choose(goes, said[l], said[r]);
                size[at - begin] = size[l] + size[r];
                constexpr std::size_t atOnce = 12;
                if (size[at - begin] > atOnce && at > begin) {
                    said[at - begin] = keep("a place of tree " + countText(t + 1), said[at - begin]);
                    size[at - begin] = 1;
                }
            }
            parts.push_back(keep("tree " + countText(t + 1), said[0]));
        }
        return summed("trees", parts);
    }

    void sayForest(const ForestModel& model) {
        const Said sum = sumOfTrees(model.trees);
        middle(keep("what the forest says", sum / number(static_cast<double>(model.trees.trees()))));
        if (model.drawn.empty())
            boundByErrors();
        else
            none("intervals by what the leaves hold are not written out; model.json has them");
    }

    void sayBoosted(const BoostedModel& model) {
        const bool grown = model.said.trees.trees() > 0;
        if (!grown) nameUnknownLevels();
        middle(keep("what the trees say", grown ? number(model.said.start) + sumOfTrees(model.said.trees)
                                                : number(model.said.start)));
        boundByErrors();
    }

    /// Columns that a network or a formula reads: numbers, and 1 where a factor has one of its levels but the
    /// first, 0 elsewhere; missing where it is.
    std::vector<Said> numbersAndLevels() {
        requireKnownLevels();
        std::vector<Said> out;
        for (std::size_t i = 0; i < m_study.inputs.size(); ++i) {
            const Input& input = m_study.inputs[i];
            if (!input.factor) out.push_back(m_values[i]);
            for (std::size_t k = 1; k < input.levels.size() && input.factor; ++k)
                out.push_back(
                    choose(lacks(m_values[i]), missing(), choose(levelIs(i, k), number(1), number(0))));
        }
        return out;
    }

    void sayNetwork(const NetworkModel& model) {
        constexpr std::size_t most = 3000;
        if (model.parameters.size() > most)
            cannot("a network of " + countText(model.parameters.size()) +
                       " weights is too large to be written out (" + countText(most) + " at most)",
                   "Take fewer units. " + std::string(keptInstead));
        std::vector<Said> now = numbersAndLevels();
        for (std::size_t j = 0; j < now.size(); ++j) {
            const auto at = static_cast<Index>(j);
            now[j] = keep("standardised", (now[j] - number(model.center[at])) / number(model.scale[at]));
        }
        const double* parameters = model.parameters.data();
        const std::size_t layers = model.shape.sizes.size() - 1;
        for (std::size_t l = 0; l < layers; ++l) {
            const auto in = static_cast<std::size_t>(model.shape.sizes[l]),
                       out = static_cast<std::size_t>(model.shape.sizes[l + 1]);
            std::vector<Said> next;
            for (std::size_t k = 0; k < out; ++k) {
                std::vector<Said> parts{number(parameters[in * out + k])};
                for (std::size_t j = 0; j < in; ++j)
                    parts.push_back(number(parameters[j * out + k]) * now[j]);
                const std::string says = l + 1 < layers
                                             ? "unit " + countText(k + 1) + " of layer " + countText(l + 1)
                                             : std::string("what the network says, standardised");
                const Said sum = keep(says, summed(says, parts));
                next.push_back(l + 1 < layers
                                   ? keep(says + ", carried on", activated(model.shape.activation, sum))
                                   : sum);
            }
            now = std::move(next);
            parameters += out * (in + 1);
        }
        middle(keep("what the network says", defined(number(model.yCenter) + number(model.yScale) * now[0])));
        boundByErrors();
    }

    Said activated(Activation activation, const Said& x) {
        if (activation == Activation::rectifier) return choose(below(x, number(0)), number(0), x);
        // By exponentials of what is not above 0, so that none grows beyond all numbers.
        const Said small = keep("exp of less its size", unary(Op::exp, number(0) - unary(Op::absolute, x)));
        switch (activation) {
        case Activation::tanh: {
            const Said size = (number(1) - small * small) / (number(1) + small * small);
            return choose(below(x, number(0)), number(0) - size, whereThere(x, size));
        }
        case Activation::logistic:
            return choose(below(x, number(0)), small / (number(1) + small),
                          whereThere(x, number(1) / (number(1) + small)));
        default:
            break;
        }
        return choose(below(x, number(0)), number(0), x) + unary(Op::ln, number(1) + small);
    }

    void sayFormula(const FormulaModel& model) {
        const std::vector<Said> columns = numbersAndLevels();
        std::size_t at = 0;
        Said value = formulaFrom(model.tree(), at, columns);
        for (const Said& input : m_values) // a row that lacks what the formula passes over has none either
            value = whereThere(input, value);
        middle(keep("what the formula says", defined(value)));
        boundByErrors();
    }

    Said formulaFrom(const FormulaTree& tree, std::size_t& at, const std::vector<Said>& columns) {
        const FormulaNode& node = tree[at++];
        if (node.operation == Operation::constant) return number(node.constant);
        if (node.operation == Operation::column) return columns[node.column];
        const auto kept = [&](Said part) { // what is looked at more than once
            return part->of.empty() ? part : keep("part of the formula", std::move(part));
        };
        Said a = formulaFrom(tree, at, columns);
        if (operandsOf(node.operation) == 1) a = kept(std::move(a));
        switch (node.operation) {
        case Operation::add:
            return a + formulaFrom(tree, at, columns);
        case Operation::subtract:
            return a - formulaFrom(tree, at, columns);
        case Operation::multiply:
            return a * formulaFrom(tree, at, columns);
        case Operation::divide:
            return over(a, kept(formulaFrom(tree, at, columns)));
        case Operation::logarithm:
            return lnOf(a);
        case Operation::exponential:
            return unary(Op::exp, a);
        case Operation::root:
            return choose(below(a, number(0)), missing(), unary(Op::root, a));
        case Operation::square:
            return a * a;
        case Operation::sine:
            return unary(Op::sine, a);
        default:
            return unary(Op::cosine, a);
        }
    }

    Program finished() {
        const bool reads = m_study.model->readsMissing();
        std::vector<Program::Reason> first;
        for (std::size_t i = 0; i < m_study.inputs.size(); ++i)
            first.push_back({lacks(m_values[i]), m_study.inputs[i].name + " is missing", !reads});
        m_program.reasons.insert(m_program.reasons.begin(), first.begin(), first.end());
        m_program.sources = m_columns.sources();
        m_program.steps = m_columns.steps();
        Pruner(m_program).run();
        return std::move(m_program);
    }

    const Study& m_study;
    std::size_t m_mostIn;
    Program m_program;
    Columns m_columns;
    std::vector<Said> m_values;
    std::map<std::size_t, Said> m_yearShares;
    Said m_offset, m_required, m_middle;
};

} // namespace

Program programOf(const Study& study, std::span<const Column> raw, double level, std::size_t mostIn) {
    return ProgramBuilder(study, raw, level, mostIn).run();
}

} // namespace oxgoad
