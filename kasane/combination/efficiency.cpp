#include <kasane/combination/efficiency.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>
#include <random>

namespace kasane {

namespace {

/// Normal noise as the frames have it, at the stack's level.
class CleanNoise {
public:
    explicit CleanNoise(const StackExpectation& expectation) : expectation_(expectation) {
        constexpr std::size_t kSamples = 400000, kLeast = 2048, kMost = 65536;
        pixels_ = std::clamp(kSamples / std::max<std::size_t>(1, expectation.frames.size()), kLeast, kMost);
        std::mt19937_64 random(20011);
        const auto uniform = [&] { return (static_cast<double>(random() >> 11) + 0.5) * 0x1p-53; };
        for (const FrameExpectation& e : expectation.frames) {
            const double sigma = std::sqrt(std::max(0.0f, e.variance));
            for (std::size_t i = 0; i < pixels_; i += 2) { // G. Box and M. Muller, Ann. Math. Stat. 29, 1958
                const double r = sigma * std::sqrt(-2 * std::log(uniform())), a = 2 * kPi * uniform();
                samples_.push_back(static_cast<float>(expectation.level + r * std::cos(a)));
                samples_.push_back(static_cast<float>(expectation.level + r * std::sin(a)));
            }
        }
    }

    std::vector<float> combined(const CombineOptions& options) const {
        std::vector<float> value(pixels_), weight(pixels_);
        Combiner(expectation_, options)
            .combine({samples_.data(), static_cast<int>(expectation_.frames.size()),
                      static_cast<std::ptrdiff_t>(pixels_), static_cast<int>(pixels_)},
                     {value.data(), weight.data(), nullptr, nullptr, nullptr});
        return value;
    }

    Efficiency efficiency(const std::vector<float>& best, const CombineOptions& options) const {
        const std::vector<float> value = combined(options);
        const double times =
            options.combination == Combination::sum ? static_cast<double>(expectation_.frames.size()) : 1.0;
        double sum = 0, mean_square = 0, own = 0, own_sum = 0, difference = 0;
        for (std::size_t i = 0; i < pixels_; ++i) {
            const double m = static_cast<double>(best[i]) - expectation_.level,
                         v = value[i] / times - expectation_.level;
            sum += m, mean_square += m * m;
            own_sum += v, own += v * v;
            difference += (v - m) * (v - m);
        }
        const auto n = static_cast<double>(pixels_);
        const double variance = mean_square / n - (sum / n) * (sum / n);
        if (!(variance > 0)) return {0, times};
        const double loss = difference / n / variance;
        const bool extreme = options.combination == Combination::max || options.combination == Combination::min;
        const double spread = extreme ? (own / n - (own_sum / n) * (own_sum / n)) / variance : 1 + loss;
        return {loss, times * std::sqrt(spread)};
    }

private:
    const StackExpectation& expectation_;
    std::size_t pixels_ = 0;
    std::vector<float> samples_;
};

/// The method with this limit on both sides.
template <class O>
Rejection with_limit(float limit) {
    O o;
    o.low = o.high = limit;
    return o;
}

Rejection esd_at(float significance) {
    EsdRejection o;
    o.significance = significance;
    return o;
}

} // namespace

Efficiency measure_efficiency(const StackExpectation& expectation, const CombineOptions& options) {
    const CleanNoise noise(expectation);
    return noise.efficiency(noise.combined({NoRejection{}, Combination::mean}), options);
}

std::vector<RejectionCandidate> rejection_candidates(const StackExpectation& expectation, double most_loss,
                                                     const Workers& workers) {
    const auto frames = static_cast<int>(expectation.frames.size());
    const CleanNoise noise(expectation);
    const std::vector<float> best = noise.combined({NoRejection{}, Combination::mean});
    const auto candidate = [&](const Rejection& rejection) {
        return RejectionCandidate{rejection, noise.efficiency(best, {rejection, Combination::mean}).loss};
    };
    std::vector<std::vector<Rejection>> methods; // each from narrow to wide
    const auto add = [&](Rejection (*at)(float), std::initializer_list<float> limits) {
        if (frames < least_samples(at(*limits.begin()))) return;
        std::vector<Rejection>& method = methods.emplace_back();
        for (const float limit : limits)
            method.push_back(at(limit));
    };
    if (frames == 2 && expectation.noise_known) methods.push_back({PairRejection{}});
    if (frames > 2) {
        add(with_limit<SigmaRejection>, {3, 3.25f, 3.5f, 3.75f, 4, 4.5f, 5});
        if (expectation.noise_known) add(with_limit<NoiseRejection>, {3, 3.25f, 3.5f, 3.75f, 4, 4.5f, 5, 6});
        add(with_limit<WinsorizedRejection>, {3, 3.25f, 3.5f, 3.75f, 4, 4.5f, 5});
        add(with_limit<LineRejection>, {1.5f, 1.75f, 2, 2.25f, 2.5f, 3, 3.5f, 4});
        add(esd_at, {0.1f, 0.05f, 0.02f, 0.01f, 0.005f, 0.002f});
        methods.push_back({PercentileRejection{}});
        methods.push_back({MinMaxRejection{}});
    }
    std::vector<RejectionCandidate> all(methods.size());
    workers.for_each(methods.size(), [&](std::size_t k) { // the first that costs little; the widest where none does
        for (const Rejection& rejection : methods[k])
            if (all[k] = candidate(rejection); all[k].loss <= most_loss) return;
    });
    all.push_back({NoRejection{}, 0});
    return all;
}

} // namespace kasane
