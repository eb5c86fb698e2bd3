// NoiseRejection, vectorised.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/combination/noise_rejection_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <kasane/combination/lanes-inl.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {

struct ByNoise : BySigmas<NoiseRejection> {
    bool by_noise() const { return true; }

    template <class D>
    void judge(const LaneStack<D>& s) const {
        using V = hn::Vec<D>;
        if (s.p.count < 3 || (o.low <= 0 && o.high <= 0)) return;
        const V zero = hn::Zero(s.d), low2 = squared_limit(s, o.low), high2 = squared_limit(s, o.high);
        const auto enough = hn::Ge(hn::Load(s.d, s.count), s.set(3));
        V center = hn::Load(s.d, s.center);
        for (int i = 0; i <= o.iterations; ++i) {
            const V changed = reject_beyond(s, center, low2, high2, enough);
            if (i == o.iterations || (i > 0 && hn::AllTrue(s.d, hn::Eq(changed, zero)))) break;
            const Sums<D> sums = sums_of_counting(s);
            center = hn::IfThenElse(hn::Gt(sums.weights, zero), hn::Div(sums.values, sums.weights), center);
        }
    }
};

void CombineByNoise(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                    const NoiseRejection& o) {
    combine_block(block, out, p, ByNoise{{o}});
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CombineByNoise);

void combine_by_noise(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                      const NoiseRejection& options) {
    HWY_DYNAMIC_DISPATCH(CombineByNoise)(block, out, p, options);
}
} // namespace kasane
#endif
