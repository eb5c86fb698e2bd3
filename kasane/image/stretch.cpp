#include <kasane/image/stretch.hpp>

#include <kasane/image/binning.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// `full`: what a stretch makes of white before it is brought to 1.
float stretched(const Stretch& s, float value, float full) {
    const float t = std::clamp((value - s.black) / std::max(s.white - s.black, 1e-30f), 0.0f, 1.0f);
    return s.strength < 1e-3f ? t : std::asinh(s.strength * t) / full;
}

} // namespace

float Stretch::operator()(float value) const {
    return stretched(*this, value, std::asinh(strength));
}

Stretch choose_stretch(View<const float> plane, const StretchOptions& options) {
    constexpr std::size_t kSample = 400000;
    std::vector<float> values = sample_pixels(plane, kSample);
    if (values.empty()) return {};
    const float white = quantile_in_place(values, options.white_quantile);
    const RobustStatistics sky = clipped_statistics(values, 2.5f);
    Stretch s{sky.location - options.black_sigmas * sky.sigma, white, 0};
    if (!(s.white > s.black)) s.white = s.black + std::max(1.0f, std::abs(s.black) * 1e-3f);
    // The strength that puts the sky where it is wanted, by bisection on its logarithm (monotone).
    double low = 1e-3, high = 1e7;
    for (int i = 0; i < 80; ++i) {
        s.strength = static_cast<float>(std::sqrt(low * high));
        (s(sky.location) < options.background ? low : high) = s.strength;
    }
    return s;
}

Raster<std::uint8_t> render(View<const float> plane, const Stretch& stretch, int most) {
    const int factor = std::max(1, (std::max(plane.width, plane.height) + most - 1) / most);
    Raster<std::uint8_t> out(std::max(1, plane.width / factor), std::max(1, plane.height / factor));
    Image small(out.width(), out.height());
    average_down(plane, factor, small.plane());
    const float full = std::asinh(stretch.strength);
    std::transform(small.pixels().begin(), small.pixels().end(), out.pixels().begin(), [&](float mean) {
        return std::isfinite(mean) ? static_cast<std::uint8_t>(std::lround(255 * stretched(stretch, mean, full)))
                                   : std::uint8_t{0};
    });
    return out;
}

std::vector<Stretch> choose_stretches(const Image& image, const std::vector<double>& scales,
                                      const StretchOptions& options) {
    if (image.planes() != 3) return {choose_stretch(image.plane(), options)};
    const auto sky_of = [&](int p) {
        std::vector<float> values = sample_pixels(image.plane(p), 400000);
        return clipped_statistics(values, 2.5f).location;
    };
    const Stretch green = choose_stretch(image.plane(1), options);
    const float sky = sky_of(1);
    std::vector<Stretch> out;
    for (int p = 0; p < 3; ++p) {
        const auto scale = static_cast<float>(scales.size() == 3 ? scales[static_cast<std::size_t>(p)] : 1);
        const float own = sky_of(p);
        out.push_back({own + (green.black - sky) / scale, own + (green.white - sky) / scale, green.strength});
    }
    return out;
}

Raster<std::uint8_t> render_planes(const Image& image, const std::vector<Stretch>& stretches, int most) {
    Raster<std::uint8_t> out;
    for (int p = 0; p < static_cast<int>(stretches.size()); ++p) {
        const Raster<std::uint8_t> grey = render(image.plane(p), stretches[static_cast<std::size_t>(p)], most);
        if (stretches.size() == 1) return grey;
        if (out.empty()) out = Raster<std::uint8_t>(grey.width(), grey.height(), static_cast<int>(stretches.size()));
        std::copy(grey.pixels().begin(), grey.pixels().end(), out.plane(p).data);
    }
    return out;
}

} // namespace kasane
