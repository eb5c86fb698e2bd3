// The sky of an image by cells, as a mean: linear in what the sky shows, so that it can be compared between frames.
//
// Why beside the background: a clipped mean follows the darker pixels of a rough nebula or of a field of faint stars,
// the more so the less noise there is. In two frames of one field it is off by different amounts.
#pragma once

#include <kasane/stars/background.hpp>
#include <kasane/stars/detection.hpp>
#include <kasane/stars/streaks.hpp>

#include <vector>

namespace kasane {

/// What is covered before.
struct SkyCover {
    const std::vector<Star>& stars;
    double fwhm = 0; ///< of the stars, pixels
    const std::vector<Streak>& streaks;
    int step = 2;         ///< of so many rows one is looked at; 1 where most pixels have no data
    float saturation = 0; ///< values at and above tell nothing of what is there; 0: none are
};

/// Means over cells of 16 pixels or twice and four times that, so that there are 24000 at most, without stars (out to
/// where their wings fall below a tenth of the noise), streaks, and what lies farther than five sigma from the cell's
/// median. NaN where less than 40 % of a cell are left, or what is not covered is saturated.
/// `memory`, if given, is that of what is covered, to be used again for an image of the same size.
SkyMeans mean_sky(View<const float> image, const Background& background, const SkyCover& cover, Mask* memory = nullptr);

} // namespace kasane
