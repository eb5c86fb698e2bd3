#include <kasane/stars/background.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// Median of each value and its neighbours; also fills cells without data.
Image smooth3(const Image& in) {
    Image out(in.width(), in.height());
    std::vector<float> around;
    for (int y = 0; y < in.height(); ++y)
        for (int x = 0; x < in.width(); ++x) {
            for (int reach = 1; reach <= std::max(in.width(), in.height()); ++reach) {
                around.clear();
                for (int j = std::max(0, y - reach); j <= std::min(in.height() - 1, y + reach); ++j)
                    for (int i = std::max(0, x - reach); i <= std::min(in.width() - 1, x + reach); ++i)
                        if (std::isfinite(in(i, j))) around.push_back(in(i, j));
                if (!around.empty()) break;
            }
            out(x, y) = around.empty() ? 0 : median_in_place(around);
        }
    return out;
}

float median_of(const Image& image) {
    std::vector<float> v;
    for (const float p : image.pixels())
        if (std::isfinite(p)) v.push_back(p);
    return v.empty() ? 0 : median_in_place(v);
}

} // namespace

Background measure_background(View<const float> image, const BackgroundOptions& o) {
    const int nx = std::max(1, (image.width + o.cell / 2) / o.cell),
              ny = std::max(1, (image.height + o.cell / 2) / o.cell);
    Background b{Image(nx, ny), Image(nx, ny), o.cell, 0, 0};
    std::vector<float> values;
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
            b.sigma(i, j) = s.sigma;
        }
    b.level = smooth3(b.level);
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
