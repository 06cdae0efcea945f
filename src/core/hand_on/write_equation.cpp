#include "base/text.h"
#include "hand_on/writers.h"

#include <cmath>

namespace oxgoad {

namespace {

std::string mathText(const std::string& text) {
    std::string out;
    for (const char c : text) {
        if (c == '&')
            out += "&amp;";
        else if (c == '<')
            out += "&lt;";
        else if (c == '>')
            out += "&gt;";
        else
            out += static_cast<unsigned char>(c) < 0x20 ? ' ' : c;
    }
    return out;
}

} // namespace

std::string equationOf(const Program& program) {
    std::string out = program.response + " =";
    if (program.coefficients.empty()) return out + " " + program.sentence;
    for (std::size_t k = 0; k < program.coefficients.size(); ++k) {
        const auto& [name, value] = program.coefficients[k];
        out += (value < 0 ? " − " : k > 0 ? " + " : " ") + exactText(std::fabs(value));
        if (name != "constant") out += " × " + name;
    }
    return out;
}

std::string mathmlOf(const Program& program) {
    std::string out = "<math xmlns=\"http://www.w3.org/1998/Math/MathML\" display=\"block\"><mrow><mi>" +
                      mathText(program.response) + "</mi><mo>=</mo>";
    if (program.coefficients.empty()) out += "<mtext>" + mathText(program.sentence) + "</mtext>";
    for (std::size_t k = 0; k < program.coefficients.size(); ++k) {
        const auto& [name, value] = program.coefficients[k];
        if (value < 0)
            out += "<mo>−</mo>";
        else if (k > 0)
            out += "<mo>+</mo>";
        out += "<mn>" + exactText(std::fabs(value)) + "</mn>";
        if (name != "constant") out += "<mo>·</mo><mi>" + mathText(name) + "</mi>";
    }
    return out + "</mrow></math>\n";
}

} // namespace oxgoad
