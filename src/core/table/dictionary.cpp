#include "table/dictionary.h"

#include <algorithm>
#include <cctype>
#include <cstring>
#include <numeric>

namespace oxgoad {

namespace {

/// Up to eight bytes as a word; never reads outside the key.
std::uint64_t wordAt(const char* p, std::size_t bytes) {
    std::uint64_t word = 0;
    if (bytes >= 8) {
        std::memcpy(&word, p, 8);
    } else if (bytes >= 4) {
        std::uint32_t low = 0;
        std::uint32_t high = 0;
        std::memcpy(&low, p, 4);
        std::memcpy(&high, p + bytes - 4, 4);
        word = low | (static_cast<std::uint64_t>(high) << (8 * (bytes - 4)));
    } else {
        for (std::size_t i = 0; i < bytes; ++i)
            word |= static_cast<std::uint64_t>(static_cast<unsigned char>(p[i])) << (8 * i);
    }
    return word;
}

std::uint32_t hashOf(std::string_view key, std::uint64_t prefix) {
    std::uint64_t h = (0x9e3779b97f4a7c15ULL ^ key.size() ^ prefix) * 0xff51afd7ed558ccdULL;
    h ^= h >> 32;
    for (std::size_t at = 8; at < key.size(); at += 8) {
        h = (h ^ wordAt(key.data() + at, key.size() - at)) * 0xff51afd7ed558ccdULL;
        h ^= h >> 32;
    }
    return static_cast<std::uint32_t>(h ^ (h >> 29));
}

/// Where a key is looked for first.
std::size_t placeOf(std::uint64_t prefix, std::uint32_t tag) {
    const std::uint64_t h = (prefix ^ (static_cast<std::uint64_t>(tag) << 32)) * 0x9e3779b97f4a7c15ULL;
    return static_cast<std::size_t>(h >> 32);
}

} // namespace

std::int32_t Dictionary::code(std::string_view key) {
    if (m_slots.empty()) m_slots.resize(16);
    const std::uint64_t prefix = wordAt(key.data(), key.size());
    const std::uint32_t hash = hashOf(key, prefix);
    const auto length = static_cast<std::uint32_t>(std::min<std::size_t>(key.size(), 255));
    const std::uint32_t tag = (hash & 0xFFFFFF00U) | length;
    const std::size_t mask = m_slots.size() - 1;
    for (std::size_t i = placeOf(prefix, tag) & mask;; i = (i + 1) & mask) {
        const Slot& slot = m_slots[i];
        if (slot.code < 0) {
            const auto fresh = static_cast<std::int32_t>(m_keys.size());
            m_keys.emplace_back(key);
            m_slots[i] = {prefix, tag, fresh};
            if (m_keys.size() * 2 > m_slots.size()) grow();
            return fresh;
        }
        if (slot.tag == tag && slot.prefix == prefix &&
            (length <= 8 || m_keys[static_cast<std::size_t>(slot.code)] == key))
            return slot.code;
    }
}

void Dictionary::grow() {
    std::vector<Slot> larger(m_slots.size() * 2);
    const std::size_t mask = larger.size() - 1;
    for (const Slot& slot : m_slots) {
        if (slot.code < 0) continue;
        std::size_t i = placeOf(slot.prefix, slot.tag) & mask;
        while (larger[i].code >= 0)
            i = (i + 1) & mask;
        larger[i] = slot;
    }
    m_slots = std::move(larger);
}

std::vector<std::string> Dictionary::takeKeys() {
    std::vector<std::string> keys = std::move(m_keys);
    *this = Dictionary();
    return keys;
}

bool naturallyLess(std::string_view a, std::string_view b) {
    auto digit = [](char c) { return c >= '0' && c <= '9'; };
    std::size_t i = 0;
    std::size_t j = 0;
    while (i < a.size() && j < b.size()) {
        if (digit(a[i]) && digit(b[j])) {
            std::size_t ie = i;
            std::size_t je = j;
            while (ie < a.size() && digit(a[ie]))
                ++ie;
            while (je < b.size() && digit(b[je]))
                ++je;
            auto na = a.substr(i, ie - i);
            auto nb = b.substr(j, je - j);
            while (na.size() > 1 && na.front() == '0')
                na.remove_prefix(1);
            while (nb.size() > 1 && nb.front() == '0')
                nb.remove_prefix(1);
            if (na.size() != nb.size()) return na.size() < nb.size();
            if (na != nb) return na < nb;
            i = ie;
            j = je;
            continue;
        }
        if (a[i] != b[j]) return static_cast<unsigned char>(a[i]) < static_cast<unsigned char>(b[j]);
        ++i;
        ++j;
    }
    if (a.size() - i != b.size() - j) return a.size() - i < b.size() - j;
    return a < b;
}

Column sortedFactor(std::string name, std::vector<std::int32_t> codes, std::vector<std::string> levels) {
    std::vector<std::int32_t> order(levels.size());
    std::iota(order.begin(), order.end(), 0);
    std::sort(order.begin(), order.end(), [&](std::int32_t a, std::int32_t b) {
        return naturallyLess(levels[static_cast<std::size_t>(a)], levels[static_cast<std::size_t>(b)]);
    });
    std::vector<std::int32_t> rank(levels.size());
    std::vector<std::string> sorted(levels.size());
    for (std::size_t i = 0; i < order.size(); ++i) {
        rank[static_cast<std::size_t>(order[i])] = static_cast<std::int32_t>(i);
        sorted[i] = std::move(levels[static_cast<std::size_t>(order[i])]);
    }
    for (auto& code : codes)
        if (code >= 0) code = rank[static_cast<std::size_t>(code)];
    return Column::ofFactor(std::move(name), std::move(codes), std::move(sorted));
}

} // namespace oxgoad
