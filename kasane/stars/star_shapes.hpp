// What stars look like: one by its radius, and those of a part of the field together.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/stars/detection.hpp>

#include <vector>

namespace kasane {

/// The light of a star by the distance from its middle.
struct RadialProfile {
    double step = 0;           ///< pixels from one ring to the next; the first is a disc around the middle
    std::vector<double> value; ///< mean of each ring over the background around, ADU; NaN: no pixel in it
    double background = 0;     ///< median around, ADU
    double peak = 0;           ///< the highest pixel over it
};

/// Rings of half a pixel out to `radius`; the background is that of a ring beyond, from one to one and a half radii.
RadialProfile radial_profile(View<const float> image, double x, double y, double radius);

/// The mean star of a part of the field.
struct StarStamp {
    Image pixels;  ///< its light over the background, the peak 1; square, its middle in the middle. Empty: no star
    int stars = 0; ///< that made it
};

/// Of the brightest of `stars` inside `part`, unsaturated and without a brighter one beside them: each brought to its
/// middle by bilinear interpolation, `finer` times as fine as the image, and to one peak; the median of them. `side` is
/// that of the stamp in its own pixels.
StarStamp mean_star(View<const float> image, const std::vector<Star>& stars, const Region& part, int side, int finer);

} // namespace kasane
