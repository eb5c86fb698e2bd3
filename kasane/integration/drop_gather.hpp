// What drops give to the pixels of a drizzled output, gathered at each of them. Vectorised, with run-time dispatch.
#pragma once

#include <kasane/image/resample.hpp>
#include <kasane/integration/drop_kernel.hpp>

#include <cstddef>
#include <cstdint>
#include <vector>

namespace kasane {

/// Samples of a frame, row by row: values, and how much each counts (0: not, and its value is 0 as well). Behind the
/// last of both, `kBehind` floats may be read.
struct DropRows {
    static constexpr std::size_t kBehind = 16;
    const float *values = nullptr, *counts = nullptr;
    std::ptrdiff_t stride = 0;
    const std::uint8_t* whole = nullptr; ///< by row, as whole_rows() has it; null: unknown
};

/// Of positions on a frame, one a pixel of the output: their values times weights, and their weights.
struct DropSums {
    float *values = nullptr, *weights = nullptr;
};

/// Adds to each position's sums `weight` times what the samples around it give. All taps of a position lie inside. A
/// position's sums do not depend on the others.
void gather_drops(const DropRows& samples, const Positions& positions, const DropKernel& kernel, float weight,
                  const DropSums& sums);

/// Positions that lie evenly: of the first one, in units of 2^-32 pixels from the frame's first one on, and how they go
/// on.
struct EvenPositions {
    std::int64_t u = 0, du = 0, v = 0, dv = 0;
    int origin_x = 0, origin_y = 0; ///< of the samples
    int count = 0;
};
/// The same of these, to the last bit as if they were split before.
void gather_even_drops(const DropRows& samples, const EvenPositions& positions, const DropKernel& kernel, float weight,
                       const DropSums& sums);

/// By row of a rectangle: how many rows from this one on have counts of 1 throughout, 255 at most.
void whole_rows(const float* counts, int width, int height, std::vector<std::uint8_t>& whole);

/// Whether all taps of all positions lie inside a box whose first pixel is (0, 0).
bool taps_inside(const Positions& positions, const DropKernel& kernel, int width, int height);
bool taps_inside(const EvenPositions& positions, const DropKernel& kernel, int width, int height);

/// Writes weights, and means over them: `times` the level and what two halves sum up to over their weight, where that
/// is more than `least`; NaN elsewhere.
void mean_of_drops(const DropSums& one, const DropSums& other, std::size_t count, float level, float times, float least,
                   const DropSums& out);

} // namespace kasane
