// Light inside a circle. Internal to stars/.
#pragma once

#include <kasane/stars/detection.hpp>

namespace kasane {

/// Pixels; the aperture of all stars of a frame whose stars have this width.
double aperture_radius(double fwhm);

struct Aperture {
    double radius = 0;            ///< pixels
    double noise = 0;             ///< of a pixel of the background, ADU
    double electrons_per_adu = 0; ///< 0: unknown
};

/// Flux, its noise and the peak of the star at (s.x, s.y) in a soft-edged circle over the clipped mean of a ring around
/// it. Where pixels have no data (other colours of a mosaic), those that have stand for the whole circle.
void measure_flux(View<const float> image, const Background& background, const Aperture& aperture, Star& s);

} // namespace kasane
