// From the master lights of several filters to one picture in colour, linear all the way.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/finishing/colour_text.hpp>
#include <kasane/image/image.hpp>
#include <kasane/stars/detection.hpp>

#include <array>
#include <string>
#include <vector>

namespace kasane {

/// One channel on the canvas of the others.
struct ColourChannel {
    std::string name; ///< of its filter: "R", "Ha"
    View<const float> pixels;
    double sky = 0;   ///< level of its sky, ADU
    double noise = 0; ///< of its sky, ADU
};

/// Three planes: sums of what lies above the skies. NaN where a channel that is needed has no data. `noise` receives
/// that of each plane. Throws UsageError that names a channel which is not there, with those that are.
Image mix(const std::vector<ColourChannel>& channels, const Palette& palette, std::array<double, 3>& noise,
          const Workers& workers);

struct WhiteBalance {
    std::array<double, 3> factors = {1, 1, 1}; ///< of red, green and blue; green 1 unless given
    std::string text;                          ///< how they were told
    bool told = true;                          ///< false: it could not be, and nothing is changed
};

/// The factors that make white what is chosen: the median of the stars that all three planes measure well (of `stars`,
/// those of green), or the light of a region above the sky. `image`: three planes, sky at zero.
WhiteBalance white_balance(const Image& image, const StarList& stars, const WhiteChoice& choice);

/// Each plane times its factor.
void multiply(Image& image, const std::array<double, 3>& factors, const Workers& workers);

/// What a luminance gives to a picture in colour.
struct LuminanceGain {
    double factor = 1;                  ///< that brings it to the brightness of the picture
    double weight = 1;                  ///< of it, the picture's own brightness has the rest
    double noise_before = 0, noise = 0; ///< of brightness, ADU
};

/// Puts the brightness of a better channel into a picture: brightness becomes the mean of its own (that of its three
/// planes) and the channel's, weighed by the inverse variance, colour stays what it is. Well above the noise that is a
/// factor for the three, in the noise a sum, so that dark sky is no quotient of noise. Pixels that the channel does not
/// show keep their own. `factor` brings the channel to the picture's brightness; `noise` is that of the planes, and
/// receives what it becomes. `image`: sky at zero.
LuminanceGain put_luminance(Image& image, const ColourChannel& channel, double factor, std::array<double, 3>& noise,
                            const Workers& workers);

/// Mean of the three planes.
Image brightness(const Image& image, const Workers& workers);

} // namespace kasane
