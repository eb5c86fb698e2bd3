// The loops over rows that find structure. Use integration/structure.hpp.
#pragma once

namespace kasane {

/// A row of an image with those beside it, the weight of the frames that show its pixels, and where its curvature and
/// slope go.
struct StructureRows {
    const float *above, *here, *below, *weight;
    float *curvature, *slope;
};

/// The variance of a pixel is `variance` + `growth` times what it lies above `level`, over its weight; of that, times
/// `curvature` and `slope`, are the squares that count.
struct StructureLimits {
    float level, variance, growth, curvature, slope;
};

/// All pixels of a row but the first and the last. Vectorised, with run-time dispatch; the same bits for every
/// instruction set.
void structure_row(const StructureRows& rows, const StructureLimits& limits, int width);

/// The highest of three values each, none of them NaN; vectorised as well. `to` may be one of them.
void highest_of_three(const float* a, const float* b, const float* c, float* to, int count);

} // namespace kasane
