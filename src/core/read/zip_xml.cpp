#include "read/zip_xml.h"

#include "base/error.h"
#include "base/file.h"

#include <expat.h>
#include <zip.h>

#include <array>
#include <exception>
#include <fstream>
#include <memory>

namespace oxgoad {

namespace {

/// A sheet of a million rows and fifty columns unpacks to about 3 GB.
constexpr std::size_t largestPart = 4ULL << 30U;
constexpr std::size_t blockBytes = 256U << 10U;

[[noreturn]] void refuse(const std::string& file, const std::string& what, const std::string& remedy) {
    throw Error(ErrorCode::badWorkbook, what, {.file = file}, remedy);
}

/// Says what a file is that is no archive.
void explainHead(const std::filesystem::path& path, const std::string& name) {
    std::array<char, 8> head{};
    std::ifstream(path, std::ios::binary).read(head.data(), head.size());
    const std::string_view bytes(head.data(), head.size());
    if (bytes == std::string_view("\xD0\xCF\x11\xE0\xA1\xB1\x1A\xE1", 8))
        refuse(name, "the workbook is locked with a password, or of the old .xls form",
               "Open it where it was made, take the password away, and save it as .xlsx.");
    if (!bytes.starts_with("PK"))
        refuse(name, "this is not a workbook",
               "Choose an .xlsx or .ods file; text is read when the name ends in .csv or .txt.");
}

} // namespace

ZipArchive::ZipArchive(const std::filesystem::path& path) : m_name(path.filename().string()) {
    requireFile(path);
    explainHead(path, m_name);
    int failure = 0;
    m_handle = zip_open(path.c_str(), ZIP_RDONLY, &failure);
    if (!m_handle)
        refuse(m_name, "the workbook is damaged: its list of parts cannot be read",
               "Get the file again, or open and save it where it was made.");
}

ZipArchive::~ZipArchive() {
    zip_discard(m_handle);
}

bool ZipArchive::has(const std::string& part) const {
    return zip_name_locate(m_handle, part.c_str(), 0) >= 0;
}

std::size_t ZipArchive::sizeOf(const std::string& part) const {
    zip_stat_t stat{};
    if (zip_stat(m_handle, part.c_str(), 0, &stat) != 0 || (stat.valid & ZIP_STAT_SIZE) == 0) return 0;
    return stat.size;
}

void ZipArchive::stream(const std::string& part, std::size_t limit,
                        const std::function<bool(std::string_view)>& use) const {
    zip_stat_t stat{};
    if (zip_stat(m_handle, part.c_str(), 0, &stat) != 0)
        refuse(m_name, "the workbook is damaged: it lacks its part " + part,
               "Get the file again, or open and save it where it was made.");
    if ((stat.valid & ZIP_STAT_ENCRYPTION_METHOD) != 0 && stat.encryption_method != ZIP_EM_NONE)
        refuse(m_name, "the workbook is locked with a password", "Take the password away where it was made.");
    auto tooLarge = [&] {
        refuse(m_name, "its part " + part + " unpacks to more than " + std::to_string(limit >> 20U) + " MB",
               "If the file can be trusted, save the sheet as text (CSV) and read that.");
    };
    if ((stat.valid & ZIP_STAT_SIZE) != 0 && stat.size > limit) tooLarge();
    const std::unique_ptr<zip_file_t, int (*)(zip_file_t*)> file(zip_fopen(m_handle, part.c_str(), 0),
                                                                 zip_fclose);
    if (!file)
        refuse(m_name, "the workbook is damaged: its part " + part + " cannot be unpacked",
               "Get the file again.");
    std::vector<char> block(blockBytes);
    std::size_t total = 0;
    for (;;) {
        const auto count = zip_fread(file.get(), block.data(), block.size());
        if (count < 0)
            refuse(m_name, "the workbook is damaged: its part " + part + " breaks off",
                   "Get the file again.");
        if (count == 0) return;
        total += static_cast<std::size_t>(count);
        if (total > limit) tooLarge();
        if (!use({block.data(), static_cast<std::size_t>(count)})) return;
    }
}

namespace {

/// The parser's callbacks may not throw through C code: what was thrown waits here.
struct Parse {
    XmlHandler* handler;
    XML_Parser parser;
    std::exception_ptr thrown;

    template <class Call> void guard(const Call& call) {
        if (thrown || handler->stopped()) return;
        try {
            call();
        } catch (...) {
            thrown = std::current_exception();
        }
        if (thrown || handler->stopped()) XML_StopParser(parser, XML_FALSE);
    }
};

void onOpen(void* data, const char* name, const char** attributes) {
    auto* parse = static_cast<Parse*>(data);
    parse->guard([&] { parse->handler->open(name, XmlAttributes(attributes)); });
}
void onClose(void* data, const char* name) {
    auto* parse = static_cast<Parse*>(data);
    parse->guard([&] { parse->handler->close(name); });
}
void onText(void* data, const char* text, int length) {
    auto* parse = static_cast<Parse*>(data);
    parse->guard([&] { parse->handler->text({text, static_cast<std::size_t>(length)}); });
}
void onDocumentType(void* data, const char*, const char*, const char*, int) {
    auto* parse = static_cast<Parse*>(data);
    parse->guard([&] {
        throw Error(ErrorCode::badWorkbook, "the workbook declares a document type, which no workbook needs",
                    {}, "Do not trust this file.");
    });
}

} // namespace

void parsePart(const ZipArchive& archive, const std::string& part, XmlHandler& handler, Progress& progress) {
    const std::unique_ptr<XML_ParserStruct, void (*)(XML_Parser)> parser(XML_ParserCreate(nullptr),
                                                                         XML_ParserFree);
    Parse parse{&handler, parser.get(), nullptr};
    XML_SetUserData(parser.get(), &parse);
    XML_SetElementHandler(parser.get(), onOpen, onClose);
    XML_SetCharacterDataHandler(parser.get(), onText);
    XML_SetStartDoctypeDeclHandler(parser.get(), onDocumentType);
    const auto size = static_cast<double>(std::max<std::size_t>(1, archive.sizeOf(part)));
    std::size_t done = 0;
    auto feed = [&](std::string_view bytes, bool last) {
        const auto status = XML_Parse(parser.get(), bytes.data(), static_cast<int>(bytes.size()), last);
        if (parse.thrown) std::rethrow_exception(parse.thrown);
        if (handler.stopped()) return false;
        if (status == XML_STATUS_ERROR)
            throw Error(ErrorCode::badWorkbook,
                        "the workbook is damaged: its part " + part + " is not well-formed (" +
                            XML_ErrorString(XML_GetErrorCode(parser.get())) + ")",
                        {.file = archive.name(), .line = XML_GetCurrentLineNumber(parser.get())},
                        "Get the file again, or open and save it where it was made.");
        return true;
    };
    archive.stream(part, largestPart, [&](std::string_view bytes) {
        done += bytes.size();
        progress.checkpoint(std::min(1.0, static_cast<double>(done) / size), {});
        return feed(bytes, false);
    });
    if (!handler.stopped()) feed({}, true);
}

} // namespace oxgoad
