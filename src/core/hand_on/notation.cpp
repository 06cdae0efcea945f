#include "hand_on/notation.h"

namespace oxgoad {

std::string quotedName(const std::string& name) {
    std::string out = "\"";
    for (const char c : name) {
        if (c == '\0') continue;
        out += c;
        if (c == '"') out += c;
    }
    return out + "\"";
}

std::string markupText(const std::string& text, bool lines) {
    std::string out;
    for (const char c : text) {
        if (c == '&')
            out += "&amp;";
        else if (c == '<')
            out += "&lt;";
        else if (c == '>')
            out += "&gt;";
        else if (c == '"')
            out += "&quot;";
        else if ((c == '\n' || c == '\t' || c == '\r') && !lines)
            out += "&#" + std::to_string(static_cast<int>(c)) + ";";
        else
            out += static_cast<unsigned char>(c) < 0x20 && c != '\n' && c != '\t' ? ' ' : c;
    }
    return out;
}

std::string plainWords(const std::string& text) {
    std::string out;
    for (const char c : text) {
        const auto u = static_cast<unsigned char>(c);
        out += u < 0x20 || c == '*' || c == '\\' || c == '"' || c == '?' ? ' ' : c;
    }
    return out;
}

std::string writtenIn(const Notation& in, const ScoreNode& node) {
    using Op = ScoreNode::Op;
    std::vector<std::string> of;
    for (const Said& part : node.of)
        of.push_back(writtenIn(in, *part));
    if (in.own)
        if (auto said = in.own(node, of)) return *said;
    const auto between = [&](const char* sign) { return "(" + of[0] + " " + sign + " " + of[1] + ")"; };
    const auto call = [&](const char* name) {
        return std::string(name) + "(" + of[0] + (of.size() > 1 ? in.comma + of[1] : "") + ")";
    };
    switch (node.op) {
    case Op::constant:
        return in.number(node.number);
    case Op::missing:
        return in.missing;
    case Op::source:
        return in.source(node.index);
    case Op::variable:
        return in.variable(node.index);
    case Op::add:
        return between("+");
    case Op::subtract:
        return between("-");
    case Op::multiply:
        return between("*");
    case Op::divide:
        return between("/");
    case Op::power:
        return call(in.power);
    case Op::negate:
        return "(-" + of[0] + ")";
    case Op::ln:
        return call(in.ln);
    case Op::log10:
        return call(in.log10);
    case Op::exp:
        return call(in.exp);
    case Op::root:
        return call(in.root);
    case Op::absolute:
        return call(in.absolute);
    case Op::floor:
        return call(in.floor);
    case Op::sine:
        return call(in.sine);
    case Op::cosine:
        return call(in.cosine);
    case Op::least:
        return call(in.least);
    case Op::most:
        return call(in.most);
    case Op::choose:
        return in.choose(of[0], of[1], of[2]);
    case Op::word:
        return in.text(node.text);
    case Op::join: {
        std::string text = "(";
        for (std::size_t i = 0; i < of.size(); ++i)
            text += (i > 0 ? in.join : "") + of[i];
        return text + ")";
    }
    case Op::below:
        return between("<");
    case Op::atMost:
        return between("<=");
    case Op::equal:
    case Op::same:
        return between(in.equal);
    case Op::unequal:
    case Op::other:
        return between(in.unequal);
    case Op::both:
        return between(in.both);
    case Op::either:
        return between(in.either);
    case Op::lacks:
        return node.of[0]->isText ? in.lacksText(of[0]) : in.lacksNumber(of[0]);
    }
    return in.missing;
}

} // namespace oxgoad
