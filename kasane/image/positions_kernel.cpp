// The loops of positions.hpp, compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/positions_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/image/positions.hpp>

#include <algorithm>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

#if HWY_TARGET != HWY_SCALAR
/// Whole pixels from `from` on, and half of what is behind them, of positions that come as pairs of words, the lower
/// one first: of the first and of the second half of the lanes.
template <class D, class V = hn::Vec<D>>
HWY_INLINE void split(D d, V first, V second, V from, std::int32_t* whole, float* fraction) {
    const hn::RebindToUnsigned<D> du;
    const hn::RebindToFloat<D> df;
    hn::StoreU(hn::Sub(hn::ConcatOdd(d, second, first), from), d, whole);
    // Half of the lower words, which fits into a signed one.
    const auto half = hn::BitCast(d, hn::ShiftRight<1>(hn::BitCast(du, hn::ConcatEven(d, second, first))));
    hn::StoreU(hn::Mul(hn::ConvertTo(df, half), hn::Set(df, 0x1p-31f)), df, fraction);
}
#endif

HWY_INLINE void split_one(std::int64_t position, int origin, std::int32_t* whole, float* fraction) {
    *whole = static_cast<std::int32_t>(position >> 32) - origin;
    *fraction = static_cast<float>(static_cast<std::int32_t>(static_cast<std::uint32_t>(position) >> 1)) * 0x1p-31f;
}

void SplitPositions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                    float* fraction) {
    std::size_t i = 0;
#if HWY_TARGET != HWY_SCALAR
    const hn::ScalableTag<std::int32_t> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto from = hn::Set(d, origin);
    const auto* words = reinterpret_cast<const std::int32_t*>(positions); // lower and upper, in turn
    for (; i + lanes <= count; i += lanes)
        split(d, hn::LoadU(d, words + 2 * i), hn::LoadU(d, words + 2 * i + lanes), from, whole + i, fraction + i);
#endif
    for (; i < count; ++i)
        split_one(positions[i], origin, whole + i, fraction + i);
}

void SplitEvenPositions(std::int64_t start, std::int64_t step, std::size_t count, int origin, std::int32_t* whole,
                        float* fraction) {
    std::size_t i = 0;
#if HWY_TARGET != HWY_SCALAR
    const hn::ScalableTag<std::int32_t> d;
    const hn::ScalableTag<std::int64_t> d64;
    const std::size_t lanes = hn::Lanes(d);
    HWY_ALIGN std::int64_t begin[HWY_MAX_BYTES / sizeof(std::int32_t)];
    for (std::size_t k = 0; k < lanes; ++k)
        begin[k] = start + static_cast<std::int64_t>(k) * step;
    auto first = hn::Load(d64, begin), second = hn::Load(d64, begin + lanes / 2);
    const auto next = hn::Set(d64, static_cast<std::int64_t>(lanes) * step);
    const auto from = hn::Set(d, origin);
    for (; i + lanes <= count; i += lanes) {
        split(d, hn::BitCast(d, first), hn::BitCast(d, second), from, whole + i, fraction + i);
        first = hn::Add(first, next);
        second = hn::Add(second, next);
    }
#endif
    for (; i < count; ++i)
        split_one(start + static_cast<std::int64_t>(i) * step, origin, whole + i, fraction + i);
}

/// Calls many(k) for vectors of lanes from pixel k of a group on where it is whole, else one(pixel of the group, k).
template <class Many, class One>
HWY_INLINE void for_each_in_group(const LineGroup& g, std::size_t lanes, Many many, One one) {
    constexpr std::size_t kAll = LineGroup::kTogether;
    std::size_t k = 0;
    if (HWY_LIKELY(g.count == LineGroup::kTogether))
        for (; k + lanes <= kAll; k += lanes)
            many(k);
    for (; k < kAll; ++k)
        one(std::min(k, static_cast<std::size_t>(g.count) - 1), k);
}

void SplitLinePositions(const LineTable& table, const std::int64_t* along, const std::int64_t* across,
                        const LineGroup* groups, std::size_t count, int origin, std::int32_t* whole, float* fraction) {
    const hn::ScalableTag<std::int32_t> d;
    const std::size_t lanes = hn::Lanes(d);
#if HWY_TARGET != HWY_SCALAR
    const hn::ScalableTag<std::int64_t> d64;
    const hn::Rebind<std::int32_t, decltype(d64)> half;
    const auto from = hn::Set(d, origin);
#endif
    for (std::size_t n = 0; n < count; ++n, whole += LineGroup::kTogether, fraction += LineGroup::kTogether) {
        const LineGroup& g = groups[n];
        const std::int32_t* rise = table.rise + g.first;
        const std::int64_t *own = along + g.first, *beside = across + g.line;
#if HWY_TARGET != HWY_SCALAR
        // What lies across is as many values as there are lanes at most, one beside the other.
        const auto sum = [&](std::size_t k) HWY_ATTR {
            const auto steps = hn::Sub(hn::LoadU(half, rise + k), hn::Set(half, rise[k]));
            const auto picked = hn::TableLookupLanes(hn::LoadU(d64, beside + rise[k]),
                                                     hn::IndicesFromVec(d64, hn::PromoteTo(d64, steps)));
            return hn::BitCast(d, hn::Add(hn::LoadU(d64, own + k), picked));
        };
        const auto many = [&](std::size_t k)
                              HWY_ATTR { split(d, sum(k), sum(k + lanes / 2), from, whole + k, fraction + k); };
#else
        const auto many = [&](std::size_t) {};
#endif
        const auto one = [&](std::size_t i, std::size_t k) {
            split_one(own[i] + beside[rise[i]], origin, whole + k, fraction + k);
        };
        for_each_in_group(g, HWY_TARGET == HWY_SCALAR ? LineGroup::kTogether + 1 : lanes, many, one);
    }
}

void SplitPositionsAt(const LineTable& table, const std::int64_t* positions, const LineGroup* groups, std::size_t count,
                      int origin, std::int32_t* whole, float* fraction) {
    const hn::ScalableTag<std::int32_t> d;
    const std::size_t lanes = hn::Lanes(d);
#if HWY_TARGET != HWY_SCALAR
    const hn::ScalableTag<std::int64_t> d64;
    const hn::Rebind<std::int32_t, decltype(d64)> half;
    const auto from = hn::Set(d, origin);
#endif
    for (std::size_t n = 0; n < count; ++n, whole += LineGroup::kTogether, fraction += LineGroup::kTogether) {
        const LineGroup& g = groups[n];
        const std::int32_t* places = table.places + g.first;
        const std::int64_t* here = positions + g.line * table.step;
#if HWY_TARGET != HWY_SCALAR
        const auto at = [&](const std::int32_t* where) HWY_ATTR {
            return hn::BitCast(d, hn::GatherIndex(d64, here, hn::PromoteTo(d64, hn::LoadU(half, where))));
        };
        const auto many = [&](std::size_t k) HWY_ATTR {
            split(d, at(places + k), at(places + k + lanes / 2), from, whole + k, fraction + k);
        };
#else
        const auto many = [&](std::size_t) {};
#endif
        const auto one = [&](std::size_t i, std::size_t k) {
            split_one(here[places[i]], origin, whole + k, fraction + k);
        };
        for_each_in_group(g, HWY_TARGET == HWY_SCALAR ? LineGroup::kTogether + 1 : lanes, many, one);
    }
}

void PutAt(const LineTable& table, const float* values, const LineGroup* groups, std::size_t count, float* to) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const std::size_t lanes = hn::Lanes(d);
    for (std::size_t n = 0; n < count; ++n, values += LineGroup::kTogether) {
        const LineGroup& g = groups[n];
        const std::int32_t* places = table.places + g.first;
        float* const here = to + g.line * table.step;
        const auto many = [&](std::size_t k) HWY_ATTR {
            hn::ScatterIndex(hn::LoadU(d, values + k), d, here, hn::LoadU(di, places + k));
        };
        const auto one = [&](std::size_t i, std::size_t k) { here[places[i]] = values[k]; };
        for_each_in_group(g, lanes, many, one);
    }
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(SplitPositions);
HWY_EXPORT(SplitEvenPositions);
HWY_EXPORT(SplitLinePositions);
HWY_EXPORT(SplitPositionsAt);
HWY_EXPORT(PutAt);

void split_positions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                     float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitPositions)(positions, count, origin, whole, fraction);
}
void split_even_positions(std::int64_t start, std::int64_t step, std::size_t count, int origin, std::int32_t* whole,
                          float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitEvenPositions)(start, step, count, origin, whole, fraction);
}
void split_line_positions(const LineTable& table, const std::int64_t* along, const std::int64_t* across,
                          const LineGroup* groups, std::size_t count, int origin, std::int32_t* whole,
                          float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitLinePositions)(table, along, across, groups, count, origin, whole, fraction);
}
void split_positions_at(const LineTable& table, const std::int64_t* positions, const LineGroup* groups,
                        std::size_t count, int origin, std::int32_t* whole, float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitPositionsAt)(table, positions, groups, count, origin, whole, fraction);
}
void put_at(const LineTable& table, const float* values, const LineGroup* groups, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(PutAt)(table, values, groups, count, to);
}
} // namespace kasane
#endif
