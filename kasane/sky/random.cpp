#include <kasane/sky/random.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <bit>
#include <cmath>

namespace kasane::sky {

namespace {
std::uint64_t splitmix(std::uint64_t& x) {
    std::uint64_t z = (x += 0x9e3779b97f4a7c15ull);
    z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ull;
    z = (z ^ (z >> 27)) * 0x94d049bb133111ebull;
    return z ^ (z >> 31);
}
} // namespace

Random::Random(std::uint64_t seed, std::uint64_t stream, std::uint64_t substream) {
    std::uint64_t key = seed;
    key = splitmix(key) ^ (stream * 0xd1342543de82ef95ull);
    key = splitmix(key) ^ (substream * 0xaf251af3b0f025b5ull);
    for (auto& s : state_)
        s = splitmix(key);
}

std::uint64_t Random::bits() {
    const std::uint64_t result = std::rotl(state_[0] + state_[3], 23) + state_[0];
    const std::uint64_t t = state_[1] << 17;
    state_[2] ^= state_[0];
    state_[3] ^= state_[1];
    state_[1] ^= state_[2];
    state_[0] ^= state_[3];
    state_[2] ^= t;
    state_[3] = std::rotl(state_[3], 45);
    return result;
}

double Random::uniform() {
    return static_cast<double>(bits() >> 11) * 0x1.0p-53;
}

double Random::normal() {
    if (has_spare_) {
        has_spare_ = false;
        return spare_;
    }
    // Single precision is enough for noise and halves the time of a 24-megapixel frame.
    const auto u = static_cast<float>(1.0 - uniform());
    const auto angle = static_cast<float>(2 * kPi * uniform());
    const float radius = std::sqrt(-2.0f * std::log(std::max(u, 1e-30f)));
    spare_ = radius * std::sin(angle);
    has_spare_ = true;
    return radius * std::cos(angle);
}

double Random::poisson(double mean) {
    if (mean <= 0) return 0;
    if (mean >= 16) return std::max(0.0, std::round(mean + std::sqrt(mean) * normal()));
    const double limit = std::exp(-mean);
    double product = uniform();
    int count = 0;
    while (product > limit) {
        product *= uniform();
        ++count;
    }
    return count;
}

} // namespace kasane::sky
