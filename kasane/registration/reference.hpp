// Which frame leads: its grid becomes that of all others.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/stars/detection.hpp>

#include <cstddef>
#include <string>
#include <vector>

namespace kasane {

/// A measured frame that may lead.
struct ReferenceCandidate {
    const std::vector<Star>* stars = nullptr; ///< brightest first
    int width = 0, height = 0;                ///< of the grid that they were measured on
    double fwhm = 0;                          ///< pixels; 0: not known
    double eccentricity = 0;
    double noise = 0; ///< of the background, ADU
};

/// What speaks for a frame. Every share is of the best frame that was looked at.
struct ReferenceMerit {
    std::size_t frame = 0;
    int stars = 0;
    double fwhm = 0;
    double depth = 0;   ///< (signal / noise)^2 of the stars, share
    double central = 0; ///< share of the others' sky that lies on its grid
    double scale = 1;   ///< its pixels along the side of one of the frame that all were compared on
    double score = 0;
    /// "2.31 px, 412 stars, depth 0.95 of the best, shows 97 % of the others' sky".
    std::string text() const;
};

struct ReferenceRanking {
    std::vector<ReferenceMerit> best; ///< first the one to take; empty without frames
    int compared = 0;                 ///< frames that were looked at closely
};

/// Ranks frames by sharpness, depth, stars, and how much of the sky would be lost outside their grid: all are brought
/// onto one of the sharpest and richest, which most others agree with, and the score is
///   (sharpest / fwhm)^2 sqrt(1 - e^2) sqrt(depth) sqrt(stars / most) central^2,
/// widths compared on the sky.
/// Of many frames 64 spread over all of them and the 16 sharpest and richest are looked at. The ranking does not depend
/// on the number of threads.
ReferenceRanking rank_references(const std::vector<ReferenceCandidate>& frames, const Workers& workers);

} // namespace kasane
