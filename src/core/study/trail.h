#pragma once
// The trail: every fit that was made, numbered, and what changed since the one it came from.
#include "recipe/recipe.h"
#include "study/evidence.h"

#include <limits>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// What the trail shows of a fit without its evidence. NaN where there is none.
struct FitSummary {
    double learningRmse = 0;
    double heldOutRmse = 0;
    double heldOutRmseError = 0;
    double adjustedRSquared = 0;
    std::size_t rowsLearning = 0;
    /// Keys of the goads it had.
    std::vector<std::string> goads;
    /// RMSE over folds, its standard error, and its spread over repeats.
    double foldRmse = std::numeric_limits<double>::quiet_NaN();
    double foldRmseError = std::numeric_limits<double>::quiet_NaN();
    double repeatSpread = std::numeric_limits<double>::quiet_NaN();
    /// Of the folds and of the repeats: at most 200 each.
    std::vector<double> foldRmses, repeatRmses;

    /// The error a fit is judged by: over folds, otherwise of held-out rows, otherwise of learning rows.
    double judgedRmse() const;
    /// Its standard error.
    double judgedRmseError() const;
};

FitSummary summaryOf(const Evidence& evidence);

struct TrailFit {
    /// Counts from 1 and is never given twice.
    int number = 0;
    /// Number of the fit it came from; 0 for a start.
    int parent = 0;
    std::string change;
    Recipe recipe;
    FitSummary summary;
    /// The summary is of rows that were read before the present ones.
    bool earlierRows = false;
};

/// A tree of fits in the order they were made.
class Trail {
public:
    const std::vector<TrailFit>& fits() const { return m_fits; }
    bool empty() const { return m_fits.empty(); }
    const TrailFit* find(int number) const;
    /// The fit of the same model, if it was made before.
    const TrailFit* findModel(const Recipe& recipe) const;
    /// Adds a fit that came from `parent` (0 for a start); its number is returned.
    int add(const Recipe& recipe, const Evidence& evidence, int parent);
    /// Other rows were read: what the fits found before is of earlier rows, until each is worked out anew.
    void rowsWereReadAgain();
    /// Takes over what the fit found in the present rows.
    void renew(int number, const Evidence& evidence);
    /// Accepted goads, roles and units of a fit may change without a new fit.
    void updateNotes(int number, const Recipe& recipe);
    /// Goad keys that an ancestor of the fit had and the fit has not.
    std::vector<std::string> mendedGoads(int number) const;

    /// Fits whose test score was looked at, in order, a fit as often as it was looked at.
    const std::vector<int>& testLooks() const { return m_testLooks; }
    /// Requires a fit of that number.
    void lookAtTest(int number);

    /// For reading projects: requires numbers to rise and parents to be there.
    static std::optional<Trail> fromFits(std::vector<TrailFit> fits);

private:
    std::vector<TrailFit> m_fits;
    std::vector<int> m_testLooks;
};

} // namespace oxgoad
