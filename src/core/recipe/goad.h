#pragma once
// What checks find: readings, and goads where a reading crosses its threshold, with the moves that would
// answer them.
#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

enum class Severity { caution, alarm };

struct Recipe;

/// An edit of a recipe; `reason` is what the analyst said where the move asks for one.
using RecipeEdit = std::function<void(Recipe& recipe, const std::string& reason)>;

/// What a goad tells of, in the order in which it changes a forecast.
enum class Tells {
    /// That the model is worse than none, or is not the one that was asked for.
    first,
    /// Columns that know the response.
    leak,
    /// A missing bend, pair, column, season or logarithm.
    form,
    /// Rows that carry the fit or lie apart.
    rows,
    /// How the model was judged, and how far it is asked to go.
    judgement,
    dependence,
    spread,
    shape,
    /// Everything else about columns and coefficients.
    columns
};

/// One click that would answer a goad.
struct Move {
    /// What the button says.
    std::string label;
    /// What it changes; empty when it only shows something.
    RecipeEdit edit{};
    /// "Why is row 89 left out?": asked before the edit; empty for nothing.
    std::string asks{};
    /// What it shows, at the goad's station.
    enum class Shows { nothing, row, column, rowsToForecast, steps } shows = Shows::nothing;
    /// Row of the table, from 0.
    std::size_t row = 0;
};

struct Goad {
    /// Stays the same from fit to fit: kind and subject, "collinearity: energy_price".
    std::string key;
    Severity severity = Severity::caution;
    /// A sentence without its full stop.
    std::string title;
    /// The reading in words and numbers.
    std::string reading;
    /// The threshold it crossed.
    std::string threshold;
    /// Author and year, or "common practice, no source".
    std::string source;
    /// Station whose view shows it ("data", "look", "fit", "check", "forecast") and what to show there.
    std::string station;
    std::string column;
    std::optional<std::size_t> row;
    std::vector<Move> moves;
    /// Noted by the analyst, not found by a check.
    bool noted = false;
    /// The analyst's reason, when accepted; or, when it is clearly worse than what was accepted, the reason
    /// given then.
    std::optional<std::string> accepted;
    std::string acceptedBefore{};
    /// The reading it comes from; empty where there is none.
    std::string check{};
    /// What it could cost the forecast: a share of the typical error or of the width of intervals, and how
    /// that was worked out. None where it cannot be said.
    std::optional<double> cost{};
    std::string costSays{};
    /// Grows with being worse, so that it is known when an accepted goad got worse.
    std::optional<double> size{};
    Tells tells = Tells::columns;
    /// Key of the goad it stands under: of the same cause, or what follows from it. Empty for one that stands
    /// by itself.
    std::string under{};
    /// Keys of goads it follows from: it stands under the first of them that is open.
    std::vector<std::string> follows{};
    /// Goads of one family are told together; its sentence has the number in place of "#".
    std::string family{};
    std::string familyTitle{};
};

/// A number a check computed, whether or not it crossed its threshold.
struct Reading {
    std::string name;
    /// NaN when the check does not apply; the sentence says why.
    double value = 0;
    double threshold = 0;
    std::optional<double> p;
    std::string sentence;
    std::string source;
};

struct Findings {
    std::vector<Reading> readings;
    std::vector<Goad> goads;
};

/// Puts the open goads of each family from a place on under its first (Goad::under).
void tellFamiliesTogether(std::vector<Goad>& goads, std::size_t from = 0);

} // namespace oxgoad
