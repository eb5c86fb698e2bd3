#include <kasane/stars/aperture.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

void measure_flux(View<const float> image, const Background& background, const Aperture& aperture, Star& s) {
    const auto [radius, noise, electrons_per_adu] = aperture;
    const double outer = 2.6 * radius;
    const int reach = static_cast<int>(std::ceil(outer + 1));
    const Region box = intersect({static_cast<int>(std::lround(s.x)) - reach,
                                  static_cast<int>(std::lround(s.y)) - reach, 2 * reach + 1, 2 * reach + 1},
                                 image.bounds());
    std::vector<float> ring;
    double sum = 0, area = 0, whole = 0, peak = 0;
    for (int y = box.y; y < box.bottom(); ++y)
        for (int x = box.x; x < box.right(); ++x) {
            const double d2 = (x - s.x) * (x - s.x) + (y - s.y) * (y - s.y);
            if (d2 > outer * outer) continue;
            const double d = std::sqrt(d2);
            const float v = image(x, y);
            const double share = std::clamp(radius + 0.5 - d, 0.0, 1.0);
            whole += share;
            if (!std::isfinite(v)) continue;
            if (d > 1.5 * radius) ring.push_back(v);
            sum += share * v;
            area += share;
            if (d < 2) peak = std::max<double>(peak, v);
        }
    const double level = ring.size() >= 12 ? clipped_statistics(ring, 2.5f).location : background.level_at(s.x, s.y);
    const double fill = area > 0 ? whole / area : 0;
    s.flux = (sum - area * level) * fill;
    s.peak = peak - level;
    const double photons = electrons_per_adu > 0 ? std::max(0.0, s.flux) / electrons_per_adu : 0;
    s.flux_sigma = std::sqrt(
        fill *
        (fill * area * noise * noise * (1 + area / std::max<double>(12, static_cast<double>(ring.size()))) + photons));
}

double aperture_radius(double fwhm) {
    return std::max(2.0, 2 * fwhm);
}

} // namespace kasane
