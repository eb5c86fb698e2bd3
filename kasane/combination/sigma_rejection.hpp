// SigmaRejection at work, vectorised and as a plain reference. Used by the combiner.
//
// A spread beyond the expected noise (star cores under changing seeing) widens the limits for that pixel. Where the
// expected noise is known it is also the least spread that is believed, which is what keeps small stacks from rejecting
// good samples; and a pixel whose samples all lie within those limits about their mean needs no further look, since
// nothing would be rejected from there on.
#pragma once

#include <kasane/combination/combiner.hpp>

namespace kasane {

/// Samples from which a pixel may be taken as it is when all lie within the limits of their known noise about the mean;
/// of fewer an outlier draws the mean too far.
inline constexpr int kLeastForCalm = 8;

struct SigmaParameters {
    const FrameExpectation* frames;
    int count;
    float level;
    bool noise_known;
    SigmaRejection options;
    Combination combination;
    float clip_correction; ///< of the variance, for the tails that were cut off
    const Comparator* network;
    std::size_t comparators;
};

/// Points into its arguments, which must live on.
SigmaParameters sigma_parameters(const StackExpectation& expectation, const SigmaRejection& options,
                                 Combination combination, const std::vector<Comparator>& network);

void combine_sigma(const SampleBlock& block, const CombinedBlock& out, const SigmaParameters& parameters);
void combine_sigma_reference(const SampleBlock& block, const CombinedBlock& out, const SigmaParameters& parameters);

} // namespace kasane
