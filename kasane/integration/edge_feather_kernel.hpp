// The loop over rows of samples that fade. Use integration/edge_feather.hpp.
#pragma once

#include <cstddef>
#include <cstdint>

namespace kasane {

/// A frame's outermost places to the right and below, and how it fades: over `width` pixels, from a share `least` of
/// its weight on.
struct FadingEdge {
    double right, bottom, width, least, weight;
};

/// Samples that lie beside each other: where in the frame (2^-32 pixels), and what they are; NaN where none counts.
struct FadingSamples {
    const std::int64_t *u, *v;
    const float* values;
    std::size_t count;
};

/// To these is added what the samples counted too much: to the sums of weights and of weighted values, and of the
/// squares of shares.
struct FadingSums {
    double *sum, *weight, *squares;
};

/// As EdgeFeather says. Vectorised, with run-time dispatch; the same bits for every instruction set.
void add_fading(const FadingEdge& edge, const FadingSamples& samples, const FadingSums& to);

} // namespace kasane
