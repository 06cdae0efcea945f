#include "base/text.h"

#include <algorithm>
#include <array>
#include <charconv>
#include <chrono>
#include <cmath>
#include <cstdio>
#include <cstring>

namespace oxgoad {

namespace {

constexpr double mostPlain = 1e15; // whole numbers above it are written with a power of ten

std::string grouped(std::string digits) {
    const std::size_t point = std::min(digits.find('.'), digits.size());
    for (std::size_t i = point; i > 3; i -= 3)
        digits.insert(i - 3, ",");
    return digits;
}

} // namespace

std::string exactText(double value) {
    if (std::isnan(value)) return {};
    std::array<char, 40> buffer{};
    // 8000000, not 8e+06: numbers of a column are written one way.
    const double size = std::fabs(value);
    const auto end =
        size >= 1 && size < mostPlain
            ? std::to_chars(buffer.data(), buffer.data() + buffer.size(), value, std::chars_format::fixed).ptr
            : std::to_chars(buffer.data(), buffer.data() + buffer.size(), value).ptr;
    return {buffer.data(), end};
}

std::string groupedText(double value) {
    std::string text = exactText(value);
    if (text.find_first_not_of("-.0123456789") != std::string::npos) return text;
    const bool negative = text.starts_with('-');
    return (negative ? "−" : "") + grouped(text.substr(negative ? 1 : 0));
}

std::string readableText(double value, int digits) {
    if (std::isnan(value)) return {};
    if (std::isinf(value)) return value > 0 ? "∞" : "−∞";
    const double size = std::fabs(value);
    std::array<char, 64> buffer{};
    std::string text;
    if (size != 0 && (size < 1e-4 || size >= mostPlain)) {
        const auto end = std::to_chars(buffer.data(), buffer.data() + buffer.size(), size,
                                       std::chars_format::scientific, digits - 1)
                             .ptr;
        text.assign(buffer.data(), end);
    } else {
        const int magnitude = size == 0 ? 0 : static_cast<int>(std::floor(std::log10(size)));
        const int decimals = std::max(0, digits - 1 - magnitude);
        const auto end = std::to_chars(buffer.data(), buffer.data() + buffer.size(), size,
                                       std::chars_format::fixed, size == 0 ? 0 : decimals)
                             .ptr;
        text = grouped({buffer.data(), end});
    }
    return value < 0 ? "−" + text : text;
}

std::string shortText(double value) {
    std::string text = readableText(value, 6);
    if (text.find('.') == std::string::npos || text.find('e') != std::string::npos) return text;
    while (text.back() == '0')
        text.pop_back();
    if (text.back() == '.') text.pop_back();
    return text;
}

std::string countText(std::size_t count) {
    return grouped(std::to_string(count));
}

std::string percentText(double share) {
    return exactText(std::round(share * 1e6) / 1e4) + " %";
}

std::string probabilityText(double p) {
    if (std::isnan(p)) return {};
    if (p < 1e-99) return "< 1e-99";
    std::array<char, 32> buffer{};
    const auto format = p < 1e-4 ? std::chars_format::scientific : std::chars_format::fixed;
    const int decimals = p < 1e-4 ? 0 : p < 0.0995 ? static_cast<int>(1 - std::floor(std::log10(p))) : 2;
    const auto end = std::to_chars(buffer.data(), buffer.data() + buffer.size(), p, format, decimals).ptr;
    return {buffer.data(), end};
}

std::string didYouMean(std::string_view name, const std::vector<std::string>& known) {
    constexpr std::size_t longest = 200;
    if (name.empty() || name.size() > longest) return {};
    const auto lower = [](char c) { return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c; };
    const std::string* best = nullptr;
    std::size_t bestDistance = std::min(name.size() / 3 + 1, name.size() - 1);
    for (const std::string& other : known) {
        if (other.size() > longest || other == name) continue;
        std::vector<std::size_t> row(other.size() + 1);
        for (std::size_t j = 0; j < row.size(); ++j)
            row[j] = j;
        for (std::size_t i = 1; i <= name.size(); ++i) {
            std::size_t diagonal = row[0];
            row[0] = i;
            for (std::size_t j = 1; j <= other.size(); ++j) {
                const std::size_t above = row[j];
                const bool changed = lower(name[i - 1]) != lower(other[j - 1]);
                row[j] = std::min({row[j] + 1, row[j - 1] + 1, diagonal + changed});
                diagonal = above;
            }
        }
        if (row.back() <= bestDistance && (!best || row.back() < bestDistance)) {
            bestDistance = row.back();
            best = &other;
        }
    }
    return best ? "Did you mean \"" + *best + "\"?" : std::string();
}

std::string plural(std::size_t count, std::string_view one, std::string_view many) {
    return countText(count) + " " + std::string(count == 1 ? one : many);
}

std::optional<std::int32_t> daysFromCivil(int year, unsigned month, unsigned day) {
    const std::chrono::year_month_day date{std::chrono::year{year}, std::chrono::month{month},
                                           std::chrono::day{day}};
    if (!date.ok()) return std::nullopt;
    return static_cast<std::int32_t>(std::chrono::sys_days{date}.time_since_epoch().count());
}

std::string dateText(std::int32_t days) {
    const std::chrono::year_month_day date{std::chrono::sys_days{std::chrono::days{days}}};
    std::array<char, 32> buffer{};
    std::snprintf(buffer.data(), buffer.size(), "%04d-%02u-%02u", static_cast<int>(date.year()),
                  static_cast<unsigned>(date.month()), static_cast<unsigned>(date.day()));
    return buffer.data();
}

std::string harmless(std::string_view text, bool lines) {
    std::string plain;
    for (const char c : text) {
        const auto u = static_cast<unsigned char>(c);
        if ((u < 0x20 && !(lines && c == '\n')) || u == 0x7F)
            plain += "·";
        else
            plain += c;
    }
    return plain;
}

std::string_view trimmed(std::string_view text) {
    while (!text.empty() && (text.front() == ' ' || text.front() == '\t'))
        text.remove_prefix(1);
    while (!text.empty() && (text.back() == ' ' || text.back() == '\t'))
        text.remove_suffix(1);
    return text;
}

bool isUtf8(std::string_view text) {
    const char* p = text.data();
    const char* const end = p + text.size();
    while (p < end) {
        if (end - p >= 8) {
            std::uint64_t word = 0;
            std::memcpy(&word, p, 8);
            if ((word & 0x8080808080808080ULL) == 0) {
                p += 8;
                continue;
            }
        }
        const auto c = static_cast<unsigned char>(*p);
        if (c < 0x80) {
            ++p;
            continue;
        }
        const int length = c >= 0xF0 ? 4 : c >= 0xE0 ? 3 : 2;
        if (c < 0xC2 || c > 0xF4 || end - p < length) return false;
        std::uint32_t point = c & (0xFFu >> (length + 1));
        for (int i = 1; i < length; ++i) {
            const auto next = static_cast<unsigned char>(p[i]);
            if ((next & 0xC0) != 0x80) return false;
            point = (point << 6) | (next & 0x3F);
        }
        if ((length == 3 && (point < 0x800 || (point >= 0xD800 && point <= 0xDFFF))) ||
            (length == 4 && (point < 0x10000 || point > 0x10FFFF)))
            return false;
        p += length;
    }
    return true;
}

} // namespace oxgoad
