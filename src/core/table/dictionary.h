#pragma once
// A string dictionary that hands out codes in the order of first appearance.
#include "table/column.h"

#include <cstdint>
#include <string>
#include <string_view>
#include <vector>

namespace oxgoad {

/// Open addressing over owned strings; about 10 ns a lookup for short keys.
class Dictionary {
public:
    std::int32_t code(std::string_view key);
    std::size_t size() const { return m_keys.size(); }
    const std::string& key(std::int32_t code) const { return m_keys[static_cast<std::size_t>(code)]; }
    std::vector<std::string> takeKeys();

private:
    void grow();
    struct Slot {
        /// The first eight bytes, which settle short keys without a look at the string.
        std::uint64_t prefix = 0;
        /// The length, 255 for all above, and a part of the hash.
        std::uint32_t tag = 0;
        std::int32_t code = -1;
    };
    /// None until there is a key: most dictionaries of numbers stay empty.
    std::vector<Slot> m_slots;
    std::vector<std::string> m_keys;
};

/// Natural order of names: runs of digits compare as numbers, so that "depot 9" comes before "depot 12".
bool naturallyLess(std::string_view a, std::string_view b);

/// A factor with its levels put in natural order and its codes renumbered to match.
Column sortedFactor(std::string name, std::vector<std::int32_t> codes, std::vector<std::string> levels);

} // namespace oxgoad
