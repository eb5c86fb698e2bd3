#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/row_arithmetic_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

bool CalibrateRow(float* to, const float* subtract, const float* multiply, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    bool whole = true;
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        auto v = hn::LoadU(d, to + i);
        if (subtract) v = hn::Sub(v, hn::LoadU(d, subtract + i));
        if (multiply) v = hn::Mul(v, hn::LoadU(d, multiply + i));
        hn::StoreU(v, d, to + i);
        whole &= hn::AllTrue(d, hn::IsFinite(v));
    }
    for (; i < count; ++i) {
        if (subtract) to[i] -= subtract[i];
        if (multiply) to[i] *= multiply[i];
        whole &= std::isfinite(to[i]);
    }
    return whole;
}

void ReciprocalRow(float* by, const float* level, float least, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    constexpr float kNothing = std::numeric_limits<float>::quiet_NaN();
    const auto l = hn::Set(d, least), nothing = hn::Set(d, kNothing);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto whole = hn::LoadU(d, level + i), part = hn::LoadU(d, by + i);
        hn::StoreU(hn::IfThenElse(hn::Gt(part, hn::Mul(l, whole)), hn::Div(whole, part), nothing), d, by + i);
    }
    for (; i < count; ++i)
        by[i] = by[i] > least * level[i] ? level[i] / by[i] : kNothing;
}

/// `kTaps`: of the kernel where that is known before, else 0.
template <std::size_t kTaps>
HWY_INLINE void symmetric_row_of(float* to, const float* middle, const float* const* before, const float* const* after,
                                 const float* kernel, std::size_t any_taps, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d), taps = kTaps ? kTaps : any_taps;
    std::size_t i = 0;
    for (; i + 2 * lanes <= count; i += 2 * lanes) {
        const auto first = hn::Set(d, kernel[0]);
        auto one = hn::Mul(first, hn::LoadU(d, middle + i)), two = hn::Mul(first, hn::LoadU(d, middle + i + lanes));
        for (std::size_t k = 1; k < taps; ++k) {
            const auto tap = hn::Set(d, kernel[k]);
            const float *a = before[k - 1] + i, *b = after[k - 1] + i;
            one = hn::Add(one, hn::Mul(tap, hn::Add(hn::LoadU(d, a), hn::LoadU(d, b))));
            two = hn::Add(two, hn::Mul(tap, hn::Add(hn::LoadU(d, a + lanes), hn::LoadU(d, b + lanes))));
        }
        hn::StoreU(one, d, to + i);
        hn::StoreU(two, d, to + i + lanes);
    }
    for (; i < count; ++i) {
        float sum = kernel[0] * middle[i];
        for (std::size_t k = 1; k < taps; ++k)
            sum += kernel[k] * (before[k - 1][i] + after[k - 1][i]);
        to[i] = sum;
    }
}

void SymmetricRow(float* to, const float* middle, const float* const* before, const float* const* after,
                  const float* kernel, std::size_t taps, std::size_t count) {
    constexpr std::size_t kUsual = 4;
    if (taps == kUsual)
        symmetric_row_of<kUsual>(to, middle, before, after, kernel, taps, count);
    else
        symmetric_row_of<0>(to, middle, before, after, kernel, taps, count);
}

void WeightedRow(float* to, const float* const* from, const float* kernel, std::size_t taps, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    std::size_t i = 0;
    for (; i + 4 * lanes <= count; i += 4 * lanes) {
        auto one = hn::Zero(d), two = one, three = one, four = one;
        for (std::size_t k = 0; k < taps; ++k) {
            const auto tap = hn::Set(d, kernel[k]);
            const float* v = from[k] + i;
            one = hn::Add(one, hn::Mul(tap, hn::LoadU(d, v)));
            two = hn::Add(two, hn::Mul(tap, hn::LoadU(d, v + lanes)));
            three = hn::Add(three, hn::Mul(tap, hn::LoadU(d, v + 2 * lanes)));
            four = hn::Add(four, hn::Mul(tap, hn::LoadU(d, v + 3 * lanes)));
        }
        hn::StoreU(one, d, to + i);
        hn::StoreU(two, d, to + i + lanes);
        hn::StoreU(three, d, to + i + 2 * lanes);
        hn::StoreU(four, d, to + i + 3 * lanes);
    }
    for (; i < count; ++i) {
        float sum = 0;
        for (std::size_t k = 0; k < taps; ++k)
            sum += kernel[k] * from[k][i];
        to[i] = sum;
    }
}

void RampRow(float base, float slope, int first, std::size_t count, float* to) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const std::size_t lanes = hn::Lanes(d);
    const auto from = hn::Set(d, base), by = hn::Set(d, slope);
    const auto next = hn::Set(di, static_cast<std::int32_t>(lanes));
    auto place = hn::Iota(di, first);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes, place = hn::Add(place, next))
        hn::StoreU(hn::Add(from, hn::Mul(by, hn::ConvertTo(d, place))), d, to + i);
    for (; i < count; ++i)
        to[i] = base + slope * static_cast<float>(first + static_cast<int>(i));
}

/// The pieces of such a row: piece(origin, slope, from, end) has origin + slope * x from column `from` to before `end`.
template <class Piece>
HWY_INLINE void pieces_of(const MeshRow& m, int first, int count, Piece piece) {
    const auto knot = [&](int i) {
        const int k = std::clamp(i, 0, m.cells - 1);
        return m.above[k] * (1 - m.share) + m.below[k] * m.share;
    };
    const int last = first + count;
    int i = std::clamp((2 * first - m.cell) / (2 * m.cell) - 1, -1, m.cells - 1); // or one before
    float left = 0, right = knot(i);
    for (int x = first; x < last; ++i) { // between the middles of cells i and i + 1
        const int end = i + 1 >= m.cells ? last : std::min(last, (2 * i + 3) * m.cell / 2);
        left = right;
        right = knot(i + 1);
        if (x >= end) continue;
        const float slope = (right - left) / static_cast<float>(m.cell);
        piece(left - slope * (0.5f * static_cast<float>((2 * i + 1) * m.cell - 1)), slope, x, end);
        x = end;
    }
}

void FillMeshRow(const MeshRow& mesh, int first, int count, float* to) {
    pieces_of(mesh, first, count, [&](float origin, float slope, int x, int end) {
        RampRow(origin, slope, x, static_cast<std::size_t>(end - x), to + (x - first));
    });
}

void MinusMeshRow(const MeshRow& mesh, const float* values, int first, int count, float* out) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto next = hn::Set(di, lanes);
    pieces_of(mesh, first, count, [&](float origin, float slope, int x, int end) {
        const auto base = hn::Set(d, origin), by = hn::Set(d, slope);
        auto place = hn::Iota(di, x);
        const float* from = values + (x - first);
        float* to = out + (x - first);
        for (; x + lanes <= end; x += lanes, from += lanes, to += lanes, place = hn::Add(place, next)) {
            const auto level = hn::Add(base, hn::Mul(by, hn::ConvertTo(d, place)));
            const auto v = hn::Sub(hn::LoadU(d, from), level);
            hn::StoreU(hn::IfThenElseZero(hn::Eq(v, v), v), d, to);
        }
        for (; x < end; ++x) {
            const float v = *from++ - (origin + slope * static_cast<float>(x));
            *to++ = v == v ? v : 0.0f;
        }
    });
}

void AddCubicRow(const std::array<float, 4>& c, float start, float step, int first, std::size_t count, float* to) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const std::size_t lanes = hn::Lanes(d);
    const auto c0 = hn::Set(d, c[0]), c1 = hn::Set(d, c[1]), c2 = hn::Set(d, c[2]), c3 = hn::Set(d, c[3]);
    const auto from = hn::Set(d, start), by = hn::Set(d, step);
    const auto next = hn::Set(di, static_cast<std::int32_t>(lanes));
    auto place = hn::Iota(di, first);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes, place = hn::Add(place, next)) {
        const auto t = hn::Add(from, hn::Mul(by, hn::ConvertTo(d, place)));
        const auto high = hn::Add(c1, hn::Mul(t, hn::Add(c2, hn::Mul(t, c3))));
        hn::StoreU(hn::Add(hn::LoadU(d, to + i), hn::Add(c0, hn::Mul(t, high))), d, to + i);
    }
    for (; i < count; ++i) {
        const float t = start + step * static_cast<float>(first + static_cast<int>(i));
        to[i] += c[0] + t * (c[1] + t * (c[2] + t * c[3]));
    }
}

bool ScaleRow(float* to, const float* scale, const float* offset, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    bool whole = true;
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto v = hn::Add(hn::Mul(hn::LoadU(d, scale + i), hn::LoadU(d, to + i)), hn::LoadU(d, offset + i));
        hn::StoreU(v, d, to + i);
        whole &= hn::AllTrue(d, hn::IsFinite(v));
    }
    for (; i < count; ++i) {
        to[i] = scale[i] * to[i] + offset[i];
        whole &= std::isfinite(to[i]);
    }
    return whole;
}

void SecondDifferenceRow(const float* before, const float* middle, const float* after, std::size_t count, float* to) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto two = hn::Set(d, 2.0f);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto fall = hn::Sub(hn::LoadU(d, before + i), hn::Mul(two, hn::LoadU(d, middle + i)));
        hn::StoreU(hn::Add(fall, hn::LoadU(d, after + i)), d, to + i);
    }
    for (; i < count; ++i)
        to[i] = before[i] - 2 * middle[i] + after[i];
}

std::size_t TakeEvery(const float* values, std::size_t step, std::size_t count, float* to) {
    std::size_t i = 0, n = 0;
#if HWY_TARGET != HWY_SCALAR
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    auto first = hn::Zero(d), second = first, third = first, fourth = first;
    if (step == 2)
        for (; i + 2 * lanes <= count; i += 2 * lanes, n += lanes) {
            hn::LoadInterleaved2(d, values + i, first, second);
            hn::StoreU(first, d, to + n);
        }
    if (step == 4)
        for (; i + 4 * lanes <= count; i += 4 * lanes, n += lanes) {
            hn::LoadInterleaved4(d, values + i, first, second, third, fourth);
            hn::StoreU(first, d, to + n);
        }
#endif
    for (; i < count; i += step)
        to[n++] = values[i];
    return n;
}

void RaiseRow(float* to, const float* from, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto a = hn::LoadU(d, to + i), b = hn::LoadU(d, from + i);
        hn::StoreU(hn::IfThenElse(hn::Gt(b, a), b, a), d, to + i);
    }
    for (; i < count; ++i)
        to[i] = from[i] > to[i] ? from[i] : to[i];
}

float HighestOf(const float* values, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    auto one = hn::Neg(hn::Inf(d)), two = one;
    std::size_t i = 0;
    for (; i + 2 * lanes <= count; i += 2 * lanes) {
        const auto v = hn::LoadU(d, values + i), w = hn::LoadU(d, values + i + lanes);
        one = hn::IfThenElse(hn::Gt(v, one), v, one);
        two = hn::IfThenElse(hn::Gt(w, two), w, two);
    }
    float highest = hn::GetLane(hn::MaxOfLanes(d, hn::IfThenElse(hn::Gt(two, one), two, one)));
    for (; i < count; ++i)
        if (values[i] > highest) highest = values[i];
    return highest;
}

bool AnyGap(const float* values, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes)
        if (!hn::AllTrue(d, hn::IsFinite(hn::LoadU(d, values + i)))) return true;
    for (; i < count; ++i)
        if (!std::isfinite(values[i])) return true;
    return false;
}

bool AnyAtLeast(const float* values, float limit, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto least = hn::Set(d, limit);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes)
        if (!hn::AllFalse(d, hn::Ge(hn::LoadU(d, values + i), least))) return true;
    for (; i < count; ++i)
        if (values[i] >= limit) return true;
    return false;
}

std::size_t PeaksOfRow(const ThreeRows& rows, float limit, std::size_t count, std::int32_t* places) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto least = hn::Set(d, limit);
    const auto at = [d](const float* from) { return hn::LoadU(d, from); };
    std::size_t n = 0, i = 0;
    for (; i + lanes <= count; i += lanes) {
        const float *above = rows.above + i, *here = rows.here + i, *below = rows.below + i;
        const auto v = at(here);
        const auto bright = hn::Gt(v, least);
        if (hn::AllFalse(d, bright)) continue; // most
        const auto first = hn::And(hn::And(hn::Ge(v, at(here - 1)), hn::Ge(v, at(above - 1))),
                                   hn::And(hn::Ge(v, at(above)), hn::Ge(v, at(above + 1)))),
                   last = hn::And(hn::And(hn::Gt(v, at(here + 1)), hn::Gt(v, at(below - 1))),
                                  hn::And(hn::Gt(v, at(below)), hn::Gt(v, at(below + 1))));
        const auto peak = hn::And(bright, hn::And(first, last));
        if (hn::AllFalse(d, peak)) continue;
        std::array<std::uint8_t, hn::MaxLanes(d) / 8 + 8> bits{};
        hn::StoreMaskBits(d, peak, bits.data());
        for (std::size_t k = 0; k < lanes; ++k)
            if (bits[k / 8] >> (k % 8) & 1) places[n++] = static_cast<std::int32_t>(i + k);
    }
    for (; i < count; ++i) {
        const float *a = rows.above + i, *h = rows.here + i, *b = rows.below + i;
        const bool first = *h >= h[-1] && *h >= a[-1] && *h >= a[0] && *h >= a[1],
                   last = *h > h[1] && *h > b[-1] && *h > b[0] && *h > b[1];
        if (*h > limit && first && last) places[n++] = static_cast<std::int32_t>(i);
    }
    return n;
}

std::size_t CountAtLeast(const float* values, float limit, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto least = hn::Set(d, limit);
    std::size_t n = 0, i = 0;
    for (; i + lanes <= count; i += lanes)
        n += hn::CountTrue(d, hn::Ge(hn::LoadU(d, values + i), least));
    for (; i < count; ++i)
        n += values[i] >= limit;
    return n;
}

std::size_t TakeUncovered(const float* values, const std::uint8_t* covered, std::size_t count, float* to,
                          std::size_t& present) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const hn::Rebind<std::uint8_t, decltype(d)> d8;
    const std::size_t lanes = hn::Lanes(d);
    std::size_t n = 0, known = 0, i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto v = hn::LoadU(d, values + i);
        const auto number = hn::Eq(v, v);
        const auto cover = hn::PromoteTo(di, hn::LoadU(d8, covered + i));
        const auto open = hn::And(number, hn::RebindMask(d, hn::Eq(cover, hn::Zero(di))));
        if (hn::AllTrue(d, open)) { // most
            hn::StoreU(v, d, to + n);
            known += lanes;
            n += lanes;
            continue;
        }
        known += hn::CountTrue(d, number);
        hn::StoreU(hn::Compress(v, open), d, to + n);
        n += hn::CountTrue(d, open);
    }
    for (; i < count; ++i) {
        const bool number = values[i] == values[i];
        known += number;
        to[n] = values[i];
        n += number && covered[i] == 0;
    }
    present += known;
    return n;
}

void TakeUncoveredCells(const float* values, const std::uint8_t* covered, int side, std::size_t count,
                        std::size_t cells, CellValues* to) {
    for (std::size_t k = 0; k < cells; ++k) {
        const std::size_t from = k * static_cast<std::size_t>(side),
                          end = k + 1 == cells ? count : (k + 1) * static_cast<std::size_t>(side);
        if (from < end)
            to[k].next += TakeUncovered(values + from, covered + from, end - from, to[k].next, to[k].present);
    }
}

std::size_t CountPresent(const float* values, const std::int32_t* where, std::size_t count) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const std::size_t lanes = hn::Lanes(d);
    std::size_t n = 0, i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto v = hn::LoadU(d, values + i);
        auto present = hn::Eq(v, v);
        if (where) present = hn::And(present, hn::RebindMask(d, hn::Ne(hn::LoadU(di, where + i), hn::Zero(di))));
        n += hn::CountTrue(d, present);
    }
    for (; i < count; ++i)
        n += values[i] == values[i] && (!where || where[i] != 0);
    return n;
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(CalibrateRow);
HWY_EXPORT(RampRow);
HWY_EXPORT(FillMeshRow);
HWY_EXPORT(MinusMeshRow);
HWY_EXPORT(TakeUncoveredCells);
HWY_EXPORT(AddCubicRow);
HWY_EXPORT(ScaleRow);
HWY_EXPORT(SecondDifferenceRow);
HWY_EXPORT(TakeEvery);
HWY_EXPORT(ReciprocalRow);
HWY_EXPORT(HighestOf);
HWY_EXPORT(AnyGap);
HWY_EXPORT(AnyAtLeast);
HWY_EXPORT(PeaksOfRow);
HWY_EXPORT(CountAtLeast);
HWY_EXPORT(TakeUncovered);
HWY_EXPORT(CountPresent);
HWY_EXPORT(RaiseRow);
HWY_EXPORT(SymmetricRow);
HWY_EXPORT(WeightedRow);

bool calibrate_row(float* to, const float* subtract, const float* multiply, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(CalibrateRow)(to, subtract, multiply, count);
}
void ramp_row(float base, float slope, int first, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(RampRow)(base, slope, first, count, to);
}
void mesh_row(const MeshRow& mesh, int first, int count, float* to) {
    HWY_DYNAMIC_DISPATCH(FillMeshRow)(mesh, first, count, to);
}
void minus_mesh_row(const MeshRow& mesh, const float* from, int first, int count, float* to) {
    HWY_DYNAMIC_DISPATCH(MinusMeshRow)(mesh, from, first, count, to);
}
void take_uncovered_cells(const float* values, const std::uint8_t* covered, int side, std::size_t count,
                          std::size_t cells, CellValues* to) {
    HWY_DYNAMIC_DISPATCH(TakeUncoveredCells)(values, covered, side, count, cells, to);
}
void add_cubic_row(const std::array<float, 4>& c, float start, float step, int first, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(AddCubicRow)(c, start, step, first, count, to);
}
bool scale_row(float* to, const float* scale, const float* offset, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(ScaleRow)(to, scale, offset, count);
}
void second_difference_row(const float* before, const float* middle, const float* after, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(SecondDifferenceRow)(before, middle, after, count, to);
}
std::size_t take_every(const float* values, std::size_t step, std::size_t count, float* to) {
    return HWY_DYNAMIC_DISPATCH(TakeEvery)(values, step, count, to);
}
std::size_t peaks_of_row(const ThreeRows& rows, float limit, std::size_t count, std::int32_t* places) {
    return HWY_DYNAMIC_DISPATCH(PeaksOfRow)(rows, limit, count, places);
}
std::size_t count_at_least(const float* values, float limit, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(CountAtLeast)(values, limit, count);
}
std::size_t take_uncovered(const float* values, const std::uint8_t* covered, std::size_t count, float* to,
                           std::size_t& present) {
    return HWY_DYNAMIC_DISPATCH(TakeUncovered)(values, covered, count, to, present);
}
void reciprocal_row(float* by, const float* level, float least, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(ReciprocalRow)(by, level, least, count);
}
void raise_row(float* to, const float* from, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(RaiseRow)(to, from, count);
}
void symmetric_row(float* to, const float* middle, const float* const* before, const float* const* after,
                   const float* kernel, std::size_t taps, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(SymmetricRow)(to, middle, before, after, kernel, taps, count);
}
void weighted_row(float* to, const float* const* from, const float* kernel, std::size_t taps, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(WeightedRow)(to, from, kernel, taps, count);
}
float highest_of(const float* values, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(HighestOf)(values, count);
}
bool any_gap(const float* values, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(AnyGap)(values, count);
}
bool any_at_least(const float* values, float limit, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(AnyAtLeast)(values, limit, count);
}
std::size_t count_present(const float* values, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(CountPresent)(values, nullptr, count);
}
std::size_t count_present(const float* values, const std::int32_t* where, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(CountPresent)(values, where, count);
}
} // namespace kasane
#endif
