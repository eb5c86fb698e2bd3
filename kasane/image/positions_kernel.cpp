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

void SplitLinePositions(const LaneRise& rise, const std::int64_t* along, const std::int64_t* across, std::size_t lines,
                        int origin, std::int32_t* whole, float* fraction) {
#if HWY_TARGET != HWY_SCALAR
    const hn::CappedTag<std::int64_t, kLineLanes / 2> d64;
    const hn::Repartition<std::int32_t, decltype(d64)> words;
    const std::size_t lanes = hn::Lanes(d64), parts = kLineLanes / lanes;
    // What lies across is as many values as there are lanes at most, one beside the other.
    constexpr std::size_t kMostParts = kLineLanes / 2;
    std::ptrdiff_t base[kMostParts];
    HWY_ALIGN std::int64_t steps[kLineLanes];
    for (std::size_t part = 0; part < parts; ++part) {
        const std::int32_t* own = rise.data() + part * lanes;
        base[part] = *std::min_element(own, own + lanes);
        for (std::size_t k = 0; k < lanes; ++k)
            steps[part * lanes + k] = own[k] - base[part];
    }
    const auto from = hn::Set(words, origin);
    for (std::size_t line = 0; line < lines; ++line, whole += kLineLanes, fraction += kLineLanes) {
        const auto sum = [&](std::size_t part) HWY_ATTR {
            const auto own = hn::IndicesFromVec(d64, hn::Load(d64, steps + part * lanes));
            const auto picked =
                hn::TableLookupLanes(hn::LoadU(d64, across + static_cast<std::ptrdiff_t>(line) + base[part]), own);
            return hn::BitCast(words, hn::Add(hn::LoadU(d64, along + part * lanes), picked));
        };
        for (std::size_t part = 0; part < parts; part += 2)
            split(words, sum(part), sum(part + 1), from, whole + part * lanes, fraction + part * lanes);
    }
#else
    for (std::size_t line = 0; line < lines; ++line)
        for (std::size_t i = 0; i < kLineLanes; ++i)
            split_one(along[i] + across[static_cast<std::ptrdiff_t>(line) + rise[i]], origin, whole++, fraction++);
#endif
}

void PickPositions(const std::int32_t* from_whole, const float* from_fraction, const std::int32_t* places,
                   std::size_t count, std::int32_t* whole, float* fraction) {
    const hn::ScalableTag<float> df;
    const hn::RebindToSigned<decltype(df)> d;
    const std::size_t lanes = hn::Lanes(d);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto at = hn::LoadU(d, places + i);
        hn::StoreU(hn::GatherIndex(d, from_whole, at), d, whole + i);
        hn::StoreU(hn::GatherIndex(df, from_fraction, at), df, fraction + i);
    }
    for (; i < count; ++i) {
        whole[i] = from_whole[places[i]];
        fraction[i] = from_fraction[places[i]];
    }
}

void GatherLanes(const float* from, std::ptrdiff_t step_from, const std::array<std::int32_t, kLineLanes>& places,
                 std::size_t times, float* to, std::ptrdiff_t step_to) {
    const hn::CappedTag<float, kLineLanes> d;
    const hn::RebindToSigned<decltype(d)> di;
    for (std::size_t n = 0; n < times; ++n, from += step_from, to += step_to)
        for (std::size_t i = 0; i < kLineLanes; i += hn::Lanes(d))
            hn::StoreU(hn::GatherIndex(d, from, hn::LoadU(di, places.data() + i)), d, to + i);
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(SplitPositions);
HWY_EXPORT(SplitEvenPositions);
HWY_EXPORT(SplitLinePositions);
HWY_EXPORT(PickPositions);
HWY_EXPORT(GatherLanes);

void split_positions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                     float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitPositions)(positions, count, origin, whole, fraction);
}
void split_even_positions(std::int64_t start, std::int64_t step, std::size_t count, int origin, std::int32_t* whole,
                          float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitEvenPositions)(start, step, count, origin, whole, fraction);
}
void split_line_positions(const LaneRise& rise, const std::int64_t* along, const std::int64_t* across,
                          std::size_t lines, int origin, std::int32_t* whole, float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitLinePositions)(rise, along, across, lines, origin, whole, fraction);
}
void pick_positions(const std::int32_t* from_whole, const float* from_fraction, const std::int32_t* places,
                    std::size_t count, std::int32_t* whole, float* fraction) {
    HWY_DYNAMIC_DISPATCH(PickPositions)(from_whole, from_fraction, places, count, whole, fraction);
}
void gather_lanes(const float* from, std::ptrdiff_t step_from, const std::array<std::int32_t, kLineLanes>& places,
                  std::size_t times, float* to, std::ptrdiff_t step_to) {
    HWY_DYNAMIC_DISPATCH(GatherLanes)(from, step_from, places, times, to, step_to);
}
} // namespace kasane
#endif
