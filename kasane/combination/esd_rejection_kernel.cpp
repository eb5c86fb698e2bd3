// EsdRejection, vectorised.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/combination/esd_rejection_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <kasane/combination/lanes-inl.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {

struct Esd : ByAllSamples<EsdRejection> {
    template <class D>
    void judge(const LaneStack<D>& s) const {
        using V = hn::Vec<D>;
        if (s.p.count < EsdRejection::kLeast || (o.low <= 0 && o.high <= 0)) return;
        const V zero = hn::Zero(s.d), one = s.set(1), count = hn::Load(s.d, s.count);
        const auto enough = hn::Ge(count, s.set(static_cast<float>(EsdRejection::kLeast)));
        const V most = hn::IfThenElseZero(enough, hn::Floor(hn::Mul(count, s.set(o.share))));
        for (int f = 0; f < s.p.count; ++f)
            s.put(zero, s.work, f); // in which order they were taken away
        V outliers = zero, left = count;
        for (float i = 1; !hn::AllFalse(s.d, hn::Ge(most, s.set(i))); ++i) {
            const V variance = take_most_extreme(s, left, i);
            const V limit = look_up(s, left);
            const auto hit = hn::And(hn::Ge(most, s.set(i)), hn::Gt(variance, hn::Mul(limit, limit)));
            outliers = hn::IfThenElse(hit, s.set(i), outliers);
            left = hn::Sub(left, one);
        }
        for (int f = 0; f < s.p.count; ++f) {
            const V order = s.at(s.work, f);
            const auto out = hn::And(hn::Gt(order, zero), hn::Le(order, outliers));
            s.put(hn::IfThenElseZero(out, s.at(s.verdict, f)), s.verdict, f);
        }
    }

private:
    /// Writes `i` as the order of the most extreme of the samples that are left, of which there are `left`, and its
    /// side as its verdict. Returns how far it lies off, squared, in units of their variance.
    template <class D, class V>
    V take_most_extreme(const LaneStack<D>& s, V left, float i) const {
        const V zero = hn::Zero(s.d), one = s.set(1), start = hn::Load(s.d, s.center);
        V sum = zero, weights = zero;
        for (int f = 0; f < s.p.count; ++f) {
            const V v = s.at(s.value, f), inverse = s.at(s.inverse, f);
            const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
            sum = hn::Add(sum, hn::IfThenElseZero(counts, hn::Mul(inverse, hn::Sub(v, start))));
            weights = hn::Add(weights, hn::IfThenElseZero(counts, inverse));
        }
        const V center = hn::Add(start, hn::Div(sum, hn::Max(weights, s.set(1e-30f))));
        const V low = s.set(o.low > 0 ? 1 / (o.low * o.low) : 0.0f),
                high = s.set(o.high > 0 ? 1 / (o.high * o.high) : 0.0f);
        V squares = zero, farthest = hn::Neg(one);
        for (int f = 0; f < s.p.count; ++f) {
            const V v = s.at(s.value, f), dv = hn::Sub(v, center);
            const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
            const V r = hn::IfThenElseZero(counts, hn::Mul(hn::Mul(dv, dv), s.at(s.inverse, f)));
            squares = hn::Add(squares, r);
            const V far = hn::Mul(r, hn::IfThenElse(hn::Lt(dv, zero), low, high));
            farthest = hn::IfThenElse(counts, hn::Max(farthest, far), farthest);
        }
        auto taken = hn::Lt(farthest, zero); // nothing is left
        for (int f = 0; f < s.p.count; ++f) {
            const V v = s.at(s.value, f), dv = hn::Sub(v, center);
            const auto counts = hn::And(hn::Eq(v, v), hn::Eq(s.at(s.verdict, f), zero));
            const V r = hn::Mul(hn::Mul(dv, dv), s.at(s.inverse, f));
            const V far = hn::Mul(r, hn::IfThenElse(hn::Lt(dv, zero), low, high));
            const auto it = hn::AndNot(taken, hn::And(counts, hn::Ge(far, farthest)));
            s.put(hn::IfThenElse(it, hn::IfThenElse(hn::Lt(dv, zero), hn::Neg(one), one), s.at(s.verdict, f)),
                  s.verdict, f);
            s.put(hn::IfThenElse(it, s.set(i), s.at(s.work, f)), s.work, f);
            taken = hn::Or(taken, it);
        }
        const V variance = hn::Div(squares, hn::Max(one, hn::Sub(left, one)));
        return hn::Div(farthest, hn::Max(variance, s.set(1e-30f)));
    }

    template <class D, class V>
    static V look_up(const LaneStack<D>& s, V left) {
        const hn::RebindToSigned<D> di;
        return hn::GatherIndex(s.d, s.p.table, hn::ConvertTo(di, hn::Max(left, hn::Zero(s.d))));
    }
};

void CombineEsd(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p, const EsdRejection& o) {
    combine_block(block, out, p, Esd{{o}});
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CombineEsd);

void combine_esd(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                 const EsdRejection& options) {
    HWY_DYNAMIC_DISPATCH(CombineEsd)(block, out, p, options);
}
} // namespace kasane
#endif
