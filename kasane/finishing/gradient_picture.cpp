#include <kasane/finishing/gradient_picture.hpp>

#include <kasane/image/stretch.hpp>

#include <algorithm>
#include <array>
#include <cmath>

namespace kasane {

Raster<std::uint8_t> draw_gradient(View<const float> plane, const Gradient& g, int most) {
    constexpr int kGap = 4;
    const Raster<std::uint8_t> left = render(plane, choose_stretch(plane), (most - kGap) / 2);
    const double scale = static_cast<double>(left.width()) / plane.width; // pixels of the picture to one of the plane
    Raster<std::uint8_t> out(2 * left.width() + kGap, left.height(), 3, 32);
    const float range = static_cast<float>(std::max(1e-30, g.size));
    float least = HUGE_VALF;
    for (int y = 0; y < left.height(); ++y)
        for (int x = 0; x < left.width(); ++x)
            least = std::min(least, g.surface.at((x + 0.5) / scale - 0.5, (y + 0.5) / scale - 0.5));
    for (int y = 0; y < left.height(); ++y)
        for (int x = 0; x < left.width(); ++x) {
            const float v = (g.surface.at((x + 0.5) / scale - 0.5, (y + 0.5) / scale - 0.5) - least) / range;
            const auto grey =
                static_cast<std::uint8_t>(std::lround(255 * std::clamp(g.size > 0 ? v : 0.5f, 0.0f, 1.0f)));
            for (int p = 0; p < 3; ++p) {
                out(x, y, p) = left(x, y);
                out(left.width() + kGap + x, y, p) = grey;
            }
        }
    using Colour = std::array<std::uint8_t, 3>;
    constexpr Colour kSky = {80, 160, 255}, kByHand = {255, 220, 60}, kBright = {230, 120, 40},
                     kForbidden = {130, 130, 130};
    const int half = std::clamp(static_cast<int>(0.25 * g.side * scale), 1, 4);
    for (const SkySpot& s : g.spots) {
        const Colour& colour = s.by_hand                          ? kByHand
                               : s.use == SkySpot::Use::sky       ? kSky
                               : s.use == SkySpot::Use::forbidden ? kForbidden
                                                                  : kBright;
        const int cx = static_cast<int>((s.x + 0.5) * scale), cy = static_cast<int>((s.y + 0.5) * scale);
        for (int y = std::max(0, cy - half); y <= std::min(left.height() - 1, cy + half); ++y)
            for (int x = std::max(0, cx - half); x <= std::min(left.width() - 1, cx + half); ++x)
                if (std::abs(x - cx) == half || std::abs(y - cy) == half)
                    for (int p = 0; p < 3; ++p)
                        out(x, y, p) = colour[static_cast<std::size_t>(p)];
    }
    return out;
}

} // namespace kasane
