// Samples along a row of a frame brought to the level of their stack, and a first look at which are as it lets expect.
// Vectorised, with run-time dispatch.
#pragma once

#include <cstddef>
#include <cstdint>

namespace kasane {

/// A few samples beside each other, over which everything changes evenly.
struct DropStretch {
    static constexpr int kMost = 64;
    int first = 0, count = 0;          ///< the first one, counted from where the rest begins; how many, kMost at most
    const float* pixels = nullptr;     ///< of the first one on
    float scale = 1, scale_step = 0;   ///< at 0, and per sample
    float offset = 0, offset_step = 0; ///< less the level of the stack
    const float* holds = nullptr;      ///< by sample: 0 where it is another colour's. Null: none is
    float x = 0, x_step = 0, y = 0, y_step = 0; ///< on the stack's rectangle
};

/// The interpolated stack, row by row, and what its noise and a sample's have together. Places of samples lie inside,
/// with the pixels right of and below them.
struct DropExpectation {
    const float* mean = nullptr; ///< null: nothing is expected
    std::ptrdiff_t stride = 0, size = 0;
    float level = 0;
    float variance = 1, slope = 0, scale_error2 = 0; ///< with e above the level: variance + e (slope + e scale_error2)
    float sigmas = 2.4f;
};

/// Writes values above the level. Bit i is set where the i-th is not within the sigmas of what is expected of it, or no
/// number; of all samples where nothing is.
std::uint64_t level_stretch(const DropStretch& stretch, const DropExpectation& expected, float* values);

} // namespace kasane
