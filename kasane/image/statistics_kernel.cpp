// The two loops of robust statistics that go over all values, compiled once for every instruction set; the scalar
// references stand in statistics.cpp.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/statistics_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/image/statistics_kernel.hpp>

#include <algorithm>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

SumsWithin Sums(const float* values, std::size_t count, float center, float low, float high) {
    constexpr std::size_t kBlock = 1024; // values whose sums float holds well enough
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto least = hn::Set(d, low), most = hn::Set(d, high), middle = hn::Set(d, center), one = hn::Set(d, 1);
    SumsWithin all;
    std::size_t i = 0;
    while (i + lanes <= count) {
        auto sum = hn::Zero(d), square = hn::Zero(d), number = hn::Zero(d);
        for (const std::size_t end = std::min(count, i + kBlock); i + lanes <= end; i += lanes) {
            const auto v = hn::LoadU(d, values + i);
            const auto inside = hn::And(hn::Ge(v, least), hn::Le(v, most));
            const auto difference = hn::IfThenElseZero(inside, hn::Sub(v, middle));
            sum = hn::Add(sum, difference);
            square = hn::MulAdd(difference, difference, square);
            number = hn::Add(number, hn::IfThenElseZero(inside, one));
        }
        all.sum += static_cast<double>(hn::GetLane(hn::SumOfLanes(d, sum)));
        all.square += static_cast<double>(hn::GetLane(hn::SumOfLanes(d, square)));
        all.count += static_cast<std::size_t>(hn::GetLane(hn::SumOfLanes(d, number)));
    }
    const SumsWithin rest = sums_within_reference(values + i, count - i, center, low, high);
    all.sum += rest.sum;
    all.square += rest.square;
    all.count += rest.count;
    return all;
}

Between Take(const float* values, std::size_t count, float low, float high, float* out) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto least = hn::Set(d, low), most = hn::Set(d, high);
    Between b;
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto v = hn::LoadU(d, values + i);
        const auto below = hn::Lt(v, least);
        b.less += hn::CountTrue(d, below);
        b.taken += hn::CompressStore(v, hn::AndNot(below, hn::Le(v, most)), d, out + b.taken);
    }
    const Between rest = take_between_reference(values + i, count - i, low, high, out + b.taken);
    b.taken += rest.taken;
    b.less += rest.less;
    return b;
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(Sums);
HWY_EXPORT(Take);

SumsWithin sums_within(const float* values, std::size_t count, float center, float low, float high) {
    return HWY_DYNAMIC_DISPATCH(Sums)(values, count, center, low, high);
}
Between take_between(const float* values, std::size_t count, float low, float high, float* out) {
    return HWY_DYNAMIC_DISPATCH(Take)(values, count, low, high, out);
}
} // namespace kasane
#endif
