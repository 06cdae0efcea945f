#include "base/not_a_number.h"
#include "base/text.h"
#include "estimate/decompositions.h"
#include "estimate/linear/linear_model.h"
#include "study/judge_parts.h"

#include <Eigen/Cholesky>

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

namespace {

/// Beyond it a refit to twice the precision tells more.
constexpr double conditionLimit = 1e6;
constexpr std::size_t mostDoubles = std::size_t{1} << 26; // of the orthonormal rows: 512 MB

/// Whether functions of a part are the same, up to a change of basis, whatever rows they are learned from.
bool learnsNothing(const TermPart& part, bool alone, bool intercept) {
    switch (part.form) {
    case Form::centred:
    case Form::standardised:
    case Form::polynomial:
        return alone && intercept;
    case Form::pieces:
    case Form::spline:
        return !part.knots.empty();
    default:
        return true;
    }
}

} // namespace

bool LeastSquaresFolds::applies(const Recipe& recipe, const Study& whole) {
    const LinearModel* linear = whole.linear();
    if (!linear || recipe.choose || !kindOf(recipe.estimator).leastSquares) return false;
    if (linear->fit.conditionNumber > conditionLimit || linear->fit.rank() == 0) return false;
    if (linear->fit.factor.levels() > 0) return false; // so wide that a fit a fold is less
    if (whole.rows.size() * static_cast<std::size_t>(linear->fit.rank()) > mostDoubles) return false;
    return std::all_of(recipe.terms.begin(), recipe.terms.end(), [&](const Term& term) {
        return std::all_of(term.parts.begin(), term.parts.end(), [&](const TermPart& part) {
            return learnsNothing(part, term.parts.size() == 1, recipe.intercept);
        });
    });
}

struct LeastSquaresFolds::Impl {
    const Recipe& recipe;
    const Table& table;
    const std::string& file;
    const Study& whole;
    const LinearModel& linear;
    const Dealing& dealing;
    Threads threads;
    BoundModel bound;
    std::span<const double> response;

    /// Dealt rows that the model is defined at, as places among those dealt and rows of the table.
    std::vector<std::uint32_t> places, rows;
    std::vector<std::uint32_t> placeOf{}; // of dealt rows among `rows`; none where not defined
    /// Levels of the factors at the rows, a factor a vector, and how many rows teach each.
    std::vector<std::vector<std::uint32_t>> levels;
    std::vector<std::vector<std::size_t>> taughtLevels;
    /// Of them: what the whole fit says, what is left, and the weight with which they teach, 0 for none.
    VectorXd said, left, weight;
    /// Orthonormal rows, a row of the table a column.
    MatrixXd z;
    std::vector<std::string> names;
    std::size_t training = 0;
    bool squares = true;

    static constexpr std::uint32_t none = UINT32_MAX;
    Index rank() const { return z.rows(); }

    Impl(const Recipe& r, const Table& t, const std::string& f, const Study& w, const Dealing& d,
         Threads howMany, Progress& progress)
        : recipe(r), table(t), file(f), whole(w), linear(*w.linear()), dealing(d), threads(howMany),
          bound(w.bind(t, f)), response(t.at(r.response, f).numbers()) {
        squares = !recipe.logResponse && whole.weights.empty();
        findRows(progress);
        makeBasis(progress);
        findConstraints();
        for (const Term& term : recipe.terms)
            names.push_back(termName(term));
    }

    void findRows(Progress& progress) {
        const auto& dealt = dealing.rows();
        std::vector<const Column*> columns;
        for (const std::string& name : columnsNeeded())
            columns.push_back(&table.at(name, file));
        // Rows learned from come in the order of the table, as those dealt do.
        std::size_t next = 0;
        std::vector<double> e, s, w;
        std::vector<std::uint32_t> others;
        for (std::size_t i = 0; i < dealt.size(); ++i) {
            const auto row = dealt[i];
            while (next < whole.rows.size() && whole.rows[next] < row)
                ++next;
            const bool taught = next < whole.rows.size() && whole.rows[next] == row;
            if (!taught && (!bound.complete(row) ||
                            std::any_of(columns.begin(), columns.end(),
                                        [row](const Column* column) { return column->isMissing(row); })))
                continue;
            places.push_back(static_cast<std::uint32_t>(i));
            rows.push_back(row);
            s.push_back(taught ? whole.trained.fitted[static_cast<Index>(next)] : nan);
            e.push_back(taught ? whole.trained.residuals[static_cast<Index>(next)] : 0);
            w.push_back(!taught ? 0 : whole.weights.empty() ? 1 : whole.weights[next]);
            if (taught)
                ++training;
            else
                others.push_back(static_cast<std::uint32_t>(rows.size() - 1));
        }
        if (!others.empty()) {
            std::vector<std::uint32_t> of;
            for (const auto place : others)
                of.push_back(rows[place]);
            const auto predicted = bound.predict(of, threads, progress);
            for (std::size_t i = 0; i < others.size(); ++i)
                s[others[i]] = predicted[i];
        }
        said = Eigen::Map<const VectorXd>(s.data(), static_cast<Index>(s.size()));
        left = Eigen::Map<const VectorXd>(e.data(), static_cast<Index>(e.size()));
        weight = Eigen::Map<const VectorXd>(w.data(), static_cast<Index>(w.size()));
        findLevels();
        placeOf.assign(dealt.size(), none);
        for (std::size_t i = 0; i < places.size(); ++i)
            placeOf[places[i]] = static_cast<std::uint32_t>(i);
    }

    void findLevels() {
        for (std::size_t k = 0; k < whole.inputs.size(); ++k) {
            if (!whole.inputs[k].factor) continue;
            std::vector<std::uint32_t> own;
            own.reserve(rows.size());
            for (const auto row : rows)
                own.push_back(static_cast<std::uint32_t>(bound.inputs().value(k, row)));
            levels.push_back(std::move(own));
            taughtLevels.push_back(levelCounts(levels.back(), [](std::size_t) { return true; }));
        }
    }

    /// Rows a level that teach and that a fold learns from.
    template <class Learns>
    std::vector<std::size_t> levelCounts(const std::vector<std::uint32_t>& of, Learns&& learns) const {
        std::vector<std::size_t> counts;
        for (std::size_t i = 0; i < of.size(); ++i) {
            if (weight[static_cast<Index>(i)] == 0 || !learns(i)) continue;
            if (of[i] >= counts.size()) counts.resize(of[i] + std::size_t{1}, 0);
            ++counts[of[i]];
        }
        return counts;
    }

    /// Whether the rows learned from have every level: otherwise levels and their reference are others, and
    /// so may be what the columns span.
    template <class Learns> bool holdsLevels(Learns&& learns) const {
        for (std::size_t f = 0; f < levels.size(); ++f) {
            const auto counts = levelCounts(levels[f], learns);
            for (std::size_t level = 0; level < taughtLevels[f].size(); ++level)
                if (taughtLevels[f][level] > 0 && (level >= counts.size() || counts[level] == 0))
                    return false;
        }
        return true;
    }

    /// Beside the inputs: what a row must have to be judged.
    std::vector<std::string> columnsNeeded() const {
        std::vector<std::string> needed{recipe.response};
        for (const Role role : {Role::weight, Role::offset})
            if (const std::string name = columnWith(recipe, role); !name.empty()) needed.push_back(name);
        if (!recipe.errors.column.empty()) needed.push_back(recipe.errors.column);
        return needed;
    }

    /// R⁻¹ with zeros below: small triangles are multiplied faster so.
    MatrixXd denseInverse() const {
        return linear.fit.factor.wholeInverse().triangularView<Eigen::Upper>().toDenseMatrix();
    }

    void makeBasis(Progress& progress) {
        z.resize(linear.fit.rank(), static_cast<Index>(rows.size()));
        const BoundDesign design(linear.design, table, file);
        const MatrixXd back = denseInverse().transpose();
        forEachBlock(design, rows, threads, progress, [&](std::size_t first, const MatrixXd& block) {
            z.middleCols(static_cast<Index>(first), block.rows()).noalias() =
                back * linear.fit.shifted(block).transpose();
        });
    }

    /// Whether the basis is one: Σ w z (z'v) = v over the rows of the whole fit, for one v. What is left
    /// out and added is worked out by that.
    bool proven(Progress& progress) const {
        if (training != whole.rows.size()) return true; // some were not dealt: nothing to hold it against
        VectorXd v(rank());
        for (Index k = 0; k < rank(); ++k)
            v[k] = k % 2 == 0 ? 1.0 / static_cast<double>(k + 1) : -1;
        constexpr Index piece = 16384;
        const auto pieces = static_cast<std::size_t>((z.cols() + piece - 1) / piece);
        std::vector<VectorXd> parts(pieces);
        parallelFor(pieces, threads, [&](std::size_t p) {
            stopIfTold(progress);
            const Index begin = static_cast<Index>(p) * piece, count = std::min(piece, z.cols() - begin);
            const auto own = z.middleCols(begin, count);
            const VectorXd along = (own.transpose() * v).cwiseProduct(weight.segment(begin, count));
            parts[p] = own * along;
        });
        VectorXd back = VectorXd::Zero(rank());
        for (const VectorXd& part : parts)
            back += part;
        return (back - v).norm() <= 1e-6 * v.norm(); // rounding is 1e-10 of it where the folds are taken so
    }

    /// Place of a row of the table.
    std::size_t placeAt(std::uint32_t row) const {
        return static_cast<std::size_t>(std::lower_bound(rows.begin(), rows.end(), row) - rows.begin());
    }

    double toResponseScale(double value, std::size_t place, double smearing) const {
        Link link = linkOf(recipe);
        link.smearing = smearing;
        return link.toResponseScale(value + bound.offset(rows[place]));
    }

    /// Sums over rows that teach: their cross products with each other and with what is left.
    struct Sums {
        MatrixXd squares;
        VectorXd products;
        double residual = 0;
        long double response = 0;
        std::size_t rows = 0;
        explicit Sums(Index rank) : squares(MatrixXd::Zero(rank, rank)), products(VectorXd::Zero(rank)) {}
        void add(const Sums& other) {
            squares += other.squares;
            products += other.products;
            residual += other.residual;
            response += other.response;
            rows += other.rows;
        }
    };

    /// Rows of a cell gathered and added; `some` are places.
    void addRows(Sums& sums, std::span<const std::uint32_t> some, std::span<const std::uint32_t> times,
                 const Progress& progress) const {
        constexpr std::size_t most = 512;
        MatrixXd gathered(rank(), static_cast<Index>(std::min(most, some.size())));
        VectorXd e(gathered.cols());
        for (std::size_t begin = 0; begin < some.size(); begin += most) {
            stopIfTold(progress);
            const std::size_t end = std::min(begin + most, some.size());
            Index count = 0;
            for (std::size_t i = begin; i < end; ++i) {
                const Index place = some[i];
                if (weight[place] == 0) continue;
                const double often = times.empty() ? 1 : times[i];
                const double root = std::sqrt(weight[place] * often);
                gathered.col(count) = z.col(place) * root;
                e[count++] = left[place] * root;
                sums.response += static_cast<long double>(often) * response[rows[some[i]]];
                sums.rows += static_cast<std::size_t>(often);
            }
            const auto own = gathered.leftCols(count);
            sums.squares.selfadjointView<Eigen::Lower>().rankUpdate(own);
            sums.products.noalias() += own * e.head(count);
            sums.residual += e.head(count).squaredNorm();
        }
    }

    /// Sums of each cell of a repeat; the last holds rows that always learn. Rows in pieces of a fixed size,
    /// so that the number of threads changes no digit.
    std::vector<Sums> cellSums(std::size_t repeat, Progress& progress) const {
        const auto cellOf = dealing.cellOf(repeat);
        const std::size_t cells = dealing.cells() + 1;
        std::vector<std::vector<std::uint32_t>> inCell(cells);
        for (std::size_t i = 0; i < rows.size(); ++i)
            inCell[cellOf[places[i]]].push_back(static_cast<std::uint32_t>(i));
        constexpr std::size_t piece = 16384;
        std::vector<std::pair<std::size_t, std::size_t>> pieces; // cell, first row
        for (std::size_t c = 0; c < cells; ++c)
            for (std::size_t begin = 0; begin < inCell[c].size(); begin += piece)
                pieces.emplace_back(c, begin);
        std::vector<Sums> parts(pieces.size(), Sums(0));
        parallelFor(pieces.size(), threads, [&](std::size_t p) {
            const auto& [c, begin] = pieces[p];
            parts[p] = Sums(rank());
            addRows(parts[p], std::span(inCell[c]).subspan(begin, std::min(piece, inCell[c].size() - begin)),
                    {}, progress);
        });
        std::vector<Sums> sums(cells, Sums(rank()));
        for (std::size_t p = 0; p < pieces.size(); ++p)
            sums[pieces[p].first].add(parts[p]);
        return sums;
    }

    /// How the model of some rows differs from the whole fit.
    struct Difference {
        Eigen::LDLT<MatrixXd> solver;
        VectorXd d;
    };
    /// None where the rows do not hold all of the model.
    std::optional<Difference> difference(const Sums& learned) const {
        Difference found{Eigen::LDLT<MatrixXd>(learned.squares.selfadjointView<Eigen::Lower>()), {}};
        if (found.solver.info() != Eigen::Success) return std::nullopt;
        const VectorXd d = found.solver.vectorD();
        // The basis is orthonormal over all rows: shares of it need no scale but that of the rows learned.
        if (!(d.minCoeff() > leastShare * std::max(1e-300, d.maxCoeff()))) return std::nullopt;
        found.d = found.solver.solve(learned.products);
        return found;
    }

    /// Coefficients of a term in the basis: rows of R⁻¹ at its places, and what the whole fit has there.
    struct Constraint {
        MatrixXd rows;
        VectorXd whole;
        /// Orthonormal directions that only these columns have.
        MatrixXd directions;
    };
    std::vector<Constraint> constraints;

    void findConstraints() {
        const LeastSquaresFit& fit = linear.fit;
        const Index first = fit.intercept ? 1 : 0;
        const VectorXd coefficients = fit.shiftedCoefficients();
        const MatrixXd inverse = denseInverse();
        for (std::size_t t = 0; t < recipe.terms.size(); ++t) {
            std::vector<Index> at;
            for (std::size_t k = 0; k < fit.kept.size(); ++k)
                if (linear.design.columns()[fit.kept[k]].term == t)
                    at.push_back(first + static_cast<Index>(k));
            Constraint c;
            c.rows = inverse(at, Eigen::all);
            c.whole = coefficients(at);
            c.directions = MatrixXd::Zero(rank(), 0);
            if (!at.empty()) c.directions = orthonormalColumns(c.rows.transpose());
            constraints.push_back(std::move(c));
        }
    }

    /// How the model of some rows without a term differs from the whole fit: least squares with the term's
    /// coefficients held at 0 (Golub and Van Loan 2013, §6.2).
    static VectorXd differenceWithout(const Eigen::LDLT<MatrixXd>& solver, const VectorXd& d,
                                      const Constraint& c) {
        if (c.rows.rows() == 0) return d; // nothing of it is in the model
        const MatrixXd back = solver.solve(c.rows.transpose());
        return d - back * (c.rows * back).ldlt().solve(c.rows * d + c.whole);
    }

    /// Of a model that differs by d: Duan's factor over the rows it learned, and its mean squared error over
    /// the rows of the whole fit.
    struct Whole {
        double smearing = 1, mse = nan;
    };
    Whole wholeOf(const VectorXd& d, const Sums& all,
                  const std::function<double(std::size_t)>& learns) const {
        Whole found;
        const auto n = static_cast<double>(training);
        if (squares) {
            found.mse = (all.residual + d.dot(all.squares.selfadjointView<Eigen::Lower>() * d) -
                         2 * d.dot(all.products)) /
                        n;
            return found;
        }
        const VectorXd change = z.transpose() * d;
        if (recipe.logResponse) {
            SmearingSum sum;
            for (Index i = 0; i < change.size(); ++i) {
                const double w = weight[i] == 0 ? 0 : weight[i] * learns(static_cast<std::size_t>(i));
                if (w != 0) sum.add(left[i] - change[i], w);
            }
            found.smearing = sum.factor();
        }
        long double squared = 0;
        for (Index i = 0; i < change.size(); ++i) {
            if (weight[i] == 0) continue;
            const auto place = static_cast<std::size_t>(i);
            const double e =
                response[rows[place]] - toResponseScale(said[i] + change[i], place, found.smearing);
            squared += static_cast<long double>(e) * e;
        }
        found.mse = static_cast<double>(squared / static_cast<long double>(training));
        return found;
    }

    FoldOutcome outcome(std::size_t fold, std::size_t repeat, const Sums& learned) const {
        FoldOutcome out;
        out.name = dealing.nameOf(fold);
        out.repeat = repeat;
        out.settings = recipe.estimator;
        out.chosen = names;
        out.learningMean = static_cast<double>(
            learned.response / static_cast<long double>(std::max<std::size_t>(1, learned.rows)));
        return out;
    }

    void put(FoldOutcome& out, std::size_t place, const VectorXd& d, double smearing) const {
        const auto i = static_cast<Index>(place);
        out.rows.push_back(rows[place]);
        out.actual.push_back(response[rows[place]]);
        out.predicted.push_back(toResponseScale(said[i] + z.col(i).dot(d), place, smearing));
    }

    /// Squared errors of the judged rows without each term, all in one product.
    void addWithout(FoldOutcome& out, const Difference& found, const Sums& all,
                    const std::function<double(std::size_t)>& learns) const {
        const auto terms = static_cast<Index>(constraints.size());
        MatrixXd without(rank(), terms);
        VectorXd smearing = VectorXd::Ones(terms);
        for (Index t = 0; t < terms; ++t) {
            without.col(t) =
                differenceWithout(found.solver, found.d, constraints[static_cast<std::size_t>(t)]);
            if (recipe.logResponse) smearing[t] = wholeOf(without.col(t), all, learns).smearing;
        }
        out.squaresWithout.assign(constraints.size(), 0);
        constexpr std::size_t piece = 1024;
        MatrixXd own;
        for (std::size_t begin = 0; begin < out.rows.size(); begin += piece) {
            const std::size_t end = std::min(begin + piece, out.rows.size());
            own.resize(rank(), static_cast<Index>(end - begin));
            std::vector<std::size_t> at;
            for (std::size_t i = begin; i < end; ++i) {
                at.push_back(placeAt(out.rows[i]));
                own.col(static_cast<Index>(i - begin)) = z.col(static_cast<Index>(at.back()));
            }
            const MatrixXd change = own.transpose() * without;
            for (Index t = 0; t < terms; ++t) {
                double squared = 0;
                for (std::size_t i = begin; i < end; ++i) {
                    const std::size_t place = at[i - begin];
                    const double e =
                        out.actual[i] - toResponseScale(said[static_cast<Index>(place)] +
                                                            change(static_cast<Index>(i - begin), t),
                                                        place, smearing[t]);
                    squared += e * e;
                }
                out.squaresWithout[static_cast<std::size_t>(t)] += squared;
            }
        }
    }

    bool judgeRepeat(std::size_t repeat, const std::function<FoldOutcome(std::size_t)>& refit,
                     const FoldSink& sink, Progress& progress) {
        const std::size_t folds = dealing.foldsPerRepeat(), cells = dealing.cells();
        const auto sums = cellSums(repeat, progress);
        const auto cellOf = dealing.cellOf(repeat);
        Sums all(rank());
        for (const Sums& cell : sums)
            all.add(cell);
        std::vector<std::vector<std::uint32_t>> inCell(cells + 1);
        for (std::size_t i = 0; i < dealing.rows().size(); ++i)
            inCell[cellOf[i]].push_back(static_cast<std::uint32_t>(i));
        std::vector<std::optional<FoldOutcome>> outcomes(folds);
        parallelFor(folds, threads, [&](std::size_t f) {
            stopIfTold(progress);
            Sums learned(rank());
            for (std::size_t c = 0; c < cells; ++c)
                if (dealing.learns(f, c)) learned.add(sums[c]);
            if (alwaysLearn) learned.add(sums[cells]);
            const auto found =
                learned.rows > static_cast<std::size_t>(rank()) ? difference(learned) : std::nullopt;
            const auto learns = [&](std::size_t place) {
                const std::size_t c = cellOf[places[place]];
                return dealing.learns(f, c) || (c == cells && alwaysLearn) ? 1.0 : 0.0;
            };
            if (!found || !holdsLevels([&](std::size_t i) { return learns(i) > 0; }))
                return; // refitted below, in order
            const VectorXd& d = found->d;
            FoldOutcome out = outcome(f, repeat, learned);
            const Whole own = wholeOf(d, all, learns);
            out.wholeMse = own.mse;
            for (std::size_t c = 0; c < cells; ++c) {
                if (!dealing.judges(f, c)) continue;
                for (const auto dealt : inCell[c]) {
                    if (placeOf[dealt] == none)
                        ++out.unpredicted;
                    else
                        put(out, placeOf[dealt], d, own.smearing);
                }
            }
            if (repeat == 0) addWithout(out, *found, all, learns);
            outcomes[f] = std::move(out);
        });
        for (std::size_t f = 0; f < folds; ++f) {
            if (!outcomes[f]) outcomes[f] = refit(repeat * folds + f);
            if (!sink(*outcomes[f])) return false;
        }
        return true;
    }

    void judgeDraws(const std::function<FoldOutcome(std::size_t)>& refit, const FoldSink& sink,
                    Progress& progress) {
        constexpr std::size_t piece = 16384;
        const std::size_t pieces = (rows.size() + piece - 1) / piece;
        std::vector<std::uint32_t> own(rows.size());
        for (std::uint32_t i = 0; i < own.size(); ++i)
            own[i] = i;
        const Sums all(rank());
        for (std::size_t draw = 0; draw < dealing.size(); ++draw) {
            progress.checkpoint(static_cast<double>(draw) / static_cast<double>(dealing.size()),
                                "Judging, draw " + countText(draw + 1) + " of " + countText(dealing.size()));
            const auto times = dealing.timesDrawn(draw);
            std::vector<std::vector<std::uint32_t>> drawn(pieces), often(pieces);
            for (std::size_t i = 0; i < rows.size(); ++i)
                if (times[places[i]] > 0) {
                    drawn[i / piece].push_back(static_cast<std::uint32_t>(i));
                    often[i / piece].push_back(times[places[i]]);
                }
            std::vector<Sums> parts(pieces, Sums(rank()));
            parallelFor(pieces, threads,
                        [&](std::size_t p) { addRows(parts[p], drawn[p], often[p], progress); });
            Sums learned(rank());
            for (const Sums& part : parts)
                learned.add(part);
            const auto found = difference(learned);
            if (!found || !holdsLevels([&](std::size_t i) { return times[places[i]] > 0; })) {
                if (!sink(refit(draw))) return;
                continue;
            }
            const VectorXd& d = found->d;
            FoldOutcome out = outcome(draw, 0, learned);
            out.wholeMse = nan;
            double smearing = 1;
            if (recipe.logResponse)
                smearing = wholeOf(d, all, [&](std::size_t place) {
                               return static_cast<double>(times[places[place]]);
                           }).smearing;
            for (std::size_t dealt = 0; dealt < times.size(); ++dealt) {
                if (times[dealt] > 0) continue;
                if (placeOf[dealt] == none)
                    ++out.unpredicted;
                else
                    put(out, placeOf[dealt], d, smearing);
            }
            if (!sink(out)) return;
        }
    }

    /// Squared residuals of each row left out of the model without each term; terms × rows.
    MatrixXd squaresWithoutTerms(Progress& progress) const {
        const VectorXd inBasis = linear.fit.factor.times(linear.fit.shiftedCoefficients());
        Index columns = 0;
        for (const Constraint& c : constraints)
            columns += c.directions.cols();
        MatrixXd directions(rank(), columns);
        VectorXd effects(columns);
        Index at = 0;
        for (const Constraint& c : constraints) {
            const Index own = c.directions.cols();
            directions.middleCols(at, own) = c.directions;
            effects.segment(at, own) = c.directions.transpose() * inBasis;
            at += own;
        }
        MatrixXd found(static_cast<Index>(constraints.size()), left.size());
        constexpr Index piece = 2048;
        const auto pieces = static_cast<std::size_t>((left.size() + piece - 1) / piece);
        parallelFor(pieces, threads, [&](std::size_t p) {
            stopIfTold(progress);
            const Index begin = static_cast<Index>(p) * piece, count = std::min(piece, left.size() - begin);
            const auto own = z.middleCols(begin, count);
            const MatrixXd along = own.transpose() * directions;
            const VectorXd norms = own.colwise().squaredNorm();
            VectorXd moved(count), lost(count);
            Index first = 0;
            for (std::size_t t = 0; t < constraints.size(); ++t) {
                const Index width = constraints[t].directions.cols();
                moved.setZero();
                lost.setZero();
                for (Index k = first; k < first + width; ++k) {
                    const double effect = effects[k];
                    for (Index i = 0; i < count; ++i) {
                        moved[i] += along(i, k) * effect;
                        lost[i] += along(i, k) * along(i, k);
                    }
                }
                for (Index i = 0; i < count; ++i) {
                    const double e = left[begin + i] + moved[i];
                    const double kept = 1 - weight[begin + i] * (norms[i] - lost[i]);
                    found(static_cast<Index>(t), begin + i) = e * e / (kept * kept);
                }
                first += width;
            }
        });
        return found;
    }

    /// e / (1 − h), row by row.
    void judgeRows(const std::function<FoldOutcome(std::size_t)>& refit, const FoldSink& sink,
                   Progress& progress) {
        const auto [all, total] = everything(progress);
        const MatrixXd without = squares ? squaresWithoutTerms(progress) : MatrixXd();
        FoldOutcome out;
        out.settings = recipe.estimator;
        for (std::size_t dealt = 0; dealt < dealing.rows().size(); ++dealt) {
            if (dealt % 1024 == 0)
                progress.checkpoint(static_cast<double>(dealt) / static_cast<double>(dealing.rows().size()),
                                    "Judging, row " + countText(dealt + 1) + " of " +
                                        countText(dealing.rows().size()));
            out.rows.clear();
            out.actual.clear();
            out.predicted.clear();
            out.squaresWithout.clear();
            out.unpredicted = 0;
            if (placeOf[dealt] == none) {
                out.unpredicted = 1;
                out.wholeMse = nan;
                if (!sink(out)) return;
                continue;
            }
            const std::size_t place = placeOf[dealt];
            const auto i = static_cast<Index>(place);
            const double y = response[rows[place]], w = weight[i];
            const double norm = z.col(i).squaredNorm(), h = w * norm;
            const bool lastOfLevel = w > 0 && isLastOfLevel(place);
            if (h > 1 - leastShare || lastOfLevel ||
                (w > 0 && training <= static_cast<std::size_t>(rank()))) {
                if (!sink(refit(dealt))) return;
                continue;
            }
            out.learningMean = w > 0
                                   ? static_cast<double>((total - y) / static_cast<long double>(training - 1))
                                   : static_cast<double>(total / static_cast<long double>(training));
            const double step = -w * left[i] / (1 - h);
            if (squares) {
                out.wholeMse = (all.residual + step * step * norm) / static_cast<double>(training);
                out.rows.push_back(rows[place]);
                out.actual.push_back(y);
                out.predicted.push_back(toResponseScale(said[i] + step * norm, place, 1));
                out.squaresWithout.assign(without.col(i).data(), without.col(i).data() + without.rows());
            } else {
                const VectorXd d = step * z.col(i);
                const Whole own =
                    wholeOf(d, all, [&](std::size_t other) { return other == place ? 0.0 : 1.0; });
                out.wholeMse = own.mse;
                put(out, place, d, own.smearing);
            }
            if (!sink(out)) return;
        }
    }

    bool isLastOfLevel(std::size_t place) const {
        for (std::size_t f = 0; f < levels.size(); ++f)
            if (taughtLevels[f][levels[f][place]] == 1) return true;
        return false;
    }

    std::pair<Sums, long double> everything(Progress& progress) const {
        Sums all(rank());
        for (Index i = 0; i < left.size(); ++i) {
            if (i % 65536 == 0 && progress.stopRequested()) throw Stopped{};
            if (weight[i] == 0) continue;
            all.residual += weight[i] * left[i] * left[i];
            all.response += response[rows[static_cast<std::size_t>(i)]];
        }
        return {all, all.response};
    }

    /// Rows without a value of the column that says the folds learn always.
    bool alwaysLearn = false;
};

LeastSquaresFolds::LeastSquaresFolds(const Recipe& recipe, const Table& table, const std::string& file,
                                     const Study& whole, const Dealing& dealing, Threads threads,
                                     Progress& progress)
    : m_impl(std::make_shared<Impl>(recipe, table, file, whole, dealing, threads, progress)) {
    m_impl->alwaysLearn = recipe.judge->kind != FoldKind::rollingOrigin;
}

void LeastSquaresFolds::judge(const std::function<FoldOutcome(std::size_t)>& refit, const FoldSink& sink,
                              Progress& progress) {
    Impl& impl = *m_impl;
    if (!impl.proven(progress)) {
        for (std::size_t fold = 0; fold < impl.dealing.size(); ++fold)
            if (!sink(refit(fold))) return;
        return;
    }
    if (impl.recipe.judge->kind == FoldKind::leaveOneOut) return impl.judgeRows(refit, sink, progress);
    if (impl.recipe.judge->kind == FoldKind::bootstrap) return impl.judgeDraws(refit, sink, progress);
    for (std::size_t repeat = 0; repeat < impl.dealing.repeats(); ++repeat) {
        progress.checkpoint(static_cast<double>(repeat) / static_cast<double>(impl.dealing.repeats()),
                            "Judging by folds");
        if (!impl.judgeRepeat(repeat, refit, sink, progress)) return;
    }
}

} // namespace oxgoad
