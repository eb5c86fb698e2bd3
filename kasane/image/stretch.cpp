#include <kasane/image/stretch.hpp>

#include <kasane/image/statistics.hpp>

#include <cmath>

namespace kasane {

float Stretch::operator()(float value) const {
    const float t = std::clamp((value - black) / std::max(white - black, 1e-30f), 0.0f, 1.0f);
    return strength < 1e-3f ? t : std::asinh(strength * t) / std::asinh(strength);
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
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) {
            double sum = 0;
            int n = 0;
            for (int j = 0; j < factor; ++j)
                for (int i = 0; i < factor; ++i) {
                    const int sx = x * factor + i, sy = y * factor + j;
                    if (sx >= plane.width || sy >= plane.height || !std::isfinite(plane(sx, sy))) continue;
                    sum += plane(sx, sy);
                    ++n;
                }
            out(x, y) = n ? static_cast<std::uint8_t>(std::lround(255 * stretch(static_cast<float>(sum / n)))) : 0;
        }
    return out;
}

} // namespace kasane
