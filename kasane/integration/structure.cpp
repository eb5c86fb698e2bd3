#include <kasane/integration/structure.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// The largest of each pixel and its eight neighbours. Between core and wings of a star the Laplacian passes through
/// zero, where blurred frames differ by its higher orders.
void widen(std::vector<float>& v, int width, int height, std::vector<float>& rows) {
    rows.assign(v.size(), 0);
    const auto stride = static_cast<std::ptrdiff_t>(width);
    for (int y = 1; y + 1 < height; ++y) {
        const float* from = v.data() + y * stride;
        float* to = rows.data() + y * stride;
        for (int x = 1; x + 1 < width; ++x)
            to[x] = std::max(std::max(from[x - 1], from[x]), from[x + 1]);
    }
    for (int y = 1; y + 1 < height; ++y) {
        const float* from = rows.data() + y * stride;
        float* to = v.data() + y * stride;
        for (int x = 1; x + 1 < width; ++x)
            to[x] = std::max(std::max(from[x - stride], from[x]), from[x + stride]);
    }
}

} // namespace

bool feels_structure(const StackExpectation& expectation) {
    return std::any_of(expectation.frames.begin(), expectation.frames.end(),
                       [](const FrameExpectation& f) { return f.blur > 0 || f.shift > 0; });
}

void measure_structure(View<const float> mean, const StackExpectation& expectation, Structure& out) {
    const auto area = static_cast<std::size_t>(mean.width) * static_cast<std::size_t>(mean.height);
    out.curvature.assign(area, 0);
    out.slope.assign(area, 0);
    double weights = 0, variance = 0, growth = 0;
    for (const FrameExpectation& f : expectation.frames) {
        weights += f.weight;
        variance += static_cast<double>(f.weight) * f.weight * f.variance;
        growth += static_cast<double>(f.weight) * f.weight * f.variance_slope;
    }
    if (!(weights > 0)) return;
    const auto base = static_cast<float>(variance / (weights * weights)),
               more = static_cast<float>(growth / (weights * weights));
    // Of white noise the Laplacian has 20 times the variance, a central difference half of it.
    constexpr float kLaplacian = 20, kDifference = 0.5f, kSigmas = 3;
    for (int y = 1; y + 1 < mean.height; ++y) {
        const float *above = mean.row(y - 1), *here = mean.row(y), *below = mean.row(y + 1);
        const std::size_t row = static_cast<std::size_t>(y) * static_cast<std::size_t>(mean.width);
        for (int x = 1; x + 1 < mean.width; ++x) {
            const float laplacian = here[x - 1] + here[x + 1] + above[x] + below[x] - 4 * here[x];
            const float dx = 0.5f * (here[x + 1] - here[x - 1]), dy = 0.5f * (below[x] - above[x]);
            const float noise2 = base + more * std::max(0.0f, here[x] - expectation.level);
            const float slope2 = dx * dx + dy * dy;
            const std::size_t at = row + static_cast<std::size_t>(x);
            // False where there is no data.
            out.curvature[at] =
                laplacian * laplacian > kSigmas * kSigmas * kLaplacian * noise2 ? std::abs(laplacian) : 0.0f;
            out.slope[at] = slope2 > kSigmas * kSigmas * 2 * kDifference * noise2 ? std::sqrt(slope2) : 0.0f;
        }
    }
    widen(out.curvature, mean.width, mean.height, out.scratch);
}

} // namespace kasane
