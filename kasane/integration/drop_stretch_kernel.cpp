// Compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/integration/drop_stretch_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/integration/drop_stretch.hpp>

#include <algorithm>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

constexpr int kMostLanes = 16;

/// The stack at places of its rectangle, between its pixels.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V mean_at(D d, const DropExpectation& e, V x, V y) {
    const hn::RebindToSigned<D> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto column = hn::ConvertTo(di, x), row = hn::ConvertTo(di, y); // towards zero: places are inside
    const V fx = hn::Sub(x, hn::ConvertTo(d, column)), fy = hn::Sub(y, hn::ConvertTo(d, row));
    const auto between = [&](auto load) {
        const V a = load(0), b = load(1), c = load(e.stride), f = load(e.stride + 1);
        const V above = hn::MulAdd(fx, hn::Sub(b, a), a), below = hn::MulAdd(fx, hn::Sub(f, c), c);
        return hn::MulAdd(fy, hn::Sub(below, above), above);
    };
    HWY_ALIGN std::int32_t columns[kMostLanes], rows[kMostLanes];
    hn::Store(column, di, columns);
    hn::Store(row, di, rows);
    const int left = std::min(columns[0], columns[lanes - 1]), top = std::min(rows[0], rows[lanes - 1]);
    const auto step = hn::Sub(column, hn::Set(di, left)), down = hn::Sub(row, hn::Set(di, top));
    const auto apart = hn::Or(hn::Or(hn::Lt(step, hn::Zero(di)), hn::Gt(step, hn::Set(di, lanes - 1))),
                              hn::Or(hn::Lt(down, hn::Zero(di)), hn::Gt(down, hn::Set(di, 1))));
    const std::ptrdiff_t first = top * e.stride + left;
    if (HWY_LIKELY(hn::AllFalse(di, apart)) && first + 2 * e.stride + 1 + lanes <= e.size) {
        const auto table = hn::IndicesFromVec(d, step);
        const auto load = [&](std::ptrdiff_t o) {
            return hn::TableLookupLanes(hn::LoadU(d, e.mean + first + o), table);
        };
        const auto lower = hn::Ne(down, hn::Zero(di));
        if (HWY_LIKELY(hn::AllFalse(di, lower))) return between(load);
        const auto second = hn::RebindMask(d, lower); // lanes a row further down
        return between([&](std::ptrdiff_t o) { return hn::IfThenElse(second, load(o + e.stride), load(o)); });
    }
    const auto index = hn::Add(hn::Mul(row, hn::Set(di, static_cast<std::int32_t>(e.stride))), column);
    return between([&](std::ptrdiff_t o) { return hn::GatherIndex(d, e.mean + o, index); });
}

std::uint64_t LevelStretch(const DropStretch& s, const DropExpectation& e, float* values) {
    const hn::ScalableTag<float> d;
    using V = hn::Vec<decltype(d)>;
    const hn::RebindToSigned<decltype(d)> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    std::uint64_t off = 0;
    float part[kMostLanes] = {}, part_holds[kMostLanes] = {};
    const auto ramp = hn::Iota(di, 0);
    const V sure = hn::Set(d, e.sigmas * e.sigmas);
    for (int i = 0; i < s.count; i += lanes) {
        const int here = std::min(lanes, s.count - i);
        const float *pixels = s.pixels + i, *holds = s.holds ? s.holds + i : nullptr;
        if (here < lanes) {
            std::copy_n(pixels, here, part);
            pixels = part;
            if (holds) std::copy_n(holds, here, part_holds), holds = part_holds;
        }
        // The last one again, so that no place lies outside.
        const V k =
            hn::ConvertTo(d, hn::Min(hn::Add(ramp, hn::Set(di, s.first + i)), hn::Set(di, s.first + s.count - 1)));
        const V scale = hn::MulAdd(k, hn::Set(d, s.scale_step), hn::Set(d, s.scale)),
                offset = hn::MulAdd(k, hn::Set(d, s.offset_step), hn::Set(d, s.offset));
        V value = hn::MulAdd(scale, hn::LoadU(d, pixels), offset);
        if (holds) value = hn::IfThenElse(hn::Eq(hn::LoadU(d, holds), hn::Zero(d)), hn::Zero(d), value);
        std::uint32_t bits = (1u << here) - 1;
        if (e.mean) {
            const V x = hn::MulAdd(k, hn::Set(d, s.x_step), hn::Set(d, s.x)),
                    y = hn::MulAdd(k, hn::Set(d, s.y_step), hn::Set(d, s.y));
            const V expected = hn::Sub(mean_at(d, e, x, y), hn::Set(d, e.level));
            const V excess = hn::Max(hn::Zero(d), expected), beside = hn::Sub(value, expected);
            const V variance = hn::MulAdd(excess, hn::MulAdd(excess, hn::Set(d, e.scale_error2), hn::Set(d, e.slope)),
                                          hn::Set(d, e.variance));
            const auto good = hn::Le(hn::Mul(beside, beside), hn::Mul(sure, variance)); // what is no number is not
            std::uint8_t mask[8] = {};
            hn::StoreMaskBits(d, good, mask);
            bits &= ~(static_cast<std::uint32_t>(mask[0]) | static_cast<std::uint32_t>(mask[1]) << 8);
        }
        off |= static_cast<std::uint64_t>(bits) << i;
        if (here < lanes) {
            hn::StoreU(value, d, part);
            std::copy_n(part, here, values + i);
        } else {
            hn::StoreU(value, d, values + i);
        }
    }
    return off;
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(LevelStretch);

std::uint64_t level_stretch(const DropStretch& stretch, const DropExpectation& expected, float* values) {
    return HWY_DYNAMIC_DISPATCH(LevelStretch)(stretch, expected, values);
}
} // namespace kasane
#endif
