#include <kasane/integration/rejection_picture.hpp>

#include <algorithm>
#include <array>
#include <cmath>

namespace kasane {

namespace {

double mean_share(const Raster<std::uint16_t>& map, int x, int y, int factor) {
    std::uint64_t sum = 0;
    for (int j = 0; j < factor; ++j)
        for (int i = 0; i < factor; ++i)
            sum += map(x * factor + i, y * factor + j);
    return static_cast<double>(sum) /
           (static_cast<double>(factor) * factor * static_cast<double>(RejectionMaps::kUnit));
}

} // namespace

Raster<std::uint8_t> draw_rejected(const RejectionMaps& maps, int most) {
    const int width = maps.high.width(), height = maps.high.height();
    const int factor = std::max(1, (std::max(width, height) + most - 1) / std::max(1, most));
    Raster<std::uint8_t> out(std::max(1, width / factor), std::max(1, height / factor), 3);
    constexpr double kBright = 0.25;
    constexpr std::array<double, 3> kWarm{255, 176, 64}, kCold{64, 150, 255};
    for (int y = 0; y < height / factor; ++y)
        for (int x = 0; x < width / factor; ++x) {
            const double high = std::sqrt(mean_share(maps.high, x, y, factor) / kBright),
                         low = std::sqrt(mean_share(maps.low, x, y, factor) / kBright);
            for (std::size_t c = 0; c < 3; ++c)
                out(x, y, static_cast<int>(c)) =
                    static_cast<std::uint8_t>(std::lround(std::min(255.0, high * kWarm[c] + low * kCold[c])));
        }
    return out;
}

} // namespace kasane
