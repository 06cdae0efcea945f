#include "check/leaks.h"

#include "base/text.h"
#include "check/check_tools.h"
#include "estimate/decompositions.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

namespace {

using Eigen::Index;
using Eigen::MatrixXd;
using Eigen::VectorXd;

constexpr std::size_t fewestRows = 8, mostRows = 2000, mostColumns = 1000;
constexpr double roundingShare = 1e-3, rowsShare = 0.99;

/// The response and the numbers beside it, at some rows.
struct Numbers {
    VectorXd y;
    std::vector<std::string> names;
    std::vector<VectorXd> values;
    double tolerance = 0;
};

class Search {
public:
    Search(const Numbers& numbers, std::string response, const Progress& progress)
        : m_n(numbers), m_response(std::move(response)), m_progress(progress) {}

    std::map<std::string, std::string> run() {
        for (std::size_t a = 0; a < m_n.values.size(); ++a)
            if (isMultiple(m_n.values[a]))
                m_found.try_emplace(m_n.names[a], m_n.names[a] + " is " + m_response + " in another measure");
        for (std::size_t a = 0; a < m_n.values.size(); ++a)
            if (const char* how = contained(m_n.values[a]))
                m_found.try_emplace(m_n.names[a], how[0] == '<'
                                                      ? m_n.names[a] + " is a part of " + m_response
                                                      : m_response + " is a part of " + m_n.names[a]);
        for (std::size_t a = 0; a < m_n.values.size(); ++a) {
            stopIfTold(m_progress);
            if (m_found.contains(m_n.names[a])) continue;
            for (std::size_t b = 0; b < m_n.values.size(); ++b)
                if (b != a && !m_found.contains(m_n.names[b])) pair(a, b);
        }
        sums();
        return std::move(m_found);
    }

private:
    /// Whether a value is the response in nearly all rows where both are there. The first rows decide most.
    template <class Value> bool isResponse(Value&& value) const {
        std::size_t compared = 0, equal = 0;
        const auto n = static_cast<std::size_t>(m_n.y.size());
        for (std::size_t i = 0; i < n; ++i) {
            const double v = value(static_cast<Index>(i));
            if (!std::isfinite(v)) continue;
            ++compared;
            equal += std::fabs(v - m_n.y[static_cast<Index>(i)]) <= m_n.tolerance;
            if (compared == fewestRows && equal + 1 < compared) return false;
        }
        return compared >= fewestRows && 2 * compared >= n &&
               static_cast<double>(equal) >= rowsShare * static_cast<double>(compared);
    }

    /// y = slope · x + constant, by the two rows that are farthest apart.
    bool isMultiple(const VectorXd& x) const {
        Index low = -1, high = -1;
        for (Index i = 0; i < x.size(); ++i) {
            if (!std::isfinite(x[i])) continue;
            if (low < 0 || x[i] < x[low]) low = i;
            if (high < 0 || x[i] > x[high]) high = i;
        }
        if (low < 0 || !(x[high] > x[low])) return false;
        const double slope = (m_n.y[high] - m_n.y[low]) / (x[high] - x[low]);
        const double base = m_n.y[low] - slope * x[low];
        return slope != 0 && isResponse([&](Index i) { return base + slope * x[i]; });
    }

    /// "<" where the column is never above the response and equal to it in some rows but not most, ">" the
    /// other way round: sales at home and sales in all. Null otherwise. Of quantities above 0 only.
    const char* contained(const VectorXd& x) const {
        constexpr double fewest = 0.05, most = 0.9, nearly = 0.999;
        double compared = 0, below = 0, above = 0, equal = 0;
        for (Index i = 0; i < x.size(); ++i) {
            if (!std::isfinite(x[i])) continue;
            if (x[i] < 0 || m_n.y[i] < 0) return nullptr;
            if (x[i] == 0 && m_n.y[i] == 0) continue;
            compared += 1;
            below += x[i] <= m_n.y[i];
            above += x[i] >= m_n.y[i];
            equal += x[i] == m_n.y[i];
        }
        if (compared < 3 * static_cast<double>(fewestRows) || equal < fewest * compared ||
            equal > most * compared)
            return nullptr;
        return below >= nearly * compared ? "<" : above >= nearly * compared ? ">" : nullptr;
    }

    void tell(std::size_t a, std::size_t b, const std::string& how) {
        const std::string phrase = m_n.names[a] + " " + how + " " + m_n.names[b] + " is " + m_response;
        m_found.try_emplace(m_n.names[a], phrase);
        m_found.try_emplace(m_n.names[b], phrase);
    }

    void pair(std::size_t a, std::size_t b) {
        const VectorXd &x = m_n.values[a], &z = m_n.values[b];
        if (a < b && isResponse([&](Index i) { return x[i] + z[i]; })) return tell(a, b, "+");
        if (isResponse([&](Index i) { return x[i] - z[i]; })) return tell(a, b, "−");
        // A constant of their own, a hundred for shares in per cent, is found at one row.
        const auto scaled = [&](auto&& value) {
            double factor = 0;
            for (Index i = 0; i < x.size() && factor == 0; ++i)
                if (const double v = value(i); std::isfinite(v) && v != 0 && m_n.y[i] != 0)
                    factor = m_n.y[i] / v;
            for (const double usual : {1.0, 100.0, 0.01, 1000.0, 0.001})
                if (std::fabs(factor / usual - 1) < 0.01) factor = usual;
            return factor != 0 && isResponse([&](Index i) { return factor * value(i); });
        };
        if (a < b && scaled([&](Index i) { return x[i] * z[i]; })) return tell(a, b, "×");
        if (scaled([&](Index i) { return x[i] / z[i]; })) tell(a, b, "over");
    }

    /// Sums of several columns: a straight line of the response in all of them that leaves no more than
    /// rounding, with whole coefficients.
    void sums() {
        std::vector<std::size_t> whole;
        for (std::size_t a = 0; a < m_n.values.size(); ++a)
            if (m_n.values[a].allFinite() && !m_found.contains(m_n.names[a])) whole.push_back(a);
        const auto n = m_n.y.size();
        const auto k = static_cast<Index>(whole.size());
        constexpr Index mostInSums = 60;
        if (k < 3 || k > mostInSums || n < 2 * k + 8) return;
        MatrixXd x(n, k + 1);
        VectorXd scale(k + 1);
        x.col(k).setOnes();
        scale[k] = 1;
        for (Index j = 0; j < k; ++j) {
            const VectorXd& v = m_n.values[whole[static_cast<std::size_t>(j)]];
            scale[j] = std::max(1e-300, std::sqrt((v.array() - v.mean()).square().mean()));
            x.col(j) = (v.array() - v.mean()) / scale[j];
        }
        const MatrixXd q = orthonormalColumns(x);
        const VectorXd left = m_n.y - q * (q.transpose() * m_n.y);
        const auto close = static_cast<double>((left.array().abs() <= m_n.tolerance).count());
        if (close < rowsShare * static_cast<double>(n)) return;
        const MatrixXd r = q.transpose() * x;
        const VectorXd b = r.triangularView<Eigen::Upper>().solve(q.transpose() * m_n.y);
        std::string phrase;
        std::vector<std::size_t> in;
        for (Index j = 0; j < k; ++j) {
            const double coefficient = b[j] / scale[j];
            if (!std::isfinite(coefficient)) return;
            if (std::fabs(b[j]) <= 2 * m_n.tolerance) continue; // says nothing of it
            if (std::fabs(std::fabs(coefficient) - 1) > 0.01) return;
            phrase += (phrase.empty()    ? (coefficient < 0 ? "−" : "")
                       : coefficient < 0 ? " − "
                                         : " + ") +
                      m_n.names[whole[static_cast<std::size_t>(j)]];
            in.push_back(whole[static_cast<std::size_t>(j)]);
        }
        if (in.size() < 2) return;
        for (const std::size_t a : in)
            m_found.try_emplace(m_n.names[a], phrase + " is " + m_response);
    }

    const Numbers& m_n;
    std::string m_response;
    const Progress& m_progress;
    std::map<std::string, std::string> m_found;
};

} // namespace

std::map<std::string, std::string> columnsThatHold(const Table& table, const std::string& response,
                                                   std::span<const std::uint32_t> rows,
                                                   const std::function<bool(const std::string&)>& notSelected,
                                                   const Progress& progress) {
    const Column* y = table.find(response);
    if (!y || y->kind() != ColumnKind::number) return {};
    std::vector<std::uint32_t> some;
    const std::size_t step = std::max<std::size_t>(1, rows.size() / mostRows);
    for (std::size_t i = 0; i < rows.size(); i += step)
        if (!y->isMissing(rows[i])) some.push_back(rows[i]);
    if (some.size() < fewestRows) return {};
    Numbers numbers;
    const auto valuesAt = [&](const Column& column) {
        VectorXd values(static_cast<Index>(some.size()));
        for (std::size_t i = 0; i < some.size(); ++i)
            values[static_cast<Index>(i)] = column.numbers()[some[i]];
        return values;
    };
    numbers.y = valuesAt(*y);
    const double spread = std::sqrt((numbers.y.array() - numbers.y.mean()).square().mean());
    if (!(spread > 0)) return {};
    numbers.tolerance = roundingShare * spread;
    for (const Column& column : table.columns()) {
        if (numbers.values.size() >= mostColumns) break;
        if (column.kind() != ColumnKind::number || column.moments() || column.name() == response ||
            notSelected(column.name()))
            continue;
        stopIfTold(progress);
        VectorXd values = valuesAt(column);
        // Of two values, or all alike, nothing is a sum or a product.
        std::vector<double> few;
        for (const double v : values)
            if (few.size() < 3 && std::isfinite(v) && std::find(few.begin(), few.end(), v) == few.end())
                few.push_back(v);
        if (few.size() < 3) continue;
        numbers.names.push_back(column.name());
        numbers.values.push_back(std::move(values));
    }
    return Search(numbers, response, progress).run();
}

bool knownOnlyAfterwards(const Table* coming, const std::string& column) {
    if (!coming || coming->rows() == 0) return false;
    const Column* there = coming->find(column);
    return !there || there->missingCount() == there->size();
}

void checkLeaks(const CheckContext& context, Findings& findings) {
    const std::string name = "response said by its making";
    const std::string source =
        "common practice, no source; Kaufman, Rosset, Perlich and Stitelman 2012, \"Leakage in "
        "data mining\"";
    const auto found = columnsThatHold(
        context.table, context.response(), context.learningRows,
        [&](const std::string& column) { return !isOffered(context.recipe, column); }, *context.progress);
    std::vector<std::string> used;
    for (const auto& [column, phrase] : found)
        if (findInput(context.inputs.inputs(), column)) used.push_back(column);
    findings.readings.push_back(
        madeReading(name, static_cast<double>(used.size()), context.limitOf(name, 0), {},
                    "columns of the model that hold the response within rounding, alone or with others, of " +
                        plural(found.size(), "such column", "such columns") + " in the table",
                    source));
    for (const std::string& column : used) {
        Goad goad;
        goad.key = "leak: " + column;
        goad.check = name;
        goad.severity = Severity::alarm;
        goad.title = column + " holds the response by its making";
        goad.reading =
            found.at(column) +
            ", within rounding: a model that reads it learns arithmetic, and where the response is not "
            "known yet neither is it";
        goad.threshold = "a thousandth of the standard deviation in 99 of 100 rows";
        goad.source = source;
        goad.station = "fit";
        goad.column = column;
        goad.family = "leak";
        goad.familyTitle = "# columns hold the response by their making";
        for (const Term& term : context.terms)
            if (std::any_of(term.parts.begin(), term.parts.end(),
                            [&](const TermPart& part) { return part.column == column; })) {
                goad.moves.push_back(leaveOutTerm(termName(term)));
                break;
            }
        goad.moves.push_back(giveRole("set " + column + " aside", column, Role::setAside));
        findings.goads.push_back(std::move(goad));
    }
}

} // namespace oxgoad
