#include "ledger/ledger.h"

#include <algorithm>
#include <atomic>

namespace oxgoad {

const LedgerLine* Ledger::find(const std::string& column) const {
    const auto found = std::find_if(columns.begin(), columns.end(),
                                    [&](const LedgerLine& l) { return l.summary.name == column; });
    return found == columns.end() ? nullptr : &*found;
}

std::vector<Goad> Ledger::goads() const {
    std::vector<Goad> all = table;
    for (const LedgerLine& line : columns)
        all.insert(all.end(), line.goads.begin(), line.goads.end());
    return all;
}

Ledger makeLedger(const LedgerInput& input, Threads threads, Progress& progress) {
    Ledger ledger;
    const auto& columns = input.table.columns();
    ledger.columns.resize(columns.size());
    std::atomic<std::size_t> done{0};
    parallelFor(columns.size(), threads, [&](std::size_t i) {
        progress.checkpoint(0.9 * static_cast<double>(done) / static_cast<double>(columns.size()),
                            "Counting columns");
        LedgerLine& line = ledger.columns[i];
        line.summary = summarize(columns[i], input.used, progress);
        if (!input.quiet.contains(columns[i].name())) judgeColumn(input, columns[i], line);
        ++done;
    });
    ProgressStage stage(progress, 0.9, 1);
    judgeTable(input, threads, stage, ledger);
    return ledger;
}

} // namespace oxgoad
