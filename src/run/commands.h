#pragma once
// What the headless command does.
#include "run/arguments.h"
#include "run/terminal_progress.h"

namespace oxgoad {

/// Errors are thrown; nothing is half written. Throws Stopped.
void runCommand(const Arguments& arguments, TerminalProgress& progress);

} // namespace oxgoad
