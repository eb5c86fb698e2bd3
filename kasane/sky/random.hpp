// Seeded random numbers that are the same on every machine and for any number of threads.
#pragma once

#include <cstdint>

namespace kasane::sky {

/// xoshiro256++ (D. Blackman and S. Vigna, ACM TOMS 47, 2021), seeded through splitmix64. One generator per row of an
/// image or per shot, keyed by numbers, so that the order of work does not matter.
class Random {
public:
    explicit Random(std::uint64_t seed, std::uint64_t stream = 0, std::uint64_t substream = 0);

    std::uint64_t bits();
    double uniform(); ///< [0, 1)
    double uniform(double low, double high) { return low + (high - low) * uniform(); }
    double normal(); ///< mean 0, standard deviation 1 (Box-Muller)
    /// Poisson counts; exact below 16, normal with the same mean and variance above.
    double poisson(double mean);

private:
    std::uint64_t state_[4];
    double spare_ = 0;
    bool has_spare_ = false;
};

} // namespace kasane::sky
