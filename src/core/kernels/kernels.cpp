#include "kernels/kernels.h"
#include "kernels/reflection.h"

#include <Eigen/QR>

#include <algorithm>
#include <cmath>

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::Ref;
using Eigen::VectorXd;

using View = Eigen::Map<MatrixXd, 0, Eigen::OuterStride<>>;

View viewOf(const OxgoadMatrix& matrix) {
    return {matrix.values, matrix.rows, matrix.columns, Eigen::OuterStride<>(matrix.stride)};
}

/// Whoever waits for the work, and was asked by it.
struct Waiting {
    OxgoadTold told;
    const void* whom;
    bool over() const { return told(whom); }
};

/// Up to so many columns are reduced one by one, as all of them are where there are few.
constexpr Index fewColumns = 64;
constexpr Index narrow = 16;
constexpr Index panelColumns = 32;

/// One reflection a column: the row of R and the rows below it. Leaves the reflections' vectors in the place
/// of the rows, each with a 1 in R's row before them. Their factors.
VectorXd reduceOneByOne(Ref<MatrixXd> r, Ref<MatrixXd> rows) {
    const Index count = rows.cols();
    VectorXd factors = VectorXd::Zero(count);
    for (Index j = 0; j < count; ++j) {
        auto column = rows.col(j);
        const oxgoad::Reflection turn = oxgoad::reflectionOf(r(j, j), column);
        if (turn.factor == 0) {
            column.setZero();
            continue;
        }
        factors[j] = turn.factor;
        r(j, j) = turn.length;
        column *= turn.scale;
        if (const Index after = count - j - 1; after > 0) {
            VectorXd along = r.row(j).tail(after).transpose();
            along.noalias() += rows.rightCols(after).transpose() * column;
            along *= turn.factor;
            r.row(j).tail(after) -= along.transpose();
            rows.rightCols(after).noalias() -= column * along.transpose();
        }
    }
    return factors;
}

/// sum += by·ab, and by·a'b: in two places only, since every product of its own types is compiled anew.
void addProduct(Ref<MatrixXd> sum, double by, const Ref<const MatrixXd>& a, const Ref<const MatrixXd>& b) {
    sum.noalias() += by * a * b;
}
void addCrossProduct(Ref<MatrixXd> sum, double by, const Ref<const MatrixXd>& a,
                     const Ref<const MatrixXd>& b) {
    sum.noalias() += by * a.transpose() * b;
}

/// Applies reflections (their vectors, their triangle T) to columns: I - V T' V' with V = [I; vectors].
void apply(const Ref<const MatrixXd>& vectors, const MatrixXd& t, Ref<MatrixXd> r, Ref<MatrixXd> rows) {
    MatrixXd along = r;
    addCrossProduct(along, 1, vectors, rows);
    MatrixXd turned = MatrixXd::Zero(along.rows(), along.cols());
    addCrossProduct(turned, 1, t, along);
    r -= turned;
    addProduct(rows, -1, vectors, turned);
}

/// Reduces a panel by halves. T of its reflections, where it is wanted.
MatrixXd reducePanel(Ref<MatrixXd> r, Ref<MatrixXd> rows, bool wanted) {
    const Index count = rows.cols();
    MatrixXd t;
    if (count <= narrow || !wanted) {
        const VectorXd factors = reduceOneByOne(r, rows);
        if (!wanted) return t;
        MatrixXd products = MatrixXd::Zero(count, count);
        addCrossProduct(products, 1, rows, rows); // T as of Schreiber and Van Loan, from V'V
        t = MatrixXd::Zero(count, count);
        for (Index j = 0; j < count; ++j) {
            t(j, j) = factors[j];
            if (j == 0) continue;
            const VectorXd said = -factors[j] * products.col(j).head(j);
            t.col(j).head(j) = t.topLeftCorner(j, j) * said;
        }
        return t;
    }
    const Index half = count / 2, other = count - half;
    const MatrixXd first = reducePanel(r.topLeftCorner(half, half), rows.leftCols(half), true);
    apply(rows.leftCols(half), first, r.topRightCorner(half, other), rows.rightCols(other));
    const MatrixXd second = reducePanel(r.bottomRightCorner(other, other), rows.rightCols(other), true);
    t = MatrixXd::Zero(count, count);
    t.topLeftCorner(half, half) = first;
    t.bottomRightCorner(other, other) = second;
    MatrixXd between = MatrixXd::Zero(half, other), whole = between;
    addCrossProduct(between, 1, rows.leftCols(half), rows.rightCols(other));
    addProduct(whole, 1, first, between);
    addProduct(t.topRightCorner(half, other), -1, whole, second);
    return t;
}

using Columns = Eigen::Map<MatrixXd>;
using ConstColumns = Eigen::Map<const MatrixXd>;

void activate(int kind, Eigen::Map<Eigen::ArrayXd> x) {
    switch (kind) {
    case 0:
        x = 1 - 2 / ((2 * x).exp() + 1);
        break;
    case 1:
        x = x.max(0.0);
        break;
    case 2:
        x = 1 / (1 + (-x).exp());
        break;
    default:
        x = x.max(0.0) + (1 + (-x.abs()).exp()).log();
        break;
    }
}

/// Times the derivative, from what the activation says.
void timesSlope(int kind, Eigen::Map<Eigen::ArrayXd> delta, Eigen::Map<const Eigen::ArrayXd> said) {
    switch (kind) {
    case 0:
        delta *= 1 - said * said;
        break;
    case 1:
        delta *= (said > 0).cast<double>();
        break;
    case 2:
        delta *= said * (1 - said);
        break;
    default: // d ln(1 + e^x) = 1 − e^−said
        delta *= 1 - (-said).exp();
        break;
    }
}

/// Lays what each layer says into `work`; hidden units times `kept`.
void layersOf(const OxgoadNetwork& net, const double* inputs, Index rows, const double* kept, double* work) {
    const double* from = inputs;
    const double* parameters = net.parameters;
    double* to = work;
    for (int l = 0; l < net.layers; ++l) {
        const Index in = net.sizes[l], out = net.sizes[l + 1];
        const ConstColumns weights(parameters, out, in);
        const Eigen::Map<const VectorXd> constant(parameters + out * in, out);
        Columns said(to, out, rows);
        said.noalias() = weights * ConstColumns(from, in, rows);
        said.colwise() += constant;
        if (l + 1 < net.layers) {
            activate(net.activation, {to, out * rows});
            if (kept) {
                Eigen::Map<Eigen::ArrayXd>(to, out * rows) *=
                    Eigen::Map<const Eigen::ArrayXd>(kept, out * rows);
                kept += out * rows;
            }
        }
        parameters += out * in + out;
        from = to;
        to += out * rows;
    }
}

} // namespace

bool oxgoad_absorb(OxgoadMatrix triangle, OxgoadMatrix block, OxgoadTold told, const void* whom) {
    View r = viewOf(triangle), rows = viewOf(block);
    const Waiting waiting{told, whom};
    const Index columns = r.cols();
    const Index panel = columns <= fewColumns ? std::max<Index>(1, columns) : panelColumns;
    // To the right in pieces of some 2e8 operations, so that a stop is seen soon.
    const Index piece = std::max<Index>(64, 50000000 / std::max<Index>(1, rows.rows() * panel));
    for (Index j = 0; j < columns; j += panel) {
        if (waiting.over()) return false;
        const Index width = std::min(panel, columns - j), end = j + width;
        const MatrixXd t = reducePanel(r.block(j, j, width, width), rows.middleCols(j, width), end < columns);
        for (Index from = end; from < columns; from += piece) {
            if (waiting.over()) return false;
            const Index count = std::min(piece, columns - from);
            apply(rows.middleCols(j, width), t, r.block(j, from, width, count), rows.middleCols(from, count));
        }
    }
    return true;
}

bool oxgoad_triangle_of_few(OxgoadMatrix triangle, OxgoadMatrix rows, OxgoadTold told, const void* whom) {
    View r = viewOf(triangle), block = viewOf(rows);
    const Waiting waiting{told, whom};
    const Index k = block.cols();
    // Panel by panel, so that most of the work is products of matrices; to the right in pieces of some 2e8
    // operations, so that a stop is seen soon.
    // Wide panels are applied as one product each (48 reflections or more), narrow ones one by one.
    const Index panel = k >= 128 ? 64 : std::clamp<Index>((k + 1) / 2, 8, 32);
    for (Index j = 0; j < std::min(k, block.rows()); j += panel) {
        const Index width = std::min(panel, k - j), below = block.rows() - j;
        Ref<MatrixXd> left = block.block(j, j, below, width); // factored in its place
        const Eigen::HouseholderQR<Ref<MatrixXd>> qr(left);
        const Index piece = std::max<Index>(64, 50000000 / (below * width));
        for (Index from = j + width; from < k; from += piece) {
            if (waiting.over()) return false;
            block.block(j, from, below, std::min(piece, k - from))
                .applyOnTheLeft(qr.householderQ().adjoint());
        }
    }
    const Index m = std::min(block.rows(), k);
    r.topRows(m) = block.topRows(m).triangularView<Eigen::Upper>();
    return true;
}

void oxgoad_solve_rows(OxgoadMatrix triangle, OxgoadMatrix rows) {
    View block = viewOf(rows);
    viewOf(triangle).triangularView<Eigen::Upper>().solveInPlace<Eigen::OnTheRight>(block);
}

void oxgoad_add_products(OxgoadMatrix sum, OxgoadMatrix a, OxgoadMatrix b) {
    addCrossProduct(viewOf(sum), 1, viewOf(a), viewOf(b));
}

void oxgoad_add_squares(OxgoadMatrix sum, OxgoadMatrix a) {
    viewOf(sum).selfadjointView<Eigen::Lower>().rankUpdate(viewOf(a).transpose());
}

void oxgoad_add_to_bins(const unsigned short* bins, const unsigned* rows, std::ptrdiff_t count,
                        const double* values, double* sums) {
    for (std::ptrdiff_t k = 0; k < count; ++k) {
        // Of a fixed size: one addition of four.
        Eigen::Map<Eigen::Array4d>(sums + 4 * static_cast<std::ptrdiff_t>(bins[rows[k]])) +=
            Eigen::Map<const Eigen::Array4d>(values + 4 * k);
    }
}

void oxgoad_network_says(const OxgoadNetwork* network, const double* inputs, std::ptrdiff_t rows,
                         double* work, double* said) {
    layersOf(*network, inputs, rows, nullptr, work);
    Index before = 0;
    for (int l = 1; l < network->layers; ++l)
        before += network->sizes[l] * rows;
    std::copy_n(work + before, rows, said);
}

void oxgoad_network_learn(const OxgoadNetwork* network, const double* inputs, const double* y,
                          const double* weights, std::ptrdiff_t rows, const double* kept, double* work,
                          double* gradient, double* loss) {
    const OxgoadNetwork& net = *network;
    layersOf(net, inputs, rows, kept, work);
    Index whole = 0, parameters = 0, hidden = 0;
    for (int l = 0; l < net.layers; ++l) {
        whole += net.sizes[l + 1] * rows;
        hidden += l + 1 < net.layers ? net.sizes[l + 1] * rows : 0;
        parameters += net.sizes[l + 1] * (net.sizes[l] + 1);
    }
    double* deltas = work + whole;
    double* delta = deltas + hidden;
    const double* said = work + hidden;
    double sum = 0;
    for (Index i = 0; i < rows; ++i) {
        const double e = said[i] - y[i], w = weights ? weights[i] : 1;
        if (net.loss == 0) {
            sum += w * e * e;
            delta[i] = 2 * w * e;
        } else {
            const double above = net.loss == 1 ? 1 : 1 - net.share, below = net.loss == 1 ? 1 : net.share;
            sum += w * (e > 0 ? above * e : -below * e);
            delta[i] = w * (e > 0 ? above : e < 0 ? -below : 0);
        }
    }
    *loss += sum;
    Index at = parameters;
    for (int l = net.layers - 1; l >= 0; --l) {
        const Index in = net.sizes[l], out = net.sizes[l + 1];
        at -= out * (in + 1);
        const ConstColumns now(delta, out, rows);
        const double* from = l == 0 ? inputs : said - in * rows;
        Columns(gradient + at, out, in).noalias() += now * ConstColumns(from, in, rows).transpose();
        Eigen::Map<VectorXd>(gradient + at + out * in, out) += now.rowwise().sum();
        if (l == 0) break;
        said -= in * rows;
        double* before = delta - in * rows;
        Columns(before, in, rows).noalias() = ConstColumns(net.parameters + at, out, in).transpose() * now;
        if (kept) {
            // What is said was multiplied: the activation's own is that over the factor, 0 where it was
            // dropped.
            const Index first = said - work;
            const Eigen::Map<const Eigen::ArrayXd> factor(kept + first, in * rows);
            Eigen::ArrayXd own = Eigen::Map<const Eigen::ArrayXd>(said, in * rows) / factor.max(1e-300);
            Eigen::Map<Eigen::ArrayXd>(before, in * rows) *= factor;
            timesSlope(net.activation, {before, in * rows}, {own.data(), in * rows});
        } else {
            timesSlope(net.activation, {before, in * rows}, {said, in * rows});
        }
        delta = before;
    }
}

void oxgoad_adam(double* parameters, double* first, double* second, const double* gradient,
                 std::ptrdiff_t count, double rate, double step) {
    constexpr double beta1 = 0.9, beta2 = 0.999, small = 1e-8;
    const double scale1 = 1 / (1 - std::pow(beta1, step)), scale2 = 1 / (1 - std::pow(beta2, step));
    const Eigen::Map<const Eigen::ArrayXd> g(gradient, count);
    Eigen::Map<Eigen::ArrayXd> m(first, count), v(second, count), p(parameters, count);
    m = beta1 * m + (1 - beta1) * g;
    v = beta2 * v + (1 - beta2) * g * g;
    p -= rate * scale1 * m / ((scale2 * v).sqrt() + small);
}

const char* oxgoad_built_for(void) {
    return OXGOAD_BUILT_FOR;
}
