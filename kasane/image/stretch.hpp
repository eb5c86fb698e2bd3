// From linear values to something a person can see on a screen.
#pragma once

#include <kasane/image/image.hpp>

#include <cstdint>
#include <vector>

namespace kasane {

/// An inverse hyperbolic sine stretch (R. Lupton et al., PASP 116, 2004): linear in the faint, logarithmic in the
/// bright.
struct Stretch {
    float black = 0;    ///< value shown black
    float white = 1;    ///< value shown white
    float strength = 1; ///< 0: linear; the larger, the more the faint is lifted
    /// Display value 0..1.
    float operator()(float value) const;
};

struct StretchOptions {
    float background = 0.12f;      ///< display value of the sky background
    float black_sigmas = 3.0f;     ///< black lies this many sigma of noise below the background
    double white_quantile = 0.995; ///< share of pixels that stay below white
};

/// Chooses black, white and strength from the data of one plane.
Stretch choose_stretch(View<const float> plane, const StretchOptions& options = {});

/// One stretch a plane. Of three planes each keeps its own sky, so that the background is neutral, and all share
/// contrast: that of green, times `scales` (factors that bring red, green and blue to one level; empty: 1).
std::vector<Stretch> choose_stretches(const Image& image, const std::vector<double>& scales = {},
                                      const StretchOptions& options = {});

/// 8-bit rendering of one plane; no data is black. `most` bounds the longer side: larger images are averaged down by a
/// whole factor.
Raster<std::uint8_t> render(View<const float> plane, const Stretch& stretch, int most = 1600);

/// The same of one plane, or of three as red, green and blue, with one stretch a plane.
Raster<std::uint8_t> render_planes(const Image& image, const std::vector<Stretch>& stretches, int most = 1600);

} // namespace kasane
