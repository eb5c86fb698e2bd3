#include <kasane/integration/lengths.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <limits>
#include <numeric>

namespace kasane {

std::vector<int> lengths_of(const std::vector<double>& full_at) {
    constexpr double kApart = 1.5, kReach = 2.5;
    std::vector<int> out(full_at.size());
    std::vector<std::size_t> order(full_at.size());
    std::iota(order.begin(), order.end(), 0u);
    std::erase_if(order, [&](std::size_t k) { return !(full_at[k] > 0 && std::isfinite(full_at[k])); });
    std::stable_sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) { return full_at[a] < full_at[b]; });
    int length = 0;
    double first = 0, last = 0;
    for (const std::size_t k : order) {
        const double here = full_at[k];
        if (first == 0) first = last = here;
        if (here > kApart * last || here > kReach * first) {
            ++length;
            first = here;
        }
        last = here;
        out[k] = length;
    }
    return out;
}

int count_lengths(const std::vector<StackFrame>& frames) {
    int last = 0;
    for (const StackFrame& f : frames)
        last = std::max(last, f.length);
    return last + 1;
}

LengthRules::LengthRules(const std::vector<StackFrame>& frames, const std::vector<double>& levels)
    : count_(count_lengths(frames)), planes_(levels.size()) {
    constexpr double kShare = 0.1, kSigmas = 5, kMost = 0.8; // of the way to saturation
    bright_.assign(frames.size() * planes_, std::numeric_limits<float>::infinity());
    fades_.assign(static_cast<std::size_t>(count_) * planes_, std::numeric_limits<double>::infinity());
    for (std::size_t p = 0; p < planes_; ++p) {
        std::vector<double> information(static_cast<std::size_t>(count_)); // of each length, background alone
        for (const StackFrame& f : frames)
            information[static_cast<std::size_t>(f.length)] +=
                1 / std::pow(std::max(1e-9, f.planes[p].level.scale.value * f.planes[p].noise), 2);
        std::vector<std::vector<float>> fades(static_cast<std::size_t>(count_));
        for (std::size_t k = 0; k < frames.size(); ++k) {
            const StackFrame& f = frames[k];
            const double shorter =
                std::accumulate(information.begin() + f.length + 1, information.end(), 0.0); // what is left
            const LevelMap& level = f.planes[p].level;
            if (!(f.saturation > 0) || !(shorter > 0) || !(level.scale.value > 0)) continue;
            const double sky = (levels[p] - level.offset.value) / level.scale.value, way = f.saturation - sky;
            if (!(way > 0)) continue;
            const double noise = 1 / std::sqrt(shorter) / level.scale.value;
            const double from = sky + std::clamp(kSigmas * noise, kShare * way, kMost * way);
            bright_[k * planes_ + p] = static_cast<float>(from);
            fades[static_cast<std::size_t>(f.length)].push_back(
                static_cast<float>(level.scale.value * from + level.offset.value));
        }
        for (std::size_t length = 0; length < fades.size(); ++length)
            if (!fades[length].empty())
                fades_[length * planes_ + p] = static_cast<double>(median_in_place(fades[length]));
    }
}

} // namespace kasane
