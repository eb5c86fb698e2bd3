#include <kasane/geometry/canvas.hpp>

#include <kasane/base/units.hpp>

#include <cmath>

namespace kasane {

Affine Canvas::to_reference() const {
    const double c = std::cos(radians(turn)) / scale, s = std::sin(radians(turn)) / scale; // y runs down
    return {c, s, origin.x, -s, c, origin.y};
}

} // namespace kasane
