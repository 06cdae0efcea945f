#include "base/text.h"
#include "hand_on/notation.h"
#include "hand_on/writers.h"

#include <algorithm>
#include <cmath>
#include <set>

namespace oxgoad {

namespace {

using Op = ScoreNode::Op;

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
        : m_program(program), m_table(quotedName(table)) {}

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
    /// DISTINCT changes nothing of one row, and keeps engines from putting each level into the next, where
    /// what is used twice would be written twice, and so on.
    std::string scalar(const Said& output) const {
        std::set<std::size_t> steps, sources;
        use(*output, steps, sources);
        std::string columns;
        for (const auto s : sources)
            columns += (columns.empty() ? "" : ", ") + sourceColumn(s) + " AS c" + std::to_string(s);
        std::string sql =
            "(WITH s0 AS (SELECT DISTINCT " + (columns.empty() ? std::string("1 AS c") : columns) + ")";
        std::size_t deepest = 0;
        for (const auto k : steps)
            deepest = std::max(deepest, m_level[k] + 1);
        for (std::size_t level = 0; level < deepest; ++level) {
            const std::string before = "s" + std::to_string(level);
            sql += ",\n  s" + std::to_string(level + 1) + " AS (SELECT DISTINCT " + before + ".*";
            for (const auto k : steps)
                if (m_level[k] == level)
                    sql += ",\n    " + said(*m_program.steps[k].value) + " AS v" + std::to_string(k);
            sql += "\n  FROM " + before + ")";
        }
        return sql + "\n  SELECT " + said(*output) + " FROM s" + std::to_string(deepest) + ")";
    }

    std::string sourceColumn(std::size_t index) const {
        const Program::Source& source = m_program.sources[index];
        // Numbers that stand as texts are numbers, and what is empty is missing, whatever the column's type.
        const std::string text =
            "NULLIF(CAST(" + m_table + "." + quotedName(source.name) + " AS VARCHAR(10000)), '')";
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

    static Notation notation() {
        Notation in;
        in.number = plainNumber;
        in.text = sqlText;
        in.missing = "CAST(NULL AS DOUBLE PRECISION)";
        in.source = [](std::size_t k) { return "c" + std::to_string(k); };
        in.variable = [](std::size_t k) { return "v" + std::to_string(k); };
        in.choose = [](const auto& holds, const auto& yes, const auto& no) {
            return "CASE WHEN " + holds + " THEN " + yes + " ELSE " + no + " END";
        };
        in.join = " || ";
        in.lacksText = [](const auto& a) { return "(" + a + " = '')"; };
        in.lacksNumber = [](const auto& a) { return "(" + a + " IS NULL)"; };
        in.own = [](const ScoreNode& node, const std::vector<std::string>& of) -> std::optional<std::string> {
            if (node.op == Op::log10) return "(LN(" + of[0] + ") / " + plainNumber(std::log(10.0)) + ")";
            if (node.op != Op::least && node.op != Op::most) return std::nullopt;
            return "CASE WHEN " + of[0] + (node.op == Op::least ? " < " : " > ") + of[1] + " THEN " + of[0] +
                   " WHEN " + of[0] + " IS NULL THEN " + of[0] + " ELSE " + of[1] + " END";
        };
        return in;
    }
    std::string said(const ScoreNode& node) const { return writtenIn(m_in, node); }

    const Program& m_program;
    std::string m_table;
    Notation m_in = notation();
    std::vector<std::size_t> m_level;
};

} // namespace

std::string sqlOf(const Program& program, const std::string& table) {
    return SqlWriter(program, table).run();
}

} // namespace oxgoad
