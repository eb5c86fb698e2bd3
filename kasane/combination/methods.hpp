// The rejections at work on many pixels at a time: one kernel file a method, compiled for every instruction set. Used
// by the combiner; plain_combination.hpp is the same one pixel at a time.
//
// A spread beyond the expected noise (star cores under changing seeing) widens the limits of a pixel. Where the
// expected noise is known it is also the least spread that is believed, which is what keeps small stacks from rejecting
// good samples; and a pixel whose samples all lie within those limits about their mean needs no further look, since
// nothing would be rejected from there on.
#pragma once

#include <kasane/combination/combiner.hpp>

namespace kasane {

/// Samples from which a pixel may be taken as it is when all lie within the limits of their known noise about the mean;
/// of fewer an outlier draws the mean too far.
inline constexpr int kLeastForCalm = 8;

/// What all methods are told of a stack. Points into what made it, which must live on.
struct StackParameters {
    const FrameExpectation* frames;
    int count;
    float level;
    bool noise_known;
    Combination combination;
    const Comparator* network;
    std::size_t comparators;
    const float* table; ///< of the method (method_table)
};

/// What a method looks up: critical values by the number of samples left (EsdRejection), scores by rank
/// (LineRejection). Empty for the others.
std::vector<float> method_table(const Rejection& rejection, int frames);

/// Of the variance, for normal tails that are cut off beyond the limits.
float clip_correction(float low, float high);

/// The winsorized spread of normal noise is smaller than its sigma by this (of the variance; P. Huber).
inline constexpr float kWinsorizedCorrection = 1.2845f;
inline constexpr float kWinsorizedReach = 1.5f; ///< sigmas
inline constexpr int kWinsorizedRounds = 10;    ///< at most, until the spread moves by less than kWinsorizedEnd
inline constexpr float kWinsorizedEnd = 5e-4f;

inline constexpr float kHuberReach = 2, kTukeyReach = 6; ///< sigmas; see Combination
inline constexpr int kEstimateRounds = 8;                ///< of reweighting, from the median

void combine_sigma(const SampleBlock&, const CombinedBlock&, const StackParameters&, const SigmaRejection&);
void combine_winsorized(const SampleBlock&, const CombinedBlock&, const StackParameters&, const WinsorizedRejection&);
void combine_by_noise(const SampleBlock&, const CombinedBlock&, const StackParameters&, const NoiseRejection&);
void combine_percentile(const SampleBlock&, const CombinedBlock&, const StackParameters&, const PercentileRejection&);
void combine_min_max(const SampleBlock&, const CombinedBlock&, const StackParameters&, const MinMaxRejection&);
void combine_esd(const SampleBlock&, const CombinedBlock&, const StackParameters&, const EsdRejection&);
void combine_by_line(const SampleBlock&, const CombinedBlock&, const StackParameters&, const LineRejection&);

} // namespace kasane
