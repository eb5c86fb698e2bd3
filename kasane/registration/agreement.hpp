// How two star lists agree under a transform: which pairs, of how many, and what their distances leave in order.
#pragma once

#include <kasane/geometry/transform.hpp>
#include <kasane/registration/star_pair.hpp>

#include <array>
#include <vector>

namespace kasane {

/// Pairs of stars that agree within `radius` pixels under a transform, each frame star used once (by the nearest),
/// sorted by it.
std::vector<StarMatch> match_stars(const StarPair& pair, const Transform& t, double radius);

/// Stars that both lists should have in common, in cells of the overlap, and those that match.
struct CommonStars {
    static constexpr int kCells = 4; // along each side of the reference's part that the frame shows
    struct Cell {
        int reference = 0, frame = 0, matched = 0;
        int both() const { return std::min(reference, frame); }
    };
    std::array<Cell, kCells * kCells> cells{};
    int reference = 0, frame = 0; ///< stars of one that fall into the other

    CommonStars(const StarPair& pair, const Transform& t, const std::vector<StarMatch>& matches);
    int both() const { return std::min(reference, frame); }

    /// Cells whose stars do not match though those of others do, as far as chance does not explain it.
    int lost(double share) const;
};

/// How far the residuals of neighbours go together, from -1 to 1: about 0, to one over the root of their number, where
/// they are noise.
double order_of(const StarPair& pair, const std::vector<StarMatch>& matches, const Transform& t);

} // namespace kasane
