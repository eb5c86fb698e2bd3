#include <kasane/sky/instrument.hpp>

#include <kasane/sky/random.hpp>

#include <algorithm>
#include <cmath>

namespace kasane::sky {

namespace {
double shadow(const DustShadow& d, double x, double y) {
    // An out-of-focus grain in front of a telescope with a central disc of light: a soft ring, lighter in the middle.
    const double r = std::hypot(x - d.x, y - d.y) / d.radius;
    const auto step = [](double t) { return 1 / (1 + std::exp(t / 0.06)); };
    return d.depth * (step(r - 1) - 0.6 * step(r - 0.35));
}
} // namespace

InstrumentMaps make_maps(const Instrument& n) {
    return make_maps(n, n.dust);
}

InstrumentMaps make_maps(const Instrument& n, const std::vector<DustShadow>& dust) {
    const int w = n.width, h = n.height;
    InstrumentMaps maps{Image(w, h), Image(w, h), Image(w, h), Mask(w, h)};
    const double cx = 0.5 * (w - 1), cy = 0.5 * (h - 1), corner2 = cx * cx + cy * cy;
    Random columns(n.seed, 11);
    std::vector<double> column(static_cast<std::size_t>(w));
    for (double& c : column)
        c = columns.normal() * n.offset_pattern * 0.8;
    for (int y = 0; y < h; ++y) {
        Random random(n.seed, 12, static_cast<std::uint64_t>(y));
        const double row = random.normal() * n.offset_pattern * 0.6;
        for (int x = 0; x < w; ++x) {
            const double r2 = ((x - cx) * (x - cx) + (y - cy) * (y - cy)) / corner2;
            maps.illumination(x, y) = static_cast<float>((1 - n.vignetting * r2 * (0.8 + 0.2 * r2)) *
                                                         (1 + n.response_spread * random.normal()));
            maps.offset(x, y) = static_cast<float>(n.offset + column[static_cast<std::size_t>(x)] + row);
            const double corner = std::exp(-(w - 1 - x) / (0.08 * w)) * std::exp(-(h - 1 - y) / (0.10 * h));
            double dark = n.dark_rate * (1 + 0.1 * random.normal()) + n.glow * corner;
            const double fate = random.uniform();
            if (fate < n.hot_share) {
                dark += 0.5 * std::pow(400.0, random.uniform());
                maps.defects(x, y) = 1;
            } else if (fate < n.hot_share + n.dead_share) {
                maps.illumination(x, y) *= 0.03f;
                maps.defects(x, y) = 2;
            }
            maps.dark(x, y) = static_cast<float>(std::max(0.0, dark));
        }
    }
    for (const DustShadow& d : dust) {
        const Region box = intersect({static_cast<int>(d.x - 1.5 * d.radius), static_cast<int>(d.y - 1.5 * d.radius),
                                      static_cast<int>(3 * d.radius), static_cast<int>(3 * d.radius)},
                                     maps.illumination.bounds());
        for (int y = box.y; y < box.bottom(); ++y)
            for (int x = box.x; x < box.right(); ++x)
                maps.illumination(x, y) *= static_cast<float>(1 - shadow(d, x, y));
    }
    return maps;
}

} // namespace kasane::sky
