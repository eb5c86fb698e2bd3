#include <kasane/stars/star_shapes.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace kasane {

namespace {

/// Between the four nearest pixels; NaN beyond the image.
float between(View<const float> image, double x, double y) {
    const double fx = std::floor(x), fy = std::floor(y);
    const int i = static_cast<int>(fx), j = static_cast<int>(fy);
    if (i < 0 || j < 0 || i + 1 >= image.width || j + 1 >= image.height) return std::numeric_limits<float>::quiet_NaN();
    const auto u = static_cast<float>(x - fx), v = static_cast<float>(y - fy);
    return (1 - v) * ((1 - u) * image(i, j) + u * image(i + 1, j)) +
           v * ((1 - u) * image(i, j + 1) + u * image(i + 1, j + 1));
}

/// The median of the pixels of a ring; NaN without any.
float ring_median(View<const float> image, double x, double y, double inner, double outer) {
    std::vector<float> values;
    const int reach = static_cast<int>(std::ceil(outer));
    const Region box = intersect({static_cast<int>(std::lround(x)) - reach, static_cast<int>(std::lround(y)) - reach,
                                  2 * reach + 1, 2 * reach + 1},
                                 image.bounds());
    for (int j = box.y; j < box.bottom(); ++j)
        for (int i = box.x; i < box.right(); ++i)
            if (const double r = std::hypot(i - x, j - y); r >= inner && r < outer && std::isfinite(image(i, j)))
                values.push_back(image(i, j));
    return values.empty() ? std::numeric_limits<float>::quiet_NaN() : median_in_place(values);
}

} // namespace

RadialProfile radial_profile(View<const float> image, double x, double y, double radius) {
    constexpr double kStep = 0.5, kBeyond = 1.5;
    RadialProfile out;
    out.step = kStep;
    const float level = ring_median(image, x, y, radius, kBeyond * radius);
    out.background = std::isfinite(level) ? static_cast<double>(level) : 0;
    const auto rings = static_cast<std::size_t>(std::ceil(radius / kStep));
    std::vector<double> sum(rings, 0), count(rings, 0);
    const int reach = static_cast<int>(std::ceil(radius));
    const Region box = intersect({static_cast<int>(std::lround(x)) - reach, static_cast<int>(std::lround(y)) - reach,
                                  2 * reach + 1, 2 * reach + 1},
                                 image.bounds());
    for (int j = box.y; j < box.bottom(); ++j)
        for (int i = box.x; i < box.right(); ++i) {
            const auto ring = static_cast<std::size_t>(std::hypot(i - x, j - y) / kStep + 0.5);
            if (ring >= rings || !std::isfinite(image(i, j))) continue;
            const double value = static_cast<double>(image(i, j)) - out.background;
            sum[ring] += value;
            ++count[ring];
            out.peak = std::max(out.peak, value);
        }
    for (std::size_t k = 0; k < rings; ++k)
        out.value.push_back(count[k] > 0 ? sum[k] / count[k] : std::numeric_limits<double>::quiet_NaN());
    return out;
}

StarLook look_at_star(View<const float> image, const Star& star, Point corner, double usual, double noise) {
    constexpr double kRadius = 3, kLeast = 6, kNarrow = 2; // FWHM; pixels
    const double fwhm = star.fwhm > 0 ? star.fwhm : std::max(kNarrow, usual), x = star.x - corner.x,
                 y = star.y - corner.y;
    StarLook look{star, fit_psf(image, x, y, {.start_fwhm = fwhm, .noise = std::max(1e-6, noise)}),
                  radial_profile(image, x, y, std::max(kLeast, kRadius * fwhm))};
    if (look.fit) look.fit->x += corner.x, look.fit->y += corner.y;
    return look;
}

StarStamp mean_star(View<const float> image, const std::vector<Star>& stars, const Region& part, int side, int finer) {
    constexpr std::size_t kMost = 15;
    constexpr double kLeastSnr = 15, kAlone = 0.1; // of a neighbour's flux
    const double half = 0.5 * (side - 1), reach = half / finer;
    std::vector<const Star*> chosen;
    for (const Star& s : stars) {
        if (chosen.size() == kMost) break;
        if (s.saturated || !(s.fwhm > 0) || !(s.flux > kLeastSnr * s.flux_sigma) || s.x < part.x || s.y < part.y ||
            s.x >= part.right() || s.y >= part.bottom())
            continue;
        const bool alone = std::none_of(stars.begin(), stars.end(), [&](const Star& o) {
            return &o != &s && o.flux > kAlone * s.flux && std::hypot(o.x - s.x, o.y - s.y) < 2 * reach;
        });
        if (alone && s.x >= reach + 1 && s.y >= reach + 1 && s.x < image.width - reach - 2 &&
            s.y < image.height - reach - 2)
            chosen.push_back(&s);
    }
    StarStamp out;
    out.stars = static_cast<int>(chosen.size());
    if (chosen.empty()) return out;
    std::vector<Image> each;
    for (const Star* s : chosen) {
        const float level = ring_median(image, s->x, s->y, reach, 1.5 * reach);
        Image one(side, side);
        float peak = 0;
        for (int y = 0; y < side; ++y)
            for (int x = 0; x < side; ++x) {
                one(x, y) = between(image, s->x + (x - half) / finer, s->y + (y - half) / finer) - level;
                if (std::isfinite(one(x, y))) peak = std::max(peak, one(x, y));
            }
        if (!(peak > 0)) continue;
        for (float& v : one.pixels())
            v /= peak;
        each.push_back(std::move(one));
    }
    out.stars = static_cast<int>(each.size());
    if (each.empty()) return out;
    out.pixels = Image(side, side);
    std::vector<float> values;
    for (int y = 0; y < side; ++y)
        for (int x = 0; x < side; ++x) {
            values.clear();
            for (const Image& one : each)
                if (std::isfinite(one(x, y))) values.push_back(one(x, y));
            out.pixels(x, y) = values.empty() ? 0 : median_in_place(values);
        }
    return out;
}

} // namespace kasane
