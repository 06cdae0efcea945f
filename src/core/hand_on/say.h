#pragma once
// Shorthands in which expressions of a program are written down.
#include "hand_on/program.h"

#include <cmath>
#include <string>
#include <utility>
#include <vector>

namespace oxgoad::scoring {

using Op = ScoreNode::Op;

inline Said node(ScoreNode made) {
    return std::make_shared<const ScoreNode>(std::move(made));
}
inline Said number(double value) {
    return node({.op = std::isnan(value) ? Op::missing : Op::constant, .number = value});
}
inline Said missing() {
    return node({.op = Op::missing});
}
inline Said word(std::string text) {
    return node({.op = Op::word, .text = std::move(text), .isText = true});
}
inline Said unary(Op op, Said a) {
    return node({.op = op, .of = {std::move(a)}});
}
inline Said binary(Op op, Said a, Said b) {
    return node({.op = op, .of = {std::move(a), std::move(b)}});
}
inline bool isConstant(const Said& a, double value) {
    return a->op == Op::constant && a->number == value;
}

inline Said operator+(Said a, Said b) {
    return binary(Op::add, std::move(a), std::move(b));
}
inline Said operator-(Said a, Said b) {
    return isConstant(b, 0) ? a : binary(Op::subtract, std::move(a), std::move(b));
}
inline Said operator*(Said a, Said b) {
    return isConstant(a, 1) ? b : isConstant(b, 1) ? a : binary(Op::multiply, std::move(a), std::move(b));
}
/// By something that is not 0.
inline Said operator/(Said a, Said b) {
    return binary(Op::divide, std::move(a), std::move(b));
}

inline Said below(Said a, Said b) {
    return binary(Op::below, std::move(a), std::move(b));
}
inline Said atMost(Said a, Said b) {
    return binary(Op::atMost, std::move(a), std::move(b));
}
inline Said same(Said a, Said b) {
    return binary(Op::same, std::move(a), std::move(b));
}
inline Said other(Said a, Said b) {
    return binary(Op::other, std::move(a), std::move(b));
}
inline Said both(Said a, Said b) {
    return binary(Op::both, std::move(a), std::move(b));
}
inline Said either(Said a, Said b) {
    return binary(Op::either, std::move(a), std::move(b));
}
inline Said lacks(Said a) {
    return unary(Op::lacks, std::move(a));
}
inline Said choose(Said holds, Said yes, Said no) {
    const bool text = yes->isText;
    return node({.op = Op::choose, .of = {std::move(holds), std::move(yes), std::move(no)}, .isText = text});
}
/// `value` where x is there, missing otherwise.
inline Said whereThere(const Said& x, Said value) {
    return choose(lacks(x), missing(), std::move(value));
}
/// Missing where it is not defined.
inline Said lnOf(const Said& x) {
    return choose(below(number(0), x), unary(Op::ln, x), missing());
}
inline Said over(const Said& a, const Said& b) {
    return choose(either(below(b, number(0)), below(number(0), b)), a / b, missing());
}
inline Said wholePower(const Said& x, int power) {
    if (power == 1) return x;
    if (power == 2) return x * x;
    if (power < 0) return over(number(1), wholePower(x, -power));
    return binary(Op::power, x, number(power));
}

/// In pairs of pairs, so that no format has to read hundreds of levels of brackets.
inline Said joined(Op op, const std::vector<Said>& parts, std::size_t begin, std::size_t end) {
    if (end - begin == 1) return parts[begin];
    const std::size_t middle = begin + (end - begin + 1) / 2;
    return binary(op, joined(op, parts, begin, middle), joined(op, parts, middle, end));
}
inline Said sumOf(const std::vector<Said>& parts) {
    return parts.empty() ? number(0) : joined(Op::add, parts, 0, parts.size());
}
/// What holds nowhere, and everywhere.
inline Said never() {
    return below(number(1), number(0));
}
inline Said anyOf(const std::vector<Said>& parts) {
    return parts.empty() ? never() : joined(Op::either, parts, 0, parts.size());
}
inline Said allOf(const std::vector<Said>& parts) {
    return parts.empty() ? below(number(0), number(1)) : joined(Op::both, parts, 0, parts.size());
}

} // namespace oxgoad::scoring
