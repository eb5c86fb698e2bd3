// From a few pairs of stars that are right to all of them, through any smooth distortion.
//
// Each pair predicts its neighbours: an affine map through the nearest pairs says where the next star should be, and
// how well it can say it; what is found there joins. So a match spreads outward from where it began, as far as the
// frames go, without a model of the lens. Pairs that their neighbours do not bear out leave again.
#pragma once

#include <kasane/registration/star_pair.hpp>

#include <vector>

namespace kasane {

struct PairGrowthOptions {
    double radius = 3; ///< pixels; how far from its place a star is looked for at most, where its errors are small
    double bend = 0.4; ///< second derivative of the map, times half the diagonal: 6 times the distortion there
    int most_rounds = 40;
    std::size_t most = 1500; ///< stars of the reference, the brightest, that are looked at
};

/// All pairs that follow from `seed`, sorted by the frame's star. At least three pairs of `seed` are needed; fewer are
/// returned as they are.
std::vector<StarMatch> grow(const StarPair& pair, const std::vector<StarMatch>& seed,
                            const PairGrowthOptions& options = {});

} // namespace kasane
