#include "recipe/json_reader.h"

#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <cmath>

namespace oxgoad {

using nlohmann::json;

json parseJson(std::string_view text, const std::string& name) {
    std::vector<std::set<std::string>> keys;
    auto watch = [&](int depth, json::parse_event_t event, json& parsed) {
        if (depth > 64) throw Error(ErrorCode::badRecipe, "the text is nested too deeply", {.file = name});
        if (event == json::parse_event_t::object_start) keys.emplace_back();
        if (event == json::parse_event_t::object_end) keys.pop_back();
        if (event == json::parse_event_t::key && !keys.back().insert(parsed.get<std::string>()).second)
            throw Error(ErrorCode::badRecipe, "the key \"" + parsed.get<std::string>() + "\" is there twice",
                        {.file = name}, "Keep one of them.");
        return true;
    };
    try {
        return json::parse(text, watch);
    } catch (const json::out_of_range&) {
        throw Error(ErrorCode::badRecipe, "a number is larger than any number here can be", {.file = name},
                    "Correct the number.");
    } catch (const json::parse_error& failure) {
        const auto at = std::min<std::size_t>(failure.byte, text.size());
        const auto line = static_cast<std::size_t>(std::count(
                              text.begin(), text.begin() + static_cast<std::ptrdiff_t>(at), '\n')) +
                          1;
        const auto begin = text.rfind('\n', at > 0 ? at - 1 : 0);
        const std::size_t place = begin == std::string_view::npos || begin >= at ? at : at - begin - 1;
        throw Error(ErrorCode::badRecipe,
                    "this is not JSON here, at character " + countText(place) + " of the line",
                    {.file = name, .line = line}, "Check commas, quotes and brackets before this place.");
    }
}

void JsonValue::refuse(const std::string& what, const std::string& remedy) const {
    throw Error(ErrorCode::badRecipe, (m_path.empty() ? "the recipe" : m_path) + " " + what, {.file = m_file},
                remedy);
}

std::string JsonValue::text() const {
    if (!m_value.is_string()) refuse("must be a text");
    return m_value.get<std::string>();
}

bool JsonValue::boolean() const {
    if (!m_value.is_boolean()) refuse("must be true or false");
    return m_value.get<bool>();
}

double JsonValue::number(double low, double high) const {
    if (!m_value.is_number()) refuse("must be a number");
    const double value = m_value.get<double>();
    if (!(value > low && value < high))
        refuse("must be above " + readableText(low) + " and below " + readableText(high));
    return value;
}

std::uint64_t JsonValue::whole(std::uint64_t low, std::uint64_t high) const {
    if (!m_value.is_number_unsigned() || m_value.get<std::uint64_t>() < low ||
        m_value.get<std::uint64_t>() > high)
        refuse("must be a whole number from " + std::to_string(low) + " to " + std::to_string(high));
    return m_value.get<std::uint64_t>();
}

int JsonValue::integer(int low, int high) const {
    // Above the largest 64-bit number with a sign it would come round below 0.
    const bool beyond =
        m_value.is_number_unsigned() && m_value.get<std::uint64_t>() > static_cast<std::uint64_t>(INT64_MAX);
    if (!m_value.is_number_integer() || beyond || m_value.get<std::int64_t>() < low ||
        m_value.get<std::int64_t>() > high)
        refuse("must be a whole number from " + std::to_string(low) + " to " + std::to_string(high));
    return m_value.get<int>();
}

char JsonValue::character() const {
    const std::string value = text();
    if (value.size() != 1 || static_cast<unsigned char>(value[0]) > 126) refuse("must be one character");
    return value[0];
}

void JsonValue::eachItem(const std::function<void(const JsonValue&)>& use) const {
    if (!m_value.is_array()) refuse("must be a list");
    for (std::size_t i = 0; i < m_value.size(); ++i)
        use(JsonValue(m_value[i], m_path + "[" + std::to_string(i) + "]", m_file));
}

void JsonValue::eachMember(const std::function<void(const std::string&, const JsonValue&)>& use) const {
    if (!m_value.is_object()) refuse("must be an object");
    for (const auto& [key, value] : m_value.items())
        use(key, JsonValue(value, m_path + (m_path.empty() ? "" : ".") + key, m_file));
}

JsonObject::JsonObject(const JsonValue& value) : m_value(value) {
    if (!value.m_value.is_object()) value.refuse("must be an object");
}

bool JsonObject::has(const std::string& key) const {
    return m_value.m_value.contains(key);
}

JsonValue JsonObject::at(const std::string& key) {
    m_asked.insert(key);
    if (!has(key)) m_value.refuse("lacks the key \"" + key + "\"");
    return {m_value.m_value.at(key), m_value.m_path + (m_value.m_path.empty() ? "" : ".") + key,
            m_value.m_file};
}

void JsonObject::optional(const std::string& key, const std::function<void(const JsonValue&)>& use) {
    if (has(key))
        use(at(key));
    else
        m_asked.insert(key);
}

void JsonObject::finish() const {
    for (const auto& [key, value] : m_value.m_value.items()) {
        if (m_asked.contains(key)) continue;
        std::string known;
        for (const auto& name : m_asked)
            known += (known.empty() ? "" : ", ") + name;
        const std::string meant = didYouMean(key, {m_asked.begin(), m_asked.end()});
        throw Error(ErrorCode::badRecipe,
                    "there is no key \"" + (m_value.m_path.empty() ? key : m_value.m_path + "." + key) + "\"",
                    {.file = m_value.m_file},
                    (meant.empty() ? "" : meant + " ") + "Known here are: " + known + ".");
    }
}

} // namespace oxgoad
