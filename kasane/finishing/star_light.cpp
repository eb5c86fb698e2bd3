#include <kasane/finishing/star_light.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <vector>

namespace kasane {

namespace {

/// Share of the pixel at (dx, dy) from the middle that lies within `radius`.
double inside(double dx, double dy, double radius) {
    const double r = std::hypot(dx, dy);
    constexpr double kReach = 0.7072; // of a pixel's corner
    if (r <= radius - kReach) return 1;
    if (r >= radius + kReach) return 0;
    constexpr int kPoints = 5;
    int count = 0;
    for (int j = 0; j < kPoints; ++j)
        for (int i = 0; i < kPoints; ++i) {
            const double x = dx + (i + 0.5) / kPoints - 0.5, y = dy + (j + 0.5) / kPoints - 0.5;
            count += x * x + y * y <= radius * radius;
        }
    return static_cast<double>(count) / (kPoints * kPoints);
}

/// Calls f(x, y, share) for the pixels of a disc.
template <class F>
void for_each_in_disc(double x, double y, double radius, F f) {
    for (int j = static_cast<int>(std::floor(y - radius)); j <= static_cast<int>(std::ceil(y + radius)); ++j)
        for (int i = static_cast<int>(std::floor(x - radius)); i <= static_cast<int>(std::ceil(x + radius)); ++i)
            if (const double share = inside(i - x, j - y, radius); share > 0) f(i, j, share);
}

bool holds(View<const float> image, double x, double y, double radius) {
    return x - radius >= 0 && y - radius >= 0 && x + radius <= image.width - 1 && y + radius <= image.height - 1;
}

} // namespace

RingSky ring_sky(View<const float> image, double x, double y, double inner, double outer) {
    const RingSky none{std::nan(""), 0};
    if (!holds(image, x, y, outer)) return none;
    std::vector<float> values;
    std::size_t all = 0;
    for (int j = static_cast<int>(std::ceil(y - outer)); j <= static_cast<int>(std::floor(y + outer)); ++j)
        for (int i = static_cast<int>(std::ceil(x - outer)); i <= static_cast<int>(std::floor(x + outer)); ++i) {
            const double r = std::hypot(i - x, j - y);
            if (r < inner || r > outer) continue;
            ++all;
            if (const float v = image(i, j); std::isfinite(v)) values.push_back(v);
        }
    if (values.size() < 8 || 4 * values.size() < 3 * all) return none;
    constexpr float kClip = 2.5f;
    const RobustStatistics s = clipped_statistics(values, kClip);
    return {static_cast<double>(s.location), static_cast<int>(s.used)};
}

double disc_light(View<const float> image, double x, double y, double radius, double sky) {
    if (!holds(image, x, y, radius)) return std::nan("");
    double sum = 0;
    for_each_in_disc(x, y, radius, [&](int i, int j, double share) {
        sum +=
            share *
            (static_cast<double>(image(std::clamp(i, 0, image.width - 1), std::clamp(j, 0, image.height - 1))) - sky);
    });
    return sum;
}

} // namespace kasane
