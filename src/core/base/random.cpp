#include "base/random.h"

#include <cmath>
#include <numbers>
#include <numeric>
#include <utility>

namespace oxgoad {

RandomStream::RandomStream(std::uint64_t seed, std::string_view purpose) : m_state(seed) {
    std::uint64_t hash = 1469598103934665603ULL; // FNV-1a, 64 bits
    for (const unsigned char c : purpose)
        hash = (hash ^ c) * 1099511628211ULL;
    m_state ^= hash;
    m_state = next();
}

std::uint64_t RandomStream::next() {
    std::uint64_t z = (m_state += 0x9e3779b97f4a7c15ULL);
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
    return z ^ (z >> 31);
}

double RandomStream::uniform() {
    return static_cast<double>(next() >> 11) * 0x1.0p-53;
}

double RandomStream::normal() {
    if (m_hasSpare) {
        m_hasSpare = false;
        return m_spare;
    }
    const double radius = std::sqrt(-2.0 * std::log(1.0 - uniform()));
    const double angle = 2.0 * std::numbers::pi * uniform();
    m_spare = radius * std::sin(angle);
    m_hasSpare = true;
    return radius * std::cos(angle);
}

std::uint64_t RandomStream::below(std::uint64_t bound) {
    const std::uint64_t threshold = (0 - bound) % bound;
    for (;;) {
        const std::uint64_t value = next();
        __extension__ using Wide = unsigned __int128;
        const auto product = static_cast<Wide>(value) * bound;
        if (static_cast<std::uint64_t>(product) >= threshold)
            return static_cast<std::uint64_t>(product >> 64);
    }
}

std::vector<std::uint32_t> shuffled(std::uint32_t count, RandomStream& stream) {
    std::vector<std::uint32_t> order(count);
    std::iota(order.begin(), order.end(), 0u);
    for (std::uint32_t i = count; i > 1; --i)
        std::swap(order[i - 1], order[static_cast<std::uint32_t>(stream.below(i))]);
    return order;
}

} // namespace oxgoad
