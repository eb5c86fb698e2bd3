// LineRejection, vectorised.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/combination/line_rejection_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <kasane/combination/lanes-inl.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {

struct ByLine : ByAllSamples<LineRejection> {
    template <class D>
    void judge(const LaneStack<D>& s) const {
        using V = hn::Vec<D>;
        if (s.p.count < LineRejection::kLeast || (o.low <= 0 && o.high <= 0)) return;
        const V zero = hn::Zero(s.d), one = s.set(1), count = hn::Load(s.d, s.count);
        const V infinite = s.set(std::numeric_limits<float>::infinity());
        const auto enough = hn::Ge(count, s.set(static_cast<float>(LineRejection::kLeast)));
        for (int f = 0; f < s.p.count; ++f) {
            const V z = deviation(s, f);
            s.put(hn::IfThenElse(hn::Eq(z, z), z, infinite), s.work, f);
        }
        sort_lanes(s, s.work);
        // Ranks that count: from `first` up to, and without, `end`. The first line goes through the middle half.
        V first = zero, end = count, from = hn::Floor(hn::Mul(count, s.set(0.25f))), to = hn::Sub(count, from);
        const V mid = hn::Floor(hn::Mul(count, s.set(0.5f)));
        for (int i = 0; i <= o.iterations; ++i) {
            V slope = zero, level = zero;
            fit(s, first, end, from, to, level, slope);
            const V low = hn::Mul(slope, s.set(o.low)), high = hn::Mul(slope, s.set(o.high));
            V next = first, stop = end;
            for (int f = 0; f < s.p.count; ++f) {
                const V rank = s.set(static_cast<float>(f));
                const auto counts = hn::And(hn::Ge(rank, first), hn::Lt(rank, end));
                const V off = hn::Sub(s.at(s.work, f), mul_add(slope, score(s, rank, first, end), level));
                if (o.low > 0) {
                    const auto below = hn::And(hn::And(counts, hn::Lt(rank, mid)), hn::Lt(off, hn::Neg(low)));
                    next = hn::IfThenElse(below, hn::Add(rank, one), next);
                }
                if (o.high > 0) {
                    const auto above = hn::And(hn::And(counts, hn::Gt(rank, mid)), hn::Gt(off, high));
                    stop = hn::IfThenElse(above, hn::Min(stop, rank), stop);
                }
            }
            const auto same = hn::And(hn::Eq(next, first), hn::Eq(stop, end));
            first = from = next, end = to = stop;
            if (i > 0 && hn::AllTrue(s.d, hn::Or(same, hn::Not(enough)))) break;
        }
        const V least = pick(s, s.work, first), most = pick(s, s.work, hn::Max(zero, hn::Sub(end, one)));
        for (int f = 0; f < s.p.count; ++f) {
            const V z = deviation(s, f);
            const auto low = hn::And(enough, hn::Lt(z, least)), high = hn::And(enough, hn::Gt(z, most));
            s.put(hn::IfThenElse(high, one, hn::IfThenElse(low, hn::Neg(one), zero)), s.verdict, f);
        }
    }

private:
    /// From the median, in units of the frame's noise; NaN where absent.
    template <class D>
    static hn::Vec<D> deviation(const LaneStack<D>& s, int f) {
        return hn::Mul(hn::Sub(s.at(s.value, f), hn::Load(s.d, s.center)), hn::Sqrt(s.at(s.inverse, f)));
    }

    /// What normal noise has at a rank, of ranks from `first` to `end`: between the scores of as many samples as there
    /// are frames.
    template <class D, class V>
    static V score(const LaneStack<D>& s, V rank, V first, V end) {
        const hn::RebindToSigned<D> di;
        const V zero = hn::Zero(s.d), n = s.set(static_cast<float>(s.p.count)), blom = s.set(0.625f),
                more = s.set(0.25f);
        const V share = hn::Div(hn::Add(hn::Sub(rank, first), blom), hn::Add(hn::Sub(end, first), more));
        V at = hn::Sub(hn::Mul(share, hn::Add(n, more)), blom);
        at = hn::Min(hn::Max(at, zero), hn::Sub(n, s.set(1)));
        const V whole = hn::Min(hn::Floor(at), hn::Sub(n, s.set(2))), part = hn::Sub(at, whole);
        const auto index = hn::ConvertTo(di, whole);
        const V a = hn::GatherIndex(s.d, s.p.table, index),
                b = hn::GatherIndex(s.d, s.p.table, hn::Add(index, hn::Set(di, 1)));
        return mul_add(part, hn::Sub(b, a), a);
    }

    /// Least squares through the ranks [from, to).
    template <class D, class V>
    static void fit(const LaneStack<D>& s, V first, V end, V from, V to, V& level, V& slope) {
        const V zero = hn::Zero(s.d), one = s.set(1);
        V n = zero, x = zero, y = zero, xx = zero, xy = zero;
        for (int f = 0; f < s.p.count; ++f) {
            const V rank = s.set(static_cast<float>(f));
            const auto takes = hn::And(hn::Ge(rank, from), hn::Lt(rank, to));
            const V u = hn::IfThenElseZero(takes, score(s, rank, first, end));
            const V v = hn::IfThenElseZero(takes, s.at(s.work, f));
            n = hn::Add(n, hn::IfThenElseZero(takes, one));
            x = hn::Add(x, u), y = hn::Add(y, v);
            xx = mul_add(u, u, xx), xy = mul_add(u, v, xy);
        }
        n = hn::Max(n, one);
        const V about = hn::Sub(xx, hn::Div(hn::Mul(x, x), n)), together = hn::Sub(xy, hn::Div(hn::Mul(x, y), n));
        slope = hn::Div(together, hn::Max(about, s.set(1e-6f)));
        slope = hn::Max(slope, s.set(s.p.noise_known ? 1.0f : 1e-15f));
        level = hn::Div(hn::Sub(y, hn::Mul(slope, x)), n);
    }
};

void CombineByLine(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                   const LineRejection& o) {
    combine_block(block, out, p, ByLine{{o}});
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CombineByLine);

void combine_by_line(const SampleBlock& block, const CombinedBlock& out, const StackParameters& p,
                     const LineRejection& options) {
    HWY_DYNAMIC_DISPATCH(CombineByLine)(block, out, p, options);
}
} // namespace kasane
#endif
