// Finding stars and measuring where and what they are.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/stars/background.hpp>
#include <kasane/stars/psf_fit.hpp>

#include <optional>
#include <vector>

namespace kasane {

struct Star {
    double x = 0, y = 0;       ///< centre, pixels
    double flux = 0;           ///< in an aperture of 2 FWHM radius over its local background, ADU
    double flux_sigma = 0;     ///< its noise
    double peak = 0;           ///< highest pixel over the background, ADU
    double fwhm = 0;           ///< pixels, geometric mean of both axes; 0 for saturated stars without a fit
    double eccentricity = 0;   ///< sqrt(1 - b^2 / a^2)
    double position_sigma = 0; ///< of the centre along one axis, pixels; from the fit, else estimated
    bool saturated = false;
};

struct DetectOptions {
    float threshold = 5.0f;       ///< of the matched-filtered image, in units of its noise
    float filter_sigma = 1.2f;    ///< of the Gaussian filter, pixels (FWHM 2.8)
    int most = 400;               ///< the strongest that are looked at
    int border = 6;               ///< pixels along the edge without detections
    float saturation = 0;         ///< ADU of the image; 0: unknown
    double electrons_per_adu = 0; ///< 0: unknown; weighs bright pixels by their photon noise in fits
};

/// The stars of a frame, brightest first, with what they say of the frame.
struct StarList {
    std::vector<Star> stars;
    Background background;
    float noise = 0;         ///< of a pixel, ADU
    double fwhm = 0;         ///< median over the fitted, unsaturated stars, pixels; 0 if none
    double eccentricity = 0; ///< the same
};

/// Detects stars: matched filter, local maxima above the threshold and above their surroundings, hot pixels and cosmic
/// rays sorted out by their sharpness, centres and profiles by fits of elliptical Moffat functions, knots of nebula
/// sorted out by their width, fluxes in apertures.
StarList detect_stars(View<const float> image, const DetectOptions& options = {});

/// Fluxes, peaks and saturation of known stars in another plane of the same frame, in the aperture that goes with
/// `fwhm`; positions stay as they are.
void measure_fluxes(View<const float> image, const Background& background, double fwhm, const DetectOptions& options,
                    std::vector<Star>& stars);

} // namespace kasane
