#pragma once
// Reading JSON with paths in its complaints.
#include <nlohmann/json.hpp>

#include <functional>
#include <set>
#include <string>
#include <string_view>

namespace oxgoad {

/// Parses, refusing doubled keys. Throws Error (badRecipe) with the line.
nlohmann::json parseJson(std::string_view text, const std::string& name);

/// A JSON value and the path that leads to it.
class JsonValue {
public:
    JsonValue(const nlohmann::json& value, std::string path, const std::string& file)
        : m_value(value), m_path(std::move(path)), m_file(file) {}

    std::string text() const;
    bool boolean() const;
    double number(double low, double high) const;
    std::uint64_t whole(std::uint64_t low, std::uint64_t high) const;
    int integer(int low, int high) const;
    char character() const;
    bool isText() const { return m_value.is_string(); }
    bool isNumber() const { return m_value.is_number(); }
    bool isList() const { return m_value.is_array(); }
    void eachItem(const std::function<void(const JsonValue&)>& use) const;
    /// Name and value of every member of an object.
    void eachMember(const std::function<void(const std::string&, const JsonValue&)>& use) const;
    [[noreturn]] void refuse(const std::string& what, const std::string& remedy = {}) const;

private:
    friend class JsonObject;
    const nlohmann::json& m_value;
    std::string m_path;
    const std::string& m_file;
};

/// An object whose members are asked for by name; finish() refuses those nobody asked for.
class JsonObject {
public:
    explicit JsonObject(const JsonValue& value);
    bool has(const std::string& key) const;
    JsonValue at(const std::string& key);
    /// Calls `use` when the key is there.
    void optional(const std::string& key, const std::function<void(const JsonValue&)>& use);
    void finish() const;
    [[noreturn]] void refuse(const std::string& what) const { m_value.refuse(what); }

private:
    JsonValue m_value;
    std::set<std::string> m_asked;
};

} // namespace oxgoad
