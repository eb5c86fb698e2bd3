// A small kernel as a sum of products of one row and one column. Internal to finishing/.
#pragma once

#include <kasane/image/image.hpp>

#include <vector>

namespace kasane {

/// By singular values, as many products as keep the sum of what is left out below 0.3 % of the kernel's.
class SeparableKernel {
public:
    SeparableKernel() = default;
    /// `kernel`: square, of odd side; its sum is kept.
    explicit SeparableKernel(const Image& kernel);

    int reach() const { return reach_; }
    int products() const { return products_; }
    /// Turned by half a turn.
    SeparableKernel turned() const;
    /// Correlates `in` with the kernel: out(x, y) is the sum over (i, j) of kernel(i, j) in(x + i, y + j). Beyond the
    /// edges lies what lies at them. `out` has the size of `in`; `rows` is room that is used again.
    void apply(const Image& in, Image& out, std::vector<float>& rows) const;

private:
    int reach_ = 0, products_ = 0;
    std::vector<float> across_, down_; ///< product by product
};

/// Means with the weights 1, 4, 6, 4, 1 along both sides, of pixels `step` apart: a step of the wavelet transform with
/// holes (J.-L. Starck and F. Murtagh, Astronomical Image and Data Analysis, 2006). `out` has the size of `in`.
void spline_mean(const Image& in, int step, Image& out, std::vector<float>& rows);

/// The highest value within `reach` pixels along both sides, in place; with -1 as `sign` the lowest.
void spread(Image& image, int reach, float sign);

} // namespace kasane
