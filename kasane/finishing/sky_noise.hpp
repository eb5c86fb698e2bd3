// The noise of the sky in several images of one field. Internal to finishing/.
//
// Sky is never empty: faint stars and nebula scatter the light of discs as noise does, and mostly by more. But what
// optics and air let pass ends at about one cycle in a FWHM: beyond that there is nothing but noise, and its spectrum
// there, continued to zero, tells that of larger areas. Where pixels share their noise the spectrum falls towards high
// frequencies, so that a smooth image does not pass for a good one.
//
// Spectra are those of small windows (P. Welch, IEEE Trans. Audio Electroacoust. 15, 1967) at places that all images
// show and no known star is near. Those that are flattest at low frequencies, in all images the same, bound how far it
// may rise towards zero.
#pragma once

#include <kasane/finishing/comparison.hpp>

#include <vector>

namespace kasane {

struct SkyNoise {
    int places = 0;       ///< windows that tell; 0: too few
    struct OfImage {      ///< NaN where nothing scatters beyond what optics pass
        double pixel = 0; ///< standard deviation of a pixel, own ADU
        double disc = 0;  ///< of the light in a disc
        double white = 0; ///< the same, were its pixels' noise their own
    };
    std::vector<OfImage> images; ///< as given
};

/// By image: `radius` of the discs, in its own pixels, and FWHM of its stars; `scale`, its pixels along one of the
/// first.
SkyNoise measure_sky_noise(const std::vector<ComparedImage>& images, const std::vector<double>& radius,
                           const std::vector<double>& scale, const Workers& workers);

} // namespace kasane
