// Positions of a row through a bent map, compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/geometry/row_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/geometry/row_kernel.hpp>
#include <kasane/geometry/transform.hpp>

#include <algorithm>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

#if HWY_TARGET != HWY_SCALAR && HWY_HAVE_FLOAT64
constexpr int kRowBlocks = Transform::kPatch / kRowBlock;
static_assert(kRowBlocks * kRowBlock == Transform::kPatch);

/// What the blocks of a row begin with, one coordinate: whole pixels and what lies behind, by how much more than the
/// stride it grows, and how that grows.
struct RowBlocks {
    HWY_ALIGN std::int32_t whole[kRowBlocks];
    HWY_ALIGN float behind[kRowBlocks], slope[kRowBlocks], bend[kRowBlocks];

    RowBlocks(const Cubic& c, std::int32_t origin) {
        const hn::CappedTag<double, kRowBlocks> d;
        const hn::Rebind<float, decltype(d)> df;
        const hn::Rebind<std::int32_t, decltype(d)> di;
        const auto start = hn::Set(d, c.start), first = hn::Set(d, c.first), second = hn::Set(d, c.second),
                   third = hn::Set(d, c.third), twice = hn::Set(d, 2 * c.second), thrice = hn::Set(d, 3 * c.third),
                   stride = hn::Set(d, static_cast<double>(c.stride)), size = hn::Set(d, double{kRowBlock});
        const auto from = hn::Set(di, origin);
        for (std::size_t b = 0; b < kRowBlocks; b += hn::Lanes(d)) {
            const auto i = hn::Mul(hn::Iota(d, static_cast<double>(b)), size);
            const auto place =
                hn::Add(start, hn::Mul(i, hn::Add(first, hn::Mul(i, hn::Add(second, hn::Mul(i, third))))));
            const auto floor = hn::Floor(place);
            hn::Store(hn::Sub(hn::DemoteTo(di, floor), from), di, whole + b);
            hn::Store(hn::DemoteTo(df, hn::Sub(place, floor)), df, behind + b);
            const auto grows = hn::Add(first, hn::Mul(i, hn::Add(twice, hn::Mul(i, thrice))));
            hn::Store(hn::DemoteTo(df, hn::Sub(grows, stride)), df, slope + b);
            hn::Store(hn::DemoteTo(df, hn::Add(second, hn::Mul(i, thrice))), df, bend + b);
        }
    }
};

/// One coordinate of blocks `first` to `last`.
void split_blocks(const Cubic& c, const RowBlocks& blocks, int first, int last, std::int32_t* whole, float* fraction) {
    const hn::CappedTag<float, kRowBlock> d;
    const hn::RebindToSigned<decltype(d)> di;
    const std::size_t lanes = hn::Lanes(d);
    const auto numbers = hn::Set(d, kWholeNumbers);
    const auto none = hn::BitCast(di, numbers);
    for (std::size_t part = 0; part < kRowBlock; part += lanes) {
        const auto lane = hn::Iota(di, static_cast<std::int32_t>(part));
        const auto l = hn::ConvertTo(d, lane);
        const auto thirds = hn::Mul(l, hn::Set(d, static_cast<float>(c.third)));
        const auto strides = hn::Sub(hn::Mul(lane, hn::Set(di, c.stride)), none);
        for (int b = first; b <= last; ++b) {
            const auto behind = hn::Add(hn::Set(d, blocks.behind[b]),
                                        hn::Mul(l, hn::Add(hn::Set(d, blocks.slope[b]),
                                                           hn::Mul(l, hn::Add(hn::Set(d, blocks.bend[b]), thirds)))));
            const auto floor = hn::Floor(behind);
            const auto more = hn::BitCast(di, hn::Add(floor, numbers));
            const std::ptrdiff_t at = static_cast<std::ptrdiff_t>(b - first) * kRowBlock;
            hn::StoreU(hn::Add(hn::Add(hn::Set(di, blocks.whole[b]), strides), more), di, whole + at + part);
            hn::StoreU(hn::Sub(behind, floor), d, fraction + at + part);
        }
    }
}

void SplitPatchRows(std::span<const PatchRow> rows, const SplitRow& out) {
    std::ptrdiff_t done = 0;
    for (const PatchRow& row : rows) {
        const RowBlocks u(row.u, out.origin_x), v(row.v, out.origin_y);
        const int first = row.from / kRowBlock, last = (row.from + row.count - 1) / kRowBlock;
        const std::ptrdiff_t at = done - row.from % kRowBlock; // whole blocks: there is room beside
        split_blocks(row.u, u, first, last, out.column + at, out.fraction_x + at);
        split_blocks(row.v, v, first, last, out.row + at, out.fraction_y + at);
        done += row.count;
    }
}
#else
void SplitPatchRows(std::span<const PatchRow> rows, const SplitRow& out) {
    split_patch_rows_reference(rows, out);
}
#endif

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(SplitPatchRows);

void split_patch_rows(std::span<const PatchRow> rows, const SplitRow& out) {
    HWY_DYNAMIC_DISPATCH(SplitPatchRows)(rows, out);
}

namespace {
void split_along_reference(const Cubic& c, int from, int count, int origin, std::int32_t* whole, float* fraction) {
    for (int n = 0; n < count; ++n) {
        const int lane = (from + n) % kRowBlock;
        const double i = from + n - lane, place = c(i), before = std::floor(place);
        const auto start = static_cast<float>(place - before),
                   slope = static_cast<float>(c.first + i * (2 * c.second + i * (3 * c.third)) - c.stride),
                   bend = static_cast<float>(c.second + i * (3 * c.third)), third = static_cast<float>(c.third),
                   l = static_cast<float>(lane);
        const float behind = start + l * (slope + l * (bend + l * third)), floor = std::floor(behind);
        const std::int32_t more =
            std::bit_cast<std::int32_t>(floor + kWholeNumbers) - std::bit_cast<std::int32_t>(kWholeNumbers);
        whole[n] = static_cast<std::int32_t>(before) - origin + lane * c.stride + more;
        fraction[n] = behind - floor;
    }
}
} // namespace

void split_patch_rows_reference(std::span<const PatchRow> rows, const SplitRow& out) {
    std::ptrdiff_t done = 0;
    for (const PatchRow& r : rows) {
        split_along_reference(r.u, r.from, r.count, out.origin_x, out.column + done, out.fraction_x + done);
        split_along_reference(r.v, r.from, r.count, out.origin_y, out.row + done, out.fraction_y + done);
        done += r.count;
    }
}
} // namespace kasane
#endif
