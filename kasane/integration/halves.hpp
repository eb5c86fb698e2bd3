// The noise of a stack as its own samples tell it: one half of the frames against the other.
//
// Why: a master light's pixels hold the sky, and its faint stars look like noise. Between two halves of one stack the
// sky is the same; what differs is noise, whatever lies in the field. But for sharp stars: frames of other seeing, or
// whose pixels sample them elsewhere, differ there by more, so that what is flat and no brighter than the background
// tells where there is enough of it: faint stars that nothing finds make pixels brighter. (Of means by inverse variance
// it does not matter to the difference of the halves how bright their mean is.)
// What does not differ from frame to frame (a pattern of the sensor, where the frames were not dithered) is not seen.
#pragma once

#include <kasane/combination/combiner.hpp>
#include <kasane/integration/structure.hpp>

#include <array>
#include <cstdint>
#include <vector>

namespace kasane {

/// Counts differences of the weighted means of every other frame and the rest, in units of what is expected of them.
/// Counts can be added in any order with the same result.
class HalvesScatter {
public:
    /// Of the rows of a canvas one in so many is looked at: a million pixels tell the noise to 0.1 %, and of small ones
    /// no fewer than it takes to find ten thousand that are dark.
    static int every(int width, int height);

    /// Looks at all pixels of a block that have samples in both halves. `combined` are their values; `structure` (null:
    /// none) tells, from the pixel `first` on, where the image is not flat.
    void add(const SampleBlock& block, const float* combined, const StackExpectation& expectation,
             const Structure* structure = nullptr, std::size_t first = 0);
    void add(const HalvesScatter& other);
    /// The noise over what is expected of it: the standard deviation of the differences within 3 sigma, corrected for
    /// the tails, of the pixels that are flat and no brighter than the background; of all flat ones, or of all, where
    /// fewer than ten thousand are. 1 where fewer than a thousand pixels tell.
    double ratio() const;

private:
    static constexpr int kBins = 2048;
    static constexpr double kReach = 16; ///< expected sigmas to either side
    using Bins = std::array<std::uint64_t, kBins>;
    static double ratio_of(const Bins& bins);

    Bins dark_{}, bright_{}, structured_{};
};

} // namespace kasane
