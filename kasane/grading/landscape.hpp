// Where a standing camera never shows stars: what may be trees, a roof or the ground.
#pragma once

#include <kasane/image/polygon.hpp>
#include <kasane/stars/detection.hpp>

#include <vector>

namespace kasane {

struct LandscapeGuess {
    std::vector<Polygon> hidden; ///< along the frame's edges; empty: nothing stands out
    double share = 0;            ///< of the frame
};

/// From the star lists of many frames of one rig on one night: squares along an edge that never show a star, though at
/// least twelve are expected in each. Nothing where less than 4 % of the frame would be hidden, or more than 70 %.
LandscapeGuess guess_landscape(const std::vector<const std::vector<Star>*>& frames, int width, int height);

} // namespace kasane
