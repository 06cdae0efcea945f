#pragma once
// Steps of preparation as assignments over the columns of one row.
#include "hand_on/program.h"
#include "prepare/preparation.h"

#include <map>
#include <string>
#include <vector>

namespace oxgoad::scoring {

/// A column on its way: what it is now.
struct Symbol {
    ColumnKind kind = ColumnKind::number;
    /// Levels that the learning rows have, of a factor.
    std::vector<std::string> levels{};
    bool moments = false;
    /// What it is worked out of; null while it is as given, under the name `source`.
    Said value{};
    std::string source{};
};

/// The columns while steps are gone through.
class Columns {
public:
    /// A column of the rows as they are read; it becomes a source when it is used.
    void declare(const Column& column);
    /// Errors: badTerm for steps that need more than the row itself.
    void run(const oxgoad::Step& step, const StepOutcome& learned);
    /// Errors: unknownColumn.
    const Symbol& at(const std::string& name);
    /// Null where there is none.
    const Symbol* find(const std::string& name);
    void put(const std::string& name, Symbol symbol);
    /// Makes a step of an expression, unless it is one already; what refers to it.
    Said keep(std::string says, Said value);

    const std::vector<Program::Source>& sources() const { return m_sources; }
    const std::vector<Program::Step>& steps() const { return m_steps; }

private:
    Said expression(const std::string& text);
    void derive(const oxgoad::Step& step);
    void transform(const oxgoad::Step& step);
    void standardise(const oxgoad::Step& step, const StepOutcome& learned);
    void bands(const oxgoad::Step& step, const StepOutcome& learned);
    void fill(const oxgoad::Step& step, const StepOutcome& learned);
    void replace(const oxgoad::Step& step);
    void relevel(const std::string& name, const std::vector<std::string>& from, const std::string& into);
    void combine(const oxgoad::Step& step);
    void changeType(const oxgoad::Step& step);
    void dateParts(const oxgoad::Step& step, const StepOutcome& learned);

    std::map<std::string, Symbol> m_symbols;
    /// Why steps that add columns could not be gone through: said when such a column is asked for.
    std::string m_lookingBack;
    std::vector<Program::Source> m_sources;
    std::vector<Program::Step> m_steps;
};

/// Calendar parts of a number of days since 1970-01-01 (Fliegel and Van Flandern 1968, Communications of the
/// ACM 11, here with the year beginning in March).
struct DateParts {
    Said year, month, day;
};
DateParts datePartsOf(Columns& columns, const Said& days, const std::string& name);
/// The day number of the first of January of a year.
Said dayOfYear(const Said& year);

} // namespace oxgoad::scoring
