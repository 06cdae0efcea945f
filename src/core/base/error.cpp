#include "base/error.h"

namespace oxgoad {

namespace {

/// "plan.csv, line 7, cell 3 (list_rate): text. Remedy."
std::string sentence(const std::string& what, const Where& where, const std::string& remedy) {
    std::string place = where.file;
    auto add = [&place](const std::string& part) {
        if (!place.empty()) place += ", ";
        place += part;
    };
    if (!where.sheet.empty()) add("sheet " + where.sheet);
    if (where.line > 0) add("line " + std::to_string(where.line));
    if (where.cell > 0) add("cell " + std::to_string(where.cell));
    if (!where.column.empty()) {
        if (where.cell > 0)
            place += " (" + where.column + ")";
        else
            add("column " + where.column);
    }
    if (where.character > 0) add("character " + std::to_string(where.character));
    std::string text = place.empty() ? what : place + ": " + what;
    if (!text.empty() && text.back() != '.') text += '.';
    if (!remedy.empty()) text += " " + remedy;
    return text;
}

} // namespace

Error::Error(ErrorCode code, std::string what, Where where, std::string remedy)
    : std::runtime_error(sentence(what, where, remedy)), m_code(code), m_message(std::move(what)),
      m_where(std::move(where)), m_remedy(std::move(remedy)) {}

} // namespace oxgoad
