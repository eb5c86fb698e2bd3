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
constexpr int kTerms = 6; // in x^2; the fit is good to 1e-7

/// With x = fraction - 1/2 the weight of tap k is E(x^2) + x O(x^2), and that of tap 5 - k is E(x^2) - x O(x^2).
struct Coefficients {
    float even[3][kTerms];
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
    for (int k = 0; k < 3; ++k) {
        const V e = polynomial(d, c.even[k], x2);
        const V o = hn::Mul(x, polynomial(d, c.odd[k], x2));
        w[k] = hn::Add(e, o);
        w[5 - k] = hn::Sub(e, o);
    }
}

/// Of the six taps in each direction.
template <class V>
struct Weights {
    const V *x, *y;
};

/// From what contrast on, what may be left, and what nothing is higher than.
template <class V>
struct Ringing {
    V contrast, left, bound;
};

/// Sums the 36 products; `load(offset)` gives the pixels `offset` values after each lane's first tap. Nothing near
/// them is higher than the bound of `ringing`.
template <class D, class Load, class V = hn::Vec<D>>
HWY_INLINE V gather_taps(D d, std::ptrdiff_t stride, const Weights<V>& w, const Ringing<V>& ringing, Load load) {
    V sum = hn::Zero(d);
    V floor4 = hn::Set(d, 3.0e38f);
    for (int j = 0; j < kLanczosTaps; ++j) {
        V line = hn::Zero(d);
        for (int i = 0; i < kLanczosTaps; ++i) {
            const V s = load(j * stride + i);
            line = hn::MulAdd(w.x[i], s, line);
            if ((i == 2 || i == 3) && (j == 2 || j == 3)) floor4 = hn::Min(floor4, s);
        }
        sum = hn::MulAdd(w.y[j], line, sum);
    }
    const V least = hn::Sub(floor4, ringing.left);
    const auto below = hn::Lt(sum, least);
    if (hn::AllFalse(d, hn::And(below, hn::Gt(hn::Sub(ringing.bound, floor4), ringing.contrast)))) return sum;
    V highest = hn::Set(d, Peaks::kLowest);
    for (int j = 0; j < kLanczosTaps; ++j)
        for (int i = 0; i < kLanczosTaps; ++i)
            highest = hn::Max(highest, load(j * stride + i));
    const auto rings = hn::And(hn::Gt(hn::Sub(highest, floor4), ringing.contrast), below);
    return hn::IfThenElse(rings, least, sum);
}

/// Where lanes lie beside each other but for a step of one column or row somewhere, up or down, as through all slight
/// turns: one piece after the other as if all lanes were of it, and of each its own lanes. False where that would be
/// too many.
template <class D, class V = hn::Vec<D>, class VI = hn::Vec<hn::RebindToSigned<D>>>
HWY_INLINE bool pieces(D d, View<const float> source, const Weights<V>& both, const Ringing<V>& ringing, VI column,
                       VI row, V* result) {
    const hn::RebindToSigned<D> di;
    constexpr int kMost = 4;
    const auto ramp = hn::Iota(di, 0);
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto along = hn::Sub(column, ramp), against = hn::Add(column, ramp);
    const auto spread = [&](VI v) { return hn::GetLane(hn::MaxOfLanes(di, v)) - hn::GetLane(hn::MinOfLanes(di, v)); };
    const int rows = spread(row) + 1;
    const bool forward = spread(along) < kMost;
    const VI base = forward ? along : against;
    const int columns = spread(base) + 1;
    if (rows > kMost || columns > kMost || rows * columns > kMost) return false;
    const int row0 = hn::GetLane(hn::MinOfLanes(di, row)), base0 = hn::GetLane(hn::MinOfLanes(di, base));
    V out = hn::Zero(d);
    for (int j = row0; j < row0 + rows; ++j)
        for (int i = base0; i < base0 + columns; ++i) {
            const auto own = hn::And(hn::Eq(row, hn::Set(di, j)), hn::Eq(base, hn::Set(di, i)));
            if (hn::AllFalse(di, own)) continue;
            // All lanes must lie in the row, those that are not of the piece as well.
            const int first = forward ? i : i - (lanes - 1);
            if (first < 0 || first + lanes - 1 + kLanczosTaps > source.width) return false;
            const float* at = source.row(j) + first;
            const V one = forward ? gather_taps(d, source.stride, both, ringing,
                                                [&](std::ptrdiff_t o) { return hn::LoadU(d, at + o); })
                                  : gather_taps(d, source.stride, both, ringing,
                                                [&](std::ptrdiff_t o) { return hn::Reverse(d, hn::LoadU(d, at + o)); });
            out = hn::IfThenElse(hn::RebindMask(d, own), one, out);
        }
    *result = out;
    return true;
}

void Resample(View<const float> source, const Positions& at, float* out, const ResampleOptions& options,
              const Coefficients& c) {
    const hn::ScalableTag<float> d;
    const hn::RebindToSigned<decltype(d)> di;
    using V = hn::Vec<decltype(d)>;
    constexpr std::size_t kMostLanes = HWY_MAX_BYTES / sizeof(float);
    const int lanes = static_cast<int>(hn::Lanes(d));
    const Peaks* peaks = options.peaks;
    Ringing<V> ringing{hn::Set(d, options.ringing_contrast), hn::Set(d, options.ringing_left), {}};
    const V nodata = hn::Set(d, std::numeric_limits<float>::quiet_NaN());
    const auto lowest = hn::Set(di, 2), last_column = hn::Set(di, source.width - 4),
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
        if (!hn::AllTrue(di, outside)) {
            V wx[kLanczosTaps], wy[kLanczosTaps];
            weights(d, c, hn::LoadU(d, p.fraction_x), wx);
            weights(d, c, hn::LoadU(d, p.fraction_y), wy);
            // Positions outside read the nearest valid place; their result is dropped below.
            const auto first_column = hn::Sub(hn::Min(hn::Max(column, lowest), last_column), lowest);
            const auto first_row = hn::Sub(hn::Min(hn::Max(row, lowest), last_row), lowest);
            const int u0 = hn::GetLane(first_column), v0 = hn::GetLane(first_row);
            const Weights<V> both{wx, wy};
            ringing.bound = hn::Set(d, std::numeric_limits<float>::infinity());
            if (peaks) {
                const int left = hn::GetLane(hn::MinOfLanes(di, first_column)),
                          right = hn::GetLane(hn::MaxOfLanes(di, first_column)),
                          top = hn::GetLane(hn::MinOfLanes(di, first_row)),
                          bottom = hn::GetLane(hn::MaxOfLanes(di, first_row));
                ringing.bound = hn::Set(d, peaks->over(left, top, right + kLanczosTaps - 1, bottom + kLanczosTaps - 1));
            }
            const bool one_row = hn::AllTrue(di, hn::Eq(first_row, hn::Set(di, v0)));
            if (one_row && hn::AllTrue(di, hn::Eq(first_column, hn::Add(hn::Set(di, u0), ramp)))) {
                const float* first = source.row(v0) + u0;
                result = gather_taps(d, source.stride, both, ringing,
                                     [&](std::ptrdiff_t o) { return hn::LoadU(d, first + o); });
            } else if (one_row && hn::AllTrue(di, hn::Eq(first_column, hn::Sub(hn::Set(di, u0), ramp)))) {
                const float* first = source.row(v0) + u0 - (lanes - 1); // an upside-down frame
                result = gather_taps(d, source.stride, both, ringing,
                                     [&](std::ptrdiff_t o) { return hn::Reverse(d, hn::LoadU(d, first + o)); });
            } else if (!pieces(d, source, both, ringing, first_column, first_row, &result)) {
                const auto index = hn::Add(hn::Mul(first_row, stride), first_column);
                result = gather_taps(d, source.stride, both, ringing,
                                     [&](std::ptrdiff_t o) { return hn::GatherIndex(d, source.data + o, index); });
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
            c.even[k][t] = static_cast<float>(e(t, k));
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
