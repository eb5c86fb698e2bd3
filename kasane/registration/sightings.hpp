// The same stars in many frames, found by their places.
#pragma once

#include <kasane/registration/adjustment.hpp>
#include <kasane/stars/detection.hpp>

#include <vector>

namespace kasane {

/// Stars and sightings of an adjustment from the star lists of its frames (null: none), which its maps and lenses bring
/// about to their places: joined where they lie within `near` of each other on the common grid (normal coordinates),
/// beginning with the frame `first`, then in order. Sightings of stars that one frame alone shows are left out.
void join_sightings(Adjustment& problem, const std::vector<const std::vector<Star>*>& lists, std::size_t first,
                    double near);

/// How well frames agree on their stars: by frame, sightings that count, and the root mean square of their distances
/// and of what their errors let expect, pixels.
struct SightingAccount {
    int stars = 0;
    double rms = 0, expected = 0;
};
std::vector<SightingAccount> account_of(const Adjustment& problem);

} // namespace kasane
