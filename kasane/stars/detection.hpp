// Finding stars and measuring where and what they are.
//
// A matched filter on the background-subtracted image, held against the local noise, finds candidates; fits of
// elliptical Moffat functions measure them and tell stars from what else is bright. The mosaic of a colour sensor is
// measured on the samples of one colour as they are: interpolated ones only guide the search.
//
// The room holds, beside this:
//   background.hpp  the sky under the stars: a mesh of robust levels
//   maxima.hpp      where stars may be
//   aperture.hpp    light inside a circle
//   elongation.hpp  how far stars are drawn out
//   psf_fit.hpp     fits of a star's profile
//   psf_sums.hpp    the inner loop of the fit
//   disc.hpp        a round place
//   field_psf.hpp   what a star looks like at any place of a field
//   sky_mean.hpp    the sky by cells, without stars, linear in what it shows
//   star_shapes.hpp what stars look like, by radius and by parts of the field
//   streaks.hpp     trails of satellites, aircraft and meteors
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/stars/background.hpp>
#include <kasane/stars/psf_fit.hpp>

#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct Star {
    double x = 0, y = 0;       ///< centre, pixels
    double flux = 0;           ///< in an aperture of 2 FWHM radius over its local background, ADU
    double flux_sigma = 0;     ///< its noise
    double peak = 0;           ///< highest pixel over the background, ADU
    double fwhm = 0;           ///< pixels, geometric mean of both axes; 0 for saturated stars without a fit
    double eccentricity = 0;   ///< sqrt(1 - b^2 / a^2)
    double angle = 0;          ///< of the long axis, degrees counter-clockwise as displayed, -90..90
    double position_sigma = 0; ///< of the centre along one axis, pixels; from the fit, else estimated
    bool saturated = false;
};

struct DetectOptions {
    float threshold = 5.0f;       ///< of the matched-filtered image, in units of its noise
    float floor = 4.0f;           ///< down to which more are looked for where stars are few; they are not counted
    float filter_sigma = 1.2f;    ///< of the Gaussian filter, pixels (FWHM 2.8)
    int least = 40;               ///< stars that are sought, down to the floor
    int most = 400;               ///< the strongest that are looked at; the count goes on by their share of stars
    int area = 3;                 ///< pixels of the nine at a peak that must rise above the noise
    int border = 6;               ///< pixels along the edge without detections
    float saturation = 0;         ///< ADU of the image; 0: unknown
    double electrons_per_adu = 0; ///< 0: unknown; weighs bright pixels by their photon noise in fits
    /// What is wrong with them, in words; empty: nothing.
    std::string check() const;
};

/// The stars of a frame, brightest first, with what they say of the frame.
struct StarList {
    std::vector<Star> stars;
    Background background;
    float noise = 0;         ///< of a pixel, ADU
    double count = 0;        ///< of stars above the threshold, estimated beyond those that were fitted
    float threshold = 0;     ///< of the weakest that was looked at
    double fwhm = 0;         ///< median over the fitted, unsaturated stars, pixels; 0 if none
    double eccentricity = 0; ///< of the stars, the noise of the fits taken off
    double angle = 0;        ///< of the direction that the stars have in common, degrees as in Star
    double alignment = 0;    ///< share of the elongation that all stars have in common, 0..1
};

/// One colour of a mosaic.
struct MosaicPlane {
    View<const float> filled;  ///< interpolated to all pixels
    View<const float> samples; ///< NaN where the sensor saw another colour
    Background background;     ///< of the samples
    float density = 1;         ///< share of pixels that are samples
};

/// Detects stars: matched filter, local maxima above the threshold and above their surroundings, hot pixels and cosmic
/// rays sorted out by their sharpness, centres and profiles by fits of elliptical Moffat functions, knots of nebula
/// sorted out by their width, fluxes in apertures.
/// Stars wider than a few pixels, or out of focus, are looked for in binned copies.
StarList detect_stars(View<const float> image, const DetectOptions& options = {});
/// The same on the samples of one colour of a mosaic.
StarList detect_stars(const MosaicPlane& plane, const DetectOptions& options = {});

/// Fluxes, peaks and saturation of known stars in another plane of the same frame, in the aperture that goes with
/// `fwhm`; positions stay as they are.
void measure_fluxes(View<const float> image, const Background& background, double fwhm, const DetectOptions& options,
                    std::vector<Star>& stars);

} // namespace kasane
