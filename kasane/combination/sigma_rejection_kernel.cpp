// The vectorised rejection, compiled once for every instruction set; sigma_rejection.cpp holds the scalar reference.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/combination/sigma_rejection_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/combination/sigma_rejection.hpp>

#include <algorithm>
#include <hwy/aligned_allocator.h>
#include <limits>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

constexpr float kMad2 = 2.1981092f; // (1.4826)^2

/// In two roundings everywhere: some instruction sets have one for both, and all must give the same bytes.
template <class V>
HWY_INLINE V mul_add(V a, V b, V c) {
    return hn::Add(hn::Mul(a, b), c);
}

template <class D>
HWY_INLINE void sort_lanes(D d, float* values, int stride, const SigmaParameters& p) {
    for (std::size_t c = 0; c < p.comparators; ++c) {
        float* a = values + p.network[c].a * stride;
        float* b = values + p.network[c].b * stride;
        const auto va = hn::Load(d, a), vb = hn::Load(d, b);
        hn::Store(hn::Min(va, vb), d, a);
        hn::Store(hn::Max(va, vb), d, b);
    }
}

/// Row `index` (a different one in each lane) of values stored lane by lane.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V pick(D d, const float* values, int stride, V index) {
    const hn::RebindToSigned<D> di;
    const auto at = hn::Add(hn::Mul(hn::ConvertTo(di, index), hn::Set(di, stride)), hn::Iota(di, 0));
    return hn::GatherIndex(d, values, at);
}

/// The median of the samples that are kept: where a pixel has three or more and `signs` tells of a rejection, those for
/// which it is positive. Overwrites `signs`.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V median_of_kept(D d, const float* value, float* signs, const SigmaParameters& p, bool rejecting) {
    const int lanes = static_cast<int>(hn::Lanes(d));
    const V zero = hn::Zero(d), one = hn::Set(d, 1.0f), half = hn::Set(d, 0.5f);
    V count = zero, kept = zero;
    for (int f = 0; f < p.count; ++f) {
        const V v = hn::Load(d, value + f * lanes);
        count = hn::Add(count, hn::IfThenElseZero(hn::Eq(v, v), one));
    }
    const auto all = rejecting ? hn::Lt(count, hn::Set(d, 3.0f)) : hn::Eq(zero, zero);
    for (int f = 0; f < p.count; ++f) {
        const V v = hn::Load(d, value + f * lanes);
        const auto stays = hn::And(hn::Eq(v, v), hn::Or(all, hn::Gt(hn::Load(d, signs + f * lanes), zero)));
        kept = hn::Add(kept, hn::IfThenElseZero(stays, one));
        hn::Store(hn::IfThenElse(stays, v, hn::Set(d, std::numeric_limits<float>::infinity())), d, signs + f * lanes);
    }
    sort_lanes(d, signs, lanes, p);
    const V lower = hn::Floor(hn::Mul(hn::Max(hn::Sub(kept, one), zero), half));
    const V upper = hn::Min(hn::Floor(hn::Mul(kept, half)), hn::Set(d, static_cast<float>(p.count - 1)));
    return hn::Mul(half, hn::Add(pick(d, signs, lanes, lower), pick(d, signs, lanes, upper)));
}

/// Where the results of one vector of pixels go.
struct LaneResults {
    float *mean, *weight, *low, *high;
};

/// One vector of pixels. `value` holds the samples by frame (absent ones are NaN), `work` is scratch of the same size.
template <class D>
void combine_lanes(D d, const float* value, float* work, const SigmaParameters& p, const LaneResults& out) {
    using V = hn::Vec<D>;
    const int lanes = static_cast<int>(hn::Lanes(d)), n = p.count;
    const V zero = hn::Zero(d), one = hn::Set(d, 1.0f), infinite = hn::Set(d, std::numeric_limits<float>::infinity());
    const bool rejecting = n >= 3 && (p.options.low > 0 || p.options.high > 0);
    const V low2 = p.options.low > 0 ? hn::Set(d, p.options.low * p.options.low) : infinite;
    const V high2 = p.options.high > 0 ? hn::Set(d, p.options.high * p.options.high) : infinite;

    V count = zero, sum = zero, weights = zero;
    for (int f = 0; f < n; ++f) {
        const V v = hn::Load(d, value + f * lanes);
        const auto there = hn::Eq(v, v);
        const V w = hn::IfThenElseZero(there, hn::Set(d, p.frames[f].weight));
        hn::Store(hn::IfThenElse(there, v, infinite), d, work + f * lanes);
        count = hn::Add(count, hn::IfThenElseZero(there, one));
        sum = mul_add(w, hn::IfThenElseZero(there, v), sum);
        weights = hn::Add(weights, w);
    }
    V lows = zero, highs = zero;
    if (rejecting) {
        const auto enough = hn::Ge(count, hn::Set(d, 3.0f));
        const V half = hn::Set(d, 0.5f);
        const V lower = hn::Floor(hn::Mul(hn::Max(hn::Sub(count, one), zero), half));
        const V upper = hn::Min(hn::Floor(hn::Mul(count, half)), hn::Set(d, static_cast<float>(n - 1)));
        sort_lanes(d, work, lanes, p);
        V center = hn::Mul(half, hn::Add(pick(d, work, lanes, lower), pick(d, work, lanes, upper)));
        center = hn::IfThenElseZero(enough, center);
        const V excess = hn::Max(zero, hn::Sub(center, hn::Set(d, p.level)));
        const auto inverse_variance = [&](int f) {
            return hn::Div(one,
                           mul_add(hn::Set(d, p.frames[f].variance_slope), excess, hn::Set(d, p.frames[f].variance)));
        };
        for (int f = 0; f < n; ++f) {
            const V v = hn::Load(d, value + f * lanes);
            const V dv = hn::Sub(v, center);
            const V r = hn::Mul(hn::Mul(dv, dv), inverse_variance(f));
            hn::Store(hn::IfThenElse(hn::Eq(v, v), r, infinite), d, work + f * lanes);
        }
        sort_lanes(d, work, lanes, p);
        V spread = hn::Mul(hn::Set(d, kMad2), pick(d, work, lanes, upper));
        // From here `work` keeps 1 / variance; it is negative where the sample is not kept.
        for (int f = 0; f < n; ++f)
            hn::Store(inverse_variance(f), d, work + f * lanes);
        for (int i = 0; i <= p.options.iterations; ++i) {
            if (p.noise_known) spread = hn::Max(spread, one);
            const V low_limit = hn::Mul(low2, spread), high_limit = hn::Mul(high2, spread);
            V s = zero, w = zero, kept = zero, changed = zero;
            lows = highs = zero;
            for (int f = 0; f < n; ++f) {
                const V v = hn::Load(d, value + f * lanes);
                const V inverse = hn::Load(d, work + f * lanes), magnitude = hn::Abs(inverse);
                const V dv = hn::Sub(v, center), r = hn::Mul(hn::Mul(dv, dv), magnitude);
                const auto below = hn::And(hn::Lt(dv, zero), hn::Gt(r, low_limit));
                const auto above = hn::And(hn::Gt(dv, zero), hn::Gt(r, high_limit));
                const auto stays = hn::AndNot(hn::Or(below, above), hn::Eq(v, v));
                lows = hn::Add(lows, hn::IfThenElseZero(below, one));
                highs = hn::Add(highs, hn::IfThenElseZero(above, one));
                const V fw = hn::IfThenElseZero(stays, hn::Set(d, p.frames[f].weight));
                s = mul_add(fw, hn::IfThenElseZero(stays, v), s);
                w = hn::Add(w, fw);
                kept = hn::Add(kept, hn::IfThenElseZero(stays, one));
                changed = hn::Add(changed, hn::IfThenElseZero(hn::Xor(stays, hn::Gt(inverse, zero)), one));
                hn::Store(hn::IfThenElse(stays, magnitude, hn::Neg(magnitude)), d, work + f * lanes);
            }
            sum = hn::IfThenElse(enough, s, sum);
            weights = hn::IfThenElse(enough, w, weights);
            const bool settled = i > 0 && hn::AllTrue(d, hn::Or(hn::Eq(changed, zero), hn::Not(enough)));
            if (settled || i == p.options.iterations) break;
            center = hn::IfThenElse(hn::Gt(w, zero), hn::Div(s, w), center);
            V squares = zero;
            for (int f = 0; f < n; ++f) {
                const V inverse = hn::Load(d, work + f * lanes);
                const auto stays = hn::Gt(inverse, zero);
                const V dv = hn::Sub(hn::Load(d, value + f * lanes), center);
                squares = hn::Add(squares, hn::IfThenElseZero(stays, hn::Mul(hn::Mul(dv, dv), inverse)));
            }
            spread = hn::Div(hn::Mul(hn::Set(d, p.clip_correction), squares), hn::Max(one, hn::Sub(kept, one)));
        }
        lows = hn::IfThenElseZero(enough, lows);
        highs = hn::IfThenElseZero(enough, highs);
    }
    const V nodata = hn::Set(d, std::numeric_limits<float>::quiet_NaN());
    const V one_value =
        p.combination == Combination::median ? median_of_kept(d, value, work, p, rejecting) : hn::Div(sum, weights);
    hn::StoreU(hn::IfThenElse(hn::Gt(weights, zero), one_value, nodata), d, out.mean);
    hn::StoreU(weights, d, out.weight);
    hn::StoreU(lows, d, out.low);
    hn::StoreU(highs, d, out.high);
}

/// The samples of one vector of pixels: those of frame f begin at samples + f * stride.
struct LaneSamples {
    const float* samples;
    std::ptrdiff_t stride;
};

/// A vector of pixels in which every sample lies within the limits of its known noise about the mean of all: nothing
/// is to be rejected there, and no order need be found. Returns a mask of the lanes where that is so; their results are
/// written.
template <class D>
HWY_INLINE hn::Mask<D> combine_calm_lanes(D d, const LaneSamples& in, const SigmaParameters& p, float* mean,
                                          float* weight) {
    using V = hn::Vec<D>;
    const V zero = hn::Zero(d), one = hn::Set(d, 1.0f), infinite = hn::Set(d, std::numeric_limits<float>::infinity());
    const V low2 = p.options.low > 0 ? hn::Set(d, p.options.low * p.options.low) : infinite;
    const V high2 = p.options.high > 0 ? hn::Set(d, p.options.high * p.options.high) : infinite;
    V count = zero, sum = zero, weights = zero;
    for (int f = 0; f < p.count; ++f) {
        const V v = hn::LoadU(d, in.samples + f * in.stride);
        const auto there = hn::Eq(v, v);
        const V w = hn::IfThenElseZero(there, hn::Set(d, p.frames[f].weight));
        count = hn::Add(count, hn::IfThenElseZero(there, one));
        sum = mul_add(w, hn::IfThenElseZero(there, v), sum);
        weights = hn::Add(weights, w);
    }
    auto calm = hn::Ge(count, hn::Set(d, static_cast<float>(kLeastForCalm)));
    const V center = hn::Div(sum, hn::Max(weights, hn::Set(d, 1e-30f)));
    const V excess = hn::Max(zero, hn::Sub(center, hn::Set(d, p.level)));
    // A sample draws the mean to itself: against the mean of the others it lies farther off.
    const V drawn = hn::Sub(one, hn::Div(one, hn::Max(one, count))), drawn2 = hn::Mul(drawn, drawn);
    for (int f = 0; f < p.count; ++f) {
        const V dv = hn::Sub(hn::LoadU(d, in.samples + f * in.stride), center);
        const V variance = mul_add(hn::Set(d, p.frames[f].variance_slope), excess, hn::Set(d, p.frames[f].variance));
        const V limit = hn::Mul(hn::Mul(hn::IfThenElse(hn::Lt(dv, zero), low2, high2), drawn2), variance);
        calm = hn::AndNot(hn::Gt(hn::Mul(dv, dv), limit), calm); // never true for absent samples
    }
    hn::StoreU(center, d, mean);
    hn::StoreU(weights, d, weight);
    return calm;
}

void CombineSigma(const SampleBlock& block, const CombinedBlock& out, const SigmaParameters& p) {
    const hn::ScalableTag<float> d;
    const int lanes = static_cast<int>(hn::Lanes(d)), n = block.frames;
    const std::size_t size = static_cast<std::size_t>(n) * static_cast<std::size_t>(lanes);
    auto value = hwy::AllocateAligned<float>(size);
    auto work = hwy::AllocateAligned<float>(size);
    HWY_ALIGN float mean[HWY_MAX_BYTES / 4], weight[HWY_MAX_BYTES / 4], low[HWY_MAX_BYTES / 4], high[HWY_MAX_BYTES / 4];
    // Pixels that need the whole method are gathered until a vector is full.
    int pending[HWY_MAX_BYTES / 4];
    int waiting = 0;
    const auto settle = [&] {
        for (int f = 0; f < n; ++f) {
            const float* from = block.samples + f * block.frame_stride;
            float* to = value.get() + f * lanes;
            for (int i = 0; i < lanes; ++i)
                to[i] = i < waiting ? from[pending[i]] : std::numeric_limits<float>::quiet_NaN();
        }
        combine_lanes(d, value.get(), work.get(), p, {mean, weight, low, high});
        for (int i = 0; i < waiting; ++i) {
            out.mean[pending[i]] = mean[i];
            out.weight[pending[i]] = weight[i];
            if (out.low) out.low[pending[i]] = static_cast<std::uint16_t>(low[i]);
            if (out.high) out.high[pending[i]] = static_cast<std::uint16_t>(high[i]);
        }
        waiting = 0;
    };
    const bool looks_for_calm = p.combination == Combination::mean && p.noise_known && n >= kLeastForCalm &&
                                (p.options.low > 0 || p.options.high > 0);
    for (int x = 0; x < block.pixels; x += lanes) {
        const int here = std::min(lanes, block.pixels - x);
        std::uint64_t calm = 0;
        if (looks_for_calm) {
            const bool full = here == lanes;
            if (!full) // the rest of the block as a vector of its own: what is done to a pixel depends on no other
                for (int f = 0; f < n; ++f)
                    for (int i = 0; i < lanes; ++i)
                        value[static_cast<std::size_t>(f * lanes + i)] =
                            i < here ? block.samples[f * block.frame_stride + x + i]
                                     : std::numeric_limits<float>::quiet_NaN();
            const auto mask = combine_calm_lanes(
                d, full ? LaneSamples{block.samples + x, block.frame_stride} : LaneSamples{value.get(), lanes}, p,
                full ? out.mean + x : mean, full ? out.weight + x : weight);
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

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CombineSigma);

void combine_sigma(const SampleBlock& block, const CombinedBlock& out, const SigmaParameters& parameters) {
    HWY_DYNAMIC_DISPATCH(CombineSigma)(block, out, parameters);
}
} // namespace kasane
#endif
