// Images of one field, judged on the same stars and the same sky.
//
// Nothing is resampled for it: each image is measured on its own pixels, where they show what the others show. Noise is
// that of discs the size of a star, so that pixels which share theirs with their neighbours (interpolated, drizzled)
// gain nothing by it; brightness is in units of the first image, by the light of the stars.
//
// The room holds, beside this:
//   star_light.hpp   light in discs, and the sky around them
//   sky_noise.hpp    the noise of such discs, by the spectrum of the sky
//   comparison_pictures.hpp  two images on one grid and at one level, to look at
//   finish_options.hpp  what is done to master lights afterwards, as values
//   gradient.hpp     gradients, told from what is sky, and taken off
//   sky_polynomial.hpp  polynomials through places of sky
//   gradient_picture.hpp  what was taken for sky, to look at
//   sharpen.hpp      deconvolution with what stars show; sharpen_picture.hpp: before and after
//   deconvolution.hpp  its iteration, on a tile; separable_kernel.hpp: convolution
//   colour.hpp       filters combined, white, luminance; colour_text.hpp: palettes and whites as one writes them
//   reshape.hpp      crop, turn, mirror, bin; the largest rectangle of a mask
//   tone.hpp         from linear to what a screen shows
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/geometry/transform.hpp>
#include <kasane/stars/detection.hpp>

#include <array>
#include <vector>

namespace kasane {

/// One image of a comparison. All live on.
struct ComparedImage {
    const Image* pixels = nullptr;            ///< one plane, or red, green and blue
    const std::vector<Star>* stars = nullptr; ///< of its main plane, brightest first
    const Background* mesh = nullptr;         ///< of its main plane
    double fwhm = 0;                          ///< of its stars, pixels
    /// Noise of a pixel of sky as larger areas tell it, which its maker states, own ADU; 0: not stated.
    double stated_noise = 0;
    double stated_fwhm = 0; ///< of the stars in the exposures that made it, own pixels; 0: not stated
    Transform to_image;     ///< from pixels of the first image to those of this one
    std::vector<int> match; ///< by star of the first image: which of `stars` that is, -1: none. Of the first: empty
};

/// Stars of about one brightness in two images.
struct BrightnessStep {
    double flux = 0;  ///< about, ADU of the first image
    double ratio = 0; ///< of their fluxes to those in the first image, over that of all stars
    double error = 0; ///< of it
    int stars = 0;
};

/// What is told of one image. Fluxes and sky are in ADU of the first image, after its light, unless said otherwise.
struct ImageJudgement {
    double scale = 1;                  ///< pixels of this image along one of the first
    double fwhm = 0, eccentricity = 0; ///< of the common stars, medians; pixels of the first image
    double own_fwhm = 0;               ///< pixels of its own
    double pixel_noise = 0;            ///< of one of its pixels of sky, its own ADU
    double disc_noise = 0; ///< of the light in a disc of sky whose radius is its FWHM, or that of its lights
    /// By how much more a disc's light scatters than that of as many pixels without common noise.
    double correlation = 1;
    double disc_share = 1;             ///< of a star's light that the disc holds
    double depth = 0;                  ///< light of a star that stands out of the noise of its disc by 5 sigma
    double deeper = 0;                 ///< magnitudes that it reaches beyond the first image
    double ratio = 1, ratio_error = 0; ///< of the light of a star, in its own ADU, to that in the first image
    double slope = 0, slope_error = 0; ///< change of the ratio per factor of ten in brightness, relative
    double scatter = 0;                ///< of single bright stars about it, relative
    std::vector<BrightnessStep> steps; ///< brightest first
    std::array<double, 2> colour{1,
                                 1}; ///< red over green, and blue over green, against the first image; 1 of one plane
    double colour_scatter = 0;       ///< of single bright stars in both, relative
    double background = 0;           ///< of the sky, its own ADU
    double gradient = 0, gradient_angle = 0; ///< of the sky from edge to edge; the direction in which it grows, degrees
    double difference_gradient = 0;          ///< of its sky less that of the first image, from edge to edge
    double difference = 0; ///< of both skies beyond such a plane, root mean square over cells of 64 pixels
};

struct Comparison {
    int stars = 0; ///< that all images show, unsaturated
    /// Noise and discs are those which all images state of themselves: what combining blurs, it blurs of the noise as
    /// well, so that stars stand out of it as they do in the exposures. Else by the spectra of their sky.
    bool by_account = false;
    int places = 0;                     ///< of sky that noise was told at; 0: too few, noise and depth are NaN
    std::vector<ImageJudgement> images; ///< as given
};

/// Stars that all images show are needed.
inline constexpr int kLeastCommonStars = 3;

/// Judges two images or more. Throws DataError where they have fewer than kLeastCommonStars stars in common that can be
/// measured. The same for any number of threads.
Comparison compare(const std::vector<ComparedImage>& images, const Workers& workers);

} // namespace kasane
