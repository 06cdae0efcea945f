#include "read/workbook.h"

#include "base/error.h"
#include "base/text.h"
#include "read/ods_parts.h"
#include "read/sheet_sink.h"
#include "read/xlsx_parts.h"
#include "read/zip_xml.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <cmath>
#include <map>
#include <set>

namespace oxgoad {

namespace {

bool isOds(const ZipArchive& archive) {
    return archive.has("content.xml");
}

void refuseLocked(const ZipArchive& archive, Progress& progress) {
    if (!archive.has("META-INF/manifest.xml")) return;
    OdsManifest manifest;
    parsePart(archive, "META-INF/manifest.xml", manifest, progress);
    if (manifest.encrypted)
        throw Error(ErrorCode::badWorkbook, "the workbook is locked with a password",
                    {.file = archive.name()}, "Take the password away where it was made.");
}

[[noreturn]] void noSheet(const ZipArchive& archive, const std::string& wanted,
                          const std::vector<SheetInfo>& sheets) {
    std::string names;
    for (const SheetInfo& sheet : sheets)
        names += (names.empty() ? "" : ", ") + sheet.name;
    throw Error(ErrorCode::badWorkbook, "there is no sheet \"" + wanted + "\"", {.file = archive.name()},
                "The sheets are: " + names + ".");
}

/// Adds the rows so far to what is said while a sheet streams by.
class RowsProgress : public Progress {
public:
    RowsProgress(Progress& whole, const SheetSink& sink) : m_whole(whole), m_sink(sink) {}
    void report(double share, std::string_view) override {
        m_whole.report(share, "Reading rows, " + countText(m_sink.rows()) + " so far");
    }
    bool stopRequested() const override { return m_whole.stopRequested(); }

private:
    Progress& m_whole;
    const SheetSink& m_sink;
};

} // namespace

std::vector<SheetInfo> sheetsOf(const std::filesystem::path& path, Progress& progress) {
    const ZipArchive archive(path);
    if (isOds(archive)) {
        refuseLocked(archive, progress);
        OdsSheets sheets;
        parsePart(archive, "content.xml", sheets, progress);
        return sheets.sheets;
    }
    std::vector<SheetInfo> sheets;
    for (const XlsxSheet& sheet : readXlsxParts(archive, progress).book.sheets)
        sheets.push_back(sheet.info);
    return sheets;
}

RowsRead readWorkbook(const std::filesystem::path& path, const SheetChoice& choice,
                      const TextOptions& options, Progress& progress) {
    progress.checkpoint(0, "Opening the workbook");
    const ZipArchive archive(path);
    CellRange range;
    if (!choice.range.empty()) {
        const auto parsed = parseRange(choice.range);
        if (!parsed)
            throw Error(ErrorCode::badWorkbook, "\"" + choice.range + "\" is not a range of cells",
                        {.file = archive.name()}, "Write it as B3:F200, or B:F for whole columns.");
        range = *parsed;
    }
    if (isOds(archive)) {
        Progress quiet;
        refuseLocked(archive, quiet);
        SheetSink sink(archive.name(), choice.sheet, range, options, choice.mostRows);
        sink.setBytes(archive.sizeOf("content.xml"));
        OdsCells cells(sink, choice.sheet, progress);
        RowsProgress rows(progress, sink);
        parsePart(archive, "content.xml", cells, rows);
        if (!cells.found()) {
            const auto sheets = sheetsOf(path, quiet);
            if (!choice.sheet.empty() || sheets.empty()) noSheet(archive, choice.sheet, sheets);
            return readWorkbook(path, {sheets.front().name, choice.range, choice.mostRows}, options,
                                progress);
        }
        return sink.finish();
    }
    Progress quiet;
    const XlsxParts parts = readXlsxParts(archive, quiet);
    const XlsxSheet* sheet = nullptr;
    for (const XlsxSheet& candidate : parts.book.sheets)
        if (!sheet && (choice.sheet.empty() ? !candidate.info.hidden : candidate.info.name == choice.sheet))
            sheet = &candidate;
    if (!sheet && choice.sheet.empty()) sheet = &parts.book.sheets.front();
    if (!sheet) {
        std::vector<SheetInfo> infos;
        for (const XlsxSheet& candidate : parts.book.sheets)
            infos.push_back(candidate.info);
        noSheet(archive, choice.sheet, infos);
    }
    XlsxStyles styles;
    if (!parts.relations.styles.empty() && archive.has(parts.relations.styles))
        parsePart(archive, parts.relations.styles, styles, quiet);
    XlsxStrings strings;
    if (!parts.relations.strings.empty() && archive.has(parts.relations.strings)) {
        ProgressStage stage(progress, 0, 0.1);
        parsePart(archive, parts.relations.strings, strings, stage);
    }
    SheetSink sink(archive.name(), sheet->info.name, range, options, choice.mostRows);
    sink.setBytes(archive.sizeOf(sheet->part) + archive.sizeOf(parts.relations.strings));
    XlsxCells cells(sink, strings.strings, styles.dates, parts.book.from1904);
    ProgressStage stage(progress, 0.1, 1);
    RowsProgress rows(stage, sink);
    parsePart(archive, sheet->part, cells, rows);
    return sink.finish();
}

} // namespace oxgoad
