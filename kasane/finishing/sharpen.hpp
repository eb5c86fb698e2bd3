// Sharpening: part of what air and optics blurred taken back, with the point spread function that the stars of the
// image show.
//
// Not down to points, which no pixel could show, but to a narrower star of a width that is said beforehand (P. Magain,
// F. Courbin and S. Sohy, ApJ 494, 1998), by the iteration of W. Richardson (J. Opt. Soc. Am. 62, 1972) and L. Lucy (AJ
// 79, 1974). What it may change is what wavelets of the image show to be no noise (F. Murtagh, J.-L. Starck and A.
// Bijaoui, A&A Suppl. 112, 1995), by shares as of a Wiener filter: sky stays as it is, noise and all. Around stars
// nothing falls below the envelope of the image without them. Stars with flat tops, which no such function makes, stay
// as they are.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>
#include <kasane/stars/field_psf.hpp>

#include <cstdint>
#include <functional>
#include <vector>

namespace kasane {

struct Sharpening {
    double before = 0, target = 0; ///< FWHM, pixels
    int iterations = 0;
    bool settled = false; ///< what is left where something shows is what noise leaves, or falls no more
    double left = 0;      ///< variance of what is left there, over what noise would leave
    int kept = 0;         ///< stars with flat tops
};

struct SharpenCall {
    double target = 0; ///< FWHM of the stars afterwards, pixels
    double sky = 0;    ///< level of it, ADU
    double noise = 0;  ///< of a pixel, ADU
    /// Called after each tile, from any thread.
    std::function<void()> advance;
};

/// Narrower than so many pixels no star is made: pixels would not show its shape.
inline constexpr double kNarrowestStar = 1.7;

/// What stars of a plane show of themselves.
struct PlaneStars {
    FieldPsf psf;
    std::vector<Disc> flat_tops; ///< saturated in most of the frames: discs in which their light stays as it is
};
/// Throws DataError where fewer than five tell it, or there is no noise.
PlaneStars learn_stars(View<const float> plane, const StarList& stars, double sky, double noise);

/// Tiles that a plane is sharpened in: for the progress.
std::int64_t sharpening_tiles(int width, int height);

/// Memory that sharpening takes, most of it while the number of steps is told from some tiles.
std::uint64_t sharpening_bytes(int width, int height);

/// In place. Where there is no data, nothing changes. Throws UsageError where the target is no narrower than the stars,
/// Cancelled (the plane is then as it was). The same for any threads.
Sharpening sharpen(View<float> plane, const PlaneStars& stars, const SharpenCall& call, const Workers& workers);

} // namespace kasane
