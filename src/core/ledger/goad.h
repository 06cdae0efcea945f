#pragma once
// What checks find: readings, and goads where a reading crosses its threshold.
#include "prepare/step.h"

#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

enum class Severity { caution, alarm };

/// One click that would answer a goad.
struct Move {
    enum class Kind {
        leaveOutTerm,
        leaveOutRow,
        seeRow,
        seeForecastRows,
        seeColumn,
        /// Adds `step` to the preparation.
        addStep,
        /// Gives the column `subject` the role `role`.
        giveRole,
        seeSteps,
        /// Takes a note of the analyst's own away; `subject` is what it says.
        dropNote,
        /// Puts in the parts of the product `subject` as terms.
        addParents,
        /// Errors of the coefficients that stand unequal spread.
        standUnequalSpread,
        /// The model of ln(response).
        logResponse,
        /// An estimator that stands outliers.
        standOutliers,
        /// Errors by group with the correction for few groups.
        correctFewGroups,
    };
    Kind kind = Kind::seeColumn;
    /// What the button says.
    std::string label;
    /// Term name, or column name.
    std::string subject;
    /// Row of the table, from 0.
    std::size_t row = 0;
    std::optional<Step> step{};
    std::string role{};
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
    /// The analyst's reason, when accepted.
    std::optional<std::string> accepted;
};

/// A number a check computed, whether or not it crossed its threshold.
struct Reading {
    std::string name;
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

} // namespace oxgoad
