#pragma once
// Parts of a packed workbook, unpacked and parsed as they stream by.
#include "base/progress.h"

#include <filesystem>
#include <functional>
#include <string>
#include <string_view>
#include <vector>

struct zip;

namespace oxgoad {

/// An archive opened for reading. Errors of all members: badWorkbook with the file's name.
class ZipArchive {
public:
    /// Also refuses files that are no archives, saying what they are when it can be told.
    explicit ZipArchive(const std::filesystem::path& path);
    ~ZipArchive();
    ZipArchive(const ZipArchive&) = delete;
    ZipArchive& operator=(const ZipArchive&) = delete;

    bool has(const std::string& part) const;
    /// Bytes of a part once unpacked, as the archive says.
    std::size_t sizeOf(const std::string& part) const;
    /// Calls use(bytes) with one block after the other; stops when `use` returns false. Refuses a part of
    /// more than `limit` bytes, whatever the archive says of its size.
    void stream(const std::string& part, std::size_t limit,
                const std::function<bool(std::string_view)>& use) const;
    const std::string& name() const { return m_name; }

private:
    zip* m_handle = nullptr;
    std::string m_name;
};

/// Names and values of an element's attributes, as they stand.
class XmlAttributes {
public:
    explicit XmlAttributes(const char** attributes) : m_attributes(attributes) {}
    /// Empty when it is not there. Prefixes count: "r:id".
    std::string_view operator[](std::string_view name) const {
        for (const char** a = m_attributes; *a; a += 2)
            if (name == *a) return a[1];
        return {};
    }

private:
    const char** m_attributes;
};

/// What to do with the elements of a part. Anything may call stop().
class XmlHandler {
public:
    virtual ~XmlHandler() = default;
    virtual void open(std::string_view element, const XmlAttributes& attributes) = 0;
    virtual void close(std::string_view element) { (void)element; }
    virtual void text(std::string_view text) { (void)text; }
    void stop() { m_stopped = true; }
    bool stopped() const { return m_stopped; }

private:
    bool m_stopped = false;
};

/// Parses a part. Document types are refused, and with them entities that grow. Errors: badWorkbook with the
/// line.
void parsePart(const ZipArchive& archive, const std::string& part, XmlHandler& handler, Progress& progress);

} // namespace oxgoad
