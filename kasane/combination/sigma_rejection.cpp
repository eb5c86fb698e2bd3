#include <kasane/combination/sigma_rejection.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

SigmaParameters sigma_parameters(const StackExpectation& expectation, const SigmaRejection& options,
                                 Combination combination, const std::vector<Comparator>& network) {
    // Variance that a normal distribution keeps when its tails beyond the limits are cut off.
    const double c =
        std::max(1.0f, std::min(options.low > 0 ? options.low : 9.0f, options.high > 0 ? options.high : 9.0f));
    const double correction = 1 / std::pow(truncated_sigma(c), 2);
    return {expectation.frames.data(),
            static_cast<int>(expectation.frames.size()),
            expectation.level,
            expectation.noise_known,
            options,
            combination,
            static_cast<float>(correction),
            network.data(),
            network.size()};
}

namespace {

/// One pixel after the other, in double.
class PlainSigma {
public:
    explicit PlainSigma(const SigmaParameters& p)
        : p_(p), value_(static_cast<std::size_t>(p.count)), variance_(value_.size()), kept_(value_.size()),
          next_(value_.size()) {}

    void combine(const SampleBlock& block, int pixel, const CombinedBlock& out) {
        sorted_.clear();
        for (std::size_t f = 0; f < value_.size(); ++f) {
            value_[f] = block.samples[static_cast<std::ptrdiff_t>(f) * block.frame_stride + pixel];
            kept_[f] = !std::isnan(value_[f]);
            if (kept_[f]) sorted_.push_back(value_[f]);
        }
        low_ = high_ = 0;
        const SigmaRejection& o = p_.options;
        if (sorted_.size() >= 3 && (o.low > 0 || o.high > 0) && !is_calm()) reject();
        const double weights = sum_of_kept([](double) { return 1.0; });
        const bool median = p_.combination == Combination::median;
        if (median) {
            sorted_.clear();
            for (std::size_t f = 0; f < value_.size(); ++f)
                if (kept_[f]) sorted_.push_back(value_[f]);
        }
        const double one = weights > 0 ? (median ? middle() : sum_of_kept([](double v) { return v; }) / weights) : 0;
        out.mean[pixel] = weights > 0 ? static_cast<float>(one) : kNoData;
        out.weight[pixel] = static_cast<float>(weights);
        if (out.low) out.low[pixel] = static_cast<std::uint16_t>(low_);
        if (out.high) out.high[pixel] = static_cast<std::uint16_t>(high_);
    }

private:
    double variance(std::size_t f, double center) const {
        return p_.frames[f].variance + p_.frames[f].variance_slope * std::max(0.0, center - p_.level);
    }
    double middle() {
        std::sort(sorted_.begin(), sorted_.end());
        return 0.5 * (sorted_[(sorted_.size() - 1) / 2] + sorted_[sorted_.size() / 2]);
    }
    template <class F>
    double sum_of_kept(F f) const {
        double sum = 0;
        for (std::size_t i = 0; i < value_.size(); ++i)
            if (kept_[i]) sum += p_.frames[i].weight * f(value_[i]);
        return sum;
    }

    /// All lie within the limits of their known noise about the mean of all.
    bool is_calm() const {
        const std::size_t n = sorted_.size();
        if (p_.combination != Combination::mean || !p_.noise_known || n < static_cast<std::size_t>(kLeastForCalm))
            return false;
        const double center = sum_of_kept([](double v) { return v; }) / sum_of_kept([](double) { return 1.0; });
        const double drawn = 1 - 1.0 / static_cast<double>(n); // a sample draws the mean to itself
        for (std::size_t f = 0; f < value_.size(); ++f) {
            if (!kept_[f]) continue;
            const double d = value_[f] - center, limit = d < 0 ? p_.options.low : p_.options.high;
            if (limit > 0 && d * d > limit * limit * drawn * drawn * variance(f, center)) return false;
        }
        return true;
    }

    void reject() {
        const SigmaRejection& o = p_.options;
        double center = middle();
        sorted_.clear();
        for (std::size_t f = 0; f < value_.size(); ++f) {
            variance_[f] = variance(f, center);
            if (kept_[f]) sorted_.push_back((value_[f] - center) * (value_[f] - center) / variance_[f]);
        }
        std::sort(sorted_.begin(), sorted_.end());
        double spread = kSigmaPerMad * kSigmaPerMad * sorted_[sorted_.size() / 2];
        for (int i = 0; i <= o.iterations; ++i) {
            if (p_.noise_known) spread = std::max(spread, 1.0);
            low_ = high_ = 0;
            for (std::size_t f = 0; f < value_.size(); ++f) {
                next_[f] = false;
                if (std::isnan(value_[f])) continue;
                const double d = value_[f] - center, r = d * d / variance_[f];
                const bool below = d < 0 && o.low > 0 && r > o.low * o.low * spread;
                const bool above = d > 0 && o.high > 0 && r > o.high * o.high * spread;
                low_ += below;
                high_ += above;
                next_[f] = !below && !above;
            }
            const bool settled = i > 0 && next_ == kept_;
            kept_ = next_;
            const double weights = sum_of_kept([](double) { return 1.0; });
            if (settled || i == o.iterations || weights <= 0) break;
            center = sum_of_kept([](double v) { return v; }) / weights;
            double squares = 0;
            int m = 0;
            for (std::size_t f = 0; f < value_.size(); ++f)
                if (kept_[f]) {
                    squares += (value_[f] - center) * (value_[f] - center) / variance_[f];
                    ++m;
                }
            spread = p_.clip_correction * squares / std::max(1, m - 1);
        }
    }

    const SigmaParameters& p_;
    std::vector<double> value_, variance_, sorted_;
    std::vector<bool> kept_, next_;
    int low_ = 0, high_ = 0;
};

} // namespace

void combine_sigma_reference(const SampleBlock& block, const CombinedBlock& out, const SigmaParameters& parameters) {
    PlainSigma plain(parameters);
    for (int p = 0; p < block.pixels; ++p)
        plain.combine(block, p, out);
}

} // namespace kasane
