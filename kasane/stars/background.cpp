#include <kasane/stars/background.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// Replaces cells that stand out from their neighbours (a bright star, no data) by the neighbours' median; all others
/// stay as they are, so that a gradient keeps its slope up to the edge.
Image without_outliers(const Image& level, const Image& sigma) {
    constexpr float kOutlier = 0.5f; // in units of a pixel's noise: a clean cell is known far better than that
    Image out = level;
    std::vector<float> around;
    for (int y = 0; y < level.height(); ++y)
        for (int x = 0; x < level.width(); ++x) {
            around.clear();
            for (int reach = 1; around.empty() && reach <= std::max(level.width(), level.height()); ++reach)
                for (int j = std::max(0, y - reach); j <= std::min(level.height() - 1, y + reach); ++j)
                    for (int i = std::max(0, x - reach); i <= std::min(level.width() - 1, x + reach); ++i)
                        if (std::isfinite(level(i, j))) around.push_back(level(i, j));
            const float median = around.empty() ? 0 : median_in_place(around);
            const float spread = mad_sigma_in_place(around, median); // a slope spreads them too
            if (!(std::abs(level(x, y) - median) <= kOutlier * sigma(x, y) + 2 * spread)) out(x, y) = median;
        }
    return out;
}

float median_of(const Image& image) {
    std::vector<float> v;
    for (const float p : image.pixels())
        if (std::isfinite(p)) v.push_back(p);
    return v.empty() ? 0 : median_in_place(v);
}

/// Noise from second differences over two pixels: blind to nebula and gradients, and hardly touched by the correlation
/// that resampling leaves between neighbours.
float cell_noise(View<const float> cell, std::vector<float>& differences) {
    constexpr int kLag = 2;
    differences.clear();
    for (int y = 0; y < cell.height; ++y)
        for (int x = kLag + y % 4; x + kLag < cell.width; x += 4) // a quarter of the pixels is enough
            differences.push_back(cell(x - kLag, y) - 2 * cell(x, y) + cell(x + kLag, y));
    return clipped_statistics(differences, 3.0f).sigma / std::sqrt(6.0f);
}

} // namespace

Background measure_background(View<const float> image, const BackgroundOptions& o) {
    const int nx = std::max(1, (image.width + o.cell / 2) / o.cell),
              ny = std::max(1, (image.height + o.cell / 2) / o.cell);
    Background b{Image(nx, ny), Image(nx, ny), o.cell, 0, 0};
    std::vector<float> values, differences;
    for (int j = 0; j < ny; ++j)
        for (int i = 0; i < nx; ++i) {
            const Region cell = intersect(
                {i * o.cell, j * o.cell, i + 1 == nx ? image.width : o.cell, j + 1 == ny ? image.height : o.cell},
                image.bounds());
            values.clear();
            for (int y = cell.y; y < cell.bottom(); ++y)
                for (int x = cell.x + (y & 1); x < cell.right(); x += 2)
                    values.push_back(image(x, y)); // every other pixel is enough
            const RobustStatistics s = clipped_statistics(values, o.clip);
            b.level(i, j) = s.location;
            b.sigma(i, j) = cell_noise(image.crop(cell), differences);
        }
    b.level = without_outliers(b.level, b.sigma);
    b.global_level = median_of(b.level);
    b.global_sigma = median_of(b.sigma);
    return b;
}

float Background::level_at(double x, double y) const {
    const double u = std::clamp((x + 0.5) / cell - 0.5, 0.0, level.width() - 1.0);
    const double v = std::clamp((y + 0.5) / cell - 0.5, 0.0, level.height() - 1.0);
    const int i = std::min(static_cast<int>(u), std::max(0, level.width() - 2)),
              j = std::min(static_cast<int>(v), std::max(0, level.height() - 2));
    const int i1 = std::min(i + 1, level.width() - 1), j1 = std::min(j + 1, level.height() - 1);
    const auto a = static_cast<float>(u - i), c = static_cast<float>(v - j);
    return (level(i, j) * (1 - a) + level(i1, j) * a) * (1 - c) + (level(i, j1) * (1 - a) + level(i1, j1) * a) * c;
}

void Background::level_row(int y, int width, float* out) const {
    const double v = std::clamp((y + 0.5) / cell - 0.5, 0.0, level.height() - 1.0);
    const int j = std::min(static_cast<int>(v), std::max(0, level.height() - 2)),
              j1 = std::min(j + 1, level.height() - 1);
    const auto c = static_cast<float>(v - j);
    const auto at = [&](int i) { return level(i, j) * (1 - c) + level(i, j1) * c; };
    int x = 0;
    for (int i = -1; i < level.width() && x < width; ++i) { // between the centres of cells i and i + 1
        const int end = i + 1 == level.width() ? width : std::min(width, static_cast<int>((i + 1.5) * cell));
        const float left = at(std::max(0, i)), right = at(std::min(level.width() - 1, i + 1));
        const float slope = (right - left) / static_cast<float>(cell);
        const float origin = left - slope * static_cast<float>((i + 0.5) * cell - 0.5);
        for (; x < end; ++x)
            out[x] = origin + slope * static_cast<float>(x);
    }
}

} // namespace kasane
