#include "read/stack_join.h"

#include "base/error.h"
#include "base/text.h"
#include "table/dictionary.h"

#include <algorithm>
#include <cmath>
#include <cstring>
#include <unordered_map>

namespace oxgoad {

namespace {

std::string namesOf(const std::vector<std::string>& names) {
    std::string text;
    for (std::size_t i = 0; i < std::min<std::size_t>(names.size(), 6); ++i)
        text += (text.empty() ? "" : ", ") + names[i];
    return names.size() > 6 ? text + " and " + countText(names.size() - 6) + " more" : text;
}

/// One column of all parts; null where a part lacks it.
Column stacked(const std::string& name, const std::vector<const Column*>& parts,
               const std::vector<std::size_t>& sizes, std::vector<std::string>& notes) {
    std::size_t rows = 0;
    for (const auto size : sizes)
        rows += size;
    const std::optional<AskedKind> common = commonKind(parts);
    if (!common) {
        std::vector<const Column*> told;
        for (const Column* part : parts)
            if (part && part->missingCount() < part->size() &&
                (told.empty() || part->asked() != told.front()->asked()))
                told.push_back(part);
        notes.push_back(name + " is a " + std::string(told.front()->kindText()) + " in one source and a " +
                        std::string(told[1]->kindText()) + " in another; it was made a factor.");
    }
    const AskedKind kind = common.value_or(ColumnKind::factor);
    if (kind == ColumnKind::number || kind == ColumnKind::date) {
        std::vector<double> numbers;
        std::vector<std::int32_t> days;
        for (std::size_t p = 0; p < parts.size(); ++p) {
            const bool there = parts[p] && parts[p]->missingCount() < parts[p]->size();
            for (std::size_t i = 0; i < sizes[p]; ++i)
                if (kind == ColumnKind::number)
                    numbers.push_back(there && !parts[p]->isMissing(i) ? parts[p]->asNumber(i)
                                                                       : std::nan(""));
                else
                    days.push_back(there ? parts[p]->days()[i] : Column::missingDay);
        }
        return kind == ColumnKind::date ? Column::ofDates(name, std::move(days))
               : kind.moments           ? Column::ofMoments(name, std::move(numbers))
                                        : Column::ofNumbers(name, std::move(numbers));
    }
    if (kind == ColumnKind::text) {
        TextCells cells;
        for (std::size_t p = 0; p < parts.size(); ++p)
            for (std::size_t i = 0; i < sizes[p]; ++i)
                cells.add(parts[p] && !parts[p]->isMissing(i) ? parts[p]->cellText(i) : std::string());
        return Column::ofText(name, std::move(cells));
    }
    Dictionary dictionary;
    std::vector<std::int32_t> codes;
    codes.reserve(rows);
    for (std::size_t p = 0; p < parts.size(); ++p) {
        if (!parts[p]) {
            codes.resize(codes.size() + sizes[p], Column::missingCode);
            continue;
        }
        std::vector<std::int32_t> known;
        if (parts[p]->kind() == ColumnKind::factor)
            for (const auto& level : parts[p]->levels())
                known.push_back(dictionary.code(level));
        for (std::size_t i = 0; i < sizes[p]; ++i)
            codes.push_back(parts[p]->isMissing(i) ? Column::missingCode
                            : known.empty()        ? dictionary.code(parts[p]->cellText(i))
                                                   : known[static_cast<std::size_t>(parts[p]->codes()[i])]);
    }
    return sortedFactor(name, std::move(codes), dictionary.takeKeys());
}

} // namespace

RowsRead stackRows(std::vector<StackedRows> parts, const std::string& originColumn) {
    RowsRead result;
    result.report.file =
        parts.front().name + (parts.size() > 1 ? " and " + countText(parts.size() - 1) + " more" : "");
    result.report.format = parts.front().rows.report.format;
    std::vector<std::string> names;
    std::vector<std::size_t> sizes;
    for (const auto& part : parts) {
        sizes.push_back(part.rows.table.rows());
        std::vector<std::string> added, lacking;
        for (const Column& column : part.rows.table.columns())
            if (std::find(names.begin(), names.end(), column.name()) == names.end()) {
                if (&part != &parts.front()) added.push_back(column.name());
                names.push_back(column.name());
            }
        for (const Column& column : parts.front().rows.table.columns())
            if (!part.rows.table.find(column.name())) lacking.push_back(column.name());
        for (const auto& note : part.rows.report.notes)
            result.report.notes.push_back(part.name + ": " + note);
        if (&part != &parts.front())
            result.report.notes.push_back(part.name + ": " + plural(part.rows.table.rows(), "row", "rows") +
                                          " below" + (lacking.empty() ? "" : "; lacks " + namesOf(lacking)) +
                                          (added.empty() ? "" : "; adds " + namesOf(added)) + ".");
        std::size_t rowsBefore = result.report.rows;
        for (CellFault fault : part.rows.report.faults) {
            if (result.report.faults.size() >= ReadReport::listedFaults) break;
            fault.row += rowsBefore;
            result.report.faults.push_back(std::move(fault));
        }
        for (const auto& [column, count] : part.rows.report.faultsByColumn) {
            auto& all = result.report.faultsByColumn;
            const auto found =
                std::find_if(all.begin(), all.end(), [&](const auto& c) { return c.first == column; });
            if (found == all.end())
                all.emplace_back(column, count);
            else
                found->second += count;
        }
        result.report.faultCount += part.rows.report.faultCount;
        result.report.rows += part.rows.table.rows();
        result.report.bytes += part.rows.report.bytes;
    }
    std::vector<Column> columns;
    for (const std::string& name : names) {
        std::vector<const Column*> of;
        for (const auto& part : parts)
            of.push_back(part.rows.table.find(name));
        columns.push_back(stacked(name, of, sizes, result.report.notes));
    }
    if (!originColumn.empty()) {
        if (std::find(names.begin(), names.end(), originColumn) != names.end())
            throw Error(ErrorCode::badStep, "there is a column \"" + originColumn + "\" already",
                        {.column = originColumn},
                        "Give the column that says where rows come from another name.");
        std::vector<std::string> levels;
        std::vector<std::int32_t> codes;
        for (std::size_t p = 0; p < parts.size(); ++p) {
            auto at = std::find(levels.begin(), levels.end(), parts[p].name);
            if (at == levels.end()) at = levels.insert(levels.end(), parts[p].name);
            codes.resize(codes.size() + sizes[p], static_cast<std::int32_t>(at - levels.begin()));
        }
        columns.push_back(Column::ofFactor(originColumn, std::move(codes), std::move(levels)));
    }
    result.table = Table(std::move(columns));
    return result;
}

namespace {

/// A number for each value of a key column that is the same in both tables; -1 for missing.
class SharedCodes {
public:
    SharedCodes(const Column& first, const Column& second) {
        if (first.kind() == ColumnKind::number || first.kind() == ColumnKind::date) {
            std::unordered_map<std::uint64_t, std::int64_t> places;
            places.reserve(second.size());
            secondCodes = coded(second, [&](double v) {
                return places.emplace(bitsOf(v), static_cast<std::int64_t>(places.size())).first->second;
            });
            firstCodes = coded(first, [&](double v) {
                const auto found = places.find(bitsOf(v));
                return found == places.end() ? -1 : found->second;
            });
            return;
        }
        std::unordered_map<std::string, std::int64_t> places;
        auto place = [&](const std::string& text) {
            return places.emplace(text, static_cast<std::int64_t>(places.size())).first->second;
        };
        auto seek = [&](const std::string& text) {
            const auto found = places.find(text);
            return found == places.end() ? std::int64_t{-1} : found->second;
        };
        secondCodes = texts(second, place);
        firstCodes = texts(first, seek);
    }
    std::vector<std::int64_t> firstCodes, secondCodes;

private:
    static std::uint64_t bitsOf(double value) {
        if (value == 0) value = 0; // −0 and 0 are one key
        std::uint64_t bits = 0;
        std::memcpy(&bits, &value, sizeof bits);
        return bits;
    }
    template <class Code> static std::vector<std::int64_t> coded(const Column& column, const Code& code) {
        std::vector<std::int64_t> codes(column.size(), -1);
        for (std::size_t i = 0; i < codes.size(); ++i)
            if (!column.isMissing(i)) codes[i] = code(column.asNumber(i));
        return codes;
    }
    template <class Code> static std::vector<std::int64_t> texts(const Column& column, const Code& code) {
        std::vector<std::int64_t> codes(column.size(), -1);
        if (column.kind() == ColumnKind::factor) {
            std::vector<std::int64_t> ofLevel;
            for (const auto& level : column.levels())
                ofLevel.push_back(code(level));
            for (std::size_t i = 0; i < codes.size(); ++i)
                if (!column.isMissing(i)) codes[i] = ofLevel[static_cast<std::size_t>(column.codes()[i])];
        } else {
            for (std::size_t i = 0; i < codes.size(); ++i)
                if (!column.isMissing(i)) codes[i] = code(column.cellText(i));
        }
        return codes;
    }
};

bool comparable(ColumnKind a, ColumnKind b) {
    const auto textual = [](ColumnKind k) { return k == ColumnKind::factor || k == ColumnKind::text; };
    return a == b || (textual(a) && textual(b));
}

} // namespace

RowsRead joinRows(RowsRead first, const RowsRead& second, const std::string& secondName,
                  const std::vector<std::pair<std::string, std::string>>& keys, Threads threads,
                  Progress& progress) {
    if (keys.empty())
        throw Error(ErrorCode::badJoin, "no key is named", {.file = secondName},
                    "Name a column both tables have.");
    const std::size_t n = first.table.rows();
    const std::size_t m = second.table.rows();
    // Keys of several columns are folded into one number, column by column.
    std::vector<std::int64_t> a(n, 0), b(m, 0);
    for (const auto& [left, right] : keys) {
        const Column& x = first.table.at(left, first.report.file);
        const Column& y = second.table.at(right, secondName);
        if (!comparable(x.kind(), y.kind()))
            throw Error(ErrorCode::badJoin,
                        left + " is a " + std::string(kindName(x.kind())) + " and " + right + " a " +
                            std::string(kindName(y.kind())) + ": they are never equal",
                        {.file = secondName}, "Read both as the same type.");
        progress.checkpoint(0.9, "Joining");
        const SharedCodes codes(x, y);
        std::unordered_map<std::uint64_t, std::int64_t> pairs;
        auto fold = [&](std::int64_t so, std::int64_t code, bool add) -> std::int64_t {
            if (so < 0 || code < 0) return -1;
            const std::uint64_t pair =
                (static_cast<std::uint64_t>(so) << 32U) | static_cast<std::uint64_t>(code);
            if (add) return pairs.emplace(pair, static_cast<std::int64_t>(pairs.size())).first->second;
            const auto found = pairs.find(pair);
            return found == pairs.end() ? -1 : found->second;
        };
        for (std::size_t j = 0; j < m; ++j)
            b[j] = fold(b[j], codes.secondCodes[j], true);
        // The first table has far more rows than keys: what each of its codes folds to is looked up once a
        // run.
        std::int64_t lastSo = -2, lastCode = -2, lastFolded = -1;
        for (std::size_t i = 0; i < n; ++i) {
            if (a[i] != lastSo || codes.firstCodes[i] != lastCode) {
                lastSo = a[i];
                lastCode = codes.firstCodes[i];
                lastFolded = fold(lastSo, lastCode, false);
            }
            a[i] = lastFolded;
        }
    }
    std::int64_t largest = -1;
    for (const auto code : b)
        largest = std::max(largest, code);
    std::vector<std::int64_t> rowOf(static_cast<std::size_t>(largest + 1), -1);
    std::size_t doubled = 0;
    for (std::size_t j = 0; j < m; ++j) {
        if (b[j] < 0) continue;
        auto& row = rowOf[static_cast<std::size_t>(b[j])];
        if (row < 0)
            row = static_cast<std::int64_t>(j);
        else
            ++doubled;
    }
    std::vector<std::int64_t> match(n, -1);
    std::vector<std::uint8_t> asked(rowOf.size(), 0);
    std::size_t unmatched = 0;
    std::string example;
    for (std::size_t i = 0; i < n; ++i) {
        if (a[i] >= 0) {
            match[i] = rowOf[static_cast<std::size_t>(a[i])];
            asked[static_cast<std::size_t>(a[i])] = 1;
        } else if (unmatched++ == 0) {
            example = first.table.at(keys[0].first, first.report.file).cellText(i);
        }
    }
    if (unmatched == n)
        throw Error(ErrorCode::badJoin, "no row has a match", {.file = secondName},
                    "Look whether " + keys[0].first + " and " + keys[0].second + " hold the same values.");
    std::vector<const Column*> wanted;
    for (const Column& column : second.table.columns())
        if (std::none_of(keys.begin(), keys.end(), [&](const auto& k) { return k.second == column.name(); }))
            wanted.push_back(&column);
    std::vector<Column> columns = first.table.columns();
    std::vector<std::optional<Column>> added(wanted.size());
    parallelFor(wanted.size(), threads, [&](std::size_t c) {
        std::string name = wanted[c]->name();
        while (first.table.find(name))
            name = secondName + " " + name;
        added[c] = wanted[c]->picked(name, match);
    });
    for (auto& column : added)
        columns.push_back(std::move(*column));
    first.table = Table(std::move(columns));
    const auto unused = static_cast<std::size_t>(std::count(asked.begin(), asked.end(), 0));
    std::string note = secondName + " joined by " + keys[0].first + ": " +
                       plural(wanted.size(), "column", "columns") + " added, " +
                       plural(n - unmatched, "row", "rows") + " matched";
    if (unmatched > 0)
        note += ", " + countText(unmatched) + " without a match" +
                (example.empty() ? "" : " (such as " + example + ")");
    if (doubled > 0)
        note += ", " + plural(doubled, "row of it has a key", "rows of it have keys") +
                " that came before and did not count";
    if (unused > 0) note += ", " + plural(unused, "key was", "keys were") + " not asked for";
    first.report.notes.push_back(note + ".");
    for (const auto& each : second.report.notes)
        first.report.notes.push_back(secondName + ": " + each);
    return first;
}

} // namespace oxgoad
