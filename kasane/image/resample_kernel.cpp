// The vectorised Lanczos-3 kernel, compiled once for every instruction set; resample.cpp holds the scalar reference.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/resample_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

#include <kasane/image/positions.hpp>
#include <kasane/image/resample.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <limits>

#ifndef KASANE_RESAMPLE_COEFFICIENTS // this file is read once for every instruction set
#define KASANE_RESAMPLE_COEFFICIENTS
namespace kasane::lanczos {
constexpr int kTerms = 4; // in x^2; the fit is good to 2e-6

/// With x = fraction - 1/2 the weight of tap k is E(x^2) + x O(x^2), and that of tap 5 - k is E(x^2) - x O(x^2). The
/// three E add up to a half, so that the weights do to one.
struct Coefficients {
    float even[2][kTerms];
    float odd[3][kTerms];
};
} // namespace kasane::lanczos
#endif

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;
using lanczos::Coefficients;
using lanczos::kTerms;

template <class D, class V = hn::Vec<D>>
HWY_INLINE V polynomial(D d, const float* c, V x2) {
    V p = hn::Set(d, c[kTerms - 1]);
    for (int i = kTerms - 2; i >= 0; --i)
        p = hn::MulAdd(p, x2, hn::Set(d, c[i]));
    return p;
}

template <class D, class V = hn::Vec<D>>
HWY_INLINE void weights(D d, const Coefficients& c, V fraction, V* w) {
    const V x = hn::Sub(fraction, hn::Set(d, 0.5f));
    const V x2 = hn::Mul(x, x);
    V rest = hn::Set(d, 0.5f);
    for (int k = 0; k < 3; ++k) {
        const V e = k < 2 ? polynomial(d, c.even[k], x2) : rest;
        const V o = polynomial(d, c.odd[k], x2);
        rest = hn::Sub(rest, e);
        w[k] = hn::MulAdd(x, o, e);
        w[5 - k] = hn::NegMulAdd(x, o, e);
    }
}

/// Of the six taps in each direction.
template <class V>
struct Weights {
    const V *x, *y;
};

/// From what contrast on ringing is looked for, and what of it may be left.
template <class V>
struct Ringing {
    V contrast, left;
    V above; ///< a sum what rings rises, at least
};

/// First taps of the first and the last lane.
struct Ends {
    int column, last_column, row;
};

/// A rectangle that holds all taps of a vector, and what is known of its highest value.
struct TapBox {
    const Peaks* peaks;
    int x, y, right, bottom; // the last ones included
    bool compact;            // small enough for a bound that is found at once

    TapBox(const Peaks* p, int left, int top, int last_left, int last_top)
        : peaks(p), x(left), y(top), right(last_left + kLanczosTaps - 1), bottom(last_top + kLanczosTaps - 1),
          compact(right - x < Peaks::kNearColumns && bottom - y < Peaks::kNearRows) {}
    float coarse() const { return peaks && compact ? peaks->near(x, y) : std::numeric_limits<float>::infinity(); }
    float fine() const { return peaks ? peaks->over(x, y, right, bottom) : std::numeric_limits<float>::infinity(); }
};

/// The least of the four nearest; `load(offset)` as for sum_taps.
template <class D, class Load, class V = hn::Vec<D>>
HWY_INLINE V nearest_floor(std::ptrdiff_t stride, Load load) {
    const std::ptrdiff_t near = (kLanczosRadius - 1) * (stride + 1);
    return hn::Min(hn::Min(load(near), load(near + 1)), hn::Min(load(near + stride), load(near + stride + 1)));
}

/// The highest of the 36 taps.
template <class D, class Load, class V = hn::Vec<D>>
HWY_NOINLINE V highest_tap(D d, std::ptrdiff_t stride, Load load) {
    V highest = hn::Set(d, Peaks::kLowest);
    for (int j = 0; j < kLanczosTaps; ++j)
        for (int i = 0; i < kLanczosTaps; ++i)
            highest = hn::Max(highest, load(j * stride + i));
    return highest;
}

/// Holds what was summed up against ringing: where a sum lies below the floor of the four nearest, and something among
/// the taps rises above it. These are loaded again where that may be.
template <class D, class Load, class V = hn::Vec<D>>
HWY_INLINE V hold_ringing(D d, V sum, const Ringing<V>& ringing, const TapBox& box, std::ptrdiff_t stride, Load load) {
    // What rises so far above the floor rises further above the sum; the bound leaves room for rounding.
    const float bound = box.coarse();
    if (HWY_LIKELY(hn::AllFalse(d, hn::Gt(hn::Set(d, bound + 1e-6f * std::abs(bound)), hn::Add(sum, ringing.above)))))
        return sum;
    const V floor = nearest_floor<D>(stride, load), least = hn::Sub(floor, ringing.left);
    const auto below = hn::Lt(sum, least);
    const auto may_ring = [&](float most) HWY_ATTR {
        return !hn::AllFalse(d, hn::And(below, hn::Gt(hn::Sub(hn::Set(d, most), floor), ringing.contrast)));
    };
    if (HWY_LIKELY(!may_ring(bound) || !may_ring(box.fine()))) return sum;
    const auto rings = hn::And(hn::Gt(hn::Sub(highest_tap(d, stride, load), floor), ringing.contrast), below);
    return hn::IfThenElse(rings, least, sum);
}

/// Sums the 36 products; `load(offset)` gives the pixels `offset` values after each lane's first tap.
template <class D, class Load, class V = hn::Vec<D>>
HWY_INLINE V sum_taps(D d, std::ptrdiff_t stride, const Weights<V>& w, Load load) {
    V sum = hn::Zero(d);
    for (int j = 0; j < kLanczosTaps; ++j) {
        V line = hn::Zero(d);
        for (int i = 0; i < kLanczosTaps; ++i) {
            const V s = load(j * stride + i);
            line = i == 0 ? hn::Mul(w.x[i], s) : hn::MulAdd(w.x[i], s, line);
        }
        sum = j == 0 ? hn::Mul(w.y[j], line) : hn::MulAdd(w.y[j], line, sum);
    }
    return sum;
}

#if HWY_MAX_BYTES < 32
/// Lanes that lie beside each other but for steps, through slight turns and lenses: `row` counts rows from the first,
/// `step` columns beyond those that lie evenly.
template <class VI>
struct Steps {
    VI row, step;
    int rows;           // how many there are
    const float* first; // the first tap of the first lane without steps; of descending columns of the last lane
    bool forward;
};

/// Every row is summed once for all lanes, with the pixels of each lane's step; then every lane takes its own rows.
template <int kColumns, class D, class V = hn::Vec<D>, class VI>
HWY_INLINE V stepped_taps(D d, std::ptrdiff_t stride, const Weights<V>& w, const Steps<VI>& at) {
    const hn::RebindToSigned<D> di;
    constexpr int kMostRows = 4;
    V lines[kLanczosTaps + kMostRows - 1];
    for (int k = 0; k < kLanczosTaps + at.rows - 1; ++k) {
        const float* from = at.first + k * stride;
        V pixels[kLanczosTaps + kColumns - 1];
        for (int i = 0; i < kLanczosTaps + kColumns - 1; ++i) {
            const V v = hn::LoadU(d, from + i);
            pixels[i] = at.forward ? v : hn::Reverse(d, v);
        }
        V line = hn::Zero(d);
        for (int i = 0; i < kLanczosTaps; ++i) {
            V s = pixels[i];
            for (int c = 1; c < kColumns; ++c)
                s = hn::IfThenElse(hn::RebindMask(d, hn::Eq(at.step, hn::Set(di, c))), pixels[i + c], s);
            line = i == 0 ? hn::Mul(w.x[i], s) : hn::MulAdd(w.x[i], s, line);
        }
        lines[k] = line;
    }
    V sum = hn::Zero(d);
    for (int j = 0; j < kLanczosTaps; ++j) {
        V line = lines[j];
        for (int r = 1; r < at.rows; ++r) {
            const auto own = hn::RebindMask(d, hn::Eq(at.row, hn::Set(di, r)));
            line = hn::IfThenElse(own, lines[j + r], line);
        }
        sum = j == 0 ? hn::Mul(w.y[j], line) : hn::MulAdd(w.y[j], line, sum);
    }
    return sum;
}

/// Where the lanes lie nearly beside each other, forwards or backwards. False where they do not.
template <class D, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_INLINE bool stepped(D d, View<const float> source, const Weights<V>& both, const TapBox& box, VI column, VI row,
                        V* result) {
    const hn::RebindToSigned<D> di;
    constexpr int kMost = 4;
    const auto ramp = hn::Iota(di, 0);
    const int lanes = static_cast<int>(hn::Lanes(d));
    const int row0 = box.y, rows = box.bottom - (kLanczosTaps - 1) - row0 + 1;
    if (rows > kMost) return false;
    for (const bool forward : {true, false}) {
        const VI base = forward ? hn::Sub(column, ramp) : hn::Add(column, ramp);
        const int base0 = hn::GetLane(hn::MinOfLanes(di, base)),
                  columns = hn::GetLane(hn::MaxOfLanes(di, base)) - base0 + 1;
        if (columns > kMost) continue;
        // All lanes must lie in the row with every step, those that have none as well.
        const int first = forward ? base0 : base0 - (lanes - 1), most = columns > 2 ? kMost : columns;
        if (first < 0 || first + lanes - 1 + kLanczosTaps - 1 + most > source.width) return false;
        const Steps<VI> at{hn::Sub(row, hn::Set(di, row0)), hn::Sub(base, hn::Set(di, base0)), rows,
                           source.row(row0) + first, forward};
        *result = columns == 1   ? stepped_taps<1>(d, source.stride, both, at)
                  : columns == 2 ? stepped_taps<2>(d, source.stride, both, at)
                                 : stepped_taps<kMost>(d, source.stride, both, at);
        return true;
    }
    return false;
}

#else
/// The value at `index` of two vectors side by side; higher bits of it do not count.
template <class D, class V = hn::Vec<D>, class VI>
HWY_INLINE V at_of_two(D d, V low, V high, VI index) {
#if HWY_ARCH_X86 && HWY_MAX_BYTES == 64
    (void)d;
    return V{_mm512_permutex2var_ps(low.raw, index.raw, high.raw)};
#else
    const hn::RebindToSigned<D> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto own = hn::IndicesFromVec(d, hn::And(index, hn::Set(di, lanes - 1)));
    const auto upper = hn::Ne(hn::And(index, hn::Set(di, lanes)), hn::Zero(di));
    return hn::IfThenElse(hn::RebindMask(d, upper), hn::TableLookupLanes(high, own), hn::TableLookupLanes(low, own));
#endif
}

/// Lanes that lie anywhere within kVectors vectors side by side, in kRows rows: `column` counts from `first` on, `row`
/// from the first row.
template <class VI>
struct Spread {
    VI column, row;
    const float* first; ///< all vectors of all rows from here on lie within the image
};

/// Every row is summed once for all lanes, whose pixels are picked out of it; then every lane takes its own rows.
template <int kVectors, int kRows, class D, class V = hn::Vec<D>, class VI>
HWY_INLINE V spread_taps(D d, std::ptrdiff_t stride, const Weights<V>& w, const Spread<VI>& at) {
    const hn::RebindToSigned<D> di;
    const std::size_t lanes = hn::Lanes(d);
    VI index[kLanczosTaps];
    for (int i = 0; i < kLanczosTaps; ++i)
        index[i] = hn::Add(at.column, hn::Set(di, i));
    const auto second = hn::RebindMask(d, hn::Eq(at.row, hn::Set(di, 1))),
               third = hn::RebindMask(d, hn::Eq(at.row, hn::Set(di, 2)));
    V older = hn::Zero(d), old = hn::Zero(d), sum = hn::Zero(d);
    for (int k = 0; k < kLanczosTaps + kRows - 1; ++k) {
        const float* from = at.first + k * stride;
        V pixels[kVectors];
        for (std::size_t v = 0; v < kVectors; ++v)
            pixels[v] = hn::LoadU(d, from + v * lanes);
        V line = hn::Zero(d);
        for (int i = 0; i < kLanczosTaps; ++i) {
            V s = at_of_two(d, pixels[0], pixels[1], index[i]);
            if constexpr (kVectors == 4) {
                const auto upper = hn::Gt(index[i], hn::Set(di, static_cast<int>(2 * lanes) - 1));
                s = hn::IfThenElse(hn::RebindMask(d, upper), at_of_two(d, pixels[2], pixels[3], index[i]), s);
            }
            line = i == 0 ? hn::Mul(w.x[i], s) : hn::MulAdd(w.x[i], s, line);
        }
        V own = kRows == 3 ? older : kRows == 2 ? old : line;
        if constexpr (kRows == 2) own = hn::IfThenElse(second, line, own);
        if constexpr (kRows == 3) own = hn::IfThenElse(third, line, hn::IfThenElse(second, old, own));
        if (const int j = k - (kRows - 1); j >= 0) sum = j == 0 ? hn::Mul(w.y[j], own) : hn::MulAdd(w.y[j], own, sum);
        older = old;
        old = line;
    }
    return sum;
}

/// Where the lanes lie in a line along the rows, be it with wide steps. False where they do not.
template <class D, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_INLINE bool spread(D d, View<const float> source, const Weights<V>& both, VI column, VI row, const Ends& ends,
                       V* result) {
    const hn::RebindToSigned<D> di;
    const hn::RebindToUnsigned<D> du;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const int left = std::min(ends.column, ends.last_column), right = std::max(ends.column, ends.last_column);
    const int columns = right - left + kLanczosTaps;
    if (columns > 4 * lanes) return false;
    const int width = columns <= 2 * lanes ? 2 * lanes : 4 * lanes;
    if (source.width < width) return false;
    // Counted from the one before the first, if there is any: from 0 on, or high above as what lies to the left of it.
    const VI beside = hn::Sub(row, hn::Set(di, ends.row));
    const int top = ends.row - (hn::AllFalse(di, hn::Lt(beside, hn::Zero(di))) ? 0 : 1);
    const VI from_top = hn::Sub(row, hn::Set(di, top));
    const auto farther = [&](VI v, int most) HWY_ATTR {
        return hn::Gt(hn::BitCast(du, v), hn::Set(du, static_cast<std::uint32_t>(most)));
    };
    const auto astray = farther(hn::Sub(column, hn::Set(di, left)), right - left);
    const int from = std::min(left, source.width - width);
    const Spread<VI> at{hn::Sub(column, hn::Set(di, from)), from_top, source.row(top) + from};
    const bool two_rows = hn::AllFalse(du, hn::Or(astray, farther(from_top, 1)));
    if (HWY_LIKELY(two_rows && width == 2 * lanes && top + kLanczosTaps < source.height)) {
        *result = spread_taps<2, 2>(d, source.stride, both, at);
        return true;
    }
    if (!hn::AllFalse(du, hn::Or(astray, farther(from_top, 2)))) return false;
    const bool one_row = hn::AllFalse(du, farther(from_top, 0));
    if (one_row)
        *result = width == 2 * lanes ? spread_taps<2, 1>(d, source.stride, both, at)
                                     : spread_taps<4, 1>(d, source.stride, both, at);
    else if (two_rows)
        *result = width == 2 * lanes ? spread_taps<2, 2>(d, source.stride, both, at)
                                     : spread_taps<4, 2>(d, source.stride, both, at);
    else
        *result = width == 2 * lanes ? spread_taps<2, 3>(d, source.stride, both, at)
                                     : spread_taps<4, 3>(d, source.stride, both, at);
    return true;
}
#endif

/// A vector of positions, all within the image; `column` and `row` are their first taps.
template <class D, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_INLINE V interpolate(D d, View<const float> source, const Peaks* peaks, const Ringing<V>& ringing,
                         const Weights<V>& both, VI column, VI row, const Ends& ends) {
    const hn::RebindToSigned<D> di;
    const int lanes = static_cast<int>(hn::Lanes(d)), across = ends.last_column - ends.column;
    const auto ramp = hn::Iota(di, 0);
    const auto all_at = [&](VI columns) HWY_ATTR {
        return hn::AllFalse(di, hn::Or(hn::Ne(column, columns), hn::Ne(row, hn::Set(di, ends.row))));
    };
    if (across == lanes - 1 && all_at(hn::Add(hn::Set(di, ends.column), ramp))) {
        const float* first = source.row(ends.row) + ends.column;
        const auto load = [=](std::ptrdiff_t o) HWY_ATTR { return hn::LoadU(d, first + o); };
        return hold_ringing(d, sum_taps(d, source.stride, both, load), ringing,
                            TapBox(peaks, ends.column, ends.row, ends.last_column, ends.row), source.stride, load);
    }
    if (across == 1 - lanes && all_at(hn::Sub(hn::Set(di, ends.column), ramp))) { // an upside-down frame
        const float* first = source.row(ends.row) + ends.last_column;
        const auto load = [=](std::ptrdiff_t o) HWY_ATTR { return hn::Reverse(d, hn::LoadU(d, first + o)); };
        return hold_ringing(d, sum_taps(d, source.stride, both, load), ringing,
                            TapBox(peaks, ends.last_column, ends.row, ends.column, ends.row), source.stride, load);
    }
    const auto load = [=](std::ptrdiff_t o) HWY_ATTR {
        const auto index = hn::Add(hn::Mul(row, hn::Set(di, static_cast<int>(source.stride))), column);
        return hn::GatherIndex(d, source.data + o, index);
    };
    V sum = hn::Zero(d);
#if HWY_MAX_BYTES >= 32
    if (HWY_LIKELY(spread(d, source, both, column, row, ends, &sum))) {
        // A box that holds too many rows is no harm.
        const TapBox box(peaks, std::min(ends.column, ends.last_column), std::max(0, ends.row - 1),
                         std::max(ends.column, ends.last_column), std::min(ends.row + 2, source.height - kLanczosTaps));
        return hold_ringing(d, sum, ringing, box, source.stride, load);
    }
#endif
    const TapBox around(peaks, hn::GetLane(hn::MinOfLanes(di, column)), hn::GetLane(hn::MinOfLanes(di, row)),
                        hn::GetLane(hn::MaxOfLanes(di, column)), hn::GetLane(hn::MaxOfLanes(di, row)));
#if HWY_MAX_BYTES < 32
    if (!stepped(d, source, both, around, column, row, &sum))
#endif
        sum = sum_taps(d, source.stride, both, load);
    return hold_ringing(d, sum, ringing, around, source.stride, load);
}

#if HWY_MAX_BYTES == 64
/// Positions of a line as Positions::upper has it: its ends tell where it lies. False where it does not lie well within
/// the image, or is longer than two vectors.
template <class D, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_INLINE bool interpolate_line(D d, View<const float> source, const Peaks* peaks, const Ringing<V>& ringing,
                                 const Weights<V>& both, VI column, VI row, const Ends& ends, V* result) {
    const hn::RebindToSigned<D> di;
    const int width = 2 * static_cast<int>(hn::Lanes(d)), left = std::min(ends.column, ends.last_column),
              right = std::max(ends.column, ends.last_column), top = ends.row;
    if (HWY_UNLIKELY(left < 0 || right > source.width - kLanczosTaps || top < 0 ||
                     top > source.height - kLanczosTaps - 1 || right - left + kLanczosTaps > width ||
                     source.width < width))
        return false;
    const int from = std::min(left, source.width - width);
    const Spread<VI> at{hn::Sub(column, hn::Set(di, from)), hn::Sub(row, hn::Set(di, top)), source.row(top) + from};
    const auto load = [=](std::ptrdiff_t o) HWY_ATTR {
        const auto index = hn::Add(hn::Mul(row, hn::Set(di, static_cast<int>(source.stride))), column);
        return hn::GatherIndex(d, source.data + o, index);
    };
    *result = hold_ringing(d, spread_taps<2, 2>(d, source.stride, both, at), ringing,
                           TapBox(peaks, left, top, right, top + 1), source.stride, load);
    return true;
}
#endif

/// Beside the image's edge, where it is rare: positions outside read the nearest valid place, and get no number.
/// `column` and `row` are first taps.
template <class D, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_NOINLINE V interpolate_at_edge(D d, View<const float> source, const Peaks* peaks, const Ringing<V>& ringing,
                                   const Coefficients& c, const Positions& p, VI column, VI row) {
    const hn::RebindToSigned<D> di;
    V wx[kLanczosTaps], wy[kLanczosTaps];
    weights(d, c, hn::LoadU(d, p.fraction_x), wx);
    weights(d, c, hn::LoadU(d, p.fraction_y), wy);
    const auto inside = [&](VI v, int last) HWY_ATTR { return hn::Min(hn::Max(v, hn::Zero(di)), hn::Set(di, last)); };
    const VI near_column = inside(column, source.width - kLanczosTaps),
             near_row = inside(row, source.height - kLanczosTaps);
    HWY_ALIGN std::int32_t columns[HWY_MAX_BYTES / sizeof(float)];
    hn::Store(near_column, di, columns);
    const V result = interpolate(d, source, peaks, ringing, {wx, wy}, near_column, near_row,
                                 {columns[0], columns[hn::Lanes(d) - 1], hn::GetLane(near_row)});
    const auto outside = hn::Or(hn::Ne(column, near_column), hn::Ne(row, near_row));
    return hn::IfThenElse(hn::RebindMask(d, outside), hn::Set(d, std::numeric_limits<float>::quiet_NaN()), result);
}

void Resample(View<const float> source, const Positions& at, float* out, const ResampleOptions& options,
              const Coefficients& c) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    const hn::RebindToUnsigned<decltype(d)> du;
    using V = hn::Vec<decltype(d)>;
    constexpr std::size_t kMostLanes = HWY_MAX_BYTES / sizeof(float);
    constexpr int kBefore = kLanczosRadius - 1;
    const int lanes = static_cast<int>(hn::Lanes(d));
    constexpr float kSure = 0.99f; // of what a sum lies below: no rounding makes as much of it
    const Ringing<V> ringing{hn::Set(d, options.ringing_contrast), hn::Set(d, options.ringing_left),
                             hn::Set(d, kSure * (options.ringing_contrast + options.ringing_left))};
    const auto before = hn::Set(di, kBefore), last_column = hn::Set(di, source.width - kLanczosTaps),
               last_row = hn::Set(di, source.height - kLanczosTaps);
    HWY_ALIGN std::int32_t part_column[kMostLanes], part_row[kMostLanes];
    HWY_ALIGN float part_x[kMostLanes], part_y[kMostLanes], part_out[kMostLanes];

    for (int next = 0; next < at.count; next += lanes) {
        // The last vector ends with the last position: some of it is done twice.
        const int i = std::max(0, std::min(next, at.count - lanes));
        const int here = std::min(lanes, at.count - i);
        Positions p{at.column + i, at.row + i, at.fraction_x + i, at.fraction_y + i, here};
        if (here < lanes) { // fewer than a vector: repeat the last position
            for (int k = 0; k < lanes; ++k) {
                const int from = std::min(k, here - 1);
                part_column[k] = p.column[from];
                part_row[k] = p.row[from];
                part_x[k] = p.fraction_x[from];
                part_y[k] = p.fraction_y[from];
            }
            p = {part_column, part_row, part_x, part_y, lanes};
        }
        const auto column = hn::Sub(hn::LoadU(di, p.column), before), row = hn::Sub(hn::LoadU(di, p.row), before);
#if HWY_MAX_BYTES == 64
        static_assert(kMostLanes == kLineLanes);
        if (at.upper >= 0 && here == lanes && i == next) {
            V wx[kLanczosTaps], wy[kLanczosTaps], sum;
            weights(d, c, hn::LoadU(d, p.fraction_x), wx);
            weights(d, c, hn::LoadU(d, p.fraction_y), wy);
            if (HWY_LIKELY(interpolate_line(
                    d, source, options.peaks, ringing, Weights<V>{wx, wy}, column, row,
                    {p.column[0] - kBefore, p.column[lanes - 1] - kBefore, p.row[at.upper] - kBefore}, &sum))) {
                hn::StoreU(sum, d, out + i);
                continue;
            }
        }
#endif
        const auto outside = hn::Or(hn::Gt(hn::BitCast(du, column), hn::BitCast(du, last_column)),
                                    hn::Gt(hn::BitCast(du, row), hn::BitCast(du, last_row)));
        V result;
        if (HWY_LIKELY(hn::AllFalse(du, outside))) {
            V wx[kLanczosTaps], wy[kLanczosTaps];
            weights(d, c, hn::LoadU(d, p.fraction_x), wx);
            weights(d, c, hn::LoadU(d, p.fraction_y), wy);
            result = interpolate(d, source, options.peaks, ringing, {wx, wy}, column, row,
                                 {p.column[0] - kBefore, p.column[lanes - 1] - kBefore, p.row[0] - kBefore});
        } else {
            result = interpolate_at_edge(d, source, options.peaks, ringing, c, p, column, row);
        }
        if (here < lanes) {
            hn::Store(result, d, part_out);
            std::copy_n(part_out, here, out + i);
        } else {
            hn::StoreU(result, d, out + i);
        }
    }
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(Resample);

namespace {
using lanczos::Coefficients;
using lanczos::kTerms;

/// Least-squares fit of the six weights at Chebyshev nodes, in double.
Coefficients fit_coefficients() {
    constexpr int kNodes = 64;
    Eigen::MatrixXd even(kNodes, kTerms), odd(kNodes, kTerms), sums(kNodes, 3), differences(kNodes, 3);
    for (int n = 0; n < kNodes; ++n) {
        const double x = 0.25 + 0.25 * std::cos(M_PI * (n + 0.5) / kNodes); // (0, 1/2)
        const auto w = lanczos3_weights(0.5 + x);
        for (int t = 0; t < kTerms; ++t) {
            even(n, t) = std::pow(x * x, t);
            odd(n, t) = x * std::pow(x * x, t);
        }
        for (int k = 0; k < 3; ++k) {
            const double a = w[static_cast<std::size_t>(k)], b = w[static_cast<std::size_t>(5 - k)];
            sums(n, k) = 0.5 * (a + b);
            differences(n, k) = 0.5 * (a - b);
        }
    }
    const Eigen::MatrixXd e = even.colPivHouseholderQr().solve(sums), o = odd.colPivHouseholderQr().solve(differences);
    Coefficients c{};
    for (int k = 0; k < 3; ++k)
        for (int t = 0; t < kTerms; ++t) {
            if (k < 2) c.even[k][t] = static_cast<float>(e(t, k));
            c.odd[k][t] = static_cast<float>(o(t, k));
        }
    return c;
}
} // namespace

void resample_lanczos3(View<const float> source, const Positions& positions, float* out,
                       const ResampleOptions& options) {
    static const Coefficients coefficients = fit_coefficients();
    if (source.width < kLanczosTaps || source.height < kLanczosTaps) {
        std::fill_n(out, positions.count, std::numeric_limits<float>::quiet_NaN());
        return;
    }
    HWY_DYNAMIC_DISPATCH(Resample)(source, positions, out, options, coefficients);
}
} // namespace kasane
#endif
