#include "hand_on/translate.h"

#include "base/error.h"
#include "base/text.h"
#include "hand_on/say.h"
#include "prepare/expression.h"
#include "table/values.h"

#include <algorithm>
#include <array>
#include <cmath>

namespace oxgoad::scoring {

namespace {

[[noreturn]] void cannotStep(const oxgoad::Step& step, const std::string& why) {
    throw Error(ErrorCode::badTerm, "the step \"" + stepSentence(step) + "\" " + why, {}, keptInstead);
}

const LearnedValue& learnedOf(const oxgoad::Step& step, const StepOutcome& learned,
                              const std::string& column) {
    for (const LearnedValue& value : learned.learned)
        if (value.column == column) return value;
    cannotStep(step, "has kept nothing of " + column);
}

Said floorOf(Said x) {
    return unary(Op::floor, std::move(x));
}

/// Half away from 0, as in the program.
Said roundOf(const Said& x) {
    return choose(below(x, number(0)), unary(Op::negate, floorOf(number(0.5) - x)), floorOf(x + number(0.5)));
}

/// Text by text what a column is of a translated expression: by precedence, as the library reads it.
class TranslatedReader {
public:
    TranslatedReader(const oxgoad::Expression& expression, Columns& columns)
        : m_expression(expression), m_text(expression.translation()), m_columns(columns) {}

    /// A number, or a truth in both of its ways: what makes it hold, and what makes it fail.
    struct Found {
        Said value, holds, fails;
    };

    Found read() {
        Found found = either_();
        skip();
        if (m_at < m_text.size()) cannotRead();
        return found;
    }
    /// As a number: 1 or 0 where it is a truth.
    static Said valueOf(const Found& found) {
        return found.value ? found.value
                           : choose(found.holds, number(1), choose(found.fails, number(0), missing()));
    }
    static Found truthOf(const Found& found) {
        if (found.holds) return found;
        const Said& v = found.value;
        return {{}, binary(Op::unequal, v, number(0)), binary(Op::equal, v, number(0))};
    }

private:
    [[noreturn]] void cannotRead() const {
        throw Error(ErrorCode::badExpression,
                    "the expression " + m_expression.text() + " cannot be handed on");
    }
    void skip() {
        while (m_at < m_text.size() && m_text[m_at] == ' ')
            ++m_at;
    }
    bool take(std::string_view sign) {
        skip();
        if (m_text.compare(m_at, sign.size(), sign) != 0) return false;
        const bool letters = sign[0] >= 'A' && sign[0] <= 'z' && sign[0] != '^';
        const std::size_t end = m_at + sign.size();
        if (letters && end < m_text.size() && (std::isalnum(static_cast<unsigned char>(m_text[end])) != 0))
            return false;
        m_at = end;
        return true;
    }

    Found either_() {
        Found left = both_();
        while (take("OR")) {
            const Found a = truthOf(left), b = truthOf(both_());
            left = {{}, either(a.holds, b.holds), both(a.fails, b.fails)};
        }
        return left;
    }
    Found both_() {
        Found left = compare();
        while (take("AND")) {
            const Found a = truthOf(left), b = truthOf(compare());
            left = {{}, both(a.holds, b.holds), either(a.fails, b.fails)};
        }
        return left;
    }
    Found compare() {
        Found left = sum();
        for (;;) {
            const std::size_t before = m_at;
            std::string sign;
            for (const auto* each : {"EQ", "NE", "LT", "LE", "GT", "GE"})
                if (take(each)) {
                    sign = each;
                    break;
                }
            if (sign.empty()) {
                m_at = before;
                return left;
            }
            const Said a = valueOf(left), b = valueOf(sum());
            const auto with = [&](Op op, bool turned) {
                return turned ? binary(op, b, a) : binary(op, a, b);
            };
            if (sign == "EQ")
                left = {{}, with(Op::equal, false), with(Op::unequal, false)};
            else if (sign == "NE")
                left = {{}, with(Op::unequal, false), with(Op::equal, false)};
            else if (sign == "LT")
                left = {{}, with(Op::below, false), with(Op::atMost, true)};
            else if (sign == "LE")
                left = {{}, with(Op::atMost, false), with(Op::below, true)};
            else if (sign == "GT")
                left = {{}, with(Op::below, true), with(Op::atMost, false)};
            else
                left = {{}, with(Op::atMost, true), with(Op::below, false)};
        }
    }
    Found sum() {
        Found left = product();
        for (;;) {
            if (take("+"))
                left = {valueOf(left) + valueOf(product()), {}, {}};
            else if (take("-"))
                left = {binary(Op::subtract, valueOf(left), valueOf(product())), {}, {}};
            else
                return left;
        }
    }
    Found product() {
        Found left = sign();
        for (;;) {
            if (take("*"))
                left = {valueOf(left) * valueOf(sign()), {}, {}};
            else if (take("OVER"))
                left = {over(valueOf(left), valueOf(sign())), {}, {}};
            else
                return left;
        }
    }
    Found sign() {
        if (take("-")) return {unary(Op::negate, valueOf(sign())), {}, {}};
        if (take("+")) return sign();
        return power();
    }
    Found power() {
        Found base = part();
        if (!take("^")) return base;
        const Said a = valueOf(base);
        Said b = valueOf(signedPower());
        if (b->op == Op::negate && b->of[0]->op == Op::constant) b = number(-b->of[0]->number);
        if (b->op == Op::constant && b->number == std::floor(b->number) && std::fabs(b->number) <= 30)
            return {b->number == 0 ? whereThere(a, number(1)) : wholePower(a, static_cast<int>(b->number)),
                    {},
                    {}};
        if (b->op == Op::constant && b->number > 0)
            return {choose(atMost(number(0), a), binary(Op::power, a, b), missing()), {}, {}};
        return {choose(below(number(0), a), binary(Op::power, a, b), missing()), {}, {}};
    }
    Found signedPower() {
        if (take("-")) return {unary(Op::negate, valueOf(signedPower())), {}, {}};
        return power();
    }
    Found part() {
        skip();
        if (m_at >= m_text.size()) cannotRead();
        if (take("(")) {
            Found inside = either_();
            if (!take(")")) cannotRead();
            return inside;
        }
        const char c = m_text[m_at];
        if ((c >= '0' && c <= '9') || c == '.') {
            std::size_t end = m_at;
            while (end < m_text.size() && m_text[end] != ' ' && m_text[end] != ')' && m_text[end] != ',')
                ++end;
            const auto value = parseNumber(m_text.substr(m_at, end - m_at), '.');
            if (!value) cannotRead();
            m_at = end;
            return {number(*value), {}, {}};
        }
        std::size_t end = m_at;
        while (end < m_text.size() && std::isalnum(static_cast<unsigned char>(m_text[end])) != 0)
            ++end;
        const std::string name = m_text.substr(m_at, end - m_at);
        m_at = end;
        if (name.size() > 1 && name[0] == 'v' && std::isdigit(static_cast<unsigned char>(name[1])) != 0)
            return variable(m_expression.variables()[std::stoul(name.substr(1))]);
        return call(name);
    }

    Found variable(const oxgoad::Expression::Variable& v) {
        using Kind = oxgoad::Expression::Variable::Kind;
        const Symbol& symbol = m_columns.at(v.column);
        switch (v.kind) {
        case Kind::value:
            return {symbol.value, {}, {}};
        case Kind::missing:
            return {choose(lacks(symbol.value), number(1), number(0)), {}, {}};
        case Kind::day:
            if (symbol.kind == ColumnKind::date) return {symbol.value, {}, {}};
            throw Error(ErrorCode::badExpression,
                        "the days of " + v.column + " are read from texts, which cannot be handed on");
        case Kind::comparison:
            break;
        }
        if (symbol.kind == ColumnKind::date) {
            const Said day = number(parseDate(v.literal).value_or(0));
            const Said& x = symbol.value;
            const std::string& s = v.comparison;
            if (s == "EQ" || s == "NE") {
                const Said is = binary(Op::equal, x, day), isNot = binary(Op::unequal, x, day);
                return s == "EQ" ? Found{{}, is, isNot} : Found{{}, isNot, is};
            }
            if (s == "LT") return {{}, below(x, day), atMost(day, x)};
            if (s == "LE") return {{}, atMost(x, day), below(day, x)};
            if (s == "GT") return {{}, below(day, x), atMost(x, day)};
            return {{}, atMost(day, x), below(x, day)};
        }
        const Said is = same(symbol.value, word(v.literal)),
                   isNot = both(other(symbol.value, word("")), other(symbol.value, word(v.literal)));
        return v.comparison == "EQ" ? Found{{}, is, isNot} : Found{{}, isNot, is};
    }

    Found call(const std::string& name) {
        if (!take("(")) cannotRead();
        std::vector<Found> found{either_()};
        while (take(","))
            found.push_back(either_());
        if (!take(")")) cannotRead();
        if (name == "choose")
            return {choose(truthOf(found[0]).holds, valueOf(found[1]), valueOf(found[2])), {}, {}};
        if (name == "not") {
            const Found truth = truthOf(found[0]);
            return {{}, truth.fails, truth.holds};
        }
        std::vector<Said> a;
        for (const Found& each : found)
            a.push_back(valueOf(each));
        const Said& x = a[0];
        if (name == "ln") return {lnOf(x), {}, {}};
        if (name == "log10") return {choose(below(number(0), x), unary(Op::log10, x), missing()), {}, {}};
        if (name == "exp") return {unary(Op::exp, x), {}, {}};
        if (name == "sqrt") return {choose(atMost(number(0), x), unary(Op::root, x), missing()), {}, {}};
        if (name == "abs") return {unary(Op::absolute, x), {}, {}};
        if (name == "round") return {roundOf(x), {}, {}};
        if (name == "floor") return {floorOf(x), {}, {}};
        if (name == "ceil") return {unary(Op::negate, floorOf(unary(Op::negate, x))), {}, {}};
        if (name == "sin") return {unary(Op::sine, x), {}, {}};
        if (name == "cos") return {unary(Op::cosine, x), {}, {}};
        if (name == "min" || name == "max")
            return {joined(name == "min" ? Op::least : Op::most, a, 0, a.size()), {}, {}};
        if (name == "weekday") {
            const Said shifted = floorOf(x) + number(3);
            return {shifted - number(7) * floorOf(shifted / number(7)) + number(1), {}, {}};
        }
        const DateParts parts = datePartsOf(m_columns, floorOf(x), "the date");
        if (name == "year") return {parts.year, {}, {}};
        if (name == "month") return {parts.month, {}, {}};
        if (name == "day") return {parts.day, {}, {}};
        if (name == "quarter") return {floorOf((parts.month + number(2)) / number(3)), {}, {}};
        cannotRead();
    }

    const oxgoad::Expression& m_expression;
    std::string m_text;
    Columns& m_columns;
    std::size_t m_at = 0;
};

} // namespace

Said dayOfYear(const Said& year) {
    // Days before the year in the calendar that goes on for ever, less those before 1970.
    const Said y = year - number(1);
    return number(365) * y + floorOf(y / number(4)) - floorOf(y / number(100)) + floorOf(y / number(400)) -
           number(719162);
}

DateParts datePartsOf(Columns& columns, const Said& days, const std::string& name) {
    const Said z = columns.keep(name + ", days since 0000-03-01", days + number(719468));
    const Said era = columns.keep("era of 400 years", floorOf(z / number(146097)));
    const Said ofEra = columns.keep("day of the era", z - number(146097) * era);
    const Said yearOfEra = columns.keep(
        "year of the era", floorOf((ofEra - floorOf(ofEra / number(1460)) + floorOf(ofEra / number(36524)) -
                                    floorOf(ofEra / number(146096))) /
                                   number(365)));
    const Said ofYear = columns.keep("day of the year from March",
                                     ofEra - (number(365) * yearOfEra + floorOf(yearOfEra / number(4)) -
                                              floorOf(yearOfEra / number(100))));
    const Said fromMarch =
        columns.keep("month from March", floorOf((number(5) * ofYear + number(2)) / number(153)));
    const Said month = columns.keep("month of " + name, choose(below(fromMarch, number(10)),
                                                               fromMarch + number(3), fromMarch - number(9)));
    const Said year =
        columns.keep("year of " + name,
                     yearOfEra + number(400) * era + choose(atMost(month, number(2)), number(1), number(0)));
    const Said day = ofYear - floorOf((number(153) * fromMarch + number(2)) / number(5)) + number(1);
    return {year, month, day};
}

void Columns::declare(const Column& column) {
    Symbol symbol{column.kind(), {}, column.moments(), {}, column.name()};
    if (column.kind() == ColumnKind::factor) symbol.levels = column.levels();
    m_symbols[column.name()] = std::move(symbol);
}

const Symbol* Columns::find(const std::string& name) {
    const auto found = m_symbols.find(name);
    if (found == m_symbols.end()) return nullptr;
    Symbol& symbol = found->second;
    if (!symbol.value) {
        if (symbol.moments)
            throw Error(ErrorCode::badTerm, "times of day cannot be handed on", {.column = name},
                        "Take the day and the hour apart by steps, and leave the column itself out.");
        const bool text = symbol.kind == ColumnKind::factor || symbol.kind == ColumnKind::text;
        symbol.value =
            node({.op = Op::source, .text = symbol.source, .index = m_sources.size(), .isText = text});
        m_sources.push_back({symbol.source, text                              ? Program::Kind::text
                                            : symbol.kind == ColumnKind::date ? Program::Kind::date
                                                                              : Program::Kind::number});
    }
    return &symbol;
}

const Symbol& Columns::at(const std::string& name) {
    if (const Symbol* symbol = find(name)) return *symbol;
    if (!m_lookingBack.empty())
        throw Error(ErrorCode::badTerm,
                    "the step \"" + m_lookingBack + "\" looks at other rows, which this format cannot",
                    {.column = name}, keptInstead);
    throw Error(ErrorCode::unknownColumn, "there is no column \"" + name + "\"", {.column = name});
}

void Columns::put(const std::string& name, Symbol symbol) {
    m_symbols[name] = std::move(symbol);
}

Said Columns::keep(std::string says, Said value) {
    if (value->op == Op::variable || value->op == Op::source || value->op == Op::constant) return value;
    const bool text = value->isText;
    m_steps.push_back({std::move(says), std::move(value)});
    return node({.op = Op::variable, .index = m_steps.size() - 1, .isText = text});
}

Said Columns::expression(const std::string& text) {
    std::vector<Column> columns;
    for (const auto& [name, symbol] : m_symbols)
        columns.push_back(symbol.moments                      ? Column::ofMoments(name, {})
                          : symbol.kind == ColumnKind::number ? Column::ofNumbers(name, {})
                          : symbol.kind == ColumnKind::date   ? Column::ofDates(name, {})
                          : symbol.kind == ColumnKind::factor ? Column::ofFactor(name, {}, symbol.levels)
                                                              : Column::ofText(name, {}));
    const oxgoad::Expression parsed = oxgoad::Expression::parse(text, columns);
    return TranslatedReader::valueOf(TranslatedReader(parsed, *this).read());
}

void Columns::derive(const oxgoad::Step& step) {
    const std::string& name = step.text("name");
    put(name, {ColumnKind::number, {}, false, keep(name, expression(step.text("expression")))});
}

void Columns::transform(const oxgoad::Step& step) {
    const std::string& by = step.text("by");
    const double power = step.number("power");
    for (const std::string& name : step.texts("columns")) {
        const Said x = at(name).value;
        Said value;
        std::string label;
        if (by == "ln") {
            value = lnOf(x), label = "ln " + name;
        } else if (by == "log10") {
            value = choose(below(number(0), x), unary(Op::log10, x), missing()), label = "log10 " + name;
        } else if (by == "square root") {
            value = choose(atMost(number(0), x), unary(Op::root, x), missing()), label = "root " + name;
        } else if (by == "square") {
            value = x * x, label = "square " + name;
        } else if (by == "reciprocal") {
            value = over(number(1), x), label = "reciprocal " + name;
        } else {
            label = name + " to the " + shortText(power);
            if (power == std::floor(power))
                value = power == 0 ? whereThere(x, number(1)) : wholePower(x, static_cast<int>(power));
            else
                value = choose(power > 0 ? atMost(number(0), x) : below(number(0), x),
                               binary(Op::power, x, number(power)), missing());
        }
        if (!step.flag("keep")) label = name;
        put(label, {ColumnKind::number, {}, false, keep(label, value)});
    }
}

void Columns::standardise(const oxgoad::Step& step, const StepOutcome& learned) {
    for (const std::string& name : step.texts("columns")) {
        const auto& scale = learnedOf(step, learned, name).numbers;
        if (scale.size() < 2) cannotStep(step, "has kept no scale");
        const std::string label = step.flag("keep") ? name + " standardised" : name;
        put(label, {ColumnKind::number,
                    {},
                    false,
                    keep(label, (at(name).value - number(scale[0])) / number(scale[1]))});
    }
}

void Columns::bands(const oxgoad::Step& step, const StepOutcome& learned) {
    const std::string& column = step.text("column");
    const auto& limits = learnedOf(step, learned, column).numbers;
    std::vector<std::string> levels;
    for (std::size_t i = 0; i <= limits.size(); ++i)
        levels.push_back(i == 0               ? "below " + shortText(limits[0])
                         : i == limits.size() ? "from " + shortText(limits[i - 1])
                                              : shortText(limits[i - 1]) + " to " + shortText(limits[i]));
    const Said x = at(column).value;
    Said value = word(levels.back());
    for (std::size_t i = limits.size(); i-- > 0;)
        value = choose(below(x, number(limits[i])), word(levels[i]), value);
    const std::string name = step.text("name").empty() ? column + " band" : step.text("name");
    put(name, {ColumnKind::factor, levels, false, keep(name, choose(lacks(x), word(""), value))});
}

void Columns::fill(const oxgoad::Step& step, const StepOutcome& learned) {
    for (const std::string& name : step.texts("columns")) {
        Symbol symbol = at(name);
        const LearnedValue& filler = learnedOf(step, learned, name);
        if (step.flag("indicator"))
            put(name + " was missing",
                {ColumnKind::number,
                 {},
                 false,
                 keep(name + " was missing", choose(lacks(symbol.value), number(1), number(0)))});
        const bool isNumber = symbol.kind == ColumnKind::number;
        if (isNumber ? filler.numbers.empty() : filler.texts.empty()) cannotStep(step, "has kept no value");
        const Said by = isNumber ? number(filler.numbers[0]) : word(filler.texts[0]);
        symbol.value = keep(name + " filled", choose(lacks(symbol.value), by, symbol.value));
        put(name, std::move(symbol));
    }
}

void Columns::replace(const oxgoad::Step& step) {
    const std::string& name = step.text("column");
    Symbol symbol = at(name);
    const auto& pairs = step.get<TextPairs>("pairs");
    // Each pair looks at the value as it was: the first for texts, the last for numbers and dates.
    const Said before = symbol.value;
    Said value = before;
    const bool text = symbol.kind == ColumnKind::factor || symbol.kind == ColumnKind::text;
    std::map<std::string, std::string> by(pairs.begin(), pairs.end());
    if (text) {
        for (const auto& [from, to] : by)
            value = choose(same(before, word(from)), word(to), value);
    } else {
        const auto read = [&](const std::string& cell) -> Said {
            if (cell.empty()) return missing();
            if (symbol.kind == ColumnKind::date) return number(parseDate(cell).value_or(0));
            return number(parseNumber(cell, '.').value_or(0));
        };
        for (const auto& [from, to] : pairs)
            value = choose(binary(Op::equal, before, read(from)), read(to), value);
    }
    symbol.value = keep(name + " replaced", value);
    put(name, std::move(symbol));
}

void Columns::relevel(const std::string& name, const std::vector<std::string>& from,
                      const std::string& into) {
    if (from.empty()) return;
    Symbol symbol = at(name);
    std::vector<Said> any;
    for (const std::string& level : from)
        any.push_back(same(symbol.value, word(level)));
    symbol.value = keep(name + " merged", choose(anyOf(any), word(into), symbol.value));
    put(name, std::move(symbol));
}

void Columns::combine(const oxgoad::Step& step) {
    std::vector<Said> parts, lacking;
    for (const std::string& column : step.texts("columns")) {
        if (!parts.empty()) parts.push_back(word(step.text("between")));
        const Said value = at(column).value;
        parts.push_back(value);
        lacking.push_back(lacks(value));
    }
    const Said text = node({.op = Op::join, .of = parts, .isText = true});
    put(step.text("name"),
        {ColumnKind::factor, {}, false, keep(step.text("name"), choose(anyOf(lacking), word(""), text))});
}

void Columns::changeType(const oxgoad::Step& step) {
    const std::string& to = step.text("to");
    for (const std::string& name : step.texts("columns")) {
        const auto found = m_symbols.find(name);
        if (found == m_symbols.end()) continue;
        Symbol& symbol = found->second;
        const bool text = to == "factor" || to == "text";
        const bool was = symbol.kind == ColumnKind::factor || symbol.kind == ColumnKind::text;
        if (text && was) {
            symbol.kind = to == "factor" ? ColumnKind::factor : ColumnKind::text;
            continue;
        }
        if (kindName(symbol.kind) == to) continue;
        // A column that nothing has touched is read as what it is to be.
        if (symbol.value || symbol.moments || to == "date and time")
            cannotStep(step, "changes the kind of a column that was worked out");
        symbol.kind = text ? ColumnKind::factor : to == "date" ? ColumnKind::date : ColumnKind::number;
    }
}

void Columns::dateParts(const oxgoad::Step& step, const StepOutcome& learned) {
    const std::string& name = step.text("column");
    const Said days = at(name).value;
    if (step.flag("hour")) cannotStep(step, "needs times of day");
    DateParts parts;
    if (step.flag("month") || step.flag("quarter") || step.flag("year") || step.flag("running"))
        parts = datePartsOf(*this, days, name);
    const auto add = [&](const std::string& ending, Said value) {
        put(name + ending, {ColumnKind::number, {}, false, keep(name + ending, std::move(value))});
    };
    if (step.flag("month")) add(" month", parts.month);
    if (step.flag("quarter")) add(" quarter", floorOf((parts.month + number(2)) / number(3)));
    if (step.flag("year")) add(" year", parts.year);
    if (step.flag("weekday")) {
        static constexpr std::array names{"Monday", "Tuesday",  "Wednesday", "Thursday",
                                          "Friday", "Saturday", "Sunday"};
        const Said shifted = days + number(3);
        const Said day = keep("day of the week", shifted - number(7) * floorOf(shifted / number(7)));
        Said value = word(names[6]);
        std::vector<std::string> levels(names.begin(), names.end());
        for (std::size_t k = 6; k-- > 0;)
            value = choose(below(day, number(static_cast<double>(k) + 0.5)), word(names[k]), value);
        put(name + " weekday", {ColumnKind::factor, levels, false,
                                keep(name + " weekday", choose(lacks(day), word(""), value))});
    }
    if (step.flag("running")) {
        const double first = learnedOf(step, learned, name).numbers.at(0);
        add(" running month", number(12) * parts.year + parts.month - number(first));
    }
}

void Columns::run(const oxgoad::Step& step, const StepOutcome& learned) {
    const StepKind* kind = findStepKind(step.kind);
    if (!kind || kind->leavesOut) return;
    const std::string& name = step.kind;
    if (name == "fill missing")
        fill(step, learned);
    else if (name == "replace values")
        replace(step);
    else if (name == "change type")
        changeType(step);
    else if (name == "derive")
        derive(step);
    else if (name == "transform")
        transform(step);
    else if (name == "standardise")
        standardise(step, learned);
    else if (name == "cut into bands")
        bands(step, learned);
    else if (name == "merge levels")
        relevel(step.text("column"), step.texts("levels"), step.text("into"));
    else if (name == "lump rare levels")
        for (const std::string& column : step.texts("columns"))
            relevel(column, learnedOf(step, learned, column).texts, step.text("into"));
    else if (name == "combine")
        combine(step);
    else if (name == "parts of date")
        dateParts(step, learned);
    else if (name == "order levels") {
        if (!step.flag("scores")) return;
        const auto& levels = step.texts("levels");
        Said value = missing();
        for (std::size_t k = levels.size(); k-- > 0;)
            value = choose(same(at(step.text("column")).value, word(levels[k])),
                           number(static_cast<double>(k + 1)), value);
        const std::string label = step.text("column") + " score";
        put(label, {ColumnKind::number, {}, false, keep(label, value)});
    } else if (name == "rename") {
        Symbol symbol = m_symbols.at(step.text("column"));
        m_symbols.erase(step.text("column"));
        put(step.text("to"), std::move(symbol));
    } else if (name != "reference level") {
        m_lookingBack = stepSentence(step);
    }
}

} // namespace oxgoad::scoring
