// Where stars may be: peaks of the matched-filtered image. Internal to stars/.
#pragma once

#include <kasane/stars/detection.hpp>

#include <vector>

namespace kasane {

struct Candidate {
    int x = 0, y = 0;   ///< highest pixel
    float strength = 0; ///< of the filtered image over its surroundings, in units of its noise there
};

/// Local maxima of the background-subtracted image after a Gaussian matched filter that stand at least `least` times
/// the noise above background and surroundings and light several pixels; strongest first. Threshold and area as the
/// options say, positions on the image.
std::vector<Candidate> find_maxima(View<const float> image, const Background& background, float least,
                                   const DetectOptions& options);

} // namespace kasane
