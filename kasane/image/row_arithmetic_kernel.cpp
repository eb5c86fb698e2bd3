#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/row_arithmetic_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/image/row_arithmetic.hpp>

#include <cmath>
#include <limits>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

void SubtractRow(float* to, float factor, const float* from, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto f = hn::Set(d, factor);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes)
        hn::StoreU(hn::Sub(hn::LoadU(d, to + i), hn::Mul(f, hn::LoadU(d, from + i))), d, to + i);
    for (; i < count; ++i)
        to[i] -= factor * from[i];
}

void DivideRow(float* to, const float* level, const float* by, float least, std::size_t count) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    constexpr float kNothing = std::numeric_limits<float>::quiet_NaN();
    const auto l = hn::Set(d, least), nothing = hn::Set(d, kNothing);
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto whole = hn::LoadU(d, level + i), part = hn::LoadU(d, by + i);
        const auto divided = hn::Div(hn::Mul(hn::LoadU(d, to + i), whole), part);
        hn::StoreU(hn::IfThenElse(hn::Gt(part, hn::Mul(l, whole)), divided, nothing), d, to + i);
    }
    for (; i < count; ++i)
        to[i] = by[i] > least * level[i] ? to[i] * level[i] / by[i] : kNothing;
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

void SplitPositions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                    float* fraction) {
    std::size_t i = 0;
#if HWY_TARGET != HWY_SCALAR
    const hn::ScalableTag<std::int32_t> d;
    const hn::RebindToUnsigned<decltype(d)> du;
    const hn::RebindToFloat<decltype(d)> df;
    const std::size_t lanes = hn::Lanes(d);
    const auto from = hn::Set(d, origin);
    const auto unit = hn::Set(df, 0x1p-31f);
    const auto* words = reinterpret_cast<const std::int32_t*>(positions); // lower and upper, in turn
    for (; i + lanes <= count; i += lanes) {
        const auto a = hn::LoadU(d, words + 2 * i), b = hn::LoadU(d, words + 2 * i + lanes);
        hn::StoreU(hn::Sub(hn::ConcatOdd(d, b, a), from), d, whole + i);
        // Half of the lower words, which fits into a signed one.
        const auto half = hn::BitCast(d, hn::ShiftRight<1>(hn::BitCast(du, hn::ConcatEven(d, b, a))));
        hn::StoreU(hn::Mul(hn::ConvertTo(df, half), unit), df, fraction + i);
    }
#endif
    for (; i < count; ++i) {
        whole[i] = static_cast<std::int32_t>(positions[i] >> 32) - origin;
        fraction[i] =
            static_cast<float>(static_cast<std::int32_t>(static_cast<std::uint32_t>(positions[i]) >> 1)) * 0x1p-31f;
    }
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(SubtractRow);
HWY_EXPORT(DivideRow);
HWY_EXPORT(AnyGap);
HWY_EXPORT(CountPresent);
HWY_EXPORT(SplitPositions);

void subtract_row(float* to, float factor, const float* from, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(SubtractRow)(to, factor, from, count);
}
void divide_row(float* to, const float* level, const float* by, float least, std::size_t count) {
    HWY_DYNAMIC_DISPATCH(DivideRow)(to, level, by, least, count);
}
bool any_gap(const float* values, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(AnyGap)(values, count);
}
std::size_t count_present(const float* values, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(CountPresent)(values, nullptr, count);
}
std::size_t count_present(const float* values, const std::int32_t* where, std::size_t count) {
    return HWY_DYNAMIC_DISPATCH(CountPresent)(values, where, count);
}
void split_positions(const std::int64_t* positions, std::size_t count, int origin, std::int32_t* whole,
                     float* fraction) {
    HWY_DYNAMIC_DISPATCH(SplitPositions)(positions, count, origin, whole, fraction);
}
} // namespace kasane
#endif
