// What the kernels of the rejections share: a vector of pixels with the samples of all frames, and the way through a
// block. Included by kernels, once for every instruction set, between foreach_target.h and their own code.
//
// A method is a value with
//   void judge(const LaneStack<D>&) const   writes the verdicts: 0 counts, -1 rejected below, 1 rejected above
//   float calm_low() const, calm_high()     limits within which it would reject nothing; negative: not known
//   bool by_noise() const                   it needs variances, and the stack its noise
//   bool never() const                      it rejects nothing
#if defined(KASANE_COMBINATION_LANES_INL_HPP) == defined(HWY_TARGET_TOGGLE)
#ifdef KASANE_COMBINATION_LANES_INL_HPP
#undef KASANE_COMBINATION_LANES_INL_HPP
#else
#define KASANE_COMBINATION_LANES_INL_HPP
#endif

#include <kasane/combination/methods.hpp>

#include <algorithm>
#include <hwy/aligned_allocator.h>
#include <hwy/cache_control.h>
#include <hwy/highway.h>
#include <limits>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

constexpr float kMad2 = 2.1981092f; // (1.4826)^2

/// A method whose limits are sigmas: within them about the mean nothing is rejected.
template <class Options>
struct BySigmas {
    Options o;
    float calm_low() const { return std::max(0.0f, o.low); }
    float calm_high() const { return std::max(0.0f, o.high); }
    bool never() const { return o.low <= 0 && o.high <= 0; }
    bool by_noise() const { return false; }
};

/// A method that has to look at every pixel.
template <class Options>
struct ByAllSamples {
    Options o;
    float calm_low() const { return -1; }
    float calm_high() const { return -1; }
    bool never() const { return false; }
    bool by_noise() const { return false; }
};

/// In two roundings everywhere: some instruction sets have one for both, and all must give the same bytes.
template <class V>
HWY_INLINE V mul_add(V a, V b, V c) {
    return hn::Add(hn::Mul(a, b), c);
}

/// One vector of pixels: arrays with one value a lane, those of frames one after the other.
template <class D>
struct LaneStack {
    D d;
    int lanes;
    const StackParameters& p;
    float* value;     ///< by frame; NaN where absent
    float* verdict;   ///< by frame: 0 counts, -1 rejected below, 1 above; absent ones 0
    float* inverse;   ///< by frame: 1 / variance at the median
    float* work;      ///< by frame: scratch
    float* count;     ///< samples that are there
    float* center;    ///< their median; 0 without any
    float* curvature; ///< of the image at the pixels
    float* slope;

    auto set(float v) const { return hn::Set(d, v); }
    auto at(const float* rows, int f) const { return hn::Load(d, rows + f * lanes); }
    template <class V>
    void put(V v, float* rows, int f) const {
        hn::Store(v, d, rows + f * lanes);
    }
};

template <class D>
HWY_INLINE void sort_lanes(const LaneStack<D>& s, float* values) {
    for (std::size_t c = 0; c < s.p.comparators; ++c) {
        float* a = values + s.p.network[c].a * s.lanes;
        float* b = values + s.p.network[c].b * s.lanes;
        const auto va = hn::Load(s.d, a), vb = hn::Load(s.d, b);
        hn::Store(hn::Min(va, vb), s.d, a);
        hn::Store(hn::Max(va, vb), s.d, b);
    }
}

/// Row `index` (a different one in each lane) of values stored lane by lane.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V pick(const LaneStack<D>& s, const float* values, V index) {
    const hn::RebindToSigned<D> di;
    const auto at = hn::Add(hn::Mul(hn::ConvertTo(di, index), hn::Set(di, s.lanes)), hn::Iota(di, 0));
    return hn::GatherIndex(s.d, values, at);
}

/// The ranks of the middle of `count` samples.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V lower_middle(const LaneStack<D>& s, V count) {
    return hn::Floor(hn::Mul(hn::Max(hn::Sub(count, s.set(1)), hn::Zero(s.d)), s.set(0.5f)));
}
template <class D, class V = hn::Vec<D>>
HWY_INLINE V upper_middle(const LaneStack<D>& s, V count) {
    return hn::Min(hn::Floor(hn::Mul(count, s.set(0.5f))), s.set(static_cast<float>(s.p.count - 1)));
}

/// The median of the first `count` of sorted samples.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V middle(const LaneStack<D>& s, const float* sorted, V count) {
    return hn::Mul(s.set(0.5f),
                   hn::Add(pick(s, sorted, lower_middle(s, count)), pick(s, sorted, upper_middle(s, count))));
}

/// Fills everything but `work` from the values.
template <class D>
HWY_INLINE void prepare(const LaneStack<D>& s) {
    using V = hn::Vec<D>;
    const V zero = hn::Zero(s.d), one = s.set(1), infinite = s.set(std::numeric_limits<float>::infinity());
    V count = zero;
    for (int f = 0; f < s.p.count; ++f) {
        const V v = s.at(s.value, f);
        const auto there = hn::Eq(v, v);
        s.put(hn::IfThenElse(there, v, infinite), s.work, f);
        s.put(zero, s.verdict, f);
        count = hn::Add(count, hn::IfThenElseZero(there, one));
    }
    sort_lanes(s, s.work);
    const V center = hn::IfThenElseZero(hn::Gt(count, zero), middle(s, s.work, count));
    const V excess = hn::Max(zero, hn::Sub(center, s.set(s.p.level))), excess2 = hn::Mul(excess, excess);
    const V curvature = hn::Load(s.d, s.curvature), slope = hn::Load(s.d, s.slope);
    const V curvature2 = hn::Mul(curvature, curvature), slope2 = hn::Mul(slope, slope);
    for (int f = 0; f < s.p.count; ++f) {
        const FrameExpectation& e = s.p.frames[f];
        V variance = mul_add(s.set(e.variance_slope), excess, s.set(e.variance));
        variance = mul_add(s.set(e.scale_error * e.scale_error), excess2, variance);
        variance = mul_add(s.set(e.blur * e.blur), curvature2, variance);
        variance = mul_add(s.set(e.shift * e.shift), slope2, variance);
        s.put(hn::Div(one, variance), s.inverse, f);
    }
    hn::Store(count, s.d, s.count);
    hn::Store(center, s.d, s.center);
}

/// 1.4826 MAD about the median, squared, in units of each frame's variance, of the samples that count.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V robust_spread(const LaneStack<D>& s, V center) {
    const V infinite = s.set(std::numeric_limits<float>::infinity()), zero = hn::Zero(s.d);
    V count = zero;
    for (int f = 0; f < s.p.count; ++f) {
        const V v = s.at(s.value, f), dv = hn::Sub(v, center);
        const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
        count = hn::Add(count, hn::IfThenElseZero(counts, s.set(1)));
        s.put(hn::IfThenElse(counts, hn::Mul(hn::Mul(dv, dv), s.at(s.inverse, f)), infinite), s.work, f);
    }
    sort_lanes(s, s.work);
    return hn::Mul(s.set(kMad2), pick(s, s.work, upper_middle(s, count)));
}

/// Rejects what lies beyond limits (squared, in units of each frame's variance) about a centre, in the lanes of
/// `where`. Returns in how many samples of each lane that changes a verdict.
template <class D, class V = hn::Vec<D>, class M = hn::Mask<D>>
HWY_INLINE V reject_beyond(const LaneStack<D>& s, V center, V low2, V high2, M where) {
    const V zero = hn::Zero(s.d), one = s.set(1);
    V changed = zero;
    for (int f = 0; f < s.p.count; ++f) {
        const V dv = hn::Sub(s.at(s.value, f), center), r = hn::Mul(hn::Mul(dv, dv), s.at(s.inverse, f));
        const auto below = hn::And(where, hn::And(hn::Lt(dv, zero), hn::Gt(r, low2)));
        const auto above = hn::And(where, hn::And(hn::Gt(dv, zero), hn::Gt(r, high2)));
        const V verdict = hn::IfThenElse(above, one, hn::IfThenElse(below, hn::Neg(one), zero));
        const V before = s.at(s.verdict, f), now = hn::IfThenElse(where, verdict, before);
        changed = hn::Add(changed, hn::IfThenElseZero(hn::Ne(now, before), one));
        s.put(now, s.verdict, f);
    }
    return changed;
}

/// The squared limit of a side; infinite where there is none.
template <class D>
HWY_INLINE hn::Vec<D> squared_limit(const LaneStack<D>& s, float limit) {
    return s.set(limit > 0 ? limit * limit : std::numeric_limits<float>::infinity());
}

/// Weighted sums over the samples that count.
template <class D>
struct Sums {
    hn::Vec<D> values, weights, count;
};

template <class D>
HWY_INLINE Sums<D> sums_of_counting(const LaneStack<D>& s) {
    using V = hn::Vec<D>;
    const V zero = hn::Zero(s.d);
    Sums<D> sums{zero, zero, zero};
    for (int f = 0; f < s.p.count; ++f) {
        const V v = s.at(s.value, f);
        const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
        const V w = hn::IfThenElseZero(counts, s.set(s.p.frames[f].weight));
        sums.values = mul_add(w, hn::IfThenElseZero(counts, v), sums.values);
        sums.weights = hn::Add(sums.weights, w);
        sums.count = hn::Add(sums.count, hn::IfThenElseZero(counts, s.set(1)));
    }
    return sums;
}

/// The variance of the samples that count about a centre, in units of their own.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V spread_about(const LaneStack<D>& s, V center, V count) {
    const V zero = hn::Zero(s.d), one = s.set(1);
    V squares = zero;
    for (int f = 0; f < s.p.count; ++f) {
        const V v = s.at(s.value, f), dv = hn::Sub(v, center);
        const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
        squares = hn::Add(squares, hn::IfThenElseZero(counts, hn::Mul(hn::Mul(dv, dv), s.at(s.inverse, f))));
    }
    return hn::Div(squares, hn::Max(one, hn::Sub(count, one)));
}

/// The median of the samples that count.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V median_of_counting(const LaneStack<D>& s, V count) {
    const V infinite = s.set(std::numeric_limits<float>::infinity()), zero = hn::Zero(s.d);
    for (int f = 0; f < s.p.count; ++f) {
        const V v = s.at(s.value, f);
        const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
        s.put(hn::IfThenElse(counts, v, infinite), s.work, f);
    }
    sort_lanes(s, s.work);
    return middle(s, s.work, count);
}

/// M-estimates by reweighting from the median, over the spread that the samples have about it (and no less than the
/// known noise).
template <class D, class V = hn::Vec<D>>
HWY_INLINE V m_estimate(const LaneStack<D>& s, V start) {
    const V zero = hn::Zero(s.d), one = s.set(1);
    const bool tukey = s.p.combination == Combination::tukey;
    V spread = robust_spread(s, start);
    if (s.p.noise_known) spread = hn::Max(spread, one);
    spread = hn::Max(spread, s.set(1e-30f));
    const float c = tukey ? kTukeyReach : kHuberReach;
    const V reach2 = hn::Mul(s.set(c * c), spread);
    V center = start;
    for (int round = 0; round < kEstimateRounds; ++round) {
        V sum = zero, weights = zero;
        for (int f = 0; f < s.p.count; ++f) {
            const V v = s.at(s.value, f), dv = hn::Sub(v, center);
            const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
            const V t2 = hn::Div(hn::Mul(hn::Mul(dv, dv), s.at(s.inverse, f)), reach2);
            const V left = hn::Max(zero, hn::Sub(one, t2));
            const V down = tukey ? hn::Mul(left, left) : hn::Div(one, hn::Sqrt(hn::Max(one, t2)));
            const V w = hn::IfThenElseZero(counts, hn::Mul(s.set(s.p.frames[f].weight), down));
            sum = mul_add(w, hn::IfThenElseZero(counts, v), sum);
            weights = hn::Add(weights, w);
        }
        center = hn::IfThenElse(hn::Gt(weights, zero), hn::Div(sum, hn::Max(weights, s.set(1e-30f))), center);
    }
    return center;
}

/// Where the results of one vector of pixels go.
struct LaneResults {
    float *mean, *weight, *low, *high;
};

/// From the samples that count to one value.
template <class D>
void combine_counting(const LaneStack<D>& s, const LaneResults& out) {
    using V = hn::Vec<D>;
    const V zero = hn::Zero(s.d), one = s.set(1), infinite = s.set(std::numeric_limits<float>::infinity());
    const Sums<D> sums = sums_of_counting(s);
    V value = zero;
    switch (s.p.combination) {
    case Combination::mean:
        value = hn::Div(sums.values, sums.weights);
        break;
    case Combination::sum:
        value = hn::Mul(hn::Div(sums.values, sums.weights), s.set(static_cast<float>(s.p.count)));
        break;
    case Combination::median:
        value = median_of_counting(s, sums.count);
        break;
    case Combination::max:
    case Combination::min: {
        const bool most = s.p.combination == Combination::max;
        value = most ? hn::Neg(infinite) : infinite;
        for (int f = 0; f < s.p.count; ++f) {
            const V v = s.at(s.value, f);
            const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
            const V one_of = hn::IfThenElse(counts, v, value);
            value = most ? hn::Max(value, one_of) : hn::Min(value, one_of);
        }
        break;
    }
    case Combination::huber:
    case Combination::tukey:
        value = m_estimate(s, median_of_counting(s, sums.count));
        break;
    }
    V lows = zero, highs = zero;
    for (int f = 0; f < s.p.count; ++f) {
        const V verdict = s.at(s.verdict, f);
        lows = hn::Add(lows, hn::IfThenElseZero(hn::Lt(verdict, zero), one));
        highs = hn::Add(highs, hn::IfThenElseZero(hn::Gt(verdict, zero), one));
    }
    const V nodata = s.set(std::numeric_limits<float>::quiet_NaN());
    hn::StoreU(hn::IfThenElse(hn::Gt(sums.weights, zero), value, nodata), s.d, out.mean);
    hn::StoreU(sums.weights, s.d, out.weight);
    hn::StoreU(lows, s.d, out.low);
    hn::StoreU(highs, s.d, out.high);
}

/// The samples of one vector of pixels: those of frame f begin at samples + f * stride.
struct LaneSamples {
    const float* samples;
    std::ptrdiff_t stride;
};

/// A vector of pixels in which every sample lies within the limits of its known noise about the mean of all: nothing is
/// to be rejected there, and no order need be found. Returns a mask of the lanes where that is so; their results are
/// written.
template <class D>
HWY_INLINE hn::Mask<D> combine_calm_lanes(D d, const LaneSamples& in, const StackParameters& p, float low, float high,
                                          int least, float* mean, float* weight) {
    using V = hn::Vec<D>;
    constexpr int kAhead = 32; // values, two lines of the cache: frames lie too far apart for the processor to foresee
    const V zero = hn::Zero(d), one = hn::Set(d, 1.0f), infinite = hn::Set(d, std::numeric_limits<float>::infinity());
    const V low2 = low > 0 ? hn::Set(d, low * low) : infinite, high2 = high > 0 ? hn::Set(d, high * high) : infinite;
    V count = zero, sum = zero, weights = zero;
    for (int f = 0; f < p.count; ++f) {
        const float* from = in.samples + f * in.stride;
        hwy::Prefetch(from + kAhead);
        const V v = hn::LoadU(d, from);
        const auto there = hn::Eq(v, v);
        const V w = hn::IfThenElseZero(there, hn::Set(d, p.frames[f].weight));
        count = hn::Add(count, hn::IfThenElseZero(there, one));
        sum = mul_add(w, hn::IfThenElseZero(there, v), sum);
        weights = hn::Add(weights, w);
    }
    auto calm = hn::Ge(count, hn::Set(d, static_cast<float>(least)));
    const V center = hn::Div(sum, hn::Max(weights, hn::Set(d, 1e-30f)));
    const V excess = hn::Max(zero, hn::Sub(center, hn::Set(d, p.level)));
    // A sample draws the mean to itself: against the mean of the others it lies farther off.
    const V drawn = hn::Sub(one, hn::Div(one, hn::Max(one, count))), drawn2 = hn::Mul(drawn, drawn);
    for (int f = 0; f < p.count && (low > 0 || high > 0); ++f) {
        const V dv = hn::Sub(hn::LoadU(d, in.samples + f * in.stride), center);
        const V variance = mul_add(hn::Set(d, p.frames[f].variance_slope), excess, hn::Set(d, p.frames[f].variance));
        const V limit = hn::Mul(hn::Mul(hn::IfThenElse(hn::Lt(dv, zero), low2, high2), drawn2), variance);
        calm = hn::AndNot(hn::Gt(hn::Mul(dv, dv), limit), calm); // never true for absent samples
    }
    const bool sum_wanted = p.combination == Combination::sum;
    hn::StoreU(sum_wanted ? hn::Mul(center, hn::Set(d, static_cast<float>(p.count))) : center, d, mean);
    hn::StoreU(weights, d, weight);
    return calm;
}

/// The way through a block with one method.
template <class Method>
void combine_block(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p, const Method& method) {
    const hn::ScalableTag<float> d;
    const int lanes = static_cast<int>(hn::Lanes(d)), n = block.frames;
    const std::size_t size = static_cast<std::size_t>(n) * static_cast<std::size_t>(lanes);
    auto arrays = hwy::AllocateAligned<float>(4 * size);
    HWY_ALIGN float count[HWY_MAX_BYTES / 4], center[HWY_MAX_BYTES / 4],
        curvature[HWY_MAX_BYTES / 4] = {}, slope[HWY_MAX_BYTES / 4] = {}, mean[HWY_MAX_BYTES / 4],
                                  weight[HWY_MAX_BYTES / 4], low[HWY_MAX_BYTES / 4], high[HWY_MAX_BYTES / 4];
    float* value = arrays.get();
    const LaneStack<decltype(d)> stack{
        d, lanes, p, value, value + size, value + 2 * size, value + 3 * size, count, center, curvature, slope};
    // Pixels that need the whole method are gathered until a vector is full.
    int pending[HWY_MAX_BYTES / 4];
    int waiting = 0;
    const auto settle = [&] {
        for (int f = 0; f < n; ++f) {
            const float* from = block.samples + f * block.frame_stride;
            float* to = value + f * lanes;
            for (int i = 0; i < lanes; ++i)
                to[i] = i < waiting ? from[pending[i]] : std::numeric_limits<float>::quiet_NaN();
        }
        for (int i = 0; block.curvature && i < waiting; ++i) {
            curvature[i] = block.curvature[pending[i]];
            slope[i] = block.slope[pending[i]];
        }
        prepare(stack);
        if (p.noise_known || !method.by_noise()) method.judge(stack);
        combine_counting(stack, {mean, weight, low, high});
        for (int i = 0; i < waiting; ++i) {
            out.mean[pending[i]] = mean[i];
            out.weight[pending[i]] = weight[i];
            if (out.low) out.low[pending[i]] = static_cast<std::uint16_t>(low[i]);
            if (out.high) out.high[pending[i]] = static_cast<std::uint16_t>(high[i]);
            if (!out.rejected || !(low[i] + high[i] > 0)) continue;
            for (int f = 0; f < n; ++f)
                if (const float verdict = stack.verdict[f * lanes + i]; verdict != 0)
                    out.rejected->push_back(
                        {static_cast<std::uint32_t>(pending[i]), static_cast<std::uint16_t>(f), verdict > 0});
        }
        waiting = 0;
    };
    const float calm_low = method.calm_low(), calm_high = method.calm_high();
    const bool linear = p.combination == Combination::mean || p.combination == Combination::sum;
    const bool looks_for_calm = linear && (method.never() || (p.noise_known && n >= kLeastForCalm && calm_low >= 0 &&
                                                              calm_high >= 0 && !block.curvature));
    const int least = method.never() ? 1 : kLeastForCalm;
    for (int x = 0; x < block.pixels; x += lanes) {
        const int here = std::min(lanes, block.pixels - x);
        std::uint64_t calm = 0;
        if (looks_for_calm) {
            const bool full = here == lanes;
            if (!full) // the rest of the block as a vector of its own: what is done to a pixel depends on no other
                for (int f = 0; f < n; ++f)
                    for (int i = 0; i < lanes; ++i)
                        stack.work[static_cast<std::size_t>(f * lanes + i)] =
                            i < here ? block.samples[f * block.frame_stride + x + i]
                                     : std::numeric_limits<float>::quiet_NaN();
            const auto mask = combine_calm_lanes(
                d, full ? LaneSamples{block.samples + x, block.frame_stride} : LaneSamples{stack.work, lanes}, p,
                calm_low, calm_high, least, full ? out.mean + x : mean, full ? out.weight + x : weight);
            if (!full) {
                std::copy_n(mean, here, out.mean + x);
                std::copy_n(weight, here, out.weight + x);
            }
            std::uint8_t bits[8] = {};
            hn::StoreMaskBits(d, mask, bits);
            for (int i = 0; i < 8; ++i)
                calm |= static_cast<std::uint64_t>(bits[i]) << (8 * i);
        }
        for (int i = 0; i < here; ++i) {
            if (calm >> i & 1) {
                if (out.low) out.low[x + i] = 0;
                if (out.high) out.high[x + i] = 0;
                continue;
            }
            pending[waiting++] = x + i;
            if (waiting == lanes) settle();
        }
    }
    if (waiting) settle();
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#endif
