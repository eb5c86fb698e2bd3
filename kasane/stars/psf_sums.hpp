// The inner loop of the PSF fit: for one star's pixels, the model's residuals and derivatives and what least squares
// needs of them. Nine tenths of the time of measuring an exposure are spent here.
//
// The profile is the elliptical Moffat function (A. Moffat, A&A 3, 1969), written as
//   A (1 + gamma q)^(-1 / gamma) + B,  q = xx dx^2 + 2 xy dx dy + yy dy^2,  beta = 1 / gamma,
// which goes over into a Gaussian, A exp(-q), as gamma goes to zero, so that width and exponent hardly depend on each
// other.
#pragma once

#include <array>
#include <cstddef>

namespace kasane {

/// In this order: amplitude A, x, y, the quadratic form xx, xy, yy, background B, gamma.
constexpr std::size_t kPsfParameters = 8;
using PsfParameters = std::array<double, kPsfParameters>;

/// Pixels of a star, places relative to a common point. `count` is a multiple of kPsfBlock; what fills up the last
/// block has weight 0.
struct PsfPixels {
    const float *x, *y, *value, *weight; ///< weight: 1 / variance
    std::size_t count = 0;
};
constexpr std::size_t kPsfBlock = 16;

/// Weighted sums over the pixels: of squared residuals, of derivatives times residuals, and of products of derivatives.
struct PsfSums {
    double chi2 = 0;
    PsfParameters gradient{};
    std::array<PsfParameters, kPsfParameters> matrix{}; ///< symmetric
};

/// With the instruction set of the machine. gamma > 0 and a form that is positive definite are the caller's part.
PsfSums psf_sums(const PsfPixels& pixels, const PsfParameters& parameters);

/// The same, plainly: what the tests hold the other against.
PsfSums psf_sums_reference(const PsfPixels& pixels, const PsfParameters& parameters);

} // namespace kasane
