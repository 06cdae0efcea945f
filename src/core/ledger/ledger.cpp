#include "ledger/ledger.h"

#include <algorithm>
#include <atomic>
#include <map>

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
    tellColumnsTogether(all, table.size());
    return all;
}

void tellColumnsTogether(std::vector<Goad>& goads, std::size_t from) {
    const auto sortOf = [](const Goad& goad) { return goad.key.substr(0, goad.key.find(": ")); };
    std::map<std::string, std::vector<std::string>> columns; // sort → columns that have it
    for (std::size_t i = from; i < goads.size(); ++i)
        if (!goads[i].column.empty() && !goads[i].accepted)
            columns[sortOf(goads[i])].push_back(goads[i].column);
    constexpr std::size_t many = 3, named = 5;
    for (std::size_t i = from; i < goads.size(); ++i) {
        Goad& goad = goads[i];
        goad.under.clear();
        if (goad.column.empty()) continue;
        const std::vector<std::string>& alike = columns[sortOf(goad)];
        if (alike.size() >= many) {
            goad.family = "columns: " + sortOf(goad);
            goad.familyTitle = "# columns have it: ";
            for (std::size_t k = 0; k < std::min(named, alike.size()); ++k)
                goad.familyTitle += (k > 0 ? ", " : "") + alike[k];
            if (alike.size() > named) goad.familyTitle += ", …";
        } else {
            goad.family = "column: " + goad.column;
            goad.familyTitle = "# things are odd about " + goad.column;
        }
    }
    // The gravest of its sort is the one that is told.
    for (const auto& [sort, names] : columns) {
        if (names.size() < many) continue;
        std::vector<std::size_t> of;
        for (std::size_t i = from; i < goads.size(); ++i)
            if (goads[i].family == "columns: " + sort) of.push_back(i);
        const auto gravest = std::max_element(of.begin(), of.end(), [&](std::size_t a, std::size_t b) {
            return goads[a].size.value_or(0) < goads[b].size.value_or(0);
        });
        if (gravest != of.end()) std::swap(goads[of.front()], goads[*gravest]);
    }
    tellFamiliesTogether(goads, from);
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
