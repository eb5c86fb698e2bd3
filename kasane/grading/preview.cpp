#include <kasane/grading/preview.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

std::uint8_t PreviewScale::encode(int plane, float value) const {
    const auto p = static_cast<std::size_t>(plane);
    const float t = (std::asinh((value - zero[p]) / softness[p]) - low[p]) / (high[p] - low[p]);
    return std::isfinite(t) ? static_cast<std::uint8_t>(std::lround(255 * std::clamp(t, 0.0f, 1.0f))) : 0;
}

float PreviewScale::decode(int plane, std::uint8_t byte) const {
    const auto p = static_cast<std::size_t>(plane);
    return zero[p] + softness[p] * std::sinh(low[p] + static_cast<float>(byte) / 255 * (high[p] - low[p]));
}

PreviewScale choose_preview_scale(const Image& small, int factor) {
    constexpr float kDepth = 6; // sigma below the sky that are kept
    PreviewScale s;
    s.factor = factor;
    s.planes = small.planes();
    for (int p = 0; p < small.planes(); ++p) {
        const auto at = static_cast<std::size_t>(p);
        std::vector<float> sample = sample_pixels(small.plane(p), 40000);
        float highest = 0;
        for (const float v : sample)
            highest = std::max(highest, v);
        const RobustStatistics r = clipped_statistics(sample, 3);
        s.zero[at] = r.location;
        s.softness[at] = r.sigma > 0 ? 2 * r.sigma : std::max(1.0f, 1e-3f * std::abs(r.location));
        s.low[at] = -std::asinh(0.5f * kDepth);
        const float top = std::max(highest - r.location, 200 * s.softness[at]);
        s.high[at] = std::asinh(top / s.softness[at]);
    }
    return s;
}

Raster<std::uint8_t> encode_preview(const Image& small, const PreviewScale& scale) {
    Raster<std::uint8_t> out(small.width(), small.height(), small.planes());
    for (int p = 0; p < small.planes(); ++p) {
        const auto at = static_cast<std::size_t>(p);
        // Bytes change at 255 values: finding one's place among them is cheaper than its asinh.
        std::array<float, 255> edges;
        for (int b = 0; b < 255; ++b)
            edges[static_cast<std::size_t>(b)] =
                scale.zero[at] + scale.softness[at] * std::sinh(scale.low[at] + (static_cast<float>(b) + 0.5f) / 255 *
                                                                                    (scale.high[at] - scale.low[at]));
        const auto in = small.plane(p);
        for (int y = 0; y < small.height(); ++y)
            for (int x = 0; x < small.width(); ++x) {
                const float v = in(x, y);
                out(x, y, p) =
                    v == v ? static_cast<std::uint8_t>(std::upper_bound(edges.begin(), edges.end(), v) - edges.begin())
                           : std::uint8_t{0};
            }
    }
    return out;
}

} // namespace kasane
