#pragma once
// Arithmetic and conditions over the columns of a table, in ordinary mathematical notation.
#include "base/parallel.h"
#include "table/column.h"

#include <memory>
#include <span>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// An expression the analyst typed: `list_rate × places / 1000`, `contract = "spot" and occupancy > 40`.
///
/// Operators: + − × ÷ (or - * /), ^, = ≠ < ≤ > ≥ (or <> <= >=), and, or, not, parentheses. Functions: ln,
/// log10, exp, sqrt, abs, min, max, round, floor, ceil, sin, cos, if(condition, then, else), missing(column),
/// of dates year, quarter, month, day, weekday (1 is Monday), and date(text, "day month year"), which reads
/// the days of a text, a factor or a number in the order of the quoted words. pi is known. Column names stand
/// as they are, or in braces when they hold other characters than letters, digits and _: {list rate}. Factors
/// and texts are compared with a quoted text by = and ≠, dates with a quoted date by any comparison. Decimals
/// are written with a point. There is no assignment.
///
/// Missing values: arithmetic and comparisons with a missing value are missing; "and" and "or" follow the
/// logic of three values (a condition that is missing does not hold). A result that is not finite is missing.
class Expression {
public:
    /// Errors: badExpression, unknownColumn, wrongType; each with where.character. Requires nothing of the
    /// text.
    static Expression parse(std::string_view text, std::span<const Column> columns);

    const std::string& text() const { return m_text; }
    /// Whether the whole is one date(…): values are days since 1970-01-01.
    bool isDate() const {
        return m_variables.size() == 1 && m_variables[0].kind == Variable::Kind::day &&
               m_translated == " v0 ";
    }
    /// Names of the columns in use, in the order of first use.
    const std::vector<std::string>& columns() const { return m_names; }
    /// One value for each row; conditions give 1 or 0. `columns` are those it was parsed with, or others of
    /// the same names and kinds. Errors: badExpression. The same for any number of threads.
    std::vector<double> evaluate(std::span<const Column> columns) const;

    /// What stands for a piece of the text in the translated expression.
    struct Variable {
        enum class Kind { value, comparison, missing, day } kind = Kind::value;
        std::string column;
        /// For comparisons with a quoted text; of a day the order of its parts.
        std::string literal;
        /// EQ, NE, LT, LE, GT, GE
        std::string comparison;
    };
    /// For those who write it in other notations: v0, v1 … for the variables, + - * ^ and OVER, AND, OR, EQ,
    /// NE, LT, LE, GT, GE, functions by their names, `choose` for if.
    const std::string& translation() const { return m_translated; }
    const std::vector<Variable>& variables() const { return m_variables; }

private:
    friend class ExpressionParser;
    std::string m_text;
    std::vector<std::string> m_names;
    std::vector<Variable> m_variables;
    std::string m_translated;
    /// For each byte of the translation the character of the text it came from, from 1.
    std::vector<std::size_t> m_origins;
};

} // namespace oxgoad
