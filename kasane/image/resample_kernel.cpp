// The vectorised Lanczos-3 kernel, compiled once for every instruction set; resample.cpp holds the scalar reference.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/image/resample_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/highway.h>

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

/// Holds what was summed up against ringing: where a sum lies below the floor of the four nearest, and something that
/// `highest` finds among the taps rises above it.
template <class D, class Highest, class V = hn::Vec<D>>
HWY_INLINE V clamp_ringing(D d, V sum, V floor4, const Ringing<V>& ringing, const TapBox& box, Highest highest) {
    const V least = hn::Sub(floor4, ringing.left);
    const auto below = hn::Lt(sum, least);
    // Where nothing rises so high above the floor, it need not be looked at.
    const auto may_ring = [&](float bound) {
        return !hn::AllFalse(d, hn::And(below, hn::Gt(hn::Sub(hn::Set(d, bound), floor4), ringing.contrast)));
    };
    if (HWY_LIKELY(!may_ring(box.coarse()) || !may_ring(box.fine()))) return sum;
    const auto rings = hn::And(hn::Gt(hn::Sub(highest(), floor4), ringing.contrast), below);
    return hn::IfThenElse(rings, least, sum);
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

/// Sums the 36 products; `load(offset)` gives the pixels `offset` values after each lane's first tap.
template <class D, class Load, class V = hn::Vec<D>>
HWY_INLINE V gather_taps(D d, std::ptrdiff_t stride, const Weights<V>& w, const Ringing<V>& ringing, const TapBox& box,
                         Load load) {
    V sum = hn::Zero(d);
    V floor4 = hn::Set(d, 3.0e38f);
    for (int j = 0; j < kLanczosTaps; ++j) {
        V line = hn::Zero(d);
        for (int i = 0; i < kLanczosTaps; ++i) {
            const V s = load(j * stride + i);
            line = i == 0 ? hn::Mul(w.x[i], s) : hn::MulAdd(w.x[i], s, line);
            if ((i == 2 || i == 3) && (j == 2 || j == 3)) floor4 = i == 2 && j == 2 ? s : hn::Min(floor4, s);
        }
        sum = j == 0 ? hn::Mul(w.y[j], line) : hn::MulAdd(w.y[j], line, sum);
    }
    return clamp_ringing(d, sum, floor4, ringing, box, [&] { return highest_tap(d, stride, load); });
}

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
template <int kColumns, class D, class Highest, class V = hn::Vec<D>, class VI>
HWY_INLINE V stepped_taps(D d, std::ptrdiff_t stride, const Weights<V>& w, const Ringing<V>& ringing, const TapBox& box,
                          const Steps<VI>& at, Highest highest) {
    const hn::RebindToSigned<D> di;
    constexpr int kMostRows = 4;
    V lines[kLanczosTaps + kMostRows - 1], floors[kLanczosTaps + kMostRows - 1];
    for (int k = 0; k < kLanczosTaps + at.rows - 1; ++k) {
        const float* from = at.first + k * stride;
        V pixels[kLanczosTaps + kColumns - 1];
        for (int i = 0; i < kLanczosTaps + kColumns - 1; ++i) {
            const V v = hn::LoadU(d, from + i);
            pixels[i] = at.forward ? v : hn::Reverse(d, v);
        }
        V line = hn::Zero(d), floor = hn::Zero(d);
        for (int i = 0; i < kLanczosTaps; ++i) {
            V s = pixels[i];
            for (int c = 1; c < kColumns; ++c)
                s = hn::IfThenElse(hn::RebindMask(d, hn::Eq(at.step, hn::Set(di, c))), pixels[i + c], s);
            line = i == 0 ? hn::Mul(w.x[i], s) : hn::MulAdd(w.x[i], s, line);
            if (i == 2) floor = s;
            if (i == 3) floor = hn::Min(floor, s);
        }
        lines[k] = line;
        floors[k] = floor;
    }
    V sum = hn::Zero(d), floor4 = hn::Zero(d);
    for (int j = 0; j < kLanczosTaps; ++j) {
        V line = lines[j], floor = floors[j];
        for (int r = 1; r < at.rows; ++r) {
            const auto own = hn::RebindMask(d, hn::Eq(at.row, hn::Set(di, r)));
            line = hn::IfThenElse(own, lines[j + r], line);
            floor = hn::IfThenElse(own, floors[j + r], floor);
        }
        sum = j == 0 ? hn::Mul(w.y[j], line) : hn::MulAdd(w.y[j], line, sum);
        if (j == 2) floor4 = floor;
        if (j == 3) floor4 = hn::Min(floor4, floor);
    }
    return clamp_ringing(d, sum, floor4, ringing, box, highest);
}

/// Where the lanes lie nearly beside each other, forwards or backwards. False where they do not.
template <class D, class Highest, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_INLINE bool stepped(D d, View<const float> source, const Weights<V>& both, const Ringing<V>& ringing,
                        const TapBox& box, VI column, VI row, Highest highest, V* result) {
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
        *result = columns == 1   ? stepped_taps<1>(d, source.stride, both, ringing, box, at, highest)
                  : columns == 2 ? stepped_taps<2>(d, source.stride, both, ringing, box, at, highest)
                                 : stepped_taps<kMost>(d, source.stride, both, ringing, box, at, highest);
        return true;
    }
    return false;
}

#if HWY_MAX_BYTES >= 64
/// Where each lane has its 36 pixels elsewhere: the six rows of two lanes are loaded and summed up as the halves of one
/// vector, a sum for each column; these then change places so that lanes are positions again.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V taps_apart(D d, View<const float> source, const std::int32_t* index, const Weights<V>& w) {
    constexpr int kRow = 8, kBlock = 4; // floats of half a vector, of a quarter
    const hn::FixedTag<float, kRow> row;
    const hn::RebindToSigned<D> di;
    const hn::Repartition<double, D> two; // floats, moved as one
    const auto six = hn::FirstN(row, kLanczosTaps);
    const auto of_lower = hn::IfThenElse(hn::Lt(hn::Iota(di, 0), hn::Set(di, kRow)), hn::Zero(di), hn::Set(di, kRow));
    const auto sums_of = [&](int lane, auto load) HWY_ATTR {
        const float *a = source.data + index[lane], *b = source.data + index[lane + kRow];
        const auto own = hn::IndicesFromVec(d, hn::Add(hn::Set(di, lane), of_lower));
        V sums = hn::Mul(hn::TableLookupLanes(w.y[0], own), hn::Combine(d, load(b), load(a)));
        for (int j = 1; j < kLanczosTaps; ++j)
            sums = hn::MulAdd(hn::TableLookupLanes(w.y[j], own),
                              hn::Combine(d, load(b + j * source.stride), load(a + j * source.stride)), sums);
        return sums;
    };
    // Two columns more than need be are loaded, but for those that lie at the very end.
    const std::ptrdiff_t last = (source.height - kLanczosTaps) * source.stride + source.width - kRow;
    const auto sums_at = [&](int lane) HWY_ATTR {
        if (HWY_LIKELY(std::max(index[lane], index[lane + kRow]) <= last))
            return sums_of(lane, [&](const float* from) HWY_ATTR { return hn::LoadU(row, from); });
        return sums_of(lane, [&](const float* from) HWY_ATTR { return hn::MaskedLoad(six, row, from); });
    };
    // Of four lanes, and those half a vector on: column k and column 4 + k of each four, by turns.
    const auto columns_of = [&](int lane, V* to) HWY_ATTR {
        const V p = sums_at(lane), q = sums_at(lane + 1), r = sums_at(lane + 2), s = sums_at(lane + 3);
        const auto pq = hn::BitCast(two, hn::InterleaveLower(d, p, q)),
                   rs = hn::BitCast(two, hn::InterleaveLower(d, r, s)),
                   further_pq = hn::BitCast(two, hn::InterleaveUpper(d, p, q)),
                   further_rs = hn::BitCast(two, hn::InterleaveUpper(d, r, s));
        to[0] = hn::BitCast(d, hn::InterleaveLower(two, pq, rs));
        to[1] = hn::BitCast(d, hn::InterleaveUpper(two, pq, rs));
        to[2] = hn::BitCast(d, hn::InterleaveLower(two, further_pq, further_rs));
        to[3] = hn::BitCast(d, hn::InterleaveUpper(two, further_pq, further_rs));
    };
    V these[kBlock], others[kBlock];
    columns_of(0, these);
    columns_of(kBlock, others);
    V sum = hn::Mul(w.x[0], hn::OddEvenBlocks(hn::SwapAdjacentBlocks(others[0]), these[0]));
    for (int k = 1; k < kBlock; ++k)
        sum = hn::MulAdd(w.x[k], hn::OddEvenBlocks(hn::SwapAdjacentBlocks(others[k]), these[k]), sum);
    for (int k = kBlock; k < kLanczosTaps; ++k)
        sum = hn::MulAdd(w.x[k], hn::OddEvenBlocks(others[k - kBlock], hn::SwapAdjacentBlocks(these[k - kBlock])), sum);
    return sum;
}
#elif HWY_MAX_BYTES >= 32
/// The same, a lane for itself.
template <class D, class V = hn::Vec<D>>
HWY_INLINE V taps_apart(D d, View<const float> source, const std::int32_t* index, const Weights<V>& w) {
    const hn::FixedTag<float, 8> row;
    const hn::Half<decltype(row)> half;
    const hn::Repartition<double, decltype(half)> pair; // of floats, moved as one
    constexpr std::size_t kMostLanes = HWY_MAX_BYTES / sizeof(float), kFirst = 4, kLast = kLanczosTaps - kFirst;
    HWY_ALIGN float of_rows[kLanczosTaps][kMostLanes], first[kFirst * kMostLanes], last[kLast * kMostLanes];
    for (int j = 0; j < kLanczosTaps; ++j)
        hn::Store(w.y[j], d, of_rows[j]);
    const auto six = hn::FirstN(row, kLanczosTaps);
    const auto columns_of = [&](std::size_t lane) {
        const float* from = source.data + index[lane];
        auto sums = hn::Mul(hn::Set(row, of_rows[0][lane]), hn::MaskedLoad(six, row, from));
        for (int j = 1; j < kLanczosTaps; ++j)
            sums = hn::MulAdd(hn::Set(row, of_rows[j][lane]), hn::MaskedLoad(six, row, from + j * source.stride), sums);
        hn::Store(hn::LowerHalf(half, sums), half, first + kFirst * lane);
        return hn::BitCast(pair, hn::UpperHalf(half, sums));
    };
    const std::size_t lanes = hn::Lanes(d);
    for (std::size_t k = 0; k < lanes; k += 2) {
        const auto one = columns_of(k), other = columns_of(k + 1);
        hn::Store(hn::BitCast(half, hn::InterleaveLower(pair, one, other)), half, last + kLast * k);
    }
    V column[kLanczosTaps];
    hn::LoadInterleaved4(d, first, column[0], column[1], column[2], column[3]);
    hn::LoadInterleaved2(d, last, column[4], column[5]);
    V sum = hn::Mul(w.x[0], column[0]);
    for (int i = 1; i < kLanczosTaps; ++i)
        sum = hn::MulAdd(w.x[i], column[i], sum);
    return sum;
}
#endif

void Resample(View<const float> source, const Positions& at, float* out, const ResampleOptions& options,
              const Coefficients& c) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    using V = hn::Vec<decltype(d)>;
    constexpr std::size_t kMostLanes = HWY_MAX_BYTES / sizeof(float);
    const int lanes = static_cast<int>(hn::Lanes(d));
    const Peaks* peaks = options.peaks;
    const Ringing<V> ringing{hn::Set(d, options.ringing_contrast), hn::Set(d, options.ringing_left)};
    const V nodata = hn::Set(d, std::numeric_limits<float>::quiet_NaN());
    const auto lowest = hn::Set(di, 2), last_column = hn::Set(di, source.width - 4),
               last_row = hn::Set(di, source.height - 4);
    const auto stride = hn::Set(di, static_cast<int>(source.stride));
    const auto ramp = hn::Iota(di, 0);
    HWY_ALIGN std::int32_t part_column[kMostLanes], part_row[kMostLanes];
    HWY_ALIGN float part_x[kMostLanes], part_y[kMostLanes], part_out[kMostLanes];
    const bool apart = options.apart && HWY_MAX_BYTES >= 32; // else as all others

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
        const auto column = hn::LoadU(di, p.column), row = hn::LoadU(di, p.row);
        const auto outside = hn::Or(hn::Or(hn::Lt(column, lowest), hn::Gt(column, last_column)),
                                    hn::Or(hn::Lt(row, lowest), hn::Gt(row, last_row)));
        V result = nodata;
        if (!hn::AllTrue(di, outside)) {
            V wx[kLanczosTaps], wy[kLanczosTaps];
            weights(d, c, hn::LoadU(d, p.fraction_x), wx);
            weights(d, c, hn::LoadU(d, p.fraction_y), wy);
            // Positions outside read the nearest valid place; their result is dropped below.
            const auto first_column = hn::Sub(hn::Min(hn::Max(column, lowest), last_column), lowest);
            const auto first_row = hn::Sub(hn::Min(hn::Max(row, lowest), last_row), lowest);
            const int u0 = hn::GetLane(first_column), v0 = hn::GetLane(first_row);
            const Weights<V> both{wx, wy};
            const bool one_row = hn::AllTrue(di, hn::Eq(first_row, hn::Set(di, v0)));
            const auto box_of_all = [&] {
                return TapBox(peaks, hn::GetLane(hn::MinOfLanes(di, first_column)),
                              hn::GetLane(hn::MinOfLanes(di, first_row)), hn::GetLane(hn::MaxOfLanes(di, first_column)),
                              hn::GetLane(hn::MaxOfLanes(di, first_row)));
            };
            const auto index = hn::Add(hn::Mul(first_row, stride), first_column);
            const auto load_any = [&](std::ptrdiff_t o) { return hn::GatherIndex(d, source.data + o, index); };
            const auto highest = [&] { return highest_tap(d, source.stride, load_any); };
            if (apart) {
#if HWY_MAX_BYTES >= 32
                HWY_ALIGN std::int32_t index_of[kMostLanes];
                hn::Store(index, di, index_of);
                result = taps_apart(d, source, index_of, both);
                // What rings lies below the floor, and something above it by the contrast.
                const TapBox box = box_of_all();
                const V least = hn::Add(result, hn::Add(ringing.left, ringing.contrast));
                const auto may_ring = [&](float bound) { return !hn::AllFalse(d, hn::Gt(hn::Set(d, bound), least)); };
                if (HWY_UNLIKELY(may_ring(box.coarse()) && may_ring(box.fine()))) {
                    const std::ptrdiff_t near = 2 * source.stride + 2;
                    const V floor4 =
                        hn::Min(hn::Min(load_any(near), load_any(near + 1)),
                                hn::Min(load_any(near + source.stride), load_any(near + source.stride + 1)));
                    result = clamp_ringing(d, result, floor4, ringing, box, highest);
                }
#endif
            } else if (one_row && hn::AllTrue(di, hn::Eq(first_column, hn::Add(hn::Set(di, u0), ramp)))) {
                const float* first = source.row(v0) + u0;
                const TapBox box(peaks, u0, v0, u0 + lanes - 1, v0);
                result = gather_taps(d, source.stride, both, ringing, box,
                                     [&](std::ptrdiff_t o) { return hn::LoadU(d, first + o); });
            } else if (one_row && hn::AllTrue(di, hn::Eq(first_column, hn::Sub(hn::Set(di, u0), ramp)))) {
                const float* first = source.row(v0) + u0 - (lanes - 1); // an upside-down frame
                const TapBox box(peaks, u0 - (lanes - 1), v0, u0, v0);
                result = gather_taps(d, source.stride, both, ringing, box,
                                     [&](std::ptrdiff_t o) { return hn::Reverse(d, hn::LoadU(d, first + o)); });
            } else {
                const TapBox box = box_of_all();
                if (!stepped(d, source, both, ringing, box, first_column, first_row, highest, &result))
                    result = gather_taps(d, source.stride, both, ringing, box, load_any);
            }
            result = hn::IfThenElse(hn::RebindMask(d, outside), nodata, result);
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
