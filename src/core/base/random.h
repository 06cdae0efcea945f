#pragma once
// Random numbers: one counter-based engine, a stream per purpose, the same on every machine.
#include <cstdint>
#include <string_view>
#include <vector>

namespace oxgoad {

/// SplitMix64 (Steele, Lea and Flood 2014, "Fast splittable pseudorandom number generators", OOPSLA).
/// The stream is fixed by a seed and the name of its purpose, so that a new use of random numbers does
/// not change the numbers another use gets.
class RandomStream {
public:
    RandomStream(std::uint64_t seed, std::string_view purpose);
    std::uint64_t next();
    /// Uniform on [0, 1), 53 bits.
    double uniform();
    /// Standard normal by inversion of uniform sums (Box and Muller 1958, both values used).
    double normal();
    /// Uniform on 0..bound-1 without bias (Lemire 2019). Requires bound > 0.
    std::uint64_t below(std::uint64_t bound);

private:
    std::uint64_t m_state;
    bool m_hasSpare = false;
    double m_spare = 0;
};

/// 0..count-1 in random order (Durstenfeld 1964, Algorithm 235).
std::vector<std::uint32_t> shuffled(std::uint32_t count, RandomStream& stream);

} // namespace oxgoad
