// Fits of a star's profile.
//
// The elliptical Moffat function (A. Moffat, A&A 3, 1969) follows seeing-limited stars in core and wings. Fitted by
// Levenberg-Marquardt (J. More, Lecture Notes in Mathematics 630, 1978) to the pixels as they are, so that position and
// width include the pixel's own integration.
#pragma once

#include <kasane/image/image.hpp>

#include <optional>

namespace kasane {

struct PsfFit {
    double x = 0, y = 0;                   ///< pixels of the image
    double amplitude = 0;                  ///< ADU
    double background = 0;                 ///< ADU
    double fwhm_major = 0, fwhm_minor = 0; ///< pixels
    double angle = 0;                      ///< of the major axis, degrees counter-clockwise as displayed
    double beta = 0;                       ///< exponent
    double position_sigma = 0;             ///< formal error of the centre along one axis, pixels
    double distortion_sigma = 0;           ///< the same of a component of (a^2 - b^2) / (a^2 + b^2)

    double fwhm() const;
    double eccentricity() const;
};

struct PsfFitOptions {
    double start_fwhm = 3;        ///< pixels
    double noise = 1;             ///< of a background pixel, ADU
    double electrons_per_adu = 0; ///< 0: unknown; photon noise is then left out of the weights
    float saturation = 0;         ///< values at or above are left out; 0: none
    int iterations = 15;
};

/// Fits one star near (x, y) in a circle of about two FWHM around it. Nothing if the fit does not converge to a
/// believable star inside the circle.
std::optional<PsfFit> fit_psf(View<const float> image, double x, double y, const PsfFitOptions& options);

} // namespace kasane
