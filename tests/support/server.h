#pragma once
#include "read/source.h"

#include <array>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <filesystem>
#include <string>
#include <unistd.h>

namespace oxgoad::test {

/// A PostgreSQL server of the test's own, in a temporary folder; gone with the test.
class Server {
public:
    Server() {
        FILE* pipe = ::popen((script + " start " + std::to_string(port)).c_str(), "r");
        std::array<char, 256> line{};
        if (pipe && std::fgets(line.data(), line.size(), pipe))
            folder = std::string(line.data(), std::strlen(line.data()) - 1);
        running = pipe && ::pclose(pipe) == 0;
    }
    ~Server() {
        if (!folder.empty() && std::system((script + " stop " + folder).c_str()) != 0)
            std::fprintf(stderr, "the server's folder stays: %s\n", folder.c_str());
    }
    const std::string script =
        (std::filesystem::path(OXGOAD_PUBLISHED).parent_path().parent_path() / "support" / "postgres.sh")
            .string();
    int port = 20000 + static_cast<int>(::getpid() % 20000);
    std::string folder;
    bool running = false;
    ServerPlace place() const { return {"127.0.0.1", port, "postgres", "oxgoad"}; }
};

} // namespace oxgoad::test
