#include "base/file.h"

#include "base/error.h"

#include <cerrno>
#include <cstdio>
#include <cstring>
#include <fcntl.h>
#include <memory>
#include <unistd.h>

namespace oxgoad {

namespace fs = std::filesystem;

namespace {

class Descriptor {
public:
    explicit Descriptor(int fd) : m_fd(fd) {}
    ~Descriptor() {
        if (m_fd >= 0) ::close(m_fd);
    }
    Descriptor(const Descriptor&) = delete;
    Descriptor& operator=(const Descriptor&) = delete;
    int get() const { return m_fd; }

private:
    int m_fd;
};

[[noreturn]] void cannotWrite(const fs::path& path, int reason) {
    throw Error(ErrorCode::cannotWrite, std::string("cannot be written: ") + std::strerror(reason),
                {.file = path.string()},
                "Choose another folder or free some space; the old file is as it was.");
}

} // namespace

void requireFile(const fs::path& path) {
    std::error_code failure;
    const auto status = fs::status(path, failure);
    if (!fs::exists(status))
        throw Error(ErrorCode::fileNotFound, "there is no such file", {.file = path.string()},
                    "Check the name and the folder.");
    if (!fs::is_regular_file(status))
        throw Error(ErrorCode::notAFile,
                    fs::is_directory(status) ? "this is a folder, not a file" : "this is not a regular file",
                    {.file = path.string()}, "Choose a file.");
}

std::string readFile(const fs::path& path) {
    requireFile(path);
    const Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
    if (file.get() < 0)
        throw Error(ErrorCode::cannotRead, std::string("cannot be read: ") + std::strerror(errno),
                    {.file = path.string()}, "Check the permissions of the file.");
    std::error_code failure;
    const auto size = fs::file_size(path, failure);
    std::string bytes(failure ? 0 : static_cast<std::size_t>(size), '\0');
    std::size_t done = 0;
    for (;;) {
        if (done == bytes.size()) bytes.resize(bytes.size() + 65536);
        const auto got = ::read(file.get(), bytes.data() + done, bytes.size() - done);
        if (got < 0 && errno == EINTR) continue;
        if (got < 0)
            throw Error(ErrorCode::cannotRead, std::string("cannot be read: ") + std::strerror(errno),
                        {.file = path.string()});
        if (got == 0) break;
        done += static_cast<std::size_t>(got);
    }
    bytes.resize(done);
    return bytes;
}

ByteBuffer::ByteBuffer(std::size_t size)
    : m_bytes(std::make_unique_for_overwrite<char[]>(size + 1)), m_size(size) {
    m_bytes[size] = 0;
}

ByteBuffer readBytes(const fs::path& path, Threads threads) {
    requireFile(path);
    const Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC));
    if (file.get() < 0)
        throw Error(ErrorCode::cannotRead, std::string("cannot be read: ") + std::strerror(errno),
                    {.file = path.string()}, "Check the permissions of the file.");
    const std::size_t size = fs::file_size(path);
    ByteBuffer bytes(size);
    constexpr std::size_t block = 4U << 20U;
    parallelFor((size + block - 1) / block, threads, [&](std::size_t i) {
        const std::size_t end = std::min(size, (i + 1) * block);
        for (std::size_t at = i * block; at < end;) {
            const auto got = ::pread(file.get(), bytes.data() + at, end - at, static_cast<off_t>(at));
            if (got < 0 && errno == EINTR) continue;
            if (got <= 0)
                throw Error(ErrorCode::cannotRead,
                            got < 0 ? std::string("cannot be read: ") + std::strerror(errno)
                                    : "became shorter while it was read",
                            {.file = path.string()}, "Try again when nothing writes to it.");
            at += static_cast<std::size_t>(got);
        }
    });
    return bytes;
}

AtomicFile::AtomicFile(fs::path target) : m_target(std::move(target)) {
    std::error_code failure;
    if (fs::is_symlink(m_target, failure)) m_target = fs::canonical(m_target, failure);
    if (fs::is_directory(m_target, failure))
        throw Error(ErrorCode::cannotWrite, "this is a folder, so no file of that name can be written",
                    {.file = m_target.string()}, "Choose a file name.");
    m_temporary = m_target;
    m_temporary += ".writing-" + std::to_string(::getpid());
}

AtomicFile::~AtomicFile() {
    if (m_done) return;
    std::error_code failure;
    fs::remove(m_temporary, failure);
}

void AtomicFile::commit() {
    {
        const Descriptor file(::open(m_temporary.c_str(), O_RDWR | O_CLOEXEC));
        if (file.get() < 0 || ::fsync(file.get()) != 0) cannotWrite(m_target, errno);
    }
    std::error_code failure;
    const auto old = fs::status(m_target, failure);
    if (!failure && fs::exists(old)) fs::permissions(m_temporary, old.permissions(), failure);
    if (::rename(m_temporary.c_str(), m_target.c_str()) != 0) cannotWrite(m_target, errno);
    m_done = true;
    const auto folder = m_target.has_parent_path() ? m_target.parent_path() : fs::path(".");
    const Descriptor directory(::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (directory.get() >= 0) ::fsync(directory.get());
}

void replaceFile(const fs::path& path, std::string_view bytes) {
    AtomicFile file(path);
    {
        const Descriptor out(
            ::open(file.temporary().c_str(), O_WRONLY | O_CREAT | O_TRUNC | O_CLOEXEC, 0644));
        if (out.get() < 0) cannotWrite(path, errno);
        while (!bytes.empty()) {
            const auto wrote = ::write(out.get(), bytes.data(), bytes.size());
            if (wrote < 0 && errno == EINTR) continue;
            if (wrote <= 0) cannotWrite(path, wrote < 0 ? errno : ENOSPC);
            bytes.remove_prefix(static_cast<std::size_t>(wrote));
        }
    }
    file.commit();
}

} // namespace oxgoad
