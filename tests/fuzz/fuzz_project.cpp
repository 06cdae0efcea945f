#include "base/error.h"
#include "study/project.h"

#include <cstdio>
#include <filesystem>
#include <fstream>
#include <unistd.h>

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const auto path =
        std::filesystem::temp_directory_path() / ("oxgoad-fuzz-" + std::to_string(getpid()) + ".oxgoad");
    std::ofstream(path, std::ios::binary)
        .write(reinterpret_cast<const char*>(data), static_cast<std::streamsize>(size));
    oxgoad::Progress progress;
    try {
        oxgoad::openProject(path, progress);
    } catch (const oxgoad::Error&) {
    }
    std::filesystem::remove(path);
    return 0;
}
