// Light in a disc, and the sky around it. Internal to finishing/.
#pragma once

#include <kasane/image/image.hpp>

namespace kasane {

/// The sky in a ring around a place.
struct RingSky {
    double level = 0; ///< clipped mean, ADU
    int pixels = 0;   ///< that made it
};

/// NaN where the ring leaves the image or a quarter of it has no data.
RingSky ring_sky(View<const float> image, double x, double y, double inner, double outer);

/// The sum over a disc of what lies above `sky`; pixels at its edge count by the share of them inside (of 5 x 5
/// points). NaN where it leaves the image, or a pixel has no data.
double disc_light(View<const float> image, double x, double y, double radius, double sky);

} // namespace kasane
