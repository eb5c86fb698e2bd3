#include <kasane/integration/moving_light.hpp>

#include <cmath>

namespace kasane {

std::array<double, 4> cubic_weights(double f) {
    const double f2 = f * f, f3 = f2 * f;
    return {-0.5 * f + f2 - 0.5 * f3, 1 - 2.5 * f2 + 1.5 * f3, 0.5 * f + 2 * f2 - 1.5 * f3, -0.5 * f2 + 0.5 * f3};
}

void subtract_moving(const MovingLight& light, std::size_t plane, const Region& region, View<float> samples) {
    const View<const float> from = light.image->plane(static_cast<int>(plane));
    const double left = std::floor(-light.moved.x), up = std::floor(-light.moved.y);
    const std::array<double, 4> wx = cubic_weights(-light.moved.x - left), wy = cubic_weights(-light.moved.y - up);
    const auto dx = static_cast<int>(left), dy = static_cast<int>(up);
    for (int y = 0; y < region.height; ++y)
        for (int x = 0; x < region.width; ++x) {
            double sum = 0;
            for (int j = 0; j < 4; ++j) {
                const int v = region.y + y + dy + j - 1;
                if (v < 0 || v >= from.height) continue;
                for (int i = 0; i < 4; ++i) {
                    const int u = region.x + x + dx + i - 1;
                    if (u < 0 || u >= from.width) continue;
                    const float there = from(u, v);
                    if (there == there)
                        sum += wx[static_cast<std::size_t>(i)] * wy[static_cast<std::size_t>(j)] *
                               static_cast<double>(there);
                }
            }
            samples(x, y) -= static_cast<float>(sum); // NaN stays
        }
}

} // namespace kasane
