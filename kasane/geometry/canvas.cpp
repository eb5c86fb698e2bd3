#include <kasane/geometry/canvas.hpp>

#include <kasane/base/units.hpp>

#include <cmath>

namespace kasane {

namespace {

/// Cosine and sine, exact for quarter turns.
std::array<double, 2> direction(double degrees) {
    const double quarters = degrees / 90;
    if (quarters != std::round(quarters)) return {std::cos(radians(degrees)), std::sin(radians(degrees))};
    constexpr std::array<std::array<double, 2>, 4> kQuarters = {{{1, 0}, {0, 1}, {-1, 0}, {0, -1}}};
    return kQuarters[static_cast<std::size_t>(std::fmod(std::fmod(quarters, 4) + 4, 4))];
}

} // namespace

Affine Canvas::to_reference() const {
    const auto [c, s] = direction(turn); // y runs down
    const double across = (mirror ? -1 : 1) / scale, down = 1 / scale;
    return {across * c, -down * s, origin.x, across * s, down * c, origin.y};
}

bool Canvas::on_the_grid() const {
    return scale == 1 && turn == 0 && !mirror && origin.x == std::round(origin.x) && origin.y == std::round(origin.y);
}

} // namespace kasane
