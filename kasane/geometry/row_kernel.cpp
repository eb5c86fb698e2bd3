// Positions of a row through a bent map, compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/geometry/row_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/geometry/row_kernel.hpp>
#include <kasane/geometry/transform.hpp>

#include <algorithm>

#ifndef KASANE_ROW_OF_A_PATCH // this file is read once for every instruction set
#define KASANE_ROW_OF_A_PATCH
namespace kasane {
namespace {

/// One coordinate of a row of places.
struct Coordinate {
    int origin;
    std::int32_t* whole;
    float* fraction;
};

void split_along_reference(const Cubic& along, int from, int count, const Coordinate& out) {
    const auto third = static_cast<float>(along.third);
    for (int n = 0; n < count; ++n) {
        const int i = (from + n) % kRowBlock;
        const RowBlock b = along.block(from + n - i);
        const auto l = static_cast<float>(i);
        const float behind = b.start + l * (b.slope + l * (b.bend + l * third)), floor = std::floor(behind);
        out.whole[n] = b.whole - out.origin + i * along.stride + static_cast<std::int32_t>(floor);
        out.fraction[n] = behind - floor;
    }
}

/// f(cubic, row, where its places go) for both coordinates of each row.
template <class F>
HWY_INLINE void for_each_cubic(std::span<const PatchRow> rows, double per_pixel, const SplitRow& out, F f) {
    std::ptrdiff_t done = 0;
    for (const PatchRow& row : rows) {
        f(Cubic(row.at.data(), per_pixel), row, Coordinate{out.origin_x, out.column + done, out.fraction_x + done});
        f(Cubic(row.at.data() + 4, per_pixel), row, Coordinate{out.origin_y, out.row + done, out.fraction_y + done});
        done += row.count;
    }
}

} // namespace
} // namespace kasane
#endif

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

#if HWY_TARGET != HWY_SCALAR && HWY_HAVE_FLOAT64
constexpr int kRowBlocks = Transform::kPatch / kRowBlock;

/// Cubic::block for all of a patch.
struct RowBlocks {
    HWY_ALIGN std::int32_t whole[kRowBlocks];
    HWY_ALIGN float start[kRowBlocks], slope[kRowBlocks], bend[kRowBlocks];

    RowBlocks(const Cubic& c, int origin) {
        const hn::CappedTag<double, kRowBlocks> d;
        const hn::Rebind<float, decltype(d)> df;
        const hn::Rebind<std::int32_t, decltype(d)> di;
        const auto start0 = hn::Set(d, c.start), first = hn::Set(d, c.first), second = hn::Set(d, c.second),
                   third = hn::Set(d, c.third), twice = hn::Set(d, 2 * c.second), thrice = hn::Set(d, 3 * c.third),
                   stride = hn::Set(d, static_cast<double>(c.stride)), size = hn::Set(d, double{kRowBlock});
        const auto from = hn::Set(di, origin);
        for (std::size_t b = 0; b < kRowBlocks; b += hn::Lanes(d)) {
            const auto i = hn::Mul(hn::Iota(d, static_cast<double>(b)), size);
            const auto value =
                hn::Add(start0, hn::Mul(i, hn::Add(first, hn::Mul(i, hn::Add(second, hn::Mul(i, third))))));
            const auto floor = hn::Floor(value);
            hn::Store(hn::Sub(hn::DemoteTo(di, floor), from), di, whole + b);
            hn::Store(hn::DemoteTo(df, hn::Sub(value, floor)), df, start + b);
            hn::Store(hn::DemoteTo(df, hn::Sub(hn::Add(first, hn::Mul(i, hn::Add(twice, hn::Mul(i, thrice)))), stride)),
                      df, slope + b);
            hn::Store(hn::DemoteTo(df, hn::Add(second, hn::Mul(i, thrice))), df, bend + b);
        }
    }
};

void split_along(const Cubic& along, int from, int count, const Coordinate& out) {
    const hn::CappedTag<float, kRowBlock> d;
    const hn::RebindToSigned<decltype(d)> di;
    constexpr std::size_t kMostParts = kRowBlock / 4;
    const std::size_t lanes = hn::Lanes(d), parts = kRowBlock / lanes;
    const RowBlocks blocks(along, out.origin);
    using V = hn::Vec<decltype(d)>;
    using VI = hn::Vec<decltype(di)>;
    V ramp[kMostParts], thirds[kMostParts];
    VI strides[kMostParts];
    for (std::size_t part = 0; part < parts; ++part) {
        const auto lane = hn::Iota(di, static_cast<std::int32_t>(part * lanes));
        ramp[part] = hn::ConvertTo(d, lane);
        thirds[part] = hn::Mul(ramp[part], hn::Set(d, static_cast<float>(along.third)));
        strides[part] = hn::Mul(lane, hn::Set(di, along.stride));
    }
    const auto block = [&](int b, std::int32_t* whole, float* fraction) HWY_ATTR {
        const auto start = hn::Set(d, blocks.start[b]), slope = hn::Set(d, blocks.slope[b]),
                   bend = hn::Set(d, blocks.bend[b]);
        const auto base = hn::Set(di, blocks.whole[b]);
        for (std::size_t part = 0; part < parts; ++part) {
            const V l = ramp[part];
            const V behind = hn::Add(start, hn::Mul(l, hn::Add(slope, hn::Mul(l, hn::Add(bend, thirds[part])))));
            const V floor = hn::Floor(behind);
            hn::StoreU(hn::Add(hn::Add(base, strides[part]), hn::ConvertTo(di, floor)), di, whole + part * lanes);
            hn::StoreU(hn::Sub(behind, floor), d, fraction + part * lanes);
        }
    };
    HWY_ALIGN std::int32_t some_whole[kRowBlock];
    HWY_ALIGN float some_fraction[kRowBlock];
    for (int n = 0; n < count;) {
        const int b = (from + n) / kRowBlock, first = (from + n) % kRowBlock,
                  here = std::min(kRowBlock - first, count - n);
        if (here == kRowBlock) {
            block(b, out.whole + n, out.fraction + n);
        } else {
            block(b, some_whole, some_fraction);
            std::copy_n(some_whole + first, here, out.whole + n);
            std::copy_n(some_fraction + first, here, out.fraction + n);
        }
        n += here;
    }
}
#else
void split_along(const Cubic& along, int from, int count, const Coordinate& out) {
    split_along_reference(along, from, count, out);
}
#endif

void SplitPatchRows(std::span<const PatchRow> rows, double per_pixel, const SplitRow& out) {
    for_each_cubic(rows, per_pixel, out, [](const Cubic& along, const PatchRow& row, const Coordinate& to) HWY_ATTR {
        split_along(along, row.from, row.count, to);
    });
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(SplitPatchRows);

void split_patch_rows(std::span<const PatchRow> rows, double per_pixel, const SplitRow& out) {
    HWY_DYNAMIC_DISPATCH(SplitPatchRows)(rows, per_pixel, out);
}

void split_patch_rows_reference(std::span<const PatchRow> rows, double per_pixel, const SplitRow& out) {
    for_each_cubic(rows, per_pixel, out, [](const Cubic& along, const PatchRow& row, const Coordinate& to) {
        split_along_reference(along, row.from, row.count, to);
    });
}
} // namespace kasane
#endif
