// Taking out of a drizzled stack what pixels and drops blurred.
//
// Why: no drop makes a star narrower than the lights' own pixels show it. But what a pixel does to the sky is known
// exactly - it averages over its square, as drop and output pixel do once more -, and dithered lights know more than
// one pixel's frequencies. So the product of the three responses is divided out, as far as noise allows: a regularised
// inverse (A. N. Tikhonov and V. Y. Arsenin, Solutions of Ill-posed Problems, 1977), linear, the same everywhere, with
// the sum kept; light and level stay what they are, and what it does to noise is known.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/image/image.hpp>
#include <kasane/integration/drizzle_options.hpp>

#include <vector>

namespace kasane {

/// Of a symmetric kernel along one side: its middle, then what lies one pixel away, two, ... The middle and twice the
/// rest make 1. For drops of lights whose pixels are `side` pixels of the canvas wide.
std::vector<float> restoring_kernel(const DrizzleOptions& options, double side);

/// What DrizzleOptions::smooth should be for stars as wide as `fwhm` in their lights. Smaller ones would get rings,
/// since no pixel tells anything of frequencies from one cycle a pixel on; 0 where they are wide enough.
double restoring_smoothness(double fwhm);

/// Full width at half maximum of a profile that falls from its middle at 0 to below half of it before `far`.
template <class Profile>
double width_at_half(const Profile& profile, double far) {
    const double half = profile(0) / 2;
    double near = 0;
    for (int k = 0; k < 40; ++k) {
        const double middle = 0.5 * (near + far);
        (profile(middle) > half ? near : far) = middle;
    }
    return near + far;
}

/// FWHM of a Gaussian star that is `fwhm` wide in its lights (their pixels included) once it is drizzled and restored;
/// pixels of a light.
double restored_fwhm(double fwhm, const DrizzleOptions& options);

/// By how much restoring makes the noise of a star's light larger, less 1: under a Gaussian as wide as the restored
/// star, of samples that fill the grid evenly.
double restoring_cost(double fwhm, const DrizzleOptions& options);

/// Convolves a plane, in place, with the kernel along both sides. What lacks within its reach counts as its nearest
/// neighbour in the row, or column, does; pixels without data stay so. Beside edges that no star has, as of saturated
/// ones, nothing falls more than three `noise` (of a restored pixel) below the darkest within `reach` pixels. Results
/// do not depend on threads. Memory: some rows a thread.
void restore(View<float> plane, const std::vector<float>& kernel, double noise, int reach, const Context& context);

} // namespace kasane
