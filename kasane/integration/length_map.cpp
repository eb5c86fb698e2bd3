#include <kasane/integration/length_map.hpp>

#include <algorithm>

namespace kasane {

void map_lengths(const TileSamples& samples, const LengthWeights& w, int width, int height,
                 std::vector<std::uint16_t>& out) {
    const std::size_t planes = w.frames.front().planes.size(), row = static_cast<std::size_t>(width);
    const auto plane = static_cast<std::size_t>(main_plane(static_cast<int>(planes)));
    const auto lengths = static_cast<std::size_t>(count_lengths(w.frames));
    out.assign(row * static_cast<std::size_t>(height), 0);
    std::vector<float> weights(lengths * row);
    for (std::size_t y = 0; y < static_cast<std::size_t>(height); ++y) {
        std::fill(weights.begin(), weights.end(), 0.0f);
        for (std::size_t f = 0; f < w.frames.size(); ++f) {
            const float* from = samples.plane(plane) + static_cast<std::ptrdiff_t>(f) * samples.pixels() +
                                static_cast<std::ptrdiff_t>(y * row);
            float* to = weights.data() + static_cast<std::size_t>(w.frames[f].length) * row;
            const float weight = w.expectation.frames[f].weight;
            for (std::size_t x = 0; x < row; ++x)
                to[x] += from[x] == from[x] ? weight : 0.0f;
        }
        for (std::size_t x = 0; x < row; ++x) {
            const auto of = [&](std::size_t length) { return weights[length * row + x]; };
            const std::size_t pixel = y * row + x;
            std::size_t first = 0;
            constexpr float kHalf = 0.5f;
            if (w.stays && (*w.stays)[pixel] < kHalf)
                if (const auto next = static_cast<std::size_t>(samples.left(plane)[pixel]) + 1; next < lengths)
                    first = next;
            std::size_t best = first;
            for (std::size_t k = first; k < lengths; ++k)
                if (of(k) > of(best)) best = k;
            if (of(best) > 0) out[pixel] = static_cast<std::uint16_t>(best + 1);
        }
    }
    for (const std::uint32_t pixel : burnt_pixels(samples, planes))
        out[pixel] = static_cast<std::uint16_t>(out[pixel] + MasterLight::kBurnt);
}

std::vector<std::uint32_t> burnt_pixels(const TileSamples& samples, std::size_t planes) {
    std::vector<std::uint32_t> out;
    for (std::size_t p = 0; p < planes; ++p)
        out.insert(out.end(), samples.burnt(p).begin(), samples.burnt(p).end());
    std::sort(out.begin(), out.end());
    out.erase(std::unique(out.begin(), out.end()), out.end());
    return out;
}

} // namespace kasane
