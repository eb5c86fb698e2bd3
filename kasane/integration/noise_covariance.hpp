// What the noise of neighbouring pixels has in common.
//
// Why: drops lie over several pixels, so that neighbours scatter together. The noise of a pixel alone then flatters;
// what counts for anything larger is the sum of its covariances with all pixels around it.
#pragma once

#include <kasane/image/image.hpp>

#include <cstddef>
#include <utility>
#include <vector>

namespace kasane {

/// Sums over windows of pixels that hold noise alone, in units of what is expected of it. Noise is not the same
/// everywhere: what neighbours share is summed in units of each window's own noise (so that sums are exact and windows
/// can be added in any order with the same result), and the usual window tells how much there is.
class NoiseCovariance {
public:
    static constexpr int kWindow = 64;    ///< pixels along the side of a window
    static constexpr int kMostReach = 16; ///< pixels
    /// Pixels farther apart than `reach` share nothing.
    explicit NoiseCovariance(int reach);

    /// A window of noise; NaN where it is not known. Its mean is taken off first, so that what is smooth does not tell;
    /// pixels beyond 5 of its sigmas (by their median deviation) are left out. `usual` is by how much more noise than
    /// in its pixels there is at the window's usual brightness; a window with hardly a pixel of noise counts with it as
    /// well, as noisy as the others.
    void add(View<const float> window, float usual = 1);
    void add(const NoiseCovariance& other);
    /// Standard deviation of a pixel, the median of the windows; 0 without enough pixels.
    double pixel() const;
    /// The same once all was convolved along both sides with a symmetric kernel: its middle, then what lies one pixel
    /// away, ...
    double pixel_after(const std::vector<float>& kernel) const;
    /// The same as it were if pixels shared nothing and larger areas had the noise that they have.
    double white() const;

private:
    double covariance(std::size_t lag) const;
    int reach_, side_;
    std::vector<double> products_, counts_;       ///< by lag
    std::vector<double> of_means_;                ///< the same, of counts over the pixels of their windows
    std::vector<std::pair<float, float>> sigmas_; ///< of the windows, 0: not known; and what is usual
};

} // namespace kasane
