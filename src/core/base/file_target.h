#pragma once
// Whether a file may be written, before anything of it is.
#include <filesystem>

namespace oxgoad {

/// The file that is written where this one is asked for: what a link leads to. Errors: cannotWrite for a link
/// that leads nowhere, a folder, a device or a pipe, and a file that is write-protected.
std::filesystem::path writableTarget(const std::filesystem::path& asked);

} // namespace oxgoad
