#include "base/not_a_number.h"
#include "hand_on/program.h"
#include "table/values.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using Op = ScoreNode::Op;

namespace {

struct Value {
    double number = 0;
    std::string text{};
};

class Runner {
public:
    Runner(const Program& program, const ProgramRow& row) : m_program(program), m_row(row) {
        for (const Program::Step& step : program.steps)
            m_values.push_back(of(*step.value));
    }

    Value of(const ScoreNode& node) const {
        const auto a = [&](std::size_t i) { return of(*node.of[i]).number; };
        const auto truth = [](bool holds) { return Value{holds ? 1.0 : 0.0}; };
        switch (node.op) {
        case Op::constant:
            return {node.number};
        case Op::missing:
            return {nan};
        case Op::source:
            return {m_row.numbers[node.index], m_row.texts[node.index]};
        case Op::variable:
            return m_values[node.index];
        case Op::add:
            return {a(0) + a(1)};
        case Op::subtract:
            return {a(0) - a(1)};
        case Op::multiply:
            return {a(0) * a(1)};
        case Op::divide:
            return {a(0) / a(1)};
        case Op::power:
            return {std::pow(a(0), a(1))};
        case Op::negate:
            return {-a(0)};
        case Op::ln:
            return {std::log(a(0))};
        case Op::log10:
            return {std::log10(a(0))};
        case Op::exp:
            return {std::exp(a(0))};
        case Op::root:
            return {std::sqrt(a(0))};
        case Op::absolute:
            return {std::fabs(a(0))};
        case Op::floor:
            return {std::floor(a(0))};
        case Op::sine:
            return {std::sin(a(0))};
        case Op::cosine:
            return {std::cos(a(0))};
        case Op::least:
        case Op::most: {
            const double x = a(0), y = a(1);
            if (std::isnan(x) || std::isnan(y)) return {nan};
            return {node.op == Op::least ? std::min(x, y) : std::max(x, y)};
        }
        case Op::choose:
            return of(*node.of[of(*node.of[0]).number != 0 ? 1 : 2]);
        case Op::word:
            return {0, node.text};
        case Op::join: {
            std::string text;
            for (const Said& part : node.of) {
                const std::string piece = of(*part).text;
                text += piece;
            }
            return {0, text};
        }
        case Op::below:
            return truth(a(0) < a(1));
        case Op::atMost:
            return truth(a(0) <= a(1));
        case Op::equal:
            return truth(a(0) == a(1));
        case Op::unequal:
            return truth(a(0) < a(1) || a(0) > a(1));
        case Op::same:
        case Op::other: {
            const std::string x = of(*node.of[0]).text, y = of(*node.of[1]).text;
            return truth(node.op == Op::same ? x == y : x != y);
        }
        case Op::both:
            return truth(a(0) != 0 && a(1) != 0);
        case Op::either:
            return truth(a(0) != 0 || a(1) != 0);
        case Op::lacks:
            return truth(node.of[0]->isText ? of(*node.of[0]).text.empty() : std::isnan(a(0)));
        }
        return {};
    }

private:
    const Program& m_program;
    const ProgramRow& m_row;
    std::vector<Value> m_values;
};

} // namespace

ProgramResult runProgram(const Program& program, const ProgramRow& row) {
    const Runner runner(program, row);
    ProgramResult out{runner.of(*program.prediction).number, nan, nan, {}, false};
    if (!std::isfinite(out.prediction)) out.prediction = nan;
    if (program.noIntervals.empty()) {
        out.lower = runner.of(*program.lower).number;
        out.upper = runner.of(*program.upper).number;
    }
    for (const Program::Reason& reason : program.reasons)
        if (runner.of(*reason.holds).number != 0) {
            out.reasons.push_back(reason.says);
            out.outside = out.outside || reason.outside;
        }
    return out;
}

std::vector<std::pair<double, std::string>> runSteps(const Program& program, const ProgramRow& row) {
    const Runner runner(program, row);
    std::vector<std::pair<double, std::string>> out;
    for (const Program::Step& step : program.steps) {
        const Value value = runner.of(*step.value);
        out.emplace_back(value.number, value.text);
    }
    return out;
}

std::vector<ProgramRow> programRows(const Program& program, const Table& raw, const std::string& file,
                                    std::span<const std::uint32_t> rows) {
    std::vector<ProgramRow> out(rows.size());
    for (std::size_t i = 0; i < rows.size(); ++i) {
        out[i].numbers.assign(program.sources.size(), nan);
        out[i].texts.resize(program.sources.size());
    }
    for (std::size_t s = 0; s < program.sources.size(); ++s) {
        const Column& column = raw.at(program.sources[s].name, file);
        const bool text = program.sources[s].kind == Program::Kind::text;
        for (std::size_t i = 0; i < rows.size(); ++i)
            if (column.isMissing(rows[i]))
                continue;
            else if (text)
                out[i].texts[s] = column.cellText(rows[i]);
            else
                out[i].numbers[s] = column.asNumber(rows[i]);
    }
    return out;
}

} // namespace oxgoad
