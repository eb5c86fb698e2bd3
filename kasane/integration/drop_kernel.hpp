// What a drop of a frame's sample gives to a pixel of the output (A. Fruchter and R. Hook, PASP 114, 2002).
//
// A sample lies in the middle of its drop, which is smaller than the sample's own pixel; an output pixel receives of
// its light what of the drop lies over it. Drop and output pixel are taken as squares along the frame's rows, so that
// what they share is a product of two lengths; a round drop is a Gaussian at the output pixel's middle.
#pragma once

#include <kasane/image/resample.hpp>
#include <kasane/integration/drizzle_options.hpp>

#include <cstddef>

namespace kasane {

/// Along one side: how much a sample tells at a distance, in pixels of the frame. Both sides multiplied, and summed
/// over samples that fill a frame, it is 1 on average.
class DropKernel {
public:
    /// `drop` is the side of a square one, or the FWHM of a round one, and `side` that of an output pixel; both in
    /// pixels of the frame.
    DropKernel(DropShape shape, double drop, double side);

    float at(float distance) const;
    /// What the sample at `place` gives to each of the positions.
    void along(float place, const float* positions, int count, float* out) const;
    /// Samples along a side that may tell at a place: as many before it as after.
    int taps() const { return taps_; }
    /// Beyond it a sample tells nothing.
    double reach() const { return reach_; }

private:
    DropShape shape_;
    float reach_ = 0, most_ = 0, narrow_ = 0, unit_ = 1;
    int taps_ = 2;
};

/// Adds to `sums`, pairs of (value times weight, weight), one a position, `weight` times what the samples around it
/// give: `samples` are such pairs as well, rows `stride` pairs apart. All taps of a position lie inside. A position's
/// sums do not depend on the others.
void gather_drops(const float* samples, std::ptrdiff_t stride, const Positions& positions, const DropKernel& kernel,
                  float weight, float* sums);

} // namespace kasane
