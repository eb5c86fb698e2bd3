// From the samples of a pixel to one value, many pixels at a time.
//
// Why: masters and master lights are means of noisy frames with outliers in some (trails, cosmic rays, hot pixels,
// stars in sky flats). Deviations are measured in units of each frame's own expected noise, so that a noisy frame is
// not rejected for being noisy. Which samples count and how they become one are values (rejection.hpp); who has no
// opinion asks for them by the number of frames (choice.hpp).
//
//   const Combiner combiner(expectation, choose_combination(StackOf::darks, 20).options);
//   combiner.combine(block, out);  // from any thread, block by block
//
// The room holds, beside this:
//   choice.hpp           how a stack is combined when nobody says, with the reason
//   account.hpp          how a combination stands in the account of an image
//   expectation.hpp      what is expected of the samples of a stack
//   rejection.hpp        which samples do not count, and how the others become one: options as values
//   efficiency.hpp       what a combination costs in noise
//   methods.hpp          the rejections at work, vectorised
//   lanes-inl.hpp        what their kernels share
//   plain_combination.hpp the same one pixel at a time, as the reference
//   pair_rejection.hpp   a rejection that needs no kernel
//   quantiles.hpp        of the normal distribution and Student's
//   sorting_network.hpp  sorting without branches
#pragma once

#include <kasane/combination/expectation.hpp>
#include <kasane/combination/rejection.hpp>
#include <kasane/combination/sorting_network.hpp>

#include <cstddef>
#include <cstdint>
#include <vector>

namespace kasane {

/// Samples of `frames` frames for `pixels` pixels; sample i of frame f stands at samples[f * frame_stride + i]. NaN
/// samples are absent.
struct SampleBlock {
    const float* samples = nullptr;
    int frames = 0;
    std::ptrdiff_t frame_stride = 0;
    int pixels = 0;
    /// What the image does at each pixel, beyond its noise: the size of its Laplacian and of its gradient (by pixel of
    /// the grid), which FrameExpectation::blur and FrameExpectation::shift stand for. Both or neither are null.
    const float* curvature = nullptr;
    const float* slope = nullptr;
};

/// A sample that does not count.
struct RejectedSample {
    std::uint32_t pixel = 0; ///< of the block
    std::uint16_t frame = 0;
    bool high = false; ///< it lies above the others
    bool operator==(const RejectedSample&) const = default;
};

/// Where the results go; each array holds one value a pixel.
struct CombinedBlock {
    float* mean = nullptr;         ///< or what the combination makes; NaN where no frame has data
    float* weight = nullptr;       ///< sum of the weights used
    std::uint16_t* low = nullptr;  ///< samples rejected below; may be null
    std::uint16_t* high = nullptr; ///< samples rejected above; may be null
    std::vector<RejectedSample>* rejected =
        nullptr; ///< the same one by one, by pixel, then frame; appended; may be null
};

struct StackParameters;

/// Combines stacks of one and the same set of frames. Thread-safe; vectorised with run-time dispatch; a pixel's result
/// depends on no other pixel, and is the same to the byte on every instruction set.
class Combiner {
public:
    /// Throws UsageError for no frames, more than 65000, and options that make no sense.
    explicit Combiner(StackExpectation expectation, const CombineOptions& options = {});

    void combine(const SampleBlock& block, const CombinedBlock& out) const;
    const StackExpectation& expectation() const { return expectation_; }

    /// The same, one pixel at a time in double: the reference for tests.
    void combine_reference(const SampleBlock& block, const CombinedBlock& out) const;

private:
    StackParameters parameters() const;

    StackExpectation expectation_;
    CombineOptions options_;
    std::vector<Comparator> network_;
    std::vector<float> table_; ///< what the method looks up
};

} // namespace kasane
