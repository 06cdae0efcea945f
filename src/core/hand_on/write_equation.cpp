#include "base/text.h"
#include "hand_on/notation.h"
#include "hand_on/writers.h"

#include <cmath>

namespace oxgoad {

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
                      markupText(program.response) + "</mi><mo>=</mo>";
    if (program.coefficients.empty()) out += "<mtext>" + markupText(program.sentence) + "</mtext>";
    for (std::size_t k = 0; k < program.coefficients.size(); ++k) {
        const auto& [name, value] = program.coefficients[k];
        if (value < 0)
            out += "<mo>−</mo>";
        else if (k > 0)
            out += "<mo>+</mo>";
        out += "<mn>" + exactText(std::fabs(value)) + "</mn>";
        if (name != "constant") out += "<mo>·</mo><mi>" + markupText(name) + "</mi>";
    }
    return out + "</mrow></math>\n";
}

} // namespace oxgoad
