// The loops of positions.hpp, compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/positions_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/image/even_lanes-inl.hpp>
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

#if HWY_TARGET != HWY_SCALAR
/// As many positions as there are lanes, of which each grows by `step` from line to line; lines `apart` values apart.
template <class D>
HWY_INLINE void split_lines(D d, const std::int64_t* start, std::int64_t step, std::size_t lines, int origin,
                            std::int32_t* whole, float* fraction, std::size_t apart) {
    const hn::RebindToFloat<D> df;
    EvenLanes<D> lanes(d, start, step, origin);
    for (std::size_t line = 0; line < lines; ++line, whole += apart, fraction += apart) {
        hn::StoreU(lanes.whole(), d, whole);
        hn::StoreU(lanes.fraction(), df, fraction);
        lanes.next();
    }
}
#endif

void SplitEvenPositions(std::int64_t start, std::int64_t step, std::size_t count, int origin, std::int32_t* whole,
                        float* fraction) {
    std::size_t i = 0;
#if HWY_TARGET != HWY_SCALAR
    const hn::ScalableTag<std::int32_t> d;
    const std::size_t lanes = hn::Lanes(d);
    std::int64_t begin[HWY_MAX_BYTES / sizeof(std::int32_t)];
    for (std::size_t k = 0; k < lanes; ++k)
        begin[k] = start + static_cast<std::int64_t>(k) * step;
    split_lines(d, begin, static_cast<std::int64_t>(lanes) * step, count / lanes, origin, whole, fraction, lanes);
    i = count / lanes * lanes;
#endif
    for (; i < count; ++i)
        split_one(start + static_cast<std::int64_t>(i) * step, origin, whole + i, fraction + i);
}

void SplitLinePositions(const std::array<std::int64_t, kLineLanes>& start, std::int64_t step, std::size_t lines,
                        int origin, std::int32_t* whole, float* fraction) {
#if HWY_TARGET != HWY_SCALAR
    const hn::CappedTag<std::int32_t, kLineLanes> d;
    for (std::size_t k = 0; k < kLineLanes; k += hn::Lanes(d))
        split_lines(d, start.data() + k, step, lines, origin, whole + k, fraction + k, kLineLanes);
#else
    for (std::size_t line = 0; line < lines; ++line)
        for (std::size_t k = 0; k < kLineLanes; ++k)
            split_one(start[k] + static_cast<std::int64_t>(line) * step, origin, whole++, fraction++);
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

/// One vector after the other is laid over the lanes from where the rise becomes another.
void RowsOfLines(const float* from, const std::array<std::int32_t, kLineLanes>& rise, std::size_t rows, float* to,
                 std::ptrdiff_t step) {
    const hn::CappedTag<float, kLineLanes> d;
    using V = hn::Vec<decltype(d)>;
    constexpr std::size_t kTogether = 4; // rows: a mask is fetched once for them
    const std::size_t lanes = hn::Lanes(d);
    for (std::size_t first = 0; first < kLineLanes; first += lanes) {
        hn::Mask<decltype(d)> onwards[kLineLanes];
        const float* line[kLineLanes];
        std::size_t runs = 0;
        for (std::size_t i = 0; i < lanes; ++i) {
            if (i > 0 && rise[first + i] == rise[first + i - 1]) continue;
            onwards[runs] = hn::Not(hn::FirstN(d, i));
            line[runs++] = from - rise[first + i] * kLineLanes + first;
        }
        std::size_t n = 0;
        for (; n + kTogether <= rows; n += kTogether) {
            V row[kTogether];
            for (std::size_t k = 0; k < kTogether; ++k)
                row[k] = hn::LoadU(d, line[0] + (n + k) * kLineLanes);
            for (std::size_t r = 1; r < runs; ++r)
                for (std::size_t k = 0; k < kTogether; ++k)
                    row[k] = hn::IfThenElse(onwards[r], hn::LoadU(d, line[r] + (n + k) * kLineLanes), row[k]);
            for (std::size_t k = 0; k < kTogether; ++k)
                hn::StoreU(row[k], d, to + static_cast<std::ptrdiff_t>(n + k) * step + first);
        }
        for (; n < rows; ++n) {
            V row = hn::LoadU(d, line[0] + n * kLineLanes);
            for (std::size_t r = 1; r < runs; ++r)
                row = hn::IfThenElse(onwards[r], hn::LoadU(d, line[r] + n * kLineLanes), row);
            hn::StoreU(row, d, to + static_cast<std::ptrdiff_t>(n) * step + first);
        }
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
HWY_EXPORT(RowsOfLines);
HWY_EXPORT(GatherLanes);

void split_positions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                     float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitPositions)(positions, count, origin, whole, fraction);
}
void split_even_positions(std::int64_t start, std::int64_t step, std::size_t count, int origin, std::int32_t* whole,
                          float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitEvenPositions)(start, step, count, origin, whole, fraction);
}
void split_line_positions(const std::array<std::int64_t, kLineLanes>& start, std::int64_t step, std::size_t lines,
                          int origin, std::int32_t* whole, float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitLinePositions)(start, step, lines, origin, whole, fraction);
}
void pick_positions(const std::int32_t* from_whole, const float* from_fraction, const std::int32_t* places,
                    std::size_t count, std::int32_t* whole, float* fraction) {
    HWY_DYNAMIC_DISPATCH(PickPositions)(from_whole, from_fraction, places, count, whole, fraction);
}
void rows_of_lines(const float* from, const std::array<std::int32_t, kLineLanes>& rise, std::size_t rows, float* to,
                   std::ptrdiff_t step) {
    HWY_DYNAMIC_DISPATCH(RowsOfLines)(from, rise, rows, to, step);
}
void gather_lanes(const float* from, std::ptrdiff_t step_from, const std::array<std::int32_t, kLineLanes>& places,
                  std::size_t times, float* to, std::ptrdiff_t step_to) {
    HWY_DYNAMIC_DISPATCH(GatherLanes)(from, step_from, places, times, to, step_to);
}
} // namespace kasane
#endif
