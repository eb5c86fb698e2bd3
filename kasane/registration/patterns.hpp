// Where to begin: likely similarities between two star lists, from small patterns.
//
// Patterns are triangles of stars, described by their side ratios, which do not change under translation, rotation,
// mirroring and scale (E. Groth, AJ 91, 1986; F. Valdes et al., PASP 107, 1995). Every pair of like triangles proposes
// a similarity; it is tested on the stars around the triangle, where it holds even through a lens that bends the rest
// of the field. Where stars are too few for triangles to be many, every two stars propose.
#pragma once

#include <kasane/registration/chance.hpp>

#include <vector>

namespace kasane {

/// A likely similarity and the stars it rests on.
struct Seed {
    Affine to_frame;
    std::vector<StarMatch> matches;
    double luck = 0; ///< logarithm of the probability that as many agree by chance, of one try
};

/// The seeds of a search, the least likely chance first, and how many were tried to find them.
struct Seeds {
    std::vector<Seed> best;
    double tried = 1;
};

struct PatternOptions {
    int stars = 45;                 ///< the brightest of each list that form patterns
    int neighbours = 8;             ///< of each, within these
    double ratio_tolerance = 0.008; ///< between side ratios of like triangles
    double radius = 3;              ///< pixels, when a proposal is tested
    std::size_t most = 6;           ///< different seeds returned
};

/// Seeds from like triangles.
Seeds seeds_of_triangles(const StarPair& pair, const StarDensity& density, const PatternOptions& options);

/// Seeds from every two stars of both lists, from the brightest `options.stars` of each; of the size that both frames
/// show alike and the same way round if `rigid`, else of any scale from 0.2 to 5, and mirrored ones as well.
Seeds seeds_of_pairs(const StarPair& pair, const StarDensity& density, const PatternOptions& options, bool rigid);

/// Seeds from every star of one and every star of the other, where the linear part of the map is known to be one of
/// `linear`.
Seeds seeds_of_shifts(const StarPair& pair, const StarDensity& density, const PatternOptions& options,
                      const std::vector<Affine>& linear);

} // namespace kasane
