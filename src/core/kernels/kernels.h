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

/// What this build is for: "x86-64-v3", "any machine".
const char* oxgoad_built_for(void);
}
#pragma GCC visibility pop
