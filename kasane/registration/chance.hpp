// How likely a match is nothing but chance.
//
// A match is meaningful if it would be expected far less than once among everything that was tried, had the frame's
// stars nothing to do with the reference's (a contrario: L. Moisan and B. Stival, IJCV 57, 2004). No threshold of
// pixels or counts is needed: the densities of the lists and the distances of the pairs decide, in a field of six stars
// as in one of eight thousand.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/registration/star_pair.hpp>

#include <vector>

namespace kasane {

/// Logarithm of the probability of `count` or more where `mean` are expected (Poisson; first terms of the tail). Counts
/// need not be whole.
double log_poisson_tail(double count, double mean);

/// Density of a star list at places, stars a square pixel: by the sixth nearest star, never less than over all.
class StarDensity {
public:
    StarDensity(const std::vector<Star>& stars, const StarIndex& index);
    double at(double x, double y) const;
    double overall() const { return overall_; }

private:
    const std::vector<Star>& stars_;
    const StarIndex& index_;
    double overall_;
};

/// The logarithm of how often a match at least this good is expected by chance in one try, at the radius that makes it
/// most surprising. Every star of the reference that falls into the frame is a trial; `free` numbers of the transform
/// were fitted to the pairs, which takes half as many of them away.
double log_chance(const StarPair& pair, const StarDensity& density, const Transform& to_frame,
                  const std::vector<StarMatch>& matches, double free);

/// The logarithm of the probability that the brightnesses of pairs go together as well as they do, had they nothing to
/// do with each other: their ratios scatter by less than those of stars picked at random. Weak evidence, worth little
/// where filters or exposures differ, and never against a match.
double log_chance_of_brightness(const StarPair& pair, const std::vector<StarMatch>& matches);

} // namespace kasane
