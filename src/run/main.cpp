// The headless command: recipe in, evidence out.
#include "base/error.h"
#include "base/text.h"
#include "kernels/kernels.h"
#include "run/commands.h"
#include "share/ledger_text.h"

#include <iostream>
#include <new>
#include <string>

using namespace oxgoad;

namespace {

constexpr int exitBadInput = 2;

} // namespace

int main(int argc, char** argv) {
    for (int i = 1; i < argc; ++i) {
        const std::string word = argv[i];
        if (word == "--help") {
            std::cout << commandHelp();
            return 0;
        }
        if (word == "--man") {
            std::cout << commandManual(OXGOAD_VERSION);
            return 0;
        }
        if (word == "--version") {
            std::cout << "oxgoad-run " OXGOAD_VERSION "\narithmetic for " << oxgoad_built_for() << "\n";
            return 0;
        }
    }
    listenToSignals();
    try {
        const Arguments arguments = parseArguments(argc, argv);
        TerminalProgress progress(!arguments.quiet);
        return runCommand(arguments, progress);
    } catch (const Stopped&) {
        std::cerr << "Stopped; nothing was written.\n";
        return exitStopped;
    } catch (const std::bad_alloc&) {
        std::cerr << "There is not enough memory for these rows.\n";
        return exitBadInput;
    } catch (const std::exception& error) {
        for (const char c : std::string(error.what())) // line by line: a message may have several
            std::cerr << harmless({&c, 1}, true);
        std::cerr << "\n";
        return exitBadInput;
    }
}
