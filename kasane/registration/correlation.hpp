// Registration without stars: where the pictures themselves agree.
//
// For defocused frames, a handful of stars, or a bright extended object alone. The gradients of both pictures are
// correlated by their phases (C. Kuglin and D. Hines, Proc. IEEE Conf. Cybernetics and Society, 1975; gradients as
// complex numbers: V. Argyriou and T. Vlachos, BMVC 2003), which an even or sloping sky does not touch; turn and scale
// from the logarithm of the radius in the spectra's magnitudes (B. Reddy and B. Chatterji, IEEE Trans. Image Processing
// 5, 1996), then all of it from patches of a finer picture. Where there are stars enough, register.hpp is far more
// exact; what is found here may serve it as the place to begin (refine_on_stars).
#pragma once

#include <kasane/image/plane_source.hpp>
#include <kasane/registration/register.hpp>

#include <vector>

namespace kasane {

/// A plane of a frame, averaged over squares of pixels, twice: a few hundred pixels, and up to two thousand.
struct PicturePyramid {
    int width = 0, height = 0; ///< of the frame
    Image coarse, fine;
    int coarse_step = 1, fine_step = 1; ///< pixels of the frame along one of these
};

/// Reads the plane once, by bands. Throws InputError.
PicturePyramid picture_of(const PlaneSource& source, int plane);

struct CorrelationOptions {
    std::vector<Affine> guesses; ///< from reference to frame, as the neighbours in time have it: their turns are tried
    double false_alarms =
        1e-6; ///< agreements by chance, expected in one call with pictures that have nothing in common
};

/// The similarity between two pictures, and how far its peak stands above what chance makes. `matched` is 0, `rms` what
/// the patches leave, `way` tells of the peak. Refused where no peak stands out, where what does
/// stands still against the sensor (a pattern of its own, or a flat's), or where the parts do not agree.
Outcome correlate_pictures(const PicturePyramid& reference, const PicturePyramid& frame,
                           const CorrelationOptions& options = {});

} // namespace kasane
