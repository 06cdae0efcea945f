#pragma once
// What the headless command does.
#include "run/arguments.h"
#include "run/terminal_progress.h"

namespace oxgoad {

inline constexpr int exitStopped = 3;
inline constexpr int exitOpenGoads = 4;
inline constexpr int exitRowsOutside = 5;
inline constexpr int exitDrift = 6;

/// Errors are thrown; nothing is half written. Throws Stopped.
/// The exit code: 0, that of a stop after which something was written, or that of open goads.
int runCommand(const Arguments& arguments, TerminalProgress& progress);

} // namespace oxgoad
