#include <kasane/combination/pair_rejection.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

void keep_lower_of_pair(const SampleBlock& block, const CombinedBlock& out, const StackExpectation& expectation,
                        const PairRejection& options) {
    if (block.frames != 2 || !expectation.noise_known) return;
    const FrameExpectation &first = expectation.frames[0], &second = expectation.frames[1];
    const float* a = block.samples;
    const float* b = block.samples + block.frame_stride;
    for (int i = 0; i < block.pixels; ++i) {
        const float lower = std::min(a[i], b[i]);
        const double signal = std::max(0.0, static_cast<double>(lower) - expectation.level);
        const double variance = static_cast<double>(first.variance) + second.variance +
                                (static_cast<double>(first.variance_slope) + second.variance_slope) * signal;
        if (!(std::abs(a[i] - b[i]) > static_cast<float>(options.sigmas * std::sqrt(variance)))) continue;
        out.mean[i] = lower;
        out.weight[i] = a[i] < b[i] ? first.weight : second.weight;
        if (out.high) out.high[i] = 1;
    }
}

} // namespace kasane
