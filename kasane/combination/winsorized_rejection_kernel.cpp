// WinsorizedRejection, vectorised.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/combination/winsorized_rejection_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <kasane/combination/lanes-inl.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {

struct Winsorized : BySigmas<WinsorizedRejection> {
    template <class D>
    void judge(const LaneStack<D>& s) const {
        using V = hn::Vec<D>;
        if (s.p.count < 4 || (o.low <= 0 && o.high <= 0)) return;
        const V zero = hn::Zero(s.d), low2 = squared_limit(s, o.low), high2 = squared_limit(s, o.high);
        const auto enough = hn::Ge(hn::Load(s.d, s.count), s.set(4));
        V center = hn::Load(s.d, s.center), spread = believed(s, robust_spread(s, center));
        auto open = enough; // a pixel that has settled stays as it is, whatever its neighbours do
        for (int i = 0; i <= o.iterations && !hn::AllFalse(s.d, open); ++i) {
            settle(s, open, center, spread);
            const V changed = reject_beyond(s, center, hn::Mul(low2, spread), hn::Mul(high2, spread), open);
            open = hn::And(open, hn::Gt(changed, zero));
        }
    }

private:
    template <class D, class V>
    static V believed(const LaneStack<D>& s, V spread) {
        return hn::Max(spread, s.set(s.p.noise_known ? 1.0f : 1e-30f));
    }

    /// Mean and spread of the samples that count, winsorized, until they stand still; each lane by itself.
    template <class D, class V>
    static void settle(const LaneStack<D>& s, hn::Mask<D> moving, V& center, V& spread) {
        const V zero = hn::Zero(s.d), one = s.set(1);
        for (int round = 0; round < kWinsorizedRounds && !hn::AllFalse(s.d, moving); ++round) {
            const V reach2 = hn::Mul(s.set(kWinsorizedReach * kWinsorizedReach), spread);
            V sum = zero, weights = zero, squares = zero, count = zero;
            for (int f = 0; f < s.p.count; ++f) {
                const V v = s.at(s.value, f), inverse = s.at(s.inverse, f);
                const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
                const V edge = hn::Sqrt(hn::Div(reach2, inverse));
                const V drawn = hn::Min(hn::Max(hn::Sub(v, center), hn::Neg(edge)), edge);
                const V pull = hn::IfThenElseZero(counts, hn::Mul(inverse, drawn));
                sum = hn::Add(sum, pull);
                weights = hn::Add(weights, hn::IfThenElseZero(counts, inverse));
                squares = hn::Add(squares, hn::IfThenElseZero(counts, hn::Mul(pull, drawn)));
                count = hn::Add(count, hn::IfThenElseZero(counts, one));
            }
            const V step = hn::Div(sum, hn::Max(weights, s.set(1e-30f)));
            const V about = hn::Max(zero, hn::Sub(squares, hn::Mul(weights, hn::Mul(step, step))));
            const V next =
                believed(s, hn::Mul(s.set(kWinsorizedCorrection), hn::Div(about, hn::Max(one, hn::Sub(count, one)))));
            const auto still = hn::Lt(hn::Abs(hn::Sub(next, spread)), hn::Mul(s.set(kWinsorizedEnd), spread));
            center = hn::IfThenElse(moving, hn::Add(center, step), center);
            spread = hn::IfThenElse(moving, next, spread);
            moving = hn::AndNot(still, moving);
        }
    }
};

void CombineWinsorized(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                       const WinsorizedRejection& o) {
    combine_block(block, out, p, Winsorized{{o}});
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CombineWinsorized);

void combine_winsorized(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                        const WinsorizedRejection& options) {
    HWY_DYNAMIC_DISPATCH(CombineWinsorized)(block, out, p, options);
}
} // namespace kasane
#endif
