// What stars look like: one by its radius, and those of a part of the field together.
#pragma once

#include <kasane/geometry/transform.hpp>
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

/// A star, as somebody who points at it wants to know it.
struct StarLook {
    Star star;
    std::optional<PsfFit> fit;
    RadialProfile profile;
};

/// The profile and the fit of a star that is known, out to three times its FWHM (`usual` where its own is not). `image`
/// begins at `corner` of the pixels in which the star is given; `noise` is that of a pixel.
StarLook look_at_star(View<const float> image, const Star& star, Point corner, double usual, double noise);

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
