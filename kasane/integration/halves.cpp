#include <kasane/integration/halves.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace kasane {

int HalvesScatter::every(int width, int height) {
    constexpr double kPixels = 1 << 20, kFew = 1 << 18;
    constexpr double kUsual = 8;
    const double area = static_cast<double>(width) * height;
    return std::max(1, static_cast<int>(std::max(area / kPixels, std::min(kUsual, area / kFew))));
}

void HalvesScatter::add(const SampleBlock& block, const float* combined, const StackExpectation& expectation,
                        const Structure* structure, std::size_t first) {
    struct Half {
        double sum = 0, weight = 0, variance = 0;
    };
    for (int i = 0; i < block.pixels; ++i) {
        if (!std::isfinite(combined[i])) continue;
        const double signal = static_cast<double>(combined[i]) - expectation.level; // below it there is less noise
        std::array<Half, 2> halves;
        int present = 0; // every other one of those that have data here
        for (int f = 0; f < block.frames; ++f) {
            const float v = block.samples[f * block.frame_stride + i];
            if (!std::isfinite(v)) continue;
            const FrameExpectation& e = expectation.frames[static_cast<std::size_t>(f)];
            Half& h = halves[static_cast<std::size_t>(present++ & 1)];
            h.sum += static_cast<double>(e.weight) * v;
            h.weight += e.weight;
            constexpr double kLeast = 0.2; // of the variance at the level: readout stays
            const double variance = std::max<double>(kLeast * e.variance, e.variance + e.variance_slope * signal);
            h.variance += static_cast<double>(e.weight) * e.weight * variance;
        }
        const auto& [a, b] = halves;
        if (!(a.weight > 0 && b.weight > 0)) continue;
        const double sigma = std::sqrt(a.variance / (a.weight * a.weight) + b.variance / (b.weight * b.weight));
        const double z = (a.sum / a.weight - b.sum / b.weight) / sigma;
        const double place = (z + kReach) * (kBins / (2 * kReach));
        if (!(place >= 0 && place < kBins)) continue;
        const bool flat = !structure || !structure->any(first + static_cast<std::size_t>(i));
        ++(!flat ? structured_ : signal > 0 ? bright_ : dark_)[static_cast<std::size_t>(place)];
    }
}

void HalvesScatter::add(const HalvesScatter& other) {
    for (std::size_t i = 0; i < dark_.size(); ++i) {
        dark_[i] += other.dark_[i];
        bright_[i] += other.bright_[i];
        structured_[i] += other.structured_[i];
    }
}

double HalvesScatter::ratio() const {
    constexpr std::uint64_t kEnough = 10000;
    Bins told = dark_;
    for (const Bins* more : {&bright_, &structured_}) {
        if (std::accumulate(told.begin(), told.end(), std::uint64_t{0}) >= kEnough) break;
        for (std::size_t i = 0; i < told.size(); ++i)
            told[i] += (*more)[i];
    }
    return ratio_of(told);
}

double HalvesScatter::ratio_of(const Bins& bins) {
    constexpr double kClip = 3, kLeast = 1000;
    constexpr int kRounds = 20;
    double sigma = kReach, mean = 0;
    for (int round = 0; round < kRounds; ++round) {
        double n = 0, sum = 0, squares = 0;
        const double reach = kClip * sigma;
        for (int i = 0; i < kBins; ++i) {
            const double z = (i + 0.5) * (2 * kReach / kBins) - kReach;
            if (std::abs(z - mean) > reach) continue;
            const auto count = static_cast<double>(bins[static_cast<std::size_t>(i)]);
            n += count, sum += count * z, squares += count * z * z;
        }
        if (n < kLeast) return 1;
        mean = sum / n;
        const double correction = round == 0 ? 1 : 1 / truncated_sigma(kClip);
        const double next = correction * std::sqrt(std::max(0.0, squares / n - mean * mean));
        if (std::abs(next - sigma) < 1e-6) return next;
        sigma = next;
    }
    return sigma;
}

} // namespace kasane
