#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/calibration/demosaic_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/calibration/demosaic_kernel.hpp>

#include <cstdint>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

using RowTag = hn::ScalableTag<float>;
using RowVector = hn::Vec<RowTag>;

/// f(x) for each vector's first pixel.
template <class F>
HWY_INLINE void for_each_vector(std::size_t count, F f) {
    const std::size_t lanes = hn::Lanes(RowTag());
    for (std::size_t x = 0; x < count; x += lanes)
        f(x);
}

/// Lanes whose pixels are even, or odd, for a vector that begins at pixel `x`.
HWY_INLINE hn::Mask<RowTag> sites(std::size_t x, bool odd) {
    const RowTag d;
    const hn::RebindToSigned<RowTag> di;
    const auto bit = hn::And(hn::Iota(di, static_cast<std::int32_t>(x & 1)), hn::Set(di, 1));
    return hn::RebindMask(d, hn::Eq(bit, hn::Set(di, odd ? 1 : 0)));
}

HWY_INLINE RowVector at(const float* row, std::size_t x, int away = 0) {
    return hn::LoadU(RowTag(), row + x + away);
}
HWY_INLINE RowVector times(float factor, RowVector v) {
    return hn::Mul(hn::Set(RowTag(), factor), v);
}
template <class... V>
HWY_INLINE RowVector sum_of(RowVector first, V... next) {
    ((first = hn::Add(first, next)), ...);
    return first;
}

void DirectedGreenRow(const FiveRows& mosaic, bool green_odd, std::size_t count, const DirectedRow& to) {
    const RowTag d;
    const float *up2 = mosaic[0], *up = mosaic[1], *row = mosaic[2], *down = mosaic[3], *down2 = mosaic[4];
    for_each_vector(count, [&](std::size_t x) {
        const auto green = sites(x, green_odd);
        const auto v = at(row, x), twice = times(2, v);
        const auto along = hn::Add(times(0.5f, hn::Add(at(row, x, -1), at(row, x, 1))),
                                   times(0.25f, hn::Sub(hn::Sub(twice, at(row, x, -2)), at(row, x, 2))));
        const auto across = hn::Add(times(0.5f, hn::Add(at(up, x), at(down, x))),
                                    times(0.25f, hn::Sub(hn::Sub(twice, at(up2, x)), at(down2, x))));
        hn::StoreU(hn::IfThenElse(green, v, along), d, to.along + x);
        hn::StoreU(hn::IfThenElse(green, v, across), d, to.across + x);
        hn::StoreU(hn::IfThenZeroElse(green, hn::Sub(v, along)), d, to.above_along + x);
        hn::StoreU(hn::IfThenZeroElse(green, hn::Sub(v, across)), d, to.above_across + x);
    });
}

void ChangeRow(const float* a, const float* b, std::size_t count, float* to) {
    for_each_vector(count, [&](std::size_t x) { hn::StoreU(hn::AbsDiff(at(a, x), at(b, x)), RowTag(), to + x); });
}

/// The classifier of the paper, turned so that both differences that begin and end beside the pixel count: these two
/// three times, those of the rows (columns) one and two pixels away once.
void DecidedGreenRow(const FiveRows& along, const RowsOfThree& across, const float* green_along,
                     const float* green_across, std::size_t count, float* to) {
    for_each_vector(count, [&](std::size_t x) {
        const auto h =
            sum_of(times(3, hn::Add(at(along[2], x), at(along[2], x, -2))), at(along[0], x), at(along[0], x, -2),
                   at(along[4], x), at(along[4], x, -2), at(along[1], x, -1), at(along[3], x, -1));
        const auto v =
            sum_of(times(3, hn::Add(at(across[2], x), at(across[0], x))), at(across[2], x, -2), at(across[0], x, -2),
                   at(across[2], x, 2), at(across[0], x, 2), at(across[1], x, -1), at(across[1], x, 1));
        hn::StoreU(hn::IfThenElse(hn::Ge(v, h), at(green_along, x), at(green_across, x)), RowTag(), to + x);
    });
}

void OtherColoursRow(const RowsOfThree& mosaic, const RowsOfThree& green, bool green_odd, std::size_t count, float* own,
                     float* other) {
    const RowTag d;
    const auto above = [&](int row, std::size_t x, int away) {
        const auto k = static_cast<std::size_t>(row + 1);
        return hn::Sub(at(mosaic[k], x, away), at(green[k], x, away));
    };
    for_each_vector(count, [&](std::size_t x) {
        const auto is_green = sites(x, green_odd);
        const auto m = at(mosaic[1], x), g = at(green[1], x);
        const auto beside = times(0.5f, hn::Add(above(0, x, -1), above(0, x, 1)));
        const auto over = times(0.5f, hn::Add(above(-1, x, 0), above(1, x, 0)));
        const auto corners = times(0.25f, sum_of(above(-1, x, -1), above(-1, x, 1), above(1, x, -1), above(1, x, 1)));
        hn::StoreU(hn::IfThenElse(is_green, hn::Add(g, beside), m), d, own + x);
        hn::StoreU(hn::Add(g, hn::IfThenElse(is_green, over, corners)), d, other + x);
    });
}

void BilinearRow(const RowsOfThree& mosaic, bool green_odd, std::size_t count, float* green, float* own, float* other) {
    const RowTag d;
    const float *up = mosaic[0], *row = mosaic[1], *down = mosaic[2];
    for_each_vector(count, [&](std::size_t x) {
        const auto is_green = sites(x, green_odd);
        const auto m = at(row, x), left = at(row, x, -1), right = at(row, x, 1), above = at(up, x), below = at(down, x);
        const auto corners = times(0.25f, sum_of(at(up, x, -1), at(up, x, 1), at(down, x, -1), at(down, x, 1)));
        hn::StoreU(hn::IfThenElse(is_green, m, times(0.25f, sum_of(above, left, right, below))), d, green + x);
        hn::StoreU(hn::IfThenElse(is_green, times(0.5f, hn::Add(left, right)), m), d, own + x);
        hn::StoreU(hn::IfThenElse(is_green, times(0.5f, hn::Add(above, below)), corners), d, other + x);
    });
}

void DifferenceRow(const float* a, const float* b, std::size_t count, float* to) {
    for_each_vector(count, [&](std::size_t x) {
        const auto v = hn::Sub(at(a, x), at(b, x));
        hn::StoreU(hn::IfThenElseZero(hn::Eq(v, v), v), RowTag(), to + x);
    });
}

HWY_INLINE RowVector mean_of_five(RowVector a, RowVector b, RowVector c, RowVector e, RowVector f) {
    return times(0.2f, sum_of(a, b, c, e, f));
}

void SmoothRowTwice(const float* from, std::size_t count, float* between, float* to) {
    const auto once = [&](const float* v, float* out) {
        for_each_vector(count, [&](std::size_t x) {
            hn::StoreU(mean_of_five(at(v, x, -2), at(v, x, -1), at(v, x), at(v, x, 1), at(v, x, 2)), RowTag(), out + x);
        });
    };
    once(from, between);
    once(between, to);
}

void MeanOfFiveRows(const FiveRows& r, std::size_t count, float* to) {
    for_each_vector(count, [&](std::size_t x) {
        hn::StoreU(mean_of_five(at(r[0], x), at(r[1], x), at(r[2], x), at(r[3], x), at(r[4], x)), RowTag(), to + x);
    });
}

void GiveBackRow(const float* from, const float* change, float share, OwnSites own, std::size_t count, float* to) {
    for_each_vector(count, [&](std::size_t x) {
        auto given = times(share, at(change, x));
        if (own != OwnSites::none) given = hn::IfThenZeroElse(sites(x, own == OwnSites::odd), given);
        hn::StoreU(hn::Add(at(from, x), given), RowTag(), to + x);
    });
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(DirectedGreenRow);
HWY_EXPORT(ChangeRow);
HWY_EXPORT(DecidedGreenRow);
HWY_EXPORT(OtherColoursRow);
HWY_EXPORT(BilinearRow);
HWY_EXPORT(DifferenceRow);
HWY_EXPORT(SmoothRowTwice);
HWY_EXPORT(MeanOfFiveRows);
HWY_EXPORT(GiveBackRow);

void directed_green_row(const FiveRows& mosaic, RowPhase phase, std::size_t count, const DirectedRow& to) {
    HWY_DYNAMIC_DISPATCH(DirectedGreenRow)(mosaic, phase == RowPhase::colour_first, count, to);
}
void change_row(const float* a, const float* b, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(ChangeRow)(a, b, count, to);
}
void decided_green_row(const FiveRows& along, const RowsOfThree& across, const float* green_along,
                       const float* green_across, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(DecidedGreenRow)(along, across, green_along, green_across, count, to);
}
void other_colours_row(const RowsOfThree& mosaic, const RowsOfThree& green, RowPhase phase, std::size_t count,
                       float* own, float* other) {
    HWY_DYNAMIC_DISPATCH(OtherColoursRow)(mosaic, green, phase == RowPhase::colour_first, count, own, other);
}
void bilinear_row(const RowsOfThree& mosaic, RowPhase phase, std::size_t count, float* green, float* own,
                  float* other) {
    HWY_DYNAMIC_DISPATCH(BilinearRow)(mosaic, phase == RowPhase::colour_first, count, green, own, other);
}
void difference_row(const float* a, const float* b, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(DifferenceRow)(a, b, count, to);
}
void smooth_row_twice(const float* from, std::size_t count, float* between, float* to) {
    HWY_DYNAMIC_DISPATCH(SmoothRowTwice)(from, count, between, to);
}
void mean_of_five_rows(const FiveRows& rows, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(MeanOfFiveRows)(rows, count, to);
}
void give_back_row(const float* from, const float* change, float share, OwnSites own, std::size_t count, float* to) {
    HWY_DYNAMIC_DISPATCH(GiveBackRow)(from, change, share, own, count, to);
}
} // namespace kasane
#endif
