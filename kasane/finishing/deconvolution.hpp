// The iteration of Richardson and Lucy on one tile of an image. Internal to finishing/.
#pragma once

#include <kasane/finishing/separable_kernel.hpp>

#include <array>
#include <vector>

namespace kasane {

constexpr std::size_t kWaveletScales = 3;

/// What the stars of a place are blurred by, beyond the narrower star that is wanted: the kernel that makes the one of
/// the other. Both as FieldPsf::at has them; the kernel reaches as far as 99 % of its light, `most` pixels at most.
Image blur_between(const Image& narrow, const Image& wide, int most);

struct DeconvolutionTile {
    Image data;         ///< above zero, no gaps
    float pedestal = 1; ///< what the sky is in it; the photons of so much make its noise
    Mask gap;           ///< where there was no data; empty: nowhere
    Image star_light;   ///< spread over twice their width
    Image wall;         ///< below which no pixel may fall: where stars are bright
    Image floor;        ///< below which no `mean` may fall: around them
    SeparableKernel mean;
    std::array<Image, kWaveletScales> trust; ///< share of the residual, by scale, that is no noise
    SeparableKernel blur;
};

/// Standard deviation of the wavelets of an image by scale, from their median absolute deviation.
std::array<double, kWaveletScales> wavelet_noise(const Image& image);

/// What lies around stars, `fwhm` wide, may not fall below the darkest of the image around, itself a mean over as much
/// as a star covers; nor, beyond their light, may a mean over what one covers when it is `target` wide. `noise` of a
/// pixel.
void find_floor(DeconvolutionTile& tile, double fwhm, double target, double noise);

/// Trust by scale: the share of a wavelet's variance around a place that is more than `noise` makes of it. After
/// find_floor.
void find_trust(DeconvolutionTile& tile, const std::array<double, kWaveletScales>& noise);

/// The iteration, from the data on.
class Deconvolution {
public:
    /// `tile` lives on, and does not change.
    explicit Deconvolution(const DeconvolutionTile& tile);
    /// The data less what is there now, blurred; 0 where there is no data. Until `step`.
    const Image& residual();
    /// After `residual`.
    void step();
    /// What came out; nothing more is to be done with it then.
    Image finish();

private:
    void lift();

    const DeconvolutionTile& tile_;
    SeparableKernel forward_;
    Image now_, seen_, residual_, rest_, smooth_, wavelet_;
    std::vector<float> rows_;
};

} // namespace kasane
