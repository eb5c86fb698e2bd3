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

#if HWY_MAX_BYTES >= 32
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

/// Where the lanes lie in a line along the rows, be it with wide steps. `column` and `row` are first taps, those of the
/// first and the last lane `ends`; false where they do not.
template <class D, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_INLINE bool spread(D d, View<const float> source, const Weights<V>& both, VI column, VI row, const int (&ends)[2],
                       int first_row, V* result) {
    const hn::RebindToSigned<D> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const int left = std::min(ends[0], ends[1]), right = std::max(ends[0], ends[1]);
    const int columns = right - left + kLanczosTaps, vectors = columns <= 2 * lanes ? 2 : 4;
    if (columns > vectors * lanes || source.width < vectors * lanes) return false;
    const VI beside = hn::Sub(row, hn::Set(di, first_row));
    const auto astray = hn::Or(hn::Or(hn::Lt(column, hn::Set(di, left)), hn::Gt(column, hn::Set(di, right))),
                               hn::Or(hn::Lt(beside, hn::Set(di, -1)), hn::Gt(beside, hn::Set(di, 1))));
    if (!hn::AllFalse(di, astray)) return false;
    const bool above = !hn::AllFalse(di, hn::Lt(beside, hn::Zero(di))),
               below = !hn::AllFalse(di, hn::Gt(beside, hn::Zero(di)));
    const int from = std::min(left, source.width - vectors * lanes), top = first_row - above;
    const Spread<VI> at{hn::Sub(column, hn::Set(di, from)), hn::Sub(row, hn::Set(di, top)), source.row(top) + from};
    if (vectors == 4)
        *result = spread_taps<4, 3>(d, source.stride, both, at); // rare: one for all
    else if (above && below)
        *result = spread_taps<2, 3>(d, source.stride, both, at);
    else if (above || below)
        *result = spread_taps<2, 2>(d, source.stride, both, at);
    else
        *result = spread_taps<2, 1>(d, source.stride, both, at);
    return true;
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
    constexpr int kBefore = kLanczosRadius - 1;
    [[maybe_unused]] constexpr int kNearlyBeside = 1; // columns that lanes beside each other may be off
    const auto lowest = hn::Set(di, kBefore), last_column = hn::Set(di, source.width - 4),
               last_row = hn::Set(di, source.height - 4);
    const auto stride = hn::Set(di, static_cast<int>(source.stride));
    const auto ramp = hn::Iota(di, 0);
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
        const auto column = hn::LoadU(di, p.column), row = hn::LoadU(di, p.row);
        const auto outside = hn::Or(hn::Or(hn::Lt(column, lowest), hn::Gt(column, last_column)),
                                    hn::Or(hn::Lt(row, lowest), hn::Gt(row, last_row)));
        V result = nodata;
        const bool all_inside = hn::AllFalse(di, outside);
        if (all_inside || !hn::AllTrue(di, outside)) {
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
            if (one_row && hn::AllTrue(di, hn::Eq(first_column, hn::Add(hn::Set(di, u0), ramp)))) {
                const float* first = source.row(v0) + u0;
                const TapBox box(peaks, u0, v0, u0 + lanes - 1, v0);
                result = gather_taps(d, source.stride, both, ringing, box,
                                     [&](std::ptrdiff_t o) { return hn::LoadU(d, first + o); });
            } else if (one_row && hn::AllTrue(di, hn::Eq(first_column, hn::Sub(hn::Set(di, u0), ramp)))) {
                const float* first = source.row(v0) + u0 - (lanes - 1); // an upside-down frame
                const TapBox box(peaks, u0 - (lanes - 1), v0, u0, v0);
                result = gather_taps(d, source.stride, both, ringing, box,
                                     [&](std::ptrdiff_t o) { return hn::Reverse(d, hn::LoadU(d, first + o)); });
#if HWY_MAX_BYTES >= 32
            } else if (const int ends[] = {p.column[0] - kBefore, p.column[lanes - 1] - kBefore};
                       std::abs(std::abs(ends[1] - ends[0]) - (lanes - 1)) > kNearlyBeside && all_inside &&
                       spread(d, source, both, first_column, first_row, ends, v0, &result)) {
                // What rings lies below the floor, and something above it by the contrast.
                const TapBox box(peaks, std::min(ends[0], ends[1]), std::max(0, v0 - 1), std::max(ends[0], ends[1]),
                                 std::min(v0 + 1, source.height - kLanczosTaps));
                const V least = hn::Add(result, hn::Add(ringing.left, ringing.contrast));
                const auto may_ring = [&](float bound) { return !hn::AllFalse(d, hn::Gt(hn::Set(d, bound), least)); };
                if (HWY_UNLIKELY(may_ring(box.coarse()) && may_ring(box.fine()))) {
                    const std::ptrdiff_t near = kBefore * source.stride + kBefore;
                    const V floor4 =
                        hn::Min(hn::Min(load_any(near), load_any(near + 1)),
                                hn::Min(load_any(near + source.stride), load_any(near + source.stride + 1)));
                    result = clamp_ringing(d, result, floor4, ringing, box, highest);
                }
#endif
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
