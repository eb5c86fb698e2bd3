// From a linear picture to one that an editor or a screen shows as it is, with the colours of its stars.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>
#include <kasane/image/stretch.hpp>

#include <string>
#include <vector>

namespace kasane {

struct ToneOptions {
    double sky = 0.12;  ///< how bright the sky is shown, 0 to 1; the more, the more what is faint is lifted
    double black = 3;   ///< so many sigma of noise below the sky is black
    bool linked = true; ///< of three planes: one curve for their brightness, which keeps colours; else one a plane
    std::string check() const; ///< what is wrong with them, in words; empty: nothing
    bool operator==(const ToneOptions&) const = default;
};

/// The curves that these options mean for an image of which sky and noise are known (ADU, by plane): one a plane. Of
/// three that are linked each has its own black, and all the contrast of green.
std::vector<Stretch> choose_tone(const Image& image, const std::vector<double>& sky, const std::vector<double>& noise,
                                 const ToneOptions& options);

/// Shows it: every value becomes one from 0 to 1. With `linked`, three planes are multiplied by what the curve of green
/// makes of their mean, each above its own black (R. Lupton et al., PASP 116, 2004); where one would exceed 1 all three
/// shrink, and the more the farther it would, the paler they become: a bright star keeps its hue and is no blot of it.
/// No data becomes 0. Returns the share of pixels that lay beyond white.
double apply_tone(Image& image, const std::vector<Stretch>& curves, bool linked, const Workers& workers);

} // namespace kasane
