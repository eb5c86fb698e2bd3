#include <kasane/combination/plain_combination.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>
#include <limits>

namespace kasane {

namespace {

/// The samples of one pixel.
class PlainPixel {
public:
    explicit PlainPixel(const StackParameters& p) : p_(p), value_(static_cast<std::size_t>(p.count)) {
        verdict_ = inverse_ = value_;
    }

    void combine(const SampleBlock& block, int pixel, const CombinedBlock& out, const Rejection& rejection) {
        load(block, pixel);
        const bool stretched = block.curvature != nullptr;
        std::visit([&](const auto& o) { judge(o, stretched); }, rejection);
        const double weights = sum_of_counting([](double) { return 1.0; });
        out.mean[pixel] = weights > 0 ? static_cast<float>(combined(weights)) : kNoData;
        out.weight[pixel] = static_cast<float>(weights);
        std::uint16_t low = 0, high = 0;
        for (std::size_t f = 0; f < value_.size(); ++f) {
            low = static_cast<std::uint16_t>(low + (verdict_[f] < 0));
            high = static_cast<std::uint16_t>(high + (verdict_[f] > 0));
            if (out.rejected && verdict_[f] != 0)
                out.rejected->push_back(
                    {static_cast<std::uint32_t>(pixel), static_cast<std::uint16_t>(f), verdict_[f] > 0});
        }
        if (out.low) out.low[pixel] = low;
        if (out.high) out.high[pixel] = high;
    }

private:
    void load(const SampleBlock& block, int pixel) {
        for (std::size_t f = 0; f < value_.size(); ++f) {
            value_[f] = block.samples[static_cast<std::ptrdiff_t>(f) * block.frame_stride + pixel];
            verdict_[f] = 0;
        }
        count_ = static_cast<int>(counting().size());
        center_ = count_ > 0 ? middle(counting()) : 0;
        const double curvature = block.curvature ? block.curvature[pixel] : 0,
                     slope = block.slope ? block.slope[pixel] : 0;
        for (std::size_t f = 0; f < value_.size(); ++f) {
            inverse_[f] = 1 / variance_at(p_.frames[f], center_ - p_.level, curvature, slope);
        }
    }

    bool there(std::size_t f) const { return !std::isnan(value_[f]); }
    bool counts(std::size_t f) const { return there(f) && verdict_[f] == 0; }
    std::vector<double> counting() const {
        std::vector<double> v;
        for (std::size_t f = 0; f < value_.size(); ++f)
            if (counts(f)) v.push_back(value_[f]);
        return v;
    }
    static double middle(std::vector<double> v) {
        std::sort(v.begin(), v.end());
        return 0.5 * (v[(v.size() - 1) / 2] + v[v.size() / 2]);
    }
    template <class F>
    double sum_of_counting(F f) const {
        double sum = 0;
        for (std::size_t i = 0; i < value_.size(); ++i)
            if (counts(i)) sum += p_.frames[i].weight * f(value_[i]);
        return sum;
    }
    double weighted_mean(double otherwise) const {
        const double weights = sum_of_counting([](double) { return 1.0; });
        return weights > 0 ? sum_of_counting([](double v) { return v; }) / weights : otherwise;
    }
    double distance2(std::size_t f, double center) const { return std::pow(value_[f] - center, 2) * inverse_[f]; }

    /// All lie within limits of their known noise about the mean of all.
    bool is_calm(double low, double high, bool stretched) const {
        const bool linear = p_.combination == Combination::mean || p_.combination == Combination::sum;
        if (stretched || !linear || !p_.noise_known || count_ < kLeastForCalm) return false;
        const double center = weighted_mean(0);
        const double drawn = 1 - 1.0 / count_; // a sample draws the mean to itself
        for (std::size_t f = 0; f < value_.size(); ++f) {
            if (!there(f)) continue;
            const FrameExpectation& e = p_.frames[f];
            const double variance = e.variance + e.variance_slope * std::max(0.0, center - p_.level);
            const double d = value_[f] - center, limit = d < 0 ? low : high;
            if (limit > 0 && d * d > limit * limit * drawn * drawn * variance) return false;
        }
        return true;
    }

    double robust_spread(double center) const {
        std::vector<double> r;
        for (std::size_t f = 0; f < value_.size(); ++f)
            if (counts(f)) r.push_back(distance2(f, center));
        std::sort(r.begin(), r.end());
        return r.empty() ? 0 : kSigmaPerMad * kSigmaPerMad * r[r.size() / 2];
    }
    double spread_about(double center) const {
        double squares = 0;
        for (std::size_t f = 0; f < value_.size(); ++f)
            if (counts(f)) squares += distance2(f, center);
        return squares / std::max<double>(1, static_cast<double>(counting().size()) - 1);
    }
    bool reject_beyond(double center, double low, double high, double spread) {
        bool changed = false;
        for (std::size_t f = 0; f < value_.size(); ++f) {
            if (!there(f)) continue;
            const double d = value_[f] - center, r = distance2(f, center);
            const double now = d < 0 && low > 0 && r > low * low * spread      ? -1
                               : d > 0 && high > 0 && r > high * high * spread ? 1
                                                                               : 0;
            changed = changed || now != verdict_[f];
            verdict_[f] = now;
        }
        return changed;
    }

    void judge(const NoRejection&, bool) {}
    void judge(const PairRejection&, bool) {}

    void judge(const SigmaRejection& o, bool stretched) {
        if (count_ < 3 || (o.low <= 0 && o.high <= 0) || is_calm(o.low, o.high, stretched)) return;
        double center = center_, spread = robust_spread(center);
        for (int i = 0; i <= o.iterations; ++i) {
            if (p_.noise_known) spread = std::max(spread, 1.0);
            const bool changed = reject_beyond(center, o.low, o.high, spread);
            if (i == o.iterations || (i > 0 && !changed)) break;
            center = weighted_mean(center);
            spread = clip_correction(o.low, o.high) * spread_about(center);
        }
    }

    void judge(const NoiseRejection& o, bool stretched) {
        if (!p_.noise_known || count_ < 3 || (o.low <= 0 && o.high <= 0) || is_calm(o.low, o.high, stretched)) return;
        double center = center_;
        for (int i = 0; i <= o.iterations; ++i) {
            const bool changed = reject_beyond(center, o.low, o.high, 1);
            if (i > 0 && !changed) break;
            center = weighted_mean(center);
        }
    }

    void judge(const WinsorizedRejection& o, bool stretched) {
        if (count_ < 4 || (o.low <= 0 && o.high <= 0) || is_calm(o.low, o.high, stretched)) return;
        const double least = p_.noise_known ? 1 : 1e-30;
        double center = center_, spread = std::max(least, robust_spread(center));
        for (int i = 0; i <= o.iterations; ++i) {
            for (int round = 0; round < kWinsorizedRounds; ++round) {
                double sum = 0, weights = 0, squares = 0, n = 0;
                for (std::size_t f = 0; f < value_.size(); ++f) {
                    if (!counts(f)) continue;
                    const double edge = kWinsorizedReach * std::sqrt(spread / inverse_[f]);
                    const double drawn = std::clamp(value_[f] - center, -edge, edge);
                    sum += inverse_[f] * drawn, weights += inverse_[f];
                    squares += inverse_[f] * drawn * drawn, ++n;
                }
                const double step = weights > 0 ? sum / weights : 0;
                const double next =
                    std::max(least, kWinsorizedCorrection * (squares - weights * step * step) / std::max(1.0, n - 1));
                const bool still = std::abs(next - spread) < kWinsorizedEnd * spread;
                center += step, spread = next;
                if (still) break;
            }
            if (!reject_beyond(center, o.low, o.high, spread)) break;
        }
    }

    void judge(const PercentileRejection& o, bool) {
        if (count_ < 3 || !(center_ > 0)) return;
        for (std::size_t f = 0; f < value_.size(); ++f) {
            if (!there(f)) continue;
            if (o.low > 0 && value_[f] < center_ * (1 - o.low)) verdict_[f] = -1;
            if (o.high > 0 && value_[f] > center_ * (1 + o.high)) verdict_[f] = 1;
        }
    }

    void judge(const MinMaxRejection& o, bool) {
        if (count_ <= o.low + o.high) return;
        std::vector<double> v = counting();
        std::sort(v.begin(), v.end());
        const double least = v[static_cast<std::size_t>(o.low)],
                     most = v[v.size() - 1 - static_cast<std::size_t>(o.high)];
        for (std::size_t f = 0; f < value_.size(); ++f)
            if (there(f)) verdict_[f] = value_[f] < least ? -1 : value_[f] > most ? 1 : 0;
    }

    void judge(const EsdRejection& o, bool) {
        if (count_ < EsdRejection::kLeast || (o.low <= 0 && o.high <= 0)) return;
        const int most = static_cast<int>(std::floor(static_cast<float>(count_) * o.share));
        std::vector<std::size_t> order;
        int outliers = 0;
        for (int i = 1; i <= most; ++i) {
            double sum = 0, weights = 0;
            for (std::size_t f = 0; f < value_.size(); ++f)
                if (counts(f)) sum += inverse_[f] * value_[f], weights += inverse_[f];
            const double center = sum / weights, spread = spread_about(center);
            double farthest = -1;
            std::size_t which = 0;
            for (std::size_t f = 0; f < value_.size(); ++f) {
                if (!counts(f)) continue;
                const double factor = value_[f] < center ? o.low : o.high;
                const double far = factor > 0 ? distance2(f, center) / (factor * factor) : 0;
                if (far > farthest) farthest = far, which = f;
            }
            if (farthest > spread * std::pow(p_.table[count_ - i + 1], 2)) outliers = i;
            verdict_[which] = value_[which] < center ? -1 : 1;
            order.push_back(which);
        }
        for (std::size_t i = static_cast<std::size_t>(outliers); i < order.size(); ++i)
            verdict_[order[i]] = 0;
    }

    /// Of rank i among n, between those of as many samples as there are frames.
    double score(int i, int n) const {
        const double at = std::clamp((i + 0.625) / (n + 0.25) * (p_.count + 0.25) - 0.625, 0.0, p_.count - 1.0);
        const int whole = std::min(static_cast<int>(at), p_.count - 2);
        return p_.table[whole] + (at - whole) * (p_.table[whole + 1] - p_.table[whole]);
    }

    void judge(const LineRejection& o, bool) {
        if (count_ < LineRejection::kLeast || (o.low <= 0 && o.high <= 0)) return;
        const auto deviation = [&](std::size_t f) { return (value_[f] - center_) * std::sqrt(inverse_[f]); };
        std::vector<double> z;
        for (std::size_t f = 0; f < value_.size(); ++f)
            if (there(f)) z.push_back(deviation(f));
        std::sort(z.begin(), z.end());
        int first = 0, end = count_, from = count_ / 4, to = count_ - from;
        for (int i = 0; i <= o.iterations; ++i) {
            double n = 0, x = 0, y = 0, xx = 0, xy = 0;
            for (int r = from; r < to; ++r) {
                const double u = score(r - first, end - first), v = z[static_cast<std::size_t>(r)];
                ++n, x += u, y += v, xx += u * u, xy += u * v;
            }
            const double slope =
                std::max(p_.noise_known ? 1.0 : 1e-15, (xy - x * y / n) / std::max(1e-6, xx - x * x / n));
            const double level = (y - slope * x) / n;
            int next = first, stop = end;
            for (int r = first; r < end; ++r) {
                const double off = z[static_cast<std::size_t>(r)] - (level + slope * score(r - first, end - first));
                if (o.low > 0 && r < count_ / 2 && off < -o.low * slope) next = r + 1;
                if (o.high > 0 && r > count_ / 2 && off > o.high * slope) stop = std::min(stop, r);
            }
            const bool same = next == first && stop == end;
            first = from = next, end = to = stop;
            if (i > 0 && same) break;
        }
        const double least = z[static_cast<std::size_t>(first)], most = z[static_cast<std::size_t>(end - 1)];
        for (std::size_t f = 0; f < value_.size(); ++f)
            if (there(f)) verdict_[f] = deviation(f) < least ? -1 : deviation(f) > most ? 1 : 0;
    }

    double combined(double weights) const {
        const std::vector<double> v = counting();
        switch (p_.combination) {
        case Combination::sum:
            return p_.count * sum_of_counting([](double x) { return x; }) / weights;
        case Combination::median:
            return middle(v);
        case Combination::max:
            return *std::max_element(v.begin(), v.end());
        case Combination::min:
            return *std::min_element(v.begin(), v.end());
        case Combination::huber:
        case Combination::tukey:
            return estimate(middle(v));
        case Combination::mean:
            break;
        }
        return sum_of_counting([](double x) { return x; }) / weights;
    }

    double estimate(double center) const {
        const bool tukey = p_.combination == Combination::tukey;
        const double spread = std::max(p_.noise_known ? 1.0 : 1e-30, robust_spread(center));
        const double c = tukey ? kTukeyReach : kHuberReach;
        for (int round = 0; round < kEstimateRounds; ++round) {
            double sum = 0, weights = 0;
            for (std::size_t f = 0; f < value_.size(); ++f) {
                if (!counts(f)) continue;
                const double t2 = distance2(f, center) / (c * c * spread);
                const double w = p_.frames[f].weight *
                                 (tukey ? std::pow(std::max(0.0, 1 - t2), 2) : 1 / std::sqrt(std::max(1.0, t2)));
                sum += w * value_[f], weights += w;
            }
            if (weights > 0) center = sum / weights;
        }
        return center;
    }

    const StackParameters& p_;
    std::vector<double> value_, verdict_, inverse_;
    int count_ = 0;
    double center_ = 0;
};

} // namespace

void combine_plainly(const SampleBlock& block, const CombinedBlock& out, const StackParameters& parameters,
                     const Rejection& rejection) {
    PlainPixel pixel(parameters);
    for (int i = 0; i < block.pixels; ++i)
        pixel.combine(block, i, out, rejection);
}

} // namespace kasane
