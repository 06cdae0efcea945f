#include "read/text_format.h"

#include "base/error.h"
#include "base/text.h"

#include <algorithm>
#include <array>
#include <map>
#include <set>

namespace oxgoad {

namespace {

void appendUtf8(std::string& out, std::uint32_t point) {
    if (point < 0x80) {
        out += static_cast<char>(point);
    } else if (point < 0x800) {
        out += static_cast<char>(0xC0 | (point >> 6));
        out += static_cast<char>(0x80 | (point & 0x3F));
    } else if (point < 0x10000) {
        out += static_cast<char>(0xE0 | (point >> 12));
        out += static_cast<char>(0x80 | ((point >> 6) & 0x3F));
        out += static_cast<char>(0x80 | (point & 0x3F));
    } else {
        out += static_cast<char>(0xF0 | (point >> 18));
        out += static_cast<char>(0x80 | ((point >> 12) & 0x3F));
        out += static_cast<char>(0x80 | ((point >> 6) & 0x3F));
        out += static_cast<char>(0x80 | (point & 0x3F));
    }
}

/// Unpaired surrogates become U+FFFD.
std::string recodedUtf16(std::string_view bytes, bool littleEndian) {
    auto unit = [&](std::size_t i) {
        const auto a = static_cast<unsigned char>(bytes[i]);
        const auto b = static_cast<unsigned char>(bytes[i + 1]);
        return static_cast<std::uint32_t>(littleEndian ? a | (b << 8) : b | (a << 8));
    };
    std::string out;
    out.reserve(bytes.size());
    for (std::size_t i = 0; i + 1 < bytes.size(); i += 2) {
        std::uint32_t point = unit(i);
        if (point >= 0xD800 && point < 0xDC00 && i + 3 < bytes.size()) {
            const std::uint32_t low = unit(i + 2);
            if (low >= 0xDC00 && low < 0xE000) {
                point = 0x10000 + ((point - 0xD800) << 10) + (low - 0xDC00);
                i += 2;
            }
        }
        if (point >= 0xD800 && point < 0xE000) point = 0xFFFD;
        appendUtf8(out, point);
    }
    return out;
}

bool looksBinary(std::string_view head) {
    const auto controls = std::count_if(head.begin(), head.end(), [](char c) {
        const auto u = static_cast<unsigned char>(c);
        return u < 9 || (u > 13 && u < 32);
    });
    return head.find('\0') != std::string_view::npos || static_cast<std::size_t>(controls) * 10 > head.size();
}

} // namespace

std::string_view encodingName(Encoding encoding) {
    switch (encoding) {
    case Encoding::utf8:
        return "utf-8";
    case Encoding::utf16LittleEndian:
        return "utf-16le";
    case Encoding::utf16BigEndian:
        return "utf-16be";
    case Encoding::latin1:
        return "latin-1";
    }
    return "utf-8";
}

Utf8Text decodeText(std::string_view bytes, const std::string& name, std::optional<Encoding> wanted) {
    if (bytes.empty())
        throw Error(ErrorCode::emptyFile, "the file is empty", {.file = name},
                    "Choose a file with a header line and rows.");
    Utf8Text result;
    auto recode = [&](std::string_view from, Encoding encoding) {
        result.encoding = encoding;
        result.converted = encoding == Encoding::latin1
                               ? recodedLatin1(from)
                               : recodedUtf16(from, encoding == Encoding::utf16LittleEndian);
        result.text = result.converted;
    };
    const bool little = bytes.starts_with("\xFF\xFE");
    const bool big = bytes.starts_with("\xFE\xFF");
    if (bytes.starts_with("\xEF\xBB\xBF"))
        bytes.remove_prefix(3);
    else if (little || big) {
        recode(bytes.substr(2), little ? Encoding::utf16LittleEndian : Encoding::utf16BigEndian);
        return result;
    }
    if (bytes.starts_with(std::string_view("PK\x03\x04", 4)))
        throw Error(ErrorCode::binaryFile, "this is a workbook or an archive, not a text file",
                    {.file = name}, "A workbook is read when its name ends in .xlsx or .ods.");
    if (wanted && *wanted != Encoding::utf8) {
        recode(bytes, *wanted);
        return result;
    }
    const std::string_view head = bytes.substr(0, 65536);
    if (head.size() >= 8 && head.find('\0') != std::string_view::npos) {
        // Text in UTF-16 without a mark has its zero bytes on one side only.
        std::array<std::size_t, 2> zeros{};
        for (std::size_t i = 0; i < head.size(); ++i)
            zeros[i % 2] += head[i] == 0;
        const std::size_t half = head.size() / 2;
        if (zeros[1] * 10 > half * 7 && zeros[0] * 20 < half) {
            recode(bytes, Encoding::utf16LittleEndian);
            return result;
        }
        if (zeros[0] * 10 > half * 7 && zeros[1] * 20 < half) {
            recode(bytes, Encoding::utf16BigEndian);
            return result;
        }
    }
    if (looksBinary(head))
        throw Error(ErrorCode::binaryFile, "this does not look like text", {.file = name},
                    "Choose a text file with delimited columns.");
    if (trimmed(bytes.substr(0, 4096)).find_first_not_of(" \t\r\n") == std::string_view::npos &&
        bytes.size() <= 4096)
        throw Error(ErrorCode::emptyFile, "the file holds nothing but blank lines", {.file = name},
                    "Choose a file with a header line and rows.");
    result.text = bytes;
    return result;
}

std::string recodedLatin1(std::string_view bytes) {
    // Code page 1252 differs from Latin-1 in 0x80..0x9F only; its five free places stay as control
    // characters.
    static constexpr std::array<std::uint16_t, 32> upper{
        0x20AC, 0x81,   0x201A, 0x0192, 0x201E, 0x2026, 0x2020, 0x2021, 0x02C6, 0x2030, 0x0160,
        0x2039, 0x0152, 0x8D,   0x017D, 0x8F,   0x90,   0x2018, 0x2019, 0x201C, 0x201D, 0x2022,
        0x2013, 0x2014, 0x02DC, 0x2122, 0x0161, 0x203A, 0x0153, 0x9D,   0x017E, 0x0178};
    std::string out;
    out.reserve(bytes.size() + bytes.size() / 8);
    for (const char c : bytes) {
        const auto u = static_cast<unsigned char>(c);
        appendUtf8(out, u >= 0x80 && u < 0xA0 ? upper[u - 0x80] : u);
    }
    return out;
}

void RowScanner::next(std::vector<std::string>& cells) {
    cells.clear();
    const bool blanks = delimiter == blankRuns;
    auto isBlank = [this](char c) { return c == ' ' || c == '\t' || (c == '\r' && newline == '\n'); };
    auto skipBlanks = [&] {
        while (position < text.size() && isBlank(text[position]))
            ++position;
    };
    const auto ask = [this] {
        constexpr std::size_t often = (1U << 20U) - 1;
        if (progress && (position & often) == 0) stopIfTold(*progress);
    };
    if (blanks) skipBlanks();
    for (;;) {
        std::string cell;
        if (position < text.size() && text[position] == quote) {
            ++position;
            openQuote = true;
            while (position < text.size()) {
                const char c = text[position++];
                if (c == quote) {
                    if (position < text.size() && text[position] == quote) {
                        cell += quote;
                        ++position;
                        continue;
                    }
                    openQuote = false;
                    break;
                }
                lines += c == newline;
                cell += c;
                ask();
            }
        }
        while (position < text.size() && text[position] != newline &&
               (blanks ? !isBlank(text[position]) : text[position] != delimiter)) {
            cell += text[position++];
            ask();
        }
        if (newline == '\n' && (position >= text.size() || text[position] == newline) && !cell.empty() &&
            cell.back() == '\r')
            cell.pop_back();
        cells.push_back(std::move(cell));
        if (blanks) skipBlanks();
        if (position >= text.size()) return;
        if (text[position] == newline) {
            ++position;
            ++lines;
            return;
        }
        if (!blanks) ++position;
    }
}

char newlineOf(std::string_view text) {
    const auto head = text.substr(0, 1U << 16U);
    return head.find('\n') == std::string_view::npos && head.find('\r') != std::string_view::npos ? '\r'
                                                                                                  : '\n';
}

std::vector<std::string> columnNames(const std::vector<std::string>& cells, bool header,
                                     std::vector<std::string>& notes) {
    std::vector<std::string> names;
    std::set<std::string> taken;
    if (header)
        for (const auto& cell : cells)
            taken.insert(std::string(trimmed(cell)));
    std::set<std::string> used;
    // The next number to be tried after a name: many columns of one name must not try them all again.
    std::map<std::string, int> next;
    for (std::size_t i = 0; i < cells.size(); ++i) {
        std::string name = header ? std::string(trimmed(cells[i])) : "column_" + std::to_string(i + 1);
        std::replace_if(
            name.begin(), name.end(), [](char c) { return c == '\n' || c == '\r' || c == '\t'; }, ' ');
        const std::string asked = name;
        if (name.empty()) name = "column_" + std::to_string(i + 1);
        const std::string stem = name;
        while (used.contains(name) || (name != asked && header && taken.contains(name)))
            name = stem + "_" + std::to_string(next.try_emplace(stem, 2).first->second++);
        if (header && name != asked)
            notes.push_back(asked.empty() ? "Column " + std::to_string(i + 1) +
                                                " has no name; it is called \"" + name + "\"."
                                          : "Column " + std::to_string(i + 1) + " is called \"" + asked +
                                                "\" like one before it; it is now \"" + name + "\".");
        used.insert(name);
        names.push_back(std::move(name));
    }
    return names;
}

MissingMarks::MissingMarks(const std::vector<std::string>& marks) : m_marks(marks) {
    for (const auto& mark : m_marks) {
        m_longest = std::max(m_longest, mark.size());
        if (!mark.empty()) m_firstByte[static_cast<unsigned char>(mark[0])] = true;
    }
}

} // namespace oxgoad
