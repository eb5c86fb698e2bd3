#include <kasane/combination/combiner.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

std::vector<StackCombiner::Comparator> sorting_network(int n) {
    std::vector<StackCombiner::Comparator> network;
    for (int p = 1; p < n; p *= 2)
        for (int k = p; k >= 1; k /= 2)
            for (int j = k % p; j + k < n; j += 2 * k)
                for (int i = 0; i < std::min(k, n - j - k); ++i)
                    if ((i + j) / (2 * p) == (i + j + k) / (2 * p))
                        network.push_back({static_cast<std::uint16_t>(i + j), static_cast<std::uint16_t>(i + j + k)});
    return network;
}

StackCombiner::StackCombiner(std::vector<FrameExpectation> expectations, float level, bool known_noise,
                             RejectionOptions options)
    : expectations_(std::move(expectations)), level_(level), known_noise_(known_noise), options_(options) {
    if (expectations_.empty() || expectations_.size() > 65000)
        throw UsageError("a stack has between 1 and 65000 frames", {}, "Split the frames into several stacks");
    // Variance that a normal distribution keeps when its tails beyond the limits are cut off.
    const double c =
        std::max(1.0f, std::min(options.low > 0 ? options.low : 9.0f, options.high > 0 ? options.high : 9.0f));
    const double phi = std::exp(-0.5 * c * c) / std::sqrt(2 * kPi);
    clip_correction_ = static_cast<float>(1 / (1 - 2 * c * phi / std::erf(c / std::sqrt(2.0))));
    network_ = sorting_network(static_cast<int>(expectations_.size()));
}

StackCombiner::Parameters StackCombiner::parameters() const {
    return {expectations_.data(),
            static_cast<int>(expectations_.size()),
            level_,
            known_noise_,
            options_,
            clip_correction_,
            network_.data(),
            network_.size()};
}

bool StackCombiner::is_calm(const std::vector<double>& value) const {
    if (!known_noise_) return false;
    double sum = 0, weights = 0;
    int n = 0;
    for (std::size_t f = 0; f < value.size(); ++f)
        if (!std::isnan(value[f])) {
            sum += expectations_[f].weight * value[f];
            weights += expectations_[f].weight;
            ++n;
        }
    if (n < kLeastForCalm) return false;
    const double center = sum / weights;
    for (std::size_t f = 0; f < value.size(); ++f) {
        if (std::isnan(value[f])) continue;
        const double d = value[f] - center, limit = d < 0 ? options_.low : options_.high;
        const double variance =
            expectations_[f].variance + expectations_[f].variance_slope * std::max(0.0, center - level_);
        const double drawn = 1 - 1.0 / n; // a sample draws the mean to itself
        if (limit > 0 && d * d > limit * limit * drawn * drawn * variance) return false;
    }
    return true;
}

void StackCombiner::combine_reference(const SampleBlock& block, const CombinedBlock& out) const {
    const auto count = static_cast<std::size_t>(block.frames);
    std::vector<double> value(count), variance(count), sorted;
    std::vector<bool> kept(count), next(count);
    for (int p = 0; p < block.pixels; ++p) {
        sorted.clear();
        for (std::size_t f = 0; f < count; ++f) {
            value[f] = block.samples[static_cast<std::ptrdiff_t>(f) * block.frame_stride + p];
            kept[f] = !std::isnan(value[f]);
            if (kept[f]) sorted.push_back(value[f]);
        }
        const std::size_t n = sorted.size();
        const auto median = [&sorted] {
            std::sort(sorted.begin(), sorted.end());
            const std::size_t m = sorted.size();
            return 0.5 * (sorted[(m - 1) / 2] + sorted[m / 2]);
        };
        int low = 0, high = 0;
        if (n >= 3 && (options_.low > 0 || options_.high > 0) && !is_calm(value)) {
            double center = median();
            sorted.clear();
            for (std::size_t f = 0; f < count; ++f) {
                variance[f] =
                    expectations_[f].variance + expectations_[f].variance_slope * std::max(0.0, center - level_);
                if (kept[f]) sorted.push_back((value[f] - center) * (value[f] - center) / variance[f]);
            }
            std::sort(sorted.begin(), sorted.end());
            double spread = kSigmaPerMad * kSigmaPerMad * sorted[n / 2];
            for (int i = 0; i <= options_.iterations; ++i) {
                if (known_noise_) spread = std::max(spread, 1.0);
                low = high = 0;
                double sum = 0, weights = 0;
                for (std::size_t f = 0; f < count; ++f) {
                    next[f] = false;
                    if (std::isnan(value[f])) continue;
                    const double d = value[f] - center, r = d * d / variance[f];
                    const bool below = d < 0 && options_.low > 0 && r > options_.low * options_.low * spread;
                    const bool above = d > 0 && options_.high > 0 && r > options_.high * options_.high * spread;
                    low += below;
                    high += above;
                    next[f] = !below && !above;
                    if (next[f]) {
                        sum += expectations_[f].weight * value[f];
                        weights += expectations_[f].weight;
                    }
                }
                const bool settled = i > 0 && next == kept;
                kept = next;
                if (settled || i == options_.iterations || weights <= 0) break;
                center = sum / weights;
                double squares = 0;
                int m = 0;
                for (std::size_t f = 0; f < count; ++f)
                    if (kept[f]) {
                        squares += (value[f] - center) * (value[f] - center) / variance[f];
                        ++m;
                    }
                spread = clip_correction_ * squares / std::max(1, m - 1);
            }
        }
        double sum = 0, weights = 0;
        for (std::size_t f = 0; f < count; ++f)
            if (kept[f]) {
                sum += expectations_[f].weight * value[f];
                weights += expectations_[f].weight;
            }
        out.mean[p] = weights > 0 ? static_cast<float>(sum / weights) : kNoData;
        out.weight[p] = static_cast<float>(weights);
        if (out.low) out.low[p] = static_cast<std::uint16_t>(low);
        if (out.high) out.high[p] = static_cast<std::uint16_t>(high);
    }
}

} // namespace kasane
