// Shares of samples near a frame's edge, compiled once for every instruction set. No product is fused with a sum: the
// bits are the same for all.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/integration/edge_feather_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/integration/edge_feather_kernel.hpp>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// As many samples from the first on as `d` has lanes, of sums that have as many.
template <class D>
HWY_INLINE void fading_at(D d, const FadingEdge& e, const FadingSamples& s, const FadingSums& to) {
    const hn::RebindToSigned<D> di;
    const hn::Rebind<float, D> df;
    const auto one = hn::Set(d, 1.0), none = hn::Zero(d), half = hn::Set(d, 0.5), unit = hn::Set(d, 0x1p-32);
    const auto x = hn::Mul(hn::ConvertTo(d, hn::LoadU(di, s.u)), unit),
               y = hn::Mul(hn::ConvertTo(d, hn::LoadU(di, s.v)), unit);
    const auto deep = hn::Min(hn::Min(hn::Add(x, half), hn::Sub(hn::Set(d, e.right), x)),
                              hn::Min(hn::Add(y, half), hn::Sub(hn::Set(d, e.bottom), y)));
    const auto value = hn::PromoteTo(d, hn::LoadU(df, s.values));
    const auto counts = hn::And(hn::Lt(deep, hn::Set(d, e.width)), hn::Eq(value, value));
    if (hn::AllFalse(d, counts)) return;
    const auto t = hn::Min(hn::Max(hn::Div(deep, hn::Set(d, e.width)), none), one);
    const auto curve = hn::Add(hn::Set(d, 10.0), hn::Mul(t, hn::Sub(hn::Mul(hn::Set(d, 6.0), t), hn::Set(d, 15.0))));
    const auto rise = hn::Mul(hn::Mul(hn::Mul(hn::Mul(hn::Set(d, 1 - e.least), t), t), t), curve);
    const auto share = hn::Add(hn::Set(d, e.least), rise);
    const auto less = hn::IfThenElseZero(counts, hn::Mul(hn::Set(d, e.weight), hn::Sub(one, share)));
    const auto weighted = hn::IfThenElseZero(counts, hn::Mul(less, value));
    hn::StoreU(hn::Add(hn::LoadU(d, to.sum), weighted), d, to.sum);
    hn::StoreU(hn::Add(hn::LoadU(d, to.weight), less), d, to.weight);
    hn::StoreU(hn::Add(hn::LoadU(d, to.squares), hn::Mul(less, hn::Add(one, share))), d, to.squares);
}

void AddFading(const FadingEdge& edge, const FadingSamples& s, const FadingSums& to) {
    const hn::ScalableTag<double> d;
    const hn::CappedTag<double, 1> single;
    const std::size_t lanes = hn::Lanes(d);
    for (std::size_t i = 0; i < s.count;) {
        const FadingSamples rest{s.u + i, s.v + i, s.values + i, s.count - i};
        const FadingSums there{to.sum + i, to.weight + i, to.squares + i};
        if (rest.count >= lanes)
            fading_at(d, edge, rest, there);
        else
            fading_at(single, edge, rest, there);
        i += rest.count >= lanes ? lanes : 1;
    }
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(AddFading);

void add_fading(const FadingEdge& edge, const FadingSamples& samples, const FadingSums& to) {
    HWY_DYNAMIC_DISPATCH(AddFading)(edge, samples, to);
}
} // namespace kasane
#endif
