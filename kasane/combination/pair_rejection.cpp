#include <kasane/combination/pair_rejection.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

void keep_lower_of_pair(const SampleBlock& block, const CombinedBlock& out, const StackExpectation& expectation,
                        const CombineOptions& options) {
    if (block.frames != 2 || !expectation.noise_known) return;
    const double sigmas = std::get<PairRejection>(options.rejection).sigmas;
    const float times = options.combination == Combination::sum ? 2 : 1;
    const FrameExpectation &first = expectation.frames[0], &second = expectation.frames[1];
    const float* a = block.samples;
    const float* b = block.samples + block.frame_stride;
    for (int i = 0; i < block.pixels; ++i) {
        const float lower = std::min(a[i], b[i]);
        const double signal = static_cast<double>(lower) - expectation.level;
        const double curvature = block.curvature ? block.curvature[i] : 0, slope = block.slope ? block.slope[i] : 0;
        const double variance =
            variance_at(first, signal, curvature, slope) + variance_at(second, signal, curvature, slope);
        if (!(std::abs(a[i] - b[i]) > static_cast<float>(sigmas * std::sqrt(variance)))) continue;
        out.mean[i] = times * lower;
        out.weight[i] = a[i] < b[i] ? first.weight : second.weight;
        if (out.high) out.high[i] = 1;
        if (out.rejected)
            out.rejected->push_back(
                {static_cast<std::uint32_t>(i), static_cast<std::uint16_t>(a[i] < b[i] ? 1 : 0), true});
    }
}

} // namespace kasane
