#include <kasane/calibration/fixed_stars.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

namespace {

constexpr float kSigmas = 6;
constexpr int kRing = 8;       // radius of the ring that a peak is judged by, pixels
constexpr int kFar = 18;       // radius of the surroundings that the ring is judged by
constexpr int kMostRadius = 6; // of what is replaced

/// Each pixel against the level of its colour in the neighbourhood, summed over 2 x 2 pixels so that a mosaic's colours
/// mix alike everywhere.
float summed(View<const float> v, int x, int y) {
    return 0.25f * (v(x, y) + v(x + 1, y) + v(x, y + 1) + v(x + 1, y + 1));
}

std::vector<float> ring_around(View<const float> v, int x, int y, int radius) {
    std::vector<float> ring;
    constexpr int kSteps = 48;
    for (int k = 0; k < kSteps; ++k) {
        const double a = 2 * kPi * k / kSteps;
        ring.push_back(summed(v, x + static_cast<int>(std::lround(radius * std::cos(a))),
                              y + static_cast<int>(std::lround(radius * std::sin(a)))));
    }
    return ring;
}

/// Whether a peak is a star: compact, alone on its ring, and not the clear middle of a dust shadow, where the ring lies
/// below what surrounds it.
bool is_star(View<const float> v, int x, int y, float limit) {
    std::vector<float> ring = ring_around(v, x, y, kRing), inner = ring_around(v, x, y, kRing / 2 + 1),
                       outer = ring_around(v, x, y, kFar);
    float rim = -1e30f; // highest three-pixel mean along the ring
    for (std::size_t k = 0; k < ring.size(); ++k)
        rim = std::max(rim, (ring[k] + ring[(k + 1) % ring.size()] + ring[(k + 2) % ring.size()]) / 3);
    const float level = median_in_place(ring), excess = summed(v, x, y) - level;
    if (!(excess > limit && excess > 2 * (rim - level))) return false;
    // A single bright pixel is none: take the highest of the four away.
    const float most = std::max(std::max(v(x, y), v(x + 1, y)), std::max(v(x, y + 1), v(x + 1, y + 1)));
    if ((4 * summed(v, x, y) - most) / 3 - level < 0.4f * excess) return false;
    const bool compact = median_in_place(inner) - level < 0.35f * excess;
    const bool in_shadow = median_in_place(outer) - level > 0.2f * excess;
    return compact && !in_shadow;
}

} // namespace

std::size_t patch_fixed_stars(View<float> flat, const CfaPattern& cfa, const Workers& workers) {
    const int w = flat.width, h = flat.height, margin = kFar + 2;
    const int step = cfa.empty() ? 1 : 2;
    if (w < 4 * margin || h < 4 * margin) return 0;
    const float noise = difference_noise(flat, cfa.empty() ? 1 : 2);
    if (!(noise > 0)) return 0;
    const float limit = kSigmas * 0.5f * noise; // of sums over four pixels
    constexpr int kRows = 64;                   // of a band
    std::vector<std::vector<std::pair<int, int>>> found(static_cast<std::size_t>((h - 2 * margin - 1) / kRows + 1));
    workers.for_each(found.size(), [&](std::size_t band) {
        const int first = margin + static_cast<int>(band) * kRows;
        std::vector<float> sums(static_cast<std::size_t>(w - 1));
        for (int y = first; y < std::min(first + kRows, h - margin - 1); ++y) {
            for (int x = 0; x < w - 1; ++x)
                sums[static_cast<std::size_t>(x)] = summed(flat, x, y);
            for (int x = margin; x < w - margin - 1; ++x) {
                const float* here = sums.data() + x;
                const float v = *here, rough = v - 0.5f * (here[-kRing] + here[kRing]);
                if (!(rough > limit)) continue;
                bool highest = true;
                for (int j = -2; j <= 2 && highest; ++j)
                    for (int i = -2; i <= 2; ++i)
                        highest = highest && summed(flat, x + i, y + j) <= v;
                if (highest && is_star(flat, x, y, limit)) found[band].emplace_back(x, y);
            }
        }
    });
    std::vector<std::pair<int, int>> peaks;
    for (const auto& band : found)
        peaks.insert(peaks.end(), band.begin(), band.end());
    constexpr std::size_t kMostPeaks = 5000; // more is a texture, not a sky
    if (peaks.size() > kMostPeaks) return 0;
    std::size_t replaced = 0;
    std::vector<float> around;
    for (const auto& [x, y] : peaks)
        for (int j = -kMostRadius; j <= kMostRadius + 1; ++j)
            for (int i = -kMostRadius; i <= kMostRadius + 1; ++i) {
                if (std::hypot(i - 0.5, j - 0.5) > kMostRadius) continue;
                const int px = x + i, py = y + j;
                // The colour's level on the ring: medians of what lies between the patch and the ring's outside.
                around.clear();
                for (int b = -kRing; b <= kRing; ++b)
                    for (int a = -kRing; a <= kRing; ++a) {
                        const int qx = px + step * a, qy = py + step * b;
                        if (qx < 0 || qy < 0 || qx >= w || qy >= h ||
                            std::hypot(qx - x - 0.5, qy - y - 0.5) <= kMostRadius ||
                            std::hypot(qx - x - 0.5, qy - y - 0.5) > kRing + 2 * step ||
                            (!cfa.empty() && cfa.colour(qx, qy) != cfa.colour(px, py)))
                            continue;
                        around.push_back(flat(qx, qy));
                    }
                if (around.size() < 8) continue;
                flat(px, py) = median_in_place(around);
                ++replaced;
            }
    return replaced;
}

} // namespace kasane
