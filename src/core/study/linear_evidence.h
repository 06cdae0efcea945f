#pragma once
// What is said of a model with coefficients: coefficients, terms, rows, the fit as a whole.
#include "study/evidence.h"

#include <span>
#include <string>
#include <vector>

namespace oxgoad {

/// What the description reads. References outlive the call.
struct LinearScope {
    const Recipe& recipe;
    const Study& study;
    const Table& table;
    const std::string& file;
    /// What the model fits, a value a learning row.
    std::span<const double> working;
    /// Rows held out, their responses, and the model's error there.
    std::span<const std::uint32_t> heldOut;
    std::span<const double> heldOutActual;
    double heldOutRmse = 0;
    Threads threads;
    Progress& progress;
};

/// Everything; requires a study with coefficients and with what was found at its rows. Fits nothing: reduced
/// fits come from the triangular factor. The same for any number of threads. Throws Stopped.
LinearEvidence describeLinear(const LinearScope& scope);

/// Coefficients with their errors, tests, effects and intervals.
void describeCoefficients(const LinearScope& scope, LinearEvidence& evidence);
/// Other intervals of the same coefficients.
void setLevel(LinearEvidence& evidence, double level);
/// Tests of terms, inflation, shapes, and what the error is without each.
void describeTerms(const LinearScope& scope, LinearEvidence& evidence);

/// Columns of the model matrix that term t made.
std::vector<std::size_t> columnsOf(const LinearModel& linear, std::size_t t);
/// For each term the first of the terms linked to it by columns they share (a product and its parents, a
/// column and its powers): such terms are collinear by construction and are judged together.
std::vector<std::size_t> termGroups(const std::vector<Term>& terms);

} // namespace oxgoad
