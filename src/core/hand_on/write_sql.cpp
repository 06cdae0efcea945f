#include "base/text.h"
#include "hand_on/writers.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace oxgoad {

namespace {

using Op = ScoreNode::Op;

std::string sqlName(const std::string& name) {
    std::string out = "\"";
    for (const char c : name) {
        if (c == '\0') continue;
        out += c;
        if (c == '"') out += c;
    }
    return out + "\"";
}

std::string sqlText(const std::string& text) {
    std::string out = "'";
    for (const char c : text) {
        if (c == '\0') continue;
        out += c;
        if (c == '\'') out += c;
    }
    return out + "'";
}

/// Lines of a comment: nothing of it can end it.
std::string sqlComment(const std::string& text) {
    std::string out = "-- ";
    for (const char c : text)
        out += static_cast<unsigned char>(c) < 0x20 ? ' ' : c;
    return out + "\n";
}

class SqlWriter {
public:
    explicit SqlWriter(const Program& program, std::string table)
        : m_program(program), m_table(sqlName(table)) {}

    std::string run() {
        levels();
        std::string sql = sqlComment("Oxgoad: " + m_program.response + " by " + m_program.sentence + ".") +
                          sqlComment("One row of the table " + m_table +
                                     " gives one row here; null where there is no prediction.");
        if (!m_program.noIntervals.empty()) sql += sqlComment("No intervals: " + m_program.noIntervals + ".");
        sql += "SELECT " + m_table + ".*,\n" + scalar(m_program.prediction) + " AS \"prediction\",\n" +
               (m_program.noIntervals.empty() ? scalar(m_program.lower) : "CAST(NULL AS DOUBLE PRECISION)") +
               " AS \"lower\",\n" +
               (m_program.noIntervals.empty() ? scalar(m_program.upper) : "CAST(NULL AS DOUBLE PRECISION)") +
               " AS \"upper\"\nFROM " + m_table + ";\n";
        return sql;
    }

private:
    /// After which others a step can be worked out.
    std::size_t levelOf(const ScoreNode& node) const {
        std::size_t level = node.op == Op::variable ? m_level[node.index] + 1 : 0;
        for (const Said& part : node.of)
            level = std::max(level, levelOf(*part));
        return level;
    }
    void levels() {
        for (const Program::Step& step : m_program.steps)
            m_level.push_back(levelOf(*step.value));
    }
    void use(const ScoreNode& node, std::set<std::size_t>& steps, std::set<std::size_t>& sources) const {
        if (node.op == Op::variable && steps.insert(node.index).second)
            use(*m_program.steps[node.index].value, steps, sources);
        if (node.op == Op::source) sources.insert(node.index);
        for (const Said& part : node.of)
            use(*part, steps, sources);
    }

    /// A query within the query that works one output out of the row: columns, then steps, level by level.
    std::string scalar(const Said& output) const {
        std::set<std::size_t> steps, sources;
        use(*output, steps, sources);
        std::string from;
        std::string columns;
        for (const auto s : sources)
            columns += (columns.empty() ? "" : ", ") + sourceColumn(s) + " AS c" + std::to_string(s);
        from = "(SELECT " + (columns.empty() ? std::string("1 AS c") : columns) + ") AS t";
        std::size_t deepest = 0;
        for (const auto k : steps)
            deepest = std::max(deepest, m_level[k] + 1);
        for (std::size_t level = 0; level < deepest; ++level) {
            std::string more;
            for (const auto k : steps)
                if (m_level[k] == level)
                    more += ",\n    " + said(*m_program.steps[k].value) + " AS v" + std::to_string(k);
            from = "(SELECT t.*" + more + "\n  FROM " + from + ") AS t";
        }
        return "(SELECT " + said(*output) + "\n  FROM " + from + ")";
    }

    std::string sourceColumn(std::size_t index) const {
        const Program::Source& source = m_program.sources[index];
        // Numbers that stand as texts are numbers, and what is empty is missing, whatever the column's type.
        const std::string text =
            "NULLIF(CAST(" + m_table + "." + sqlName(source.name) + " AS VARCHAR(10000)), '')";
        if (source.kind == Program::Kind::text) return "COALESCE(" + text + ", '')";
        if (source.kind == Program::Kind::number) return "CAST(" + text + " AS DOUBLE PRECISION)";
        const auto part = [&](int from, int length) {
            return "CAST(SUBSTR(" + text + ", " + std::to_string(from) + ", " + std::to_string(length) +
                   ") AS INTEGER)";
        };
        const std::string y = part(1, 4), m = part(6, 2), d = part(9, 2);
        // Fliegel and Van Flandern 1968; 2440588 is the first of January 1970.
        return "CAST((1461 * (" + y + " + 4800 + (" + m + " - 14) / 12)) / 4 + (367 * (" + m +
               " - 2 - 12 * ((" + m + " - 14) / 12))) / 12 - (3 * ((" + y + " + 4900 + (" + m +
               " - 14) / 12) / 100)) / 4 + " + d + " - 32075 - 2440588 AS DOUBLE PRECISION)";
    }

    /// With an exponent, so that no engine takes it for a decimal or a whole number.
    static std::string plainNumber(double value) {
        std::string text = exactText(value);
        if (text.find_first_of("eE") == std::string::npos)
            text += text.find('.') == std::string::npos ? ".0e0" : "e0";
        return value < 0 ? "(" + text + ")" : text;
    }

    std::string said(const ScoreNode& node) const {
        const auto a = [&](std::size_t i) { return said(*node.of[i]); };
        const auto between = [&](const char* sign) { return "(" + a(0) + " " + sign + " " + a(1) + ")"; };
        const auto call = [&](const char* name) { return std::string(name) + "(" + a(0) + ")"; };
        switch (node.op) {
        case Op::constant:
            return plainNumber(node.number);
        case Op::missing:
            return "CAST(NULL AS DOUBLE PRECISION)";
        case Op::source:
            return "c" + std::to_string(node.index);
        case Op::variable:
            return "v" + std::to_string(node.index);
        case Op::add:
            return between("+");
        case Op::subtract:
            return between("-");
        case Op::multiply:
            return between("*");
        case Op::divide:
            return between("/");
        case Op::power:
            return "POWER(" + a(0) + ", " + a(1) + ")";
        case Op::negate:
            return "(-" + a(0) + ")";
        case Op::ln:
            return call("LN");
        case Op::log10:
            return "(LN(" + a(0) + ") / " + plainNumber(std::log(10.0)) + ")";
        case Op::exp:
            return call("EXP");
        case Op::root:
            return call("SQRT");
        case Op::absolute:
            return call("ABS");
        case Op::floor:
            return call("FLOOR");
        case Op::sine:
            return call("SIN");
        case Op::cosine:
            return call("COS");
        case Op::least:
        case Op::most:
            return "CASE WHEN " + a(0) + (node.op == Op::least ? " < " : " > ") + a(1) + " THEN " + a(0) +
                   " WHEN " + a(0) + " IS NULL THEN " + a(0) + " ELSE " + a(1) + " END";
        case Op::choose:
            return "CASE WHEN " + a(0) + " THEN " + a(1) + " ELSE " + a(2) + " END";
        case Op::word:
            return sqlText(node.text);
        case Op::join: {
            std::string text = "(";
            for (std::size_t i = 0; i < node.of.size(); ++i)
                text += (i > 0 ? " || " : "") + a(i);
            return text + ")";
        }
        case Op::below:
            return between("<");
        case Op::atMost:
            return between("<=");
        case Op::equal:
        case Op::same:
            return between("=");
        case Op::unequal:
        case Op::other:
            return between("<>");
        case Op::both:
            return between("AND");
        case Op::either:
            return between("OR");
        case Op::lacks:
            return node.of[0]->isText ? "(" + a(0) + " = '')" : "(" + a(0) + " IS NULL)";
        }
        return "NULL";
    }

    const Program& m_program;
    std::string m_table;
    std::vector<std::size_t> m_level;
};

} // namespace

std::string sqlOf(const Program& program, const std::string& table) {
    return SqlWriter(program, table).run();
}

} // namespace oxgoad
