#include <kasane/integration/structure.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// The largest of each pixel and its eight neighbours. Between core and wings of a star the Laplacian passes through
/// zero, where blurred frames differ by its higher orders.
void widen(std::vector<float>& v, int width, int height) {
    std::vector<float> rows(v.size());
    const auto at = [&](int x, int y) {
        return static_cast<std::size_t>(y) * static_cast<std::size_t>(width) + static_cast<std::size_t>(x);
    };
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            rows[at(x, y)] =
                std::max({v[at(std::max(0, x - 1), y)], v[at(x, y)], v[at(std::min(width - 1, x + 1), y)]});
    for (int y = 0; y < height; ++y)
        for (int x = 0; x < width; ++x)
            v[at(x, y)] =
                std::max({rows[at(x, std::max(0, y - 1))], rows[at(x, y)], rows[at(x, std::min(height - 1, y + 1))]});
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
            if (!(noise2 == noise2)) continue;
            if (laplacian * laplacian > kSigmas * kSigmas * kLaplacian * noise2)
                out.curvature[at] = std::abs(laplacian);
            if (slope2 > kSigmas * kSigmas * 2 * kDifference * noise2) out.slope[at] = std::sqrt(slope2);
        }
    }
    widen(out.curvature, mean.width, mean.height);
}

} // namespace kasane
