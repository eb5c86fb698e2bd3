// SigmaRejection, vectorised; also used where nothing is rejected.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/combination/sigma_rejection_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <kasane/combination/lanes-inl.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {

struct Sigma : BySigmas<SigmaRejection> {
    float correction; ///< of the variance, for tails that were cut off

    template <class D>
    void judge(const LaneStack<D>& s) const {
        using V = hn::Vec<D>;
        if (s.p.count < 3 || (o.low <= 0 && o.high <= 0)) return;
        const V one = s.set(1), low2 = squared_limit(s, o.low), high2 = squared_limit(s, o.high);
        const auto enough = hn::Ge(hn::Load(s.d, s.count), s.set(3));
        V center = hn::Load(s.d, s.center), spread = robust_spread(s, center);
        for (int i = 0; i <= o.iterations; ++i) {
            if (s.p.noise_known) spread = hn::Max(spread, one);
            const V changed = reject_beyond(s, center, hn::Mul(low2, spread), hn::Mul(high2, spread), enough);
            if (i == o.iterations || (i > 0 && hn::AllTrue(s.d, hn::Eq(changed, hn::Zero(s.d))))) break;
            const Sums<D> sums = sums_of_counting(s);
            center = hn::IfThenElse(hn::Gt(sums.weights, hn::Zero(s.d)), hn::Div(sums.values, sums.weights), center);
            spread = hn::Mul(s.set(correction), spread_about(s, center, sums.count));
        }
    }
};

void CombineSigma(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                  const SigmaRejection& o) {
    combine_block(block, out, p, Sigma{{o}, clip_correction(o.low, o.high)});
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CombineSigma);

void combine_sigma(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                   const SigmaRejection& options) {
    HWY_DYNAMIC_DISPATCH(CombineSigma)(block, out, p, options);
}
} // namespace kasane
#endif
