// Lanczos-3 interpolation of image tiles.
//
// Why: registration needs values between pixels. Lanczos-3 (C. E. Duchon, "Lanczos filtering in one and two
// dimensions", J. Appl. Meteorol. 18, 1979) keeps star profiles and noise power nearly untouched, at the price of
// ringing beside steep edges, which is clamped here where it can be told from noise.
#pragma once

#include <kasane/image/image.hpp>
#include <kasane/image/peaks.hpp>

#include <array>
#include <cstdint>
#include <limits>

namespace kasane {

inline constexpr int kLanczosRadius = 3;
inline constexpr int kLanczosTaps = 2 * kLanczosRadius;

struct ResampleOptions {
    /// Undershoot is clamped to the least of the four nearest pixels where the 6 x 6 neighbourhood rises more than this
    /// above them (in the unit of the pixels; 8 sigma of noise is right). Infinite: no clamping.
    float ringing_contrast = std::numeric_limits<float>::infinity();
    /// What may stay of it, in the same unit: with nothing, noise beside stars would be cut on one side.
    float ringing_left = 0;
    /// Of the source, or null: with them ringing is looked for only where something rises. The result is the same.
    const Peaks* peaks = nullptr;
};

/// Where to interpolate: position i is (column[i] + fraction_x[i], row[i] + fraction_y[i]), fractions in [0, 1]. Whole
/// and fractional parts are kept apart so that a result does not depend on where the source rectangle was cut from its
/// frame.
struct Positions {
    const std::int32_t* column = nullptr;
    const std::int32_t* row = nullptr;
    const float* fraction_x = nullptr;
    const float* fraction_y = nullptr;
    int count = 0;
    /// Where each kLineLanes of them lie in a line whose columns only rise or only fall, in two rows at most: which of
    /// these lies highest. -1: they lie anyhow.
    int upper = -1;
};

/// Interpolates `source` at `positions` (pixel centres at integers) into `out`. The 6 x 6 neighbourhood of every
/// position must lie inside the source; where it does not, the result is NaN. Vectorised, with run-time dispatch: fast
/// where sixteen neighbours among the positions lie along a row or two of the source, be it with wide steps; what a
/// position gets does not depend on its neighbours.
void resample_lanczos3(View<const float> source, const Positions& positions, float* out,
                       const ResampleOptions& options = {});

/// The same, one position at a time with the kernel evaluated from its formula: the reference for tests.
float resample_lanczos3_reference(View<const float> source, double u, double v, const ResampleOptions& options = {});

/// The six weights for a position `fraction` (0..1) beyond the third tap; they sum to 1.
std::array<double, kLanczosTaps> lanczos3_weights(double fraction);

} // namespace kasane
