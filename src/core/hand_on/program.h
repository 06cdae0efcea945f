#pragma once
// A model as a list of plain assignments over the columns of one row: what every format that is handed on is
// written from.
#include "study/study.h"
#include "table/table.h"

#include <cstddef>
#include <memory>
#include <optional>
#include <span>
#include <string>
#include <vector>

namespace oxgoad {

struct ScoreNode;
using Said = std::shared_ptr<const ScoreNode>;

/// A node of an expression. Numbers may be missing, which goes through arithmetic; a text that is missing is
/// empty. Truths are one of two: a comparison with something missing does not hold. What stands in `choose`
/// is looked at only where it is chosen.
struct ScoreNode {
    enum class Op {
        // numbers
        constant,
        missing,
        source,   ///< a column as given: `index` of Program::sources; a date is days since 1970-01-01
        variable, ///< `index` of Program::steps, before it
        add,
        subtract,
        multiply,
        divide,
        power, ///< of a base of 0 or more, or a whole exponent that is a constant
        negate,
        ln,
        log10,
        exp,
        root,
        absolute,
        floor,
        sine,
        cosine,
        least,
        most,
        choose, ///< a truth, and two numbers or two texts
        // texts
        word,
        join,
        // truths
        below,
        atMost,
        equal,
        unequal,
        same, ///< two texts
        other,
        both,
        either,
        lacks, ///< a number or a text is missing
    };
    Op op = Op::constant;
    std::vector<Said> of{};
    double number = 0;
    std::string text{};
    std::size_t index = 0;
    bool isText = false;
};

/// What does what a format cannot.
inline constexpr const char* keptInstead =
    "Keep the project and score with oxgoad-run --project FILE --forecast "
    "ROWS --out DIR, or take model.json.";

/// What scores a row: assignments one after the other, and what comes of them.
struct Program {
    enum class Kind { number, date, text };
    struct Source {
        std::string name;
        Kind kind;
    };
    struct Step {
        /// For people: "list_rate filled".
        std::string says;
        Said value;
    };
    /// Why a row is not inside what was learned, in the order of gravity.
    struct Reason {
        Said holds;
        std::string says;
        bool outside = true;
    };
    std::string response, unit, sentence;
    /// Columns that must be there.
    std::vector<Source> sources;
    std::vector<Step> steps;
    Said prediction, lower, upper;
    std::vector<Reason> reasons;
    double level = 0.95;
    /// Why there are no intervals; empty when there are.
    std::string noIntervals;
    /// What the kind says of itself beside this: coefficients by name, the constant first; empty without.
    std::vector<std::pair<std::string, double>> coefficients;

    std::size_t place(const std::string& source) const;
};

/// The model of a study as a program. `raw` are the columns of the learning rows as they were read; `mostIn`
/// the largest number of coefficients whose intervals are written out (a square of terms). Errors: badTerm
/// for what cannot be said of one row by itself (steps that look back, models that hold rows), with what to
/// use instead.
Program programOf(const Study& study, std::span<const Column> raw, double level, std::size_t mostIn);

/// A row as text or number by source; numbers NaN where missing.
struct ProgramRow {
    std::vector<double> numbers;
    std::vector<std::string> texts;
};
struct ProgramResult {
    double prediction, lower, upper;
    std::vector<std::string> reasons;
    bool outside = false;
};
/// Works a program out, as those who read what is written of it do.
ProgramResult runProgram(const Program& program, const ProgramRow& row);
/// What each assignment comes to: a number, or a text.
std::vector<std::pair<double, std::string>> runSteps(const Program& program, const ProgramRow& row);
/// Rows of a table as given, for that. Errors: unknownColumn, wrongType.
std::vector<ProgramRow> programRows(const Program& program, const Table& raw, const std::string& file,
                                    std::span<const std::uint32_t> rows);

} // namespace oxgoad
