#pragma once
// Whole files in and out. Files the user owns are replaced atomically.
#include "base/parallel.h"

#include <cstddef>
#include <cstdint>
#include <filesystem>
#include <memory>
#include <string>
#include <string_view>

namespace oxgoad {

/// The bytes of a file. Throws Error (fileNotFound, notAFile, cannotRead).
std::string readFile(const std::filesystem::path& path);

/// Bytes without the cost of filling them with zeros first; data()[size()] is a zero byte.
class ByteBuffer {
public:
    explicit ByteBuffer(std::size_t size);
    char* data() { return m_bytes.get(); }
    std::size_t size() const { return m_size; }
    std::string_view view() const { return {m_bytes.get(), m_size}; }

private:
    std::unique_ptr<char[]> m_bytes;
    std::size_t m_size;
};

/// The bytes of a file, read in blocks on several threads. Throws as readFile, and cannotRead when the file
/// changes its length meanwhile.
ByteBuffer readBytes(const std::filesystem::path& path, Threads threads);

/// Throws Error with a sentence unless `path` is a regular file that exists.
void requireFile(const std::filesystem::path& path);

/// What tells whether a file is still the one that was read or written.
struct FileStamp {
    std::uint64_t device = 0, file = 0, size = 0;
    std::int64_t changed = 0; // nanoseconds
    bool exists = false;
    bool operator==(const FileStamp&) const = default;
};
FileStamp stampOf(const std::filesystem::path& path);

/// A file being written beside its final place: finish it with commit(), which syncs it and renames it
/// over the old one. Without commit() the old file stays as it was and nothing is left behind; what a killed
/// program left there of the same name is taken away by the next one.
class AtomicFile {
public:
    /// Makes the temporary file, which nobody else has, empty and readable by its owner only. Errors
    /// (cannotWrite): the target is a folder, a device or a pipe, or may not be written.
    explicit AtomicFile(std::filesystem::path target);
    ~AtomicFile();
    AtomicFile(const AtomicFile&) = delete;
    AtomicFile& operator=(const AtomicFile&) = delete;

    /// Where to write: a name in the same folder that no other file has.
    const std::filesystem::path& temporary() const { return m_temporary; }
    /// Syncs and renames, with the permissions of the old file, or those of any new one. Throws Error
    /// (cannotWrite).
    void commit();

private:
    std::filesystem::path m_target;
    std::filesystem::path m_temporary;
    /// Locked while it is written, so that leftovers can be told from work.
    int m_lock = -1;
    bool m_done = false;
};

/// Writes `bytes` as the whole content of `path`, atomically. Throws Error (cannotWrite).
void replaceFile(const std::filesystem::path& path, std::string_view bytes);

} // namespace oxgoad
