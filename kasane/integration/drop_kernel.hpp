// What a drop of a frame's sample gives to a pixel of the output (A. Fruchter and R. Hook, PASP 114, 2002).
//
// A sample lies in the middle of its drop, which is smaller than the sample's own pixel; an output pixel receives of
// its light what of the drop lies over it. Drop and output pixel are taken as squares along the frame's rows, so that
// what they share is a product of two lengths; a round drop is a Gaussian at the output pixel's middle.
#pragma once

#include <kasane/integration/drizzle_options.hpp>

namespace kasane {

/// Along one side: how much a sample tells at a distance, in pixels of the frame. Both sides multiplied, and summed
/// over samples that fill a frame, it is 1 on average.
class DropKernel {
public:
    /// `drop` is the side of a square one, or the FWHM of a round one, and `side` that of an output pixel; both in
    /// pixels of the frame.
    DropKernel(DropShape shape, double drop, double side);

    float at(float distance) const;
    /// Samples along a side that may tell at a place: as many before it as after.
    int taps() const { return taps_; }
    /// Beyond it a sample tells nothing.
    double reach() const { return numbers_.reach; }

    /// Of a square drop, unit * min(most, reach - |distance|); of a round one, unit * exp(narrow * distance^2) within
    /// the reach.
    struct Numbers {
        bool square = true;
        float reach = 0, most = 0, narrow = 0, unit = 1;
    };
    const Numbers& numbers() const { return numbers_; }
    static constexpr int kMostTaps = 16;

private:
    Numbers numbers_;
    int taps_ = 2;
};

} // namespace kasane
