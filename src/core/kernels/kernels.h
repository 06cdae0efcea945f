#pragma once
// The arithmetic that most of a wide fit's time goes into, over plain arrays. It is a library of its own so
// that it can be there twice: built for every x86-64, and for machines with wider instructions (x86-64-v3),
// between which the loader chooses when the program starts. Nothing but arrays goes in and out: what a type
// of matrices looks like may differ between the two.
#include <cstddef>

#pragma GCC visibility push(default)
extern "C" {

/// A matrix by columns, `stride` values from one to the next.
struct OxgoadMatrix {
    double* values;
    std::ptrdiff_t rows, columns, stride;
};

/// Whether work is to stop, asked now and then with what was given beside it.
typedef bool (*OxgoadTold)(const void* whom);

/// As absorb in estimate/linear/triangle.h: takes rows, worked on in their place, into the upper triangle
/// `r`, of as many rows and columns as they have columns. False where it was told to stop; both are of no use
/// then.
bool oxgoad_absorb(OxgoadMatrix r, OxgoadMatrix rows, OxgoadTold told, const void* whom);

/// R of hardly more rows than columns, reduced among themselves; into the zeros of `r`.
bool oxgoad_triangle_of_few(OxgoadMatrix r, OxgoadMatrix rows, OxgoadTold told, const void* whom);

/// Rows times the inverse of the upper triangle, in their place.
void oxgoad_solve_rows(OxgoadMatrix triangle, OxgoadMatrix rows);

/// sum += a'b.
void oxgoad_add_products(OxgoadMatrix sum, OxgoadMatrix a, OxgoadMatrix b);

/// The same of a'a, of which only the lower triangle is worked out.
void oxgoad_add_squares(OxgoadMatrix sum, OxgoadMatrix a);

/// Adds `values` (four a row) of the rows named to the bins that they are in (four a bin): bins[row] says
/// which.
void oxgoad_add_to_bins(const unsigned short* bins, const unsigned* rows, std::ptrdiff_t count,
                        const double* values, double* sums);

/// A fully connected network: `sizes` of its inputs, hidden layers and output (layers + 1 of them),
/// parameters layer by layer: weights (outputs × inputs, by columns), then one constant an output.
struct OxgoadNetwork {
    int layers;
    const std::ptrdiff_t* sizes;
    /// 0 tanh, 1 max(0, x), 2 1/(1 + exp(−x)), 3 ln(1 + exp x).
    int activation;
    /// 0 squared, 1 absolute, 2 check loss of `share`.
    int loss;
    double share;
    const double* parameters;
};
/// What it says of rows, a row a column of `inputs` (sizes[0] × rows). `work` has room for
/// rows · (sum of sizes); after the call it holds what each layer says, one after the other.
void oxgoad_network_says(const OxgoadNetwork* network, const double* inputs, std::ptrdiff_t rows,
                         double* work, double* said);
/// Adds Σ weight·loss of rows to `loss` and its derivatives to `gradient`. `kept`, where there is one, has
/// what units of hidden layers are multiplied by (rows · sum of hidden sizes, layer by layer). `work` has
/// room for 2 · rows · (sum of sizes).
void oxgoad_network_learn(const OxgoadNetwork* network, const double* inputs, const double* y,
                          const double* weights, std::ptrdiff_t rows, const double* kept, double* work,
                          double* gradient, double* loss);
/// A step of Adam (Kingma and Ba 2015, algorithm 1) by a gradient; `step` counts from 1.
void oxgoad_adam(double* parameters, double* first, double* second, const double* gradient,
                 std::ptrdiff_t count, double rate, double step);

/// What this build is for: "x86-64-v3", "any machine".
const char* oxgoad_built_for(void);
}
#pragma GCC visibility pop
