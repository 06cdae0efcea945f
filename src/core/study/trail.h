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
    /// Coefficients, effective degrees of freedom where a penalty holds them back, or what the kind says of
    /// its size.
    double complexity = std::numeric_limits<double>::quiet_NaN();
    /// Once the test rows were looked at.
    double testRmse = std::numeric_limits<double>::quiet_NaN();

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
    /// What the analyst calls it and says of it; may be empty.
    std::string name, note;
    /// When it was made, "2026-11-28 14:05"; empty where nobody said.
    std::string madeAt;
    bool pinned = false;
    /// Put out of sight, and brought back at will.
    bool pruned = false;

    /// Its number, and its name or what changed.
    std::string title() const;
};

/// How a fit differs from another by what the trail keeps of both: in RMSE, with an interval that respects
/// the dependence between folds where both were judged by as many (Nadeau and Bengio 2003), NaN otherwise.
struct TrailDifference {
    double difference = std::numeric_limits<double>::quiet_NaN();
    double lower = std::numeric_limits<double>::quiet_NaN();
    double upper = std::numeric_limits<double>::quiet_NaN();
    std::size_t folds = 0, foldsBetter = 0;
};
TrailDifference differenceOf(const TrailFit& fit, const TrailFit& from, double level = 0.95);

/// Which fits a search shows: every word of it is somewhere in the number, name, change, note, response or
/// kind of model, whatever the case.
bool matches(const TrailFit& fit, const std::string& words);

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
    /// The last fit is another one with the same parent: it was only on the way. Requires a fit.
    void replaceLast(const Recipe& recipe, const Evidence& evidence);
    /// Other rows were read: what the fits found before is of earlier rows, until each is worked out anew.
    void rowsWereReadAgain();
    /// Takes over what the fit found in the present rows.
    void renew(int number, const Evidence& evidence);
    /// Accepted goads, roles and units of a fit may change without a new fit.
    void updateNotes(int number, const Recipe& recipe);
    /// What the analyst says of a fit. Requires a fit of that number.
    void rename(int number, const std::string& name);
    void annotate(int number, const std::string& note);
    void pin(int number, bool pinned);
    void timeOf(int number, const std::string& madeAt);
    /// Puts a fit and what came from it out of sight, but pinned fits, `shown` and what leads to them; the
    /// number of fits put away is returned. With `pruned` false all of them come back.
    std::size_t prune(int number, bool pruned, int shown);
    std::size_t prunedCount() const;
    /// Goad keys that an ancestor of the fit had and the fit has not.
    std::vector<std::string> mendedGoads(int number) const;

    /// Fits whose test score was looked at, in order, a fit as often as it was looked at.
    const std::vector<int>& testLooks() const { return m_testLooks; }
    /// Requires a fit of that number.
    void lookAtTest(int number);

    /// For reading projects: requires numbers to rise and parents to be there.
    static std::optional<Trail> fromFits(std::vector<TrailFit> fits);

private:
    TrailFit* at(int number);

    std::vector<TrailFit> m_fits;
    std::vector<int> m_testLooks;
};

} // namespace oxgoad
