// Positions of a row through a bent map, compiled once for every instruction set; the scalar reference stands in
// transform.cpp. No product is fused with a sum: the bits are the same for all.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/geometry/row_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/geometry/row_kernel.hpp>

#include <algorithm>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void CountAlong(const Cubic& c, int from, int count, std::int64_t* out) {
    int i = 0;
#if HWY_HAVE_FLOAT64
    const hn::ScalableTag<double> d;
    const hn::RebindToSigned<decltype(d)> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto step = hn::Set(d, c.step), start = hn::Set(d, c.start), first = hn::Set(d, c.first),
               second = hn::Set(d, c.second), third = hn::Set(d, c.third), one = hn::Set(d, 1.0), two = hn::Set(d, 2.0),
               counter = hn::Set(d, kCounter);
    const auto ramp = hn::Iota(d, static_cast<double>(from));
    for (; i < count && count >= lanes; i += lanes) {
        i = std::min(i, count - lanes); // the last vector ends with the last position
        const auto t = hn::Mul(hn::Add(ramp, hn::Set(d, static_cast<double>(i))), step);
        const auto bent = hn::Add(second, hn::Mul(hn::Sub(t, two), third));
        const auto slope = hn::Add(first, hn::Mul(hn::Sub(t, one), bent));
        const auto position = hn::Add(start, hn::Mul(t, slope));
        hn::StoreU(hn::Sub(hn::BitCast(di, hn::Add(position, counter)), hn::BitCast(di, counter)), di, out + i);
    }
#endif
    if (i < count) count_along_reference(c, from + i, count - i, out + i);
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CountAlong);

void count_along(const Cubic& along, int from, int count, std::int64_t* out) {
    HWY_DYNAMIC_DISPATCH(CountAlong)(along, from, count, out);
}
} // namespace kasane
#endif
