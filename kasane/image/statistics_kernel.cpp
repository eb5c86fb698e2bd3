// The two loops of robust statistics that go over all values, compiled once for every instruction set; the scalar
// references stand in statistics.cpp.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/statistics_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/image/statistics_kernel.hpp>

#include <algorithm>
#include <array>
#include <bit>
#include <cstdint>

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
        // Two of each: one alone would wait for itself.
        auto sum = hn::Zero(d), square = hn::Zero(d), number = hn::Zero(d), sum2 = sum, square2 = square,
             number2 = number;
        const auto add = [&](const float* from, auto& s, auto& q, auto& n) {
            const auto v = hn::LoadU(d, from);
            const auto inside = hn::And(hn::Ge(v, least), hn::Le(v, most));
            const auto difference = hn::IfThenElseZero(inside, hn::Sub(v, middle));
            s = hn::Add(s, difference);
            q = hn::MulAdd(difference, difference, q);
            n = hn::Add(n, hn::IfThenElseZero(inside, one));
        };
        const std::size_t end = std::min(count, i + kBlock);
        for (; i + 2 * lanes <= end; i += 2 * lanes) {
            add(values + i, sum, square, number);
            add(values + i + lanes, sum2, square2, number2);
        }
        for (; i + lanes <= end; i += lanes)
            add(values + i, sum, square, number);
        all.sum += static_cast<double>(hn::GetLane(hn::SumOfLanes(d, hn::Add(sum, sum2))));
        all.square += static_cast<double>(hn::GetLane(hn::SumOfLanes(d, hn::Add(square, square2))));
        all.count += static_cast<std::size_t>(hn::GetLane(hn::SumOfLanes(d, hn::Add(number, number2))));
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
        const auto mine = hn::AndNot(below, hn::Le(v, most));
        hn::StoreU(hn::Compress(v, mine), d, out + b.taken);
        b.taken += hn::CountTrue(d, mine);
    }
    const Between rest = take_between_reference(values + i, count - i, low, high, out + b.taken);
    b.taken += rest.taken;
    b.less += rest.less;
    return b;
}

/// Numbers in the order of floats, one for each: the bits, those of negative values turned round.
inline std::int32_t order_of(float v) {
    const auto bits = std::bit_cast<std::int32_t>(v);
    return bits ^ ((bits >> 31) & 0x7fffffff);
}
inline float float_of(std::int32_t order) {
    return std::bit_cast<float>(order ^ ((order >> 31) & 0x7fffffff));
}

/// So many values are not worth halving further.
constexpr std::size_t kFew = 16;

/// The values of two ranks of few, behind which there is room for a vector: each value is the highest that so many are
/// below.
Neighbours ranks_of_few(float* few, std::size_t count, std::size_t first, std::size_t second) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    std::fill_n(few + count, lanes, few[0]);
    const auto lowest = hn::Neg(hn::Inf(d)), one = hn::Set(d, 1.0f), rank = hn::Set(d, static_cast<float>(first)),
               other = hn::Set(d, static_cast<float>(second));
    auto at = lowest, next = lowest;
    for (std::size_t i = 0; i < count; i += lanes) {
        const auto v = hn::LoadU(d, few + i);
        auto below = hn::Zero(d);
        for (std::size_t k = 0; k < count; ++k)
            below = hn::Add(below, hn::IfThenElseZero(hn::Lt(hn::Set(d, few[k]), v), one));
        at = hn::Max(at, hn::IfThenElse(hn::Le(below, rank), v, lowest));
        next = hn::Max(next, hn::IfThenElse(hn::Le(below, other), v, lowest));
    }
    return {hn::GetLane(hn::MaxOfLanes(d, at)), hn::GetLane(hn::MaxOfLanes(d, next))};
}

std::size_t CountUpTo(const float* values, std::size_t count, float limit) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const std::size_t lanes = hn::Lanes(d);
    const auto most = hn::Set(d, limit);
    auto one = hn::Zero(di), two = one; // minus what was counted
    std::size_t i = 0;
    for (; i + 2 * lanes <= count; i += 2 * lanes) {
        one = hn::Add(one, hn::VecFromMask(di, hn::RebindMask(di, hn::Le(hn::LoadU(d, values + i), most))));
        two = hn::Add(two, hn::VecFromMask(di, hn::RebindMask(di, hn::Le(hn::LoadU(d, values + i + lanes), most))));
    }
    auto n = static_cast<std::size_t>(-hn::GetLane(hn::SumOfLanes(di, hn::Add(one, two))));
    for (; i < count; ++i)
        n += values[i] <= limit;
    return n;
}

/// The lowest value above a limit, where there is one.
float LowestAbove(const float* values, std::size_t count, float limit) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto bound = hn::Set(d, limit), beyond = hn::Inf(d);
    auto lowest = beyond;
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto v = hn::LoadU(d, values + i);
        lowest = hn::Min(lowest, hn::IfThenElse(hn::Gt(v, bound), v, beyond));
    }
    float out = hn::GetLane(hn::MinOfLanes(d, lowest));
    for (; i < count; ++i)
        if (values[i] > limit) out = std::min(out, values[i]);
    return out;
}

Neighbours SelectRank(const float* values, std::size_t count, std::size_t rank) {
    float low = values[0], high = values[0];
    {
        const hn::ScalableTag<float> d;
        const std::size_t lanes = hn::Lanes(d);
        auto least = hn::Set(d, values[0]), most = least;
        std::size_t i = 0;
        for (; i + lanes <= count; i += lanes) {
            const auto v = hn::LoadU(d, values + i);
            least = hn::Min(least, v);
            most = hn::Max(most, v);
        }
        low = hn::GetLane(hn::MinOfLanes(d, least));
        high = hn::GetLane(hn::MaxOfLanes(d, most));
        for (; i < count; ++i) {
            low = std::min(low, values[i]);
            high = std::max(high, values[i]);
        }
    }
    // In the order of floats; of all values `less` are below the first, `upto` not above the last.
    std::int64_t first = order_of(low), last = order_of(high);
    std::size_t less = 0, upto = count;
    const auto halve = [&](std::int64_t at) { // at most up to here, or beyond
        if (at < first || at >= last) return;
        const std::size_t n = CountUpTo(values, count, float_of(static_cast<std::int32_t>(at)));
        if (rank < n) {
            last = at;
            upto = n;
        } else {
            first = at + 1;
            less = n;
        }
    };
    std::array<float, kFew + kTakeSlack> few{};
    constexpr std::size_t kSlack = 4, kWorthWhile = 6 * kFew;
    if (count >= kWorthWhile) { // some of them tell where to begin
        for (std::size_t k = 0; k < kFew; ++k)
            few[k] = values[k * count / kFew];
        const std::size_t place = rank * kFew / count;
        const std::size_t before = place < kSlack ? 0 : place - kSlack, after = std::min(place + kSlack, kFew - 1);
        const auto [from, to] = ranks_of_few(few.data(), kFew, before, after);
        if (place >= kSlack) halve(std::int64_t{order_of(from)} - 1);
        if (place + kSlack < kFew) halve(order_of(to));
    }
    while (first < last && upto - less > kFew)
        halve((first + last) >> 1);
    low = float_of(static_cast<std::int32_t>(first));
    high = float_of(static_cast<std::int32_t>(last));
    const std::size_t place = rank - less, inside = upto - less;
    if (first >= last || inside > kFew) {
        const float next = rank + 1 < upto || rank + 1 == count ? low : LowestAbove(values, count, high);
        return {low + 0.0f, next + 0.0f}; // no -0
    }
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto bottom = hn::Set(d, low), top = hn::Set(d, high);
    std::size_t taken = 0, i = 0;
    for (; i + lanes <= count && taken < inside; i += lanes) {
        const auto v = hn::LoadU(d, values + i);
        const auto mine = hn::And(hn::Ge(v, bottom), hn::Le(v, top));
        if (!hn::AllFalse(d, mine)) taken += hn::CompressStore(v, mine, d, few.data() + taken);
    }
    for (; i < count && taken < inside; ++i)
        if (values[i] >= low && values[i] <= high) few[taken++] = values[i];
    auto [at, next] = ranks_of_few(few.data(), taken, place, place + 1);
    if (place + 1 >= inside && rank + 1 < count) next = LowestAbove(values, count, high);
    return {at + 0.0f, next + 0.0f};
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(Sums);
HWY_EXPORT(Take);
HWY_EXPORT(SelectRank);

SumsWithin sums_within(const float* values, std::size_t count, float center, float low, float high) {
    return HWY_DYNAMIC_DISPATCH(Sums)(values, count, center, low, high);
}
Between take_between(const float* values, std::size_t count, float low, float high, float* out) {
    return HWY_DYNAMIC_DISPATCH(Take)(values, count, low, high, out);
}
Neighbours select_rank(const float* values, std::size_t count, std::size_t rank) {
    return HWY_DYNAMIC_DISPATCH(SelectRank)(values, count, rank);
}
} // namespace kasane
#endif
