// The one median, the one MAD, and the clipped statistics built on them.
#pragma once

#include <kasane/image/image.hpp>

#include <span>
#include <vector>

namespace kasane {

/// Median; reorders `values`. The mean of the two middle values for an even count; NaN when empty. NaN values must have
/// been removed.
float median_in_place(std::span<float> values);
/// The q-quantile (0..1), linear between order statistics; reorders `values`; NaN when empty.
float quantile_in_place(std::span<float> values, double q);
/// 1.4826 x the median absolute deviation from `center`; overwrites `values`.
float mad_sigma_in_place(std::span<float> values, float center);

/// Standard deviation of a unit normal cut at +-c: what clipping alone takes from the measured spread.
double truncated_sigma(double c);

/// Location and scale of a sample with outliers on it.
struct RobustStatistics {
    float location = 0;
    float sigma = 0;
    std::size_t used = 0; ///< values kept by the clipping
};

/// Median and 1.4826 MAD (of many values: of a part of them), then mean and standard deviation of what lies within
/// `clip` sigma, repeated until nothing changes or both move by less than a thousandth of sigma (at most `iterations`
/// times). The standard deviation is corrected for the clipped tails. Removes NaN values.
RobustStatistics clipped_statistics(std::vector<float>& values, float clip = 3.0f, int iterations = 5);

/// Clipped statistics of at most `most` pixels, taken on a regular grid.
RobustStatistics image_statistics(View<const float> view, std::size_t most = 200000);

/// Finite pixels of the view on a regular grid, at most `most`.
std::vector<float> sample_pixels(View<const float> view, std::size_t most);

/// Noise of an image without its structure: from second differences along rows at distance `lag` pixels, robustly
/// (clipped standard deviation of v(x-lag) - 2 v(x) + v(x+lag), over sqrt 6). 0 where the view is too small.
float difference_noise(View<const float> view, int lag = 1, std::size_t most = 200000);

/// Two directions and distances, in pixels, in which second differences are taken one after the other. (1, 0) and (0,
/// 1) for noise that is white; longer ones where neighbours share noise or have no data.
struct NoiseSteps {
    int ux = 1, uy = 0, vx = 0, vy = 1;
    static NoiseSteps apart(int lag) { return {lag, 0, 0, lag}; }
    bool operator==(const NoiseSteps&) const = default;
};

/// Noise of an image without its structure: second differences in both directions, which vanish for whatever is smooth
/// in one of them, robustly (J. Immerkaer, Comput. Vis. Image Underst. 64, 1996: Fast noise variance estimation).
/// Stars of a FWHM of two steps and more hardly touch it. Takes every `stride`-th pixel; NaN without data. `scratch`
/// spares allocations.
float structureless_noise(View<const float> view, const NoiseSteps& steps, int stride, std::vector<float>& scratch);

/// The same from such differences, taken elsewhere, in any order.
float structureless_sigma(std::vector<float>& differences);

/// Noise of the background: structureless_noise by cells of 64 pixels, the median over the darker 40 % of the cells,
/// where stars and nebula add least. Differences span `lag` pixels.
float background_noise(View<const float> view, int lag);

} // namespace kasane
