#include "base/file.h"

#include "base/error.h"
#include "base/file_target.h"

#include <atomic>
#include <cerrno>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fcntl.h>
#include <fstream>
#include <memory>
#include <sys/file.h>
#include <sys/stat.h>
#include <unistd.h>
#include <utility>

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

constexpr const char* writingMark = ".writing-";

/// Temporary files of this target that nobody writes any more: a program that was killed left them.
void removeLeftovers(const fs::path& target) {
    const auto folder = target.has_parent_path() ? target.parent_path() : fs::path(".");
    const std::string start = target.filename().string() + writingMark;
    std::error_code failure;
    for (fs::directory_iterator entry(folder, failure), end; !failure && entry != end;
         entry.increment(failure)) {
        const std::string name = entry->path().filename().string();
        if (!name.starts_with(start) ||
            name.find_first_not_of("0123456789-", start.size()) != std::string::npos)
            continue;
        const Descriptor file(::open(entry->path().c_str(), O_RDONLY | O_CLOEXEC | O_NOFOLLOW | O_NONBLOCK));
        struct stat status {};
        if (file.get() < 0 || ::fstat(file.get(), &status) != 0 || !S_ISREG(status.st_mode) ||
            status.st_uid != ::geteuid())
            continue;
        if (::flock(file.get(), LOCK_EX | LOCK_NB) == 0) ::unlink(entry->path().c_str());
    }
}

/// The permissions that new files do not get. Asking the system for them would change them for a moment.
mode_t usualMask() {
    std::ifstream status("/proc/self/status");
    for (std::string line; std::getline(status, line);)
        if (line.starts_with("Umask:"))
            return static_cast<mode_t>(std::strtoul(line.c_str() + 6, nullptr, 8));
    return 022;
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

FileStamp stampOf(const fs::path& path) {
    struct stat status {};
    if (::stat(path.c_str(), &status) != 0) return {};
    return {static_cast<std::uint64_t>(status.st_dev), static_cast<std::uint64_t>(status.st_ino),
            static_cast<std::uint64_t>(status.st_size),
            static_cast<std::int64_t>(status.st_mtim.tv_sec) * 1000000000 + status.st_mtim.tv_nsec, true};
}

std::string readFile(const fs::path& path) {
    requireFile(path);
    const Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
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
    const Descriptor file(::open(path.c_str(), O_RDONLY | O_CLOEXEC | O_NONBLOCK));
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

fs::path writableTarget(const fs::path& asked) {
    fs::path target = asked;
    std::error_code failure;
    if (fs::is_symlink(target, failure)) {
        const fs::path real = fs::weakly_canonical(target, failure);
        if (failure || real.empty())
            throw Error(ErrorCode::cannotWrite, "this is a link that leads nowhere: " + failure.message(),
                        {.file = target.string()}, "Choose another name, or take the link away.");
        target = real;
    }
    const auto refuse = [&](const std::string& what, const std::string& remedy) {
        throw Error(ErrorCode::cannotWrite, what, {.file = target.string()}, remedy);
    };
    const auto old = fs::status(target, failure);
    if (fs::is_directory(old))
        refuse("this is a folder, so no file of that name can be written", "Choose a file name.");
    if (fs::exists(old)) {
        if (!fs::is_regular_file(old)) refuse("this is not a regular file", "Choose another file name.");
        constexpr auto anybody = fs::perms::owner_write | fs::perms::group_write | fs::perms::others_write;
        if ((old.permissions() & anybody) == fs::perms::none || ::access(target.c_str(), W_OK) != 0)
            refuse("the file is write-protected", "Choose another name, or take the protection away first.");
    }
    return target;
}

AtomicFile::AtomicFile(fs::path target) : m_target(writableTarget(target)) {
    removeLeftovers(m_target);
    static std::atomic<unsigned> count{0};
    constexpr int attempts = 100;
    for (int attempt = 0; attempt < attempts; ++attempt) {
        m_temporary = m_target;
        m_temporary += writingMark + std::to_string(::getpid()) + "-" + std::to_string(++count);
        m_lock = ::open(m_temporary.c_str(), O_RDWR | O_CREAT | O_EXCL | O_CLOEXEC | O_NOFOLLOW, 0600);
        if (m_lock < 0 && errno == EEXIST) continue;
        if (m_lock < 0) cannotWrite(m_target, errno);
        // Between making and locking it another program may have taken it for a leftover.
        struct stat own {
        }, there{};
        if (::flock(m_lock, LOCK_EX | LOCK_NB) == 0 && ::fstat(m_lock, &own) == 0 &&
            ::stat(m_temporary.c_str(), &there) == 0 && own.st_ino == there.st_ino)
            return;
        ::close(std::exchange(m_lock, -1));
    }
    cannotWrite(m_target, EEXIST);
}

AtomicFile::~AtomicFile() {
    if (!m_done && m_lock >= 0) {
        std::error_code failure;
        fs::remove(m_temporary, failure);
    }
    if (m_lock >= 0) ::close(m_lock);
}

void AtomicFile::commit() {
    struct stat own {
    }, there{};
    if (::fstat(m_lock, &own) != 0 || ::stat(m_temporary.c_str(), &there) != 0 || own.st_ino != there.st_ino)
        cannotWrite(m_target, ENOENT);
    if (::fsync(m_lock) != 0) cannotWrite(m_target, errno);
    struct stat old {};
    if (::stat(m_target.c_str(), &old) == 0) {
        // Without the right to give it to the old owner it stays with whoever saves.
        if (::fchown(m_lock, old.st_uid, old.st_gid) != 0 && ::fchown(m_lock, uid_t(-1), old.st_gid) != 0)
            errno = 0;
        if (::fchmod(m_lock, old.st_mode & 07777) != 0) cannotWrite(m_target, errno);
    } else if (::fchmod(m_lock, 0666 & ~usualMask()) != 0) {
        cannotWrite(m_target, errno);
    }
    if (::rename(m_temporary.c_str(), m_target.c_str()) != 0) cannotWrite(m_target, errno);
    m_done = true;
    const auto folder = m_target.has_parent_path() ? m_target.parent_path() : fs::path(".");
    const Descriptor directory(::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC));
    if (directory.get() >= 0) ::fsync(directory.get());
}

void replaceFile(const fs::path& path, std::string_view bytes) {
    AtomicFile file(path);
    {
        const Descriptor out(::open(file.temporary().c_str(), O_WRONLY | O_TRUNC | O_CLOEXEC));
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
