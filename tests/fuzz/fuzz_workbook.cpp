// The input is a sheet's XML (of OpenDocument when it begins with "<o"), packed as it stands; or a whole
// workbook.
#include "base/error.h"
#include "base/progress.h"
#include "read/workbook.h"

#include <zip.h>

#include <cstdlib>
#include <fstream>
#include <string>
#include <unistd.h>

namespace {

void pack(const std::string& path, const std::string& part, std::string_view bytes, bool sheet) {
    int failure = 0;
    zip_t* archive = zip_open(path.c_str(), ZIP_CREATE | ZIP_TRUNCATE, &failure);
    auto add = [archive](const char* name, std::string_view content) {
        const auto at = zip_file_add(
            archive, name, zip_source_buffer(archive, content.data(), content.size(), 0), ZIP_FL_OVERWRITE);
        zip_set_file_compression(archive, static_cast<zip_uint64_t>(at), ZIP_CM_STORE, 0);
    };
    if (sheet) {
        add("xl/workbook.xml", "<workbook><sheets><sheet name=\"S\" r:id=\"r1\"/></sheets></workbook>");
        add("xl/_rels/workbook.xml.rels",
            "<R><Relationship Id=\"r1\" Type=\"x/worksheet\" Target=\"s.xml\"/>"
            "<Relationship Id=\"r2\" Type=\"x/styles\" Target=\"styles.xml\"/></R>");
        add("xl/styles.xml",
            "<styleSheet><cellXfs><xf numFmtId=\"0\"/><xf numFmtId=\"14\"/></cellXfs></styleSheet>");
    }
    add(part.c_str(), bytes);
    zip_close(archive);
}

} // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
    static const std::string base =
        (access("/dev/shm", W_OK) == 0 ? "/dev/shm/oxgoad-fuzz-" : "/tmp/oxgoad-fuzz-") +
        std::to_string(getpid());
    const std::string_view bytes(reinterpret_cast<const char*>(data), size);
    oxgoad::Progress quiet;
    const bool ods = bytes.starts_with("<o");
    const std::string path = base + (ods ? ".ods" : ".xlsx");
    if (bytes.starts_with("PK"))
        std::ofstream(path, std::ios::binary) << bytes;
    else
        pack(path, ods ? "content.xml" : "xl/s.xml", bytes, !ods);
    try {
        oxgoad::sheetsOf(path, quiet);
        const auto rows = oxgoad::readWorkbook(path, {.mostRows = 2000}, {}, quiet);
        for (const auto& column : rows.table.columns())
            if (column.size() != rows.table.rows()) std::abort();
    } catch (const oxgoad::Error&) {
    }
    unlink(path.c_str());
    return 0;
}
