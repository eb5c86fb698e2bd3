#include <kasane/grading/preview.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <limits>

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

namespace {

/// What PreviewScale::encode() says, by a table: the leading bits of 1 + |t| go as the logarithm does, and so, nearly,
/// do the values at which the byte changes. From the byte of a cell's lower end it is a step at most, seldom two.
class ByteTable {
public:
    ByteTable(const PreviewScale& scale, std::size_t plane)
        : zero_(scale.zero[plane]), per_softness_(1 / scale.softness[plane]) {
        const float step = (scale.high[plane] - scale.low[plane]) / 255;
        for (std::size_t b = 0; b < 255; ++b)
            edges_[b] = std::sinh(scale.low[plane] + (static_cast<float>(b) + 0.5f) * step);
        edges_[255] = std::numeric_limits<float>::infinity();
        for (int cell = 0; cell < kCells; ++cell) {
            const auto above = std::upper_bound(edges_.begin(), edges_.end() - 1, lower_end(cell));
            first_[static_cast<std::size_t>(cell)] = static_cast<std::uint8_t>(above - edges_.begin());
        }
    }
    std::uint8_t byte(float value) const {
        const float t = (value - zero_) * per_softness_;
        if (!(std::abs(t) < kMost)) return t > 0 ? 255 : 0;
        const int size = static_cast<int>(std::bit_cast<std::uint32_t>(1 + std::abs(t)) >> kDropped) - kOne;
        std::uint8_t b = first_[static_cast<std::size_t>(t < 0 ? kHalf - 1 - size : kHalf + size)];
        while (t >= edges_[b])
            ++b;
        return b;
    }

private:
    static constexpr int kDropped = 17;                 // bits: 64 cells for each doubling of 1 + |t|
    static constexpr int kOne = 0x3f800000 >> kDropped; // the bits of 1
    static constexpr float kMost = 4294967296;          // 2^32, far above any star in units of the noise
    static constexpr int kHalf = 32 << (23 - kDropped);
    static constexpr int kCells = 2 * kHalf + 2;
    /// The least t of a cell.
    static float lower_end(int cell) {
        const auto from_bits = [](int size) {
            return std::bit_cast<float>(static_cast<std::uint32_t>(size + kOne) << kDropped) - 1;
        };
        return cell >= kHalf ? from_bits(cell - kHalf) : -from_bits(kHalf - cell);
    }

    float zero_, per_softness_;
    std::array<float, 256> edges_{};
    std::array<std::uint8_t, kCells> first_{};
};

} // namespace

Raster<std::uint8_t> encode_preview(const Image& small, const PreviewScale& scale) {
    Raster<std::uint8_t> out(small.width(), small.height(), small.planes());
    for (int p = 0; p < small.planes(); ++p) {
        const ByteTable table(scale, static_cast<std::size_t>(p));
        std::transform(small.plane(p).row(0), small.plane(p).row(0) + small.bounds().area(), out.plane(p).row(0),
                       [&](float v) { return table.byte(v); });
    }
    return out;
}

FramePicture picture_of(const Image& small, int factor, const std::optional<PreviewScale>& scale) {
    FramePicture out;
    out.scale = scale ? *scale : choose_preview_scale(small, factor);
    out.scale.factor = factor;
    out.pixels = encode_preview(small, out.scale);
    return out;
}

} // namespace kasane
