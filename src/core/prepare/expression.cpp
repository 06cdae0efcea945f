// One grammar: what is written, its kinds and what it is worth stand together, since each rule is in all
// three.
#include "prepare/expression.h"

#include "base/error.h"
#include "base/not_a_number.h"
#include "base/text.h"
#include "table/values.h"

#include <muParser.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cmath>
#include <functional>

namespace oxgoad {

namespace {

constexpr std::size_t longestText = 4000;
constexpr int deepest = 100;

[[noreturn]] void refuse(std::string what, std::size_t character, std::string remedy = {}) {
    throw Error(ErrorCode::badExpression, std::move(what), {.character = character}, std::move(remedy));
}

/// A part of the calendar date of a day; NaN for what is no day of the years a calendar has.
template <class Part> double partOf(double day, const Part& part) {
    if (!(std::fabs(day) < 1e7)) return nan;
    return part(std::chrono::year_month_day(
        std::chrono::sys_days(std::chrono::days(static_cast<int>(std::floor(day))))));
}

// The functions that are handed to the parser. They must not throw: it may run them on its own threads.
double yearOf(double day) {
    return partOf(day, [](const auto& date) { return static_cast<int>(date.year()); });
}
double monthOf(double day) {
    return partOf(day, [](const auto& date) { return static_cast<unsigned>(date.month()); });
}
double quarterOf(double day) {
    return partOf(day, [](const auto& date) { return (static_cast<unsigned>(date.month()) + 2) / 3; });
}
double dayOf(double day) {
    return partOf(day, [](const auto& date) { return static_cast<unsigned>(date.day()); });
}
double weekdayOf(double day) {
    const double rest = std::fmod(day + 3, 7); // 1970-01-01 was a Thursday
    return (rest < 0 ? rest + 7 : rest) + 1;
}
double lnOf(double x) {
    return x > 0 ? std::log(x) : nan;
}
double log10Of(double x) {
    return x > 0 ? std::log10(x) : nan;
}
// Logic with three values, NaN the third (Kleene 1952, "Introduction to metamathematics", §64).
double notOf(double x) {
    return std::isnan(x) ? nan : x == 0 ? 1 : 0;
}
double andOf(double a, double b) {
    if (a == 0 || b == 0) return 0;
    return std::isnan(a) || std::isnan(b) ? nan : 1;
}
double orOf(double a, double b) {
    if ((a != 0 && !std::isnan(a)) || (b != 0 && !std::isnan(b))) return 1;
    return std::isnan(a) || std::isnan(b) ? nan : 0;
}
template <class Compare> double comparisonOf(double a, double b) {
    return std::isnan(a) || std::isnan(b) ? nan : Compare{}(a, b) ? 1 : 0;
}
/// A condition that is missing does not hold.
double chooseOf(double condition, double yes, double no) {
    return !std::isnan(condition) && condition != 0 ? yes : no;
}
double over(double a, double b) {
    return b == 0 ? nan : a / b;
}
double smallestOf(const double* values, int count) {
    return std::any_of(values, values + count, [](double v) { return std::isnan(v); })
               ? nan
               : *std::min_element(values, values + count);
}
double largestOf(const double* values, int count) {
    return std::any_of(values, values + count, [](double v) { return std::isnan(v); })
               ? nan
               : *std::max_element(values, values + count);
}

struct Function {
    std::string_view name;
    int fewest, most;
};
constexpr std::array functions{
    Function{"ln", 1, 1},    Function{"log10", 1, 1},   Function{"exp", 1, 1},     Function{"sqrt", 1, 1},
    Function{"abs", 1, 1},   Function{"min", 2, 20},    Function{"max", 2, 20},    Function{"round", 1, 1},
    Function{"floor", 1, 1}, Function{"ceil", 1, 1},    Function{"sin", 1, 1},     Function{"cos", 1, 1},
    Function{"if", 3, 3},    Function{"year", 1, 1},    Function{"quarter", 1, 1}, Function{"month", 1, 1},
    Function{"day", 1, 1},   Function{"weekday", 1, 1}, Function{"missing", 1, 1}, Function{"date", 2, 2}};
constexpr std::array dateFunctions{"year", "quarter", "month", "day", "weekday"};

const Function* findFunction(std::string_view name) {
    const auto found =
        std::find_if(functions.begin(), functions.end(), [&](const Function& f) { return f.name == name; });
    return found == functions.end() ? nullptr : &*found;
}

mu::Parser newParser() {
    mu::Parser parser;
    parser.ClearFun();
    parser.ClearConst();
    parser.DefineFun("ln", lnOf);
    parser.DefineFun("log10", log10Of);
    parser.DefineFun("exp", static_cast<double (*)(double)>(std::exp));
    parser.DefineFun("sqrt", static_cast<double (*)(double)>(std::sqrt));
    parser.DefineFun("abs", static_cast<double (*)(double)>(std::fabs));
    parser.DefineFun("round", static_cast<double (*)(double)>(std::round));
    parser.DefineFun("floor", static_cast<double (*)(double)>(std::floor));
    parser.DefineFun("ceil", static_cast<double (*)(double)>(std::ceil));
    parser.DefineFun("sin", static_cast<double (*)(double)>(std::sin));
    parser.DefineFun("cos", static_cast<double (*)(double)>(std::cos));
    parser.DefineFun("min", smallestOf);
    parser.DefineFun("max", largestOf);
    parser.DefineFun("choose", chooseOf);
    parser.DefineFun("not", notOf);
    parser.DefineOprt("OVER", over, mu::prMUL_DIV);
    parser.DefineOprt("OR", orOf, mu::prLOR);
    parser.DefineOprt("AND", andOf, mu::prLAND);
    parser.DefineOprt("EQ", comparisonOf<std::equal_to<>>, mu::prCMP);
    parser.DefineOprt("NE", comparisonOf<std::not_equal_to<>>, mu::prCMP);
    parser.DefineOprt("LT", comparisonOf<std::less<>>, mu::prCMP);
    parser.DefineOprt("LE", comparisonOf<std::less_equal<>>, mu::prCMP);
    parser.DefineOprt("GT", comparisonOf<std::greater<>>, mu::prCMP);
    parser.DefineOprt("GE", comparisonOf<std::greater_equal<>>, mu::prCMP);
    parser.DefineFun("year", yearOf);
    parser.DefineFun("quarter", quarterOf);
    parser.DefineFun("month", monthOf);
    parser.DefineFun("day", dayOf);
    parser.DefineFun("weekday", weekdayOf);
    return parser;
}

struct Token {
    enum class Kind { number, name, text, sign, open, close, comma, end } kind = Kind::end;
    /// Number or name or quoted text as it stands; signs in the parser's form.
    std::string text;
    std::size_t character = 0;
    bool braced = false;
};

bool isNameByte(char c) {
    const auto u = static_cast<unsigned char>(c);
    return (u >= 'a' && u <= 'z') || (u >= 'A' && u <= 'Z') || (u >= '0' && u <= '9') || u == '_' ||
           u >= 0x80;
}

struct Sign {
    std::string_view written, meant;
};
/// Longest first. Signs beyond ASCII come before names, which may hold such bytes too.
constexpr std::array signs{Sign{"−", "-"},    Sign{"×", "*"},   Sign{"·", "*"},   Sign{"÷", "OVER"},
                           Sign{"≠", "NE"},   Sign{"≤", "LE"},  Sign{"≥", "GE"},  Sign{"²", "^2"},
                           Sign{"³", "^3"},   Sign{"<>", "NE"}, Sign{"<=", "LE"}, Sign{">=", "GE"},
                           Sign{"==", "EQ"},  Sign{"!=", "NE"}, Sign{"=", "EQ"},  Sign{"<", "LT"},
                           Sign{">", "GT"},   Sign{"+", "+"},   Sign{"-", "-"},   Sign{"*", "*"},
                           Sign{"/", "OVER"}, Sign{"^", "^"}};

const Sign* signAt(std::string_view rest) {
    const auto found =
        std::find_if(signs.begin(), signs.end(), [&](const Sign& s) { return rest.starts_with(s.written); });
    return found == signs.end() ? nullptr : &*found;
}

bool isComparison(const Token& token) {
    return token.kind == Token::Kind::sign && token.text.size() == 2 && token.text[0] >= 'A' &&
           token.text[0] <= 'Z'; // not ^2
}

std::size_t characterAt(std::string_view text, std::size_t byte) {
    std::size_t count = 1;
    for (std::size_t i = 0; i < byte && i < text.size(); ++i)
        count += (static_cast<unsigned char>(text[i]) & 0xC0U) != 0x80;
    return count;
}

std::vector<Token> tokensOf(std::string_view text) {
    std::vector<Token> tokens;
    std::size_t i = 0;
    while (i < text.size()) {
        const char c = text[i];
        const std::size_t character = characterAt(text, i);
        const std::string_view rest = text.substr(i);
        auto add = [&](Token::Kind kind, std::string value, std::size_t length, bool braced = false) {
            tokens.push_back({kind, std::move(value), character, braced});
            i += length;
        };
        if (c == ' ' || c == '\t' || c == '\n' || c == '\r') {
            ++i;
        } else if (c == '(') {
            add(Token::Kind::open, "(", 1);
        } else if (c == ')') {
            add(Token::Kind::close, ")", 1);
        } else if (c == ',') {
            add(Token::Kind::comma, ",", 1);
        } else if (c == '"') {
            const auto end = text.find('"', i + 1);
            if (end == std::string_view::npos) refuse("a quote is opened here and never closed", character);
            add(Token::Kind::text, std::string(text.substr(i + 1, end - i - 1)), end + 1 - i);
        } else if (c == '{') {
            const auto end = text.find('}', i + 1);
            if (end == std::string_view::npos) refuse("a brace is opened here and never closed", character);
            add(Token::Kind::name, std::string(trimmed(text.substr(i + 1, end - i - 1))), end + 1 - i, true);
        } else if ((c >= '0' && c <= '9') || c == '.') {
            std::size_t end = i;
            while (end < text.size() && ((text[end] >= '0' && text[end] <= '9') || text[end] == '.'))
                ++end;
            if (end < text.size() && (text[end] == 'e' || text[end] == 'E')) {
                std::size_t exponent = end + 1;
                if (exponent < text.size() && (text[exponent] == '-' || text[exponent] == '+')) ++exponent;
                if (exponent < text.size() && text[exponent] >= '0' && text[exponent] <= '9') {
                    end = exponent;
                    while (end < text.size() && text[end] >= '0' && text[end] <= '9')
                        ++end;
                }
            }
            const auto value = parseNumber(text.substr(i, end - i), '.');
            if (!value || (end < text.size() && isNameByte(text[end]) && !signAt(text.substr(end))))
                refuse("this is not a number", character,
                       "A column whose name begins with a digit goes in {}.");
            add(Token::Kind::number, exactText(*value), end - i);
        } else if (const Sign* sign = signAt(rest)) {
            add(Token::Kind::sign, std::string(sign->meant), sign->written.size());
        } else if (isNameByte(c)) {
            std::size_t end = i;
            while (end < text.size() && isNameByte(text[end]) &&
                   (static_cast<unsigned char>(text[end]) < 0x80 || !signAt(text.substr(end))))
                ++end;
            add(Token::Kind::name, std::string(text.substr(i, end - i)), end - i);
        } else {
            std::size_t length = 1;
            while (i + length < text.size() && (static_cast<unsigned char>(text[i + length]) & 0xC0U) == 0x80)
                ++length;
            refuse("\"" + std::string(text.substr(i, length)) + "\" means nothing here", character);
        }
    }
    tokens.push_back({Token::Kind::end, "", characterAt(text, text.size()), false});
    return tokens;
}

} // namespace

namespace {

/// "day month year": of days without a named month and a year in front.
std::optional<DateOrder> dateOrderOf(std::string_view words) {
    if (words == "day month year") return DateOrder::dayFirst;
    if (words == "month day year") return DateOrder::monthFirst;
    if (words == "year month day") return DateOrder::yearFirst;
    return std::nullopt;
}

} // namespace

/// Translates tokens for the library, checking what it would let pass.
class ExpressionParser {
public:
    ExpressionParser(std::string_view text, std::span<const Column> columns) : m_columns(columns) {
        m_result.m_text = std::string(text);
        if (trimmed(text).empty()) refuse("the expression is empty", 1, "Type one, such as places × 2.");
        if (text.size() > longestText) refuse("the expression is too long", longestText);
        if (!isUtf8(text)) refuse("the expression is not UTF-8 text", 1);
        m_tokens = tokensOf(text);
    }

    Expression run() {
        for (; peek().kind != Token::Kind::end; ++m_at)
            translate();
        if (!m_frames.empty())
            refuse("a parenthesis is opened here and never closed", m_frames.back().character);
        compile();
        return std::move(m_result);
    }

private:
    struct Frame {
        std::size_t character;
        const Function* function = nullptr;
        int arguments = 1;
        bool compared = false;
    };

    const Token& peek(std::size_t ahead = 0) const {
        return m_tokens[std::min(m_at + ahead, m_tokens.size() - 1)];
    }

    void emit(const std::string& piece, std::size_t character) {
        m_result.m_translated += piece;
        m_result.m_origins.resize(m_result.m_translated.size(), character);
    }

    bool& compared() { return m_frames.empty() ? m_compared : m_frames.back().compared; }

    void translate() {
        const Token& token = peek();
        switch (token.kind) {
        case Token::Kind::number:
            emit(" " + token.text + " ", token.character);
            return;
        case Token::Kind::text:
            comparisonFromText();
            return;
        case Token::Kind::name:
            name();
            return;
        case Token::Kind::sign:
            if (isComparison(token)) {
                if (compared())
                    refuse("two comparisons in a row", token.character,
                           "Join them with \"and\": 1 < x and x < 3.");
                compared() = true;
            }
            emit(" " + token.text + " ", token.character);
            return;
        case Token::Kind::open:
            open(nullptr);
            return;
        case Token::Kind::close:
            close();
            return;
        case Token::Kind::comma:
            if (m_frames.empty() || !m_frames.back().function)
                refuse("a comma has no meaning here", token.character, "Write decimals with a point: 1.5.");
            ++m_frames.back().arguments;
            m_frames.back().compared = false;
            emit(",", token.character);
            return;
        case Token::Kind::end:
            return;
        }
    }

    void open(const Function* function) {
        if (m_frames.size() >= deepest) refuse("parentheses are nested too deep", peek().character);
        m_frames.push_back({peek().character, function});
        emit("(", peek().character);
    }

    void close() {
        if (m_frames.empty()) refuse("a parenthesis is closed that was never opened", peek().character);
        const Frame frame = m_frames.back();
        if (frame.function &&
            (frame.arguments < frame.function->fewest || frame.arguments > frame.function->most))
            refuse(std::string(frame.function->name) + " takes " +
                       (frame.function->fewest == frame.function->most
                            ? plural(static_cast<std::size_t>(frame.function->fewest), "value", "values")
                            : "from " + std::to_string(frame.function->fewest) + " to " +
                                  std::to_string(frame.function->most) + " values"),
                   frame.character);
        m_frames.pop_back();
        emit(")", peek().character);
    }

    void name() {
        const Token& token = peek();
        if (!token.braced) {
            if (token.text == "and" || token.text == "or") {
                compared() = false;
                emit(token.text == "and" ? " AND " : " OR ", token.character);
                return;
            }
            if (token.text == "not") {
                if (peek(1).kind != Token::Kind::open)
                    refuse("\"not\" wants parentheses", token.character, "Write not(x > 3).");
                emit("not", token.character);
                return;
            }
            if (peek(1).kind == Token::Kind::open) {
                call();
                return;
            }
            if (token.text == "pi" && !find("pi")) {
                emit(" 3.141592653589793 ", token.character);
                return;
            }
        }
        const Column& column = at(token);
        if (isComparison(peek(1)) && peek(2).kind == Token::Kind::text) {
            compare(column, peek(1).text, peek(2), token.character);
            m_at += 2;
            return;
        }
        if (column.kind() == ColumnKind::factor || column.kind() == ColumnKind::text)
            throw Error(ErrorCode::wrongType,
                        column.name() + " is a " + std::string(kindName(column.kind())) +
                            " column, not a number",
                        {.character = token.character},
                        "Compare it with a quoted text, as in " + column.name() + " = \"…\".");
        const bool inDateFunction = !m_frames.empty() && m_frames.back().function &&
                                    std::find(dateFunctions.begin(), dateFunctions.end(),
                                              m_frames.back().function->name) != dateFunctions.end();
        if (column.kind() != ColumnKind::date && inDateFunction)
            throw Error(ErrorCode::wrongType, column.name() + " is not a date column",
                        {.character = token.character});
        emit(variable({Expression::Variable::Kind::value, column.name(), {}, {}}), token.character);
    }

    void call() {
        const Token& token = peek();
        const Function* function = findFunction(token.text);
        if (!function)
            refuse("there is no function \"" + token.text + "\"", token.character,
                   "Known are ln, log10, exp, sqrt, abs, min, max, round, floor, ceil, sin, cos, if, "
                   "missing, year, "
                   "quarter, month, day, weekday, date.");
        if (function->name == "missing") {
            if (peek(2).kind != Token::Kind::name || peek(3).kind != Token::Kind::close)
                refuse("missing() takes the name of one column", token.character);
            emit(variable({Expression::Variable::Kind::missing, at(peek(2)).name(), {}, {}}),
                 token.character);
            m_at += 3;
            return;
        }
        if (function->name == "date") {
            if (peek(2).kind != Token::Kind::name || peek(3).kind != Token::Kind::comma ||
                peek(4).kind != Token::Kind::text || peek(5).kind != Token::Kind::close)
                refuse("date() takes the name of one column and the order of its parts in quotes",
                       token.character, "Write date(opened, \"day month year\").");
            if (!dateOrderOf(peek(4).text))
                refuse("\"" + peek(4).text + "\" is no order of a date", peek(4).character,
                       "Known are \"day month year\", \"month day year\" and \"year month day\".");
            emit(variable({Expression::Variable::Kind::day, at(peek(2)).name(), peek(4).text, {}}),
                 token.character);
            m_at += 5;
            return;
        }
        emit(function->name == "if" ? "choose" : std::string(function->name), token.character);
        ++m_at;
        open(function);
    }

    void comparisonFromText() {
        const Token& token = peek();
        if (!isComparison(peek(1)) || peek(2).kind != Token::Kind::name)
            refuse("a quoted text can only be compared with a column", token.character,
                   "Write contract = \"spot\".");
        std::string sign = peek(1).text;
        if (sign[0] == 'L')
            sign[0] = 'G';
        else if (sign[0] == 'G')
            sign[0] = 'L';
        compare(at(peek(2)), sign, token, token.character);
        m_at += 2;
    }

    void compare(const Column& column, const std::string& sign, const Token& text, std::size_t character) {
        const bool order = sign[0] == 'L' || sign[0] == 'G';
        if (column.kind() == ColumnKind::number)
            throw Error(ErrorCode::wrongType,
                        column.name() + " is a number and cannot be compared with a text",
                        {.character = character}, "Leave the quotes away.");
        if (column.kind() == ColumnKind::date) {
            if (!parseDate(text.text))
                refuse("\"" + text.text + "\" is not a date", text.character, "Write it as \"2025-03-01\".");
        } else if (order) {
            refuse("texts have no order here", character, "Use = or ≠.");
        }
        if (compared()) refuse("two comparisons in a row", character, "Join them with \"and\".");
        compared() = true;
        emit(variable({Expression::Variable::Kind::comparison, column.name(), text.text, sign}), character);
    }

    const Column* find(const std::string& name) const {
        const auto found = std::find_if(m_columns.begin(), m_columns.end(),
                                        [&](const Column& c) { return c.name() == name; });
        return found == m_columns.end() ? nullptr : &*found;
    }

    const Column& at(const Token& token) {
        if (const Column* column = find(token.text)) {
            auto& names = m_result.m_names;
            if (std::find(names.begin(), names.end(), column->name()) == names.end())
                names.push_back(column->name());
            return *column;
        }
        std::vector<std::string> names;
        for (const Column& column : m_columns)
            names.push_back(column.name());
        const std::string meant = didYouMean(token.text, names);
        throw Error(ErrorCode::unknownColumn, "there is no column \"" + token.text + "\"",
                    {.character = token.character},
                    meant.empty() ? "Names with spaces go in braces: {list rate}." : meant);
    }

    std::string variable(Expression::Variable wanted) {
        m_result.m_variables.push_back(std::move(wanted));
        return " v" + std::to_string(m_result.m_variables.size() - 1) + " ";
    }

    /// Asks the library once, so that what it refuses is refused now and at the right character.
    void compile() {
        try {
            mu::Parser parser = newParser();
            std::vector<double> values(m_result.m_variables.size(), 1.0);
            for (std::size_t i = 0; i < values.size(); ++i)
                parser.DefineVar("v" + std::to_string(i), &values[i]);
            parser.SetExpr(m_result.m_translated);
            int results = 0;
            parser.Eval(results);
            if (results != 1) refuse("the expression gives more than one value", 1);
        } catch (const mu::Parser::exception_type& failure) {
            const auto at = static_cast<std::size_t>(std::max(0, failure.GetPos()));
            const std::size_t character = at < m_result.m_origins.size()
                                              ? m_result.m_origins[at]
                                              : characterAt(m_result.m_text, m_result.m_text.size());
            switch (failure.GetCode()) {
            case mu::ecUNEXPECTED_EOF:
                refuse("something is missing at the end", character);
            case mu::ecUNEXPECTED_OPERATOR:
            case mu::ecUNASSIGNABLE_TOKEN:
            case mu::ecUNEXPECTED_VAL:
            case mu::ecUNEXPECTED_VAR:
            case mu::ecUNEXPECTED_PARENS:
            case mu::ecUNEXPECTED_FUN:
            case mu::ecUNEXPECTED_ARG_SEP:
            case mu::ecUNEXPECTED_ARG:
                refuse("this cannot stand here; an operator or a value is missing before it", character);
            default:
                refuse("the expression cannot be understood from here on", character);
            }
        }
    }

    std::span<const Column> m_columns;
    std::vector<Token> m_tokens;
    std::size_t m_at = 0;
    std::vector<Frame> m_frames;
    bool m_compared = false;
    Expression m_result;
};

Expression Expression::parse(std::string_view text, std::span<const Column> columns) {
    return ExpressionParser(text, columns).run();
}

namespace {

double compareDays(double a, double b, const std::string& sign) {
    if (sign == "EQ") return a == b;
    if (sign == "NE") return a != b;
    if (sign == "LT") return a < b;
    if (sign == "LE") return a <= b;
    if (sign == "GT") return a > b;
    return a >= b;
}

} // namespace

std::vector<double> Expression::evaluate(std::span<const Column> columns) const {
    const std::size_t rows = columns.empty() ? 0 : columns.front().size();
    std::vector<double> result(rows);
    if (rows == 0) return result;
    auto find = [&](const std::string& name) -> const Column& {
        const auto found =
            std::find_if(columns.begin(), columns.end(), [&](const Column& c) { return c.name() == name; });
        if (found == columns.end())
            throw Error(ErrorCode::unknownColumn, "there is no column \"" + name + "\"", {.column = name});
        return *found;
    };
    constexpr std::size_t block = 8192;
    std::vector<std::vector<double>> values(m_variables.size(), std::vector<double>(block));
    std::vector<const Column*> sources;
    std::vector<std::vector<std::uint8_t>> levelHolds(m_variables.size());
    for (std::size_t v = 0; v < m_variables.size(); ++v) {
        const Variable& variable = m_variables[v];
        sources.push_back(&find(variable.column));
        if (variable.kind != Variable::Kind::comparison || sources[v]->kind() != ColumnKind::factor) continue;
        for (const std::string& level : sources[v]->levels())
            levelHolds[v].push_back((level == variable.literal) == (variable.comparison == "EQ"));
    }
    auto valueOf = [&](std::size_t v, std::size_t row) -> double {
        const Variable& variable = m_variables[v];
        const Column& column = *sources[v];
        const bool missing = column.isMissing(row);
        if (variable.kind == Variable::Kind::missing) return missing;
        if (missing) return nan;
        if (variable.kind == Variable::Kind::day) {
            if (column.kind() == ColumnKind::date) return column.asNumber(row);
            const std::string cell = column.cellText(row);
            const DateOrder order = dateOrderOf(variable.literal).value_or(DateOrder::yearFirst);
            auto day = parseDate(cell, order);
            if (!day) day = parseCompactDate(cell);
            return day ? *day : nan;
        }
        if (variable.kind == Variable::Kind::value) return column.asNumber(row);
        switch (column.kind()) {
        case ColumnKind::factor:
            return levelHolds[v][static_cast<std::size_t>(column.codes()[row])];
        case ColumnKind::text:
            return (column.text(row) == variable.literal) == (variable.comparison == "EQ");
        default:
            return compareDays(column.asNumber(row), parseDate(variable.literal).value_or(Column::missingDay),
                               variable.comparison);
        }
    };
    try {
        mu::Parser parser = newParser();
        for (std::size_t v = 0; v < values.size(); ++v)
            parser.DefineVar("v" + std::to_string(v), values[v].data());
        parser.SetExpr(m_translated);
        for (std::size_t first = 0; first < rows; first += block) {
            const std::size_t count = std::min(block, rows - first);
            for (std::size_t v = 0; v < values.size(); ++v)
                for (std::size_t i = 0; i < count; ++i)
                    values[v][i] = valueOf(v, first + i);
            if (values.empty()) {
                std::fill_n(result.begin() + static_cast<std::ptrdiff_t>(first), count, parser.Eval());
            } else {
                parser.Eval(result.data() + first, static_cast<int>(count));
            }
            for (std::size_t i = 0; i < count; ++i)
                if (!std::isfinite(result[first + i])) result[first + i] = nan;
        }
    } catch (const mu::Parser::exception_type& failure) {
        refuse("the expression cannot be worked out: " + failure.GetMsg(), 1);
    }
    return result;
}

} // namespace oxgoad
