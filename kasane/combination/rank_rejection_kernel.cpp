// PercentileRejection and MinMaxRejection, which look at the order of the samples alone; vectorised.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/combination/rank_rejection_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <kasane/combination/lanes-inl.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {

struct Percentile : ByAllSamples<PercentileRejection> {
    template <class D>
    void judge(const LaneStack<D>& s) const {
        using V = hn::Vec<D>;
        const V zero = hn::Zero(s.d), one = s.set(1), center = hn::Load(s.d, s.center);
        const auto told = hn::And(hn::Ge(hn::Load(s.d, s.count), s.set(3)), hn::Gt(center, zero));
        const V infinite = s.set(std::numeric_limits<float>::infinity());
        const V below = o.low > 0 ? hn::Mul(center, s.set(o.low)) : infinite;
        const V above = o.high > 0 ? hn::Mul(center, s.set(o.high)) : infinite;
        for (int f = 0; f < s.p.count; ++f) {
            const V dv = hn::Sub(s.at(s.value, f), center);
            const auto low = hn::And(told, hn::Lt(dv, hn::Neg(below))), high = hn::And(told, hn::Gt(dv, above));
            s.put(hn::IfThenElse(high, one, hn::IfThenElse(low, hn::Neg(one), zero)), s.verdict, f);
        }
    }
};

struct MinMax : ByAllSamples<MinMaxRejection> {
    template <class D>
    void judge(const LaneStack<D>& s) const {
        using V = hn::Vec<D>;
        if (s.p.count <= o.low + o.high) return;
        const V zero = hn::Zero(s.d), one = s.set(1), count = hn::Load(s.d, s.count);
        const auto enough = hn::Gt(count, s.set(static_cast<float>(o.low + o.high)));
        // The samples are in their order there.
        const V least = pick(s, s.work, s.set(static_cast<float>(o.low)));
        const V most = pick(s, s.work, hn::Max(zero, hn::Sub(count, s.set(static_cast<float>(1 + o.high)))));
        for (int f = 0; f < s.p.count; ++f) {
            const V v = s.at(s.value, f);
            const auto low = hn::And(enough, hn::Lt(v, least)), high = hn::And(enough, hn::Gt(v, most));
            s.put(hn::IfThenElse(high, one, hn::IfThenElse(low, hn::Neg(one), zero)), s.verdict, f);
        }
    }
};

void CombinePercentile(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                       const PercentileRejection& o) {
    combine_block(block, out, p, Percentile{{o}});
}

void CombineMinMax(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                   const MinMaxRejection& o) {
    combine_block(block, out, p, MinMax{{o}});
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CombinePercentile);
HWY_EXPORT(CombineMinMax);

void combine_percentile(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                        const PercentileRejection& options) {
    HWY_DYNAMIC_DISPATCH(CombinePercentile)(block, out, p, options);
}

void combine_min_max(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                     const MinMaxRejection& options) {
    HWY_DYNAMIC_DISPATCH(CombineMinMax)(block, out, p, options);
}
} // namespace kasane
#endif
