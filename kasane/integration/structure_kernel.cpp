// The Laplacian and the gradient of a row beyond their noise, compiled once for every instruction set. No product is
// fused with a sum: the bits are the same for all.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/integration/structure_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/integration/structure_kernel.hpp>

#include <algorithm>
#include <cmath>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// As many pixels from `x` on as `d` has lanes.
template <class D>
HWY_INLINE void structure_at(D d, const StructureRows& r, const StructureLimits& l, int x) {
    const auto centre = hn::LoadU(d, r.here + x), left = hn::LoadU(d, r.here + x - 1),
               right = hn::LoadU(d, r.here + x + 1), above = hn::LoadU(d, r.above + x),
               below = hn::LoadU(d, r.below + x);
    const auto half = hn::Set(d, 0.5f), none = hn::Zero(d);
    const auto around = hn::Add(hn::Add(hn::Add(left, right), above), below);
    const auto laplacian = hn::Sub(around, hn::Mul(hn::Set(d, 4.0f), centre));
    const auto dx = hn::Mul(half, hn::Sub(right, left)), dy = hn::Mul(half, hn::Sub(below, above));
    const auto signal = hn::Max(hn::Sub(centre, hn::Set(d, l.level)), none);
    const auto noise2 = hn::Add(hn::Set(d, l.variance), hn::Mul(hn::Set(d, l.growth), signal));
    const auto weight = hn::LoadU(d, r.weight + x);
    const auto slope2 = hn::Add(hn::Mul(dx, dx), hn::Mul(dy, dy));
    // False where there is no data.
    const auto bent = hn::Gt(hn::Mul(weight, hn::Mul(laplacian, laplacian)), hn::Mul(hn::Set(d, l.curvature), noise2)),
               inclined = hn::Gt(hn::Mul(weight, slope2), hn::Mul(hn::Set(d, l.slope), noise2));
    hn::StoreU(hn::IfThenElseZero(bent, hn::Abs(laplacian)), d, r.curvature + x);
    hn::StoreU(hn::IfThenElseZero(inclined, hn::Sqrt(slope2)), d, r.slope + x);
}

void StructureRow(const StructureRows& rows, const StructureLimits& limits, int width) {
    const hn::ScalableTag<float> d;
    const int lanes = static_cast<int>(hn::Lanes(d));
    int x = 1;
    for (; x + lanes <= width - 1; x += lanes)
        structure_at(d, rows, limits, x);
    for (; x < width - 1; ++x)
        structure_at(hn::CappedTag<float, 1>(), rows, limits, x);
}

void HighestOfThree(const float* a, const float* b, const float* c, float* to, int count) {
    const hn::ScalableTag<float> d;
    const int lanes = static_cast<int>(hn::Lanes(d));
    int x = 0;
    for (; x + lanes <= count; x += lanes)
        hn::StoreU(hn::Max(hn::Max(hn::LoadU(d, a + x), hn::LoadU(d, b + x)), hn::LoadU(d, c + x)), d, to + x);
    for (; x < count; ++x)
        to[x] = std::max(std::max(a[x], b[x]), c[x]);
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(StructureRow);
HWY_EXPORT(HighestOfThree);

void structure_row(const StructureRows& rows, const StructureLimits& limits, int width) {
    HWY_DYNAMIC_DISPATCH(StructureRow)(rows, limits, width);
}

void highest_of_three(const float* a, const float* b, const float* c, float* to, int count) {
    HWY_DYNAMIC_DISPATCH(HighestOfThree)(a, b, c, to, count);
}
} // namespace kasane
#endif
