// Stars that a solution has not seen, as its judges: every fifth is held out, and its sightings tell how far frames
// agree on it.
#pragma once

#include <kasane/registration/adjustment.hpp>

#include <vector>

namespace kasane {

struct HeldOut {
    Adjustment adjustment;                   ///< without them
    std::vector<std::vector<Sighting>> held; ///< sightings of each star that was held out
    std::vector<Eigen::Vector2d> held_at;    ///< about where it is
};

/// Takes every fifth star out of a problem, beginning with star `fold` (0 to kFolds - 1); sightings of stars that one
/// frame alone shows go.
HeldOut hold_out(Adjustment problem, int fold);
inline constexpr int kFolds = 5;
/// No star is held out.
HeldOut hold_nothing_out(Adjustment problem);

/// Of stars that a solution has not seen, the mean squared distance of the sightings from where the star's other
/// sightings put it, in units of their errors (1 is noise alone), star by star; and in pixels.
struct Unseen {
    std::vector<double> stars;
    double pixels = 0, expected = 0;
};
Unseen judge(const HeldOut& solved);

} // namespace kasane
