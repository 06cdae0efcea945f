#pragma once
// How expressions of a program are written in one notation: its words, and what it says otherwise.
#include "hand_on/program.h"

#include <functional>
#include <optional>
#include <string>
#include <vector>

namespace oxgoad {

/// Words of a notation. Empty ones are ordinary: a + b, f(a, b).
struct Notation {
    std::function<std::string(double)> number;
    std::function<std::string(const std::string&)> text;
    std::string missing;
    std::function<std::string(std::size_t)> source, variable;
    const char* comma = ", ";
    const char *equal = "=", *unequal = "<>";
    const char *both = "AND", *either = "OR";
    const char *power = "POWER", *ln = "LN", *log10 = "LOG10", *exp = "EXP", *root = "SQRT",
               *absolute = "ABS", *floor = "FLOOR", *sine = "SIN", *cosine = "COS", *least = "MIN",
               *most = "MAX";
    /// Of a truth, and two values.
    std::function<std::string(const std::string& holds, const std::string& yes, const std::string& no)>
        choose;
    /// Between texts that are put together.
    const char* join = " + ";
    std::function<std::string(const std::string&)> lacksText, lacksNumber;
    /// What it says in a way of its own, of what its parts were written as; nothing where it does not.
    std::function<std::optional<std::string>(const ScoreNode&, const std::vector<std::string>& of)> own{};
};

std::string writtenIn(const Notation& in, const ScoreNode& node);

/// A name within quotes, as the standard of SQL has it.
std::string quotedName(const std::string& name);
/// For elements and attributes of HTML and XML: nothing of a text is markup. Ends of lines and tabs by
/// number, or as they are where `lines` are shown; other signs that XML has not are blanks.
std::string markupText(const std::string& text, bool lines = false);
/// Without signs that end a line or a comment.
std::string plainWords(const std::string& text);

} // namespace oxgoad
