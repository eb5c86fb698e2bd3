// Light that moves among the stars, or the other way round: what of it is taken out of frames.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/image/image.hpp>

#include <array>
#include <memory>

namespace kasane {

/// A comet as a frame shows it, or the stars as they move past one: an image of the canvas, all planes, moved.
struct MovingLight {
    std::shared_ptr<const Image> image; ///< ADU of the stack's level, above the sky; 0 or NaN where there is none
    Point moved;                        ///< pixels of the canvas, right and down
};

/// Weights of the four pixels around a place that lies `fraction` behind the second of them: cubic convolution (R.
/// Keys, IEEE Trans. ASSP 29, 1981), a = -1/2.
std::array<double, 4> cubic_weights(double fraction);

/// Takes it out of the samples of a rectangle of the canvas, interpolated by cubic convolution. A sample does not
/// depend on the rectangle.
void subtract_moving(const MovingLight& light, std::size_t plane, const Region& region, View<float> samples);

} // namespace kasane
