// Rejection and weighted mean through a stack of samples, many pixels at a time.
//
// Why: masters and master lights are means of noisy frames with outliers in some (trails, cosmic rays, hot pixels,
// stars in sky flats). The method is iterative sigma rejection that begins at the median and the median absolute
// deviation (robust against up to half of the samples; F. Hampel, J. Am. Stat. Assoc. 69, 1974) and goes on with the
// weighted mean and the standard deviation of the survivors, corrected for the clipped tails. Deviations are measured
// in units of each frame's own expected noise, so that a noisy frame is not rejected for being noisy; a spread beyond
// the expected noise (star cores under changing seeing) widens the limits for that pixel. Where the expected noise is
// known it is also the least spread that is believed, which is what keeps small stacks from rejecting good samples; and
// a pixel whose samples all lie within those limits about their mean needs no further look, since nothing would be
// rejected from there on.
#pragma once

#include <cstddef>
#include <cstdint>
#include <vector>

namespace kasane {

struct RejectionOptions {
    float low = 3.0f;  ///< in units of sigma; <= 0: nothing is rejected on this side
    float high = 3.0f; ///< the same above
    int iterations = 4;
};

/// What is expected of a frame's samples in a stack.
struct FrameExpectation {
    float weight = 1;         ///< of its samples in the mean
    float variance = 1;       ///< of its noise at `level`, in squared units of the samples
    float variance_slope = 0; ///< growth of the variance per unit of signal above `level` (photon noise)
};

/// Samples of `frames` frames for `pixels` pixels; sample i of frame f stands at samples[f * frame_stride + i]. NaN
/// samples are absent.
struct SampleBlock {
    const float* samples = nullptr;
    int frames = 0;
    std::ptrdiff_t frame_stride = 0;
    int pixels = 0;
};

/// Where the results go; each array holds one value a pixel.
struct CombinedBlock {
    float* mean = nullptr;         ///< NaN where no frame has data
    float* weight = nullptr;       ///< sum of the weights used
    std::uint16_t* low = nullptr;  ///< samples rejected below; may be null
    std::uint16_t* high = nullptr; ///< samples rejected above; may be null
};

/// Combines stacks of one and the same set of frames. Pixels with fewer than three samples are averaged without
/// rejection. Thread-safe; vectorised with run-time dispatch.
class StackCombiner {
public:
    /// @param expectations  one a frame
    /// @param level         the signal at which FrameExpectation::variance holds
    /// @param known_noise   the variances are trusted as the least spread; otherwise only their ratios count
    StackCombiner(std::vector<FrameExpectation> expectations, float level, bool known_noise,
                  RejectionOptions options = {});

    void combine(const SampleBlock& block, const CombinedBlock& out) const;
    /// Samples from which a pixel may be taken as it is when all lie within the limits of their known noise about the
    /// mean; of fewer an outlier draws the mean too far.
    static constexpr int kLeastForCalm = 8;
    /// The same, one pixel at a time in double: the reference for tests.
    void combine_reference(const SampleBlock& block, const CombinedBlock& out) const;

    struct Comparator {
        std::uint16_t a, b;
    };
    struct Parameters {
        const FrameExpectation* frames;
        int count;
        float level;
        bool known_noise;
        RejectionOptions options;
        float clip_correction;
        const Comparator* network;
        std::size_t comparators;
    };

private:
    Parameters parameters() const;
    bool is_calm(const std::vector<double>& value) const;
    std::vector<FrameExpectation> expectations_;
    float level_;
    bool known_noise_;
    RejectionOptions options_;
    float clip_correction_;
    std::vector<Comparator> network_;
};

/// Batcher's odd-even merge sort for n values as a list of comparators (K. Batcher, AFIPS 32, 1968).
std::vector<StackCombiner::Comparator> sorting_network(int n);

} // namespace kasane
