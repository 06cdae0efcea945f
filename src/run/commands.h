#pragma once
// What the headless command does.
#include "run/arguments.h"
#include "run/terminal_progress.h"

namespace oxgoad {

inline constexpr int exitStopped = 3;

/// Errors are thrown; nothing is half written. Throws Stopped.
/// The exit code: 0, or that of a stop after which something was written.
int runCommand(const Arguments& arguments, TerminalProgress& progress);

} // namespace oxgoad
