// Compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/integration/drop_gather_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/contrib/math/math-inl.h>
#include <hwy/highway.h>

#include <kasane/image/even_lanes-inl.hpp>
#include <kasane/integration/drop_gather.hpp>

#include <algorithm>
#include <cstdlib>
#include <limits>
#include <type_traits>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

/// What a vector of positions reads, and by which weights. kTaps: 0 where they are not known beforehand.
template <int kTaps, bool kSquare, class D>
struct Drops {
    using V = hn::Vec<D>;
    D d;
    const DropRows samples;
    const int any_taps;
    const V weight, reach, most, narrow, unit;
    V across[kTaps > 0 ? kTaps : DropKernel::kMostTaps];

    HWY_INLINE Drops(D tag, const DropRows& rows, const DropKernel& kernel, float times)
        : d(tag), samples(rows), any_taps(kernel.taps()), weight(hn::Set(tag, times)),
          reach(hn::Set(tag, kernel.numbers().reach)), most(hn::Set(tag, kernel.numbers().most)),
          narrow(hn::Set(tag, kernel.numbers().narrow)), unit(hn::Set(tag, kernel.numbers().unit)) {}

    int taps() const { return kTaps > 0 ? kTaps : any_taps; }

    /// One row of samples at `offset`: the sums over its taps, times what the row gives. kWhole: all its counts are 1.
    template <bool kWhole, class Load>
    HWY_INLINE void add_row(std::ptrdiff_t offset, V down, Load load, V& values, V& counts) const {
        V value = hn::Mul(across[0], load(samples.values + offset)), count = across[0];
        if constexpr (!kWhole) count = hn::Mul(count, load(samples.counts + offset));
        for (int a = 1; a < taps(); ++a) {
            value = hn::MulAdd(across[a], load(samples.values + offset + a), value);
            if constexpr (kWhole)
                count = hn::Add(across[a], count);
            else
                count = hn::MulAdd(across[a], load(samples.counts + offset + a), count);
        }
        values = hn::MulAdd(down, value, values);
        counts = hn::MulAdd(down, count, counts);
    }
    /// The rows under positions of one row of the frame. `first`: the offset of the first tap.
    template <bool kWhole, class Load>
    HWY_INLINE void add_rows(std::ptrdiff_t first, V fraction, Load load, V& values, V& counts) const {
        const int before = taps() / 2 - 1;
        for (int b = 0; b < taps(); ++b)
            add_row<kWhole>(first + b * samples.stride, hn::Mul(weight, tap(b - before, fraction)), load, values,
                            counts);
    }
    /// DropKernel::at, of distances that are not negative.
    HWY_INLINE V at(V distance) const {
        if constexpr (kSquare) {
            return hn::Mul(unit, hn::Min(most, hn::Max(hn::Zero(d), hn::Sub(reach, distance))));
        } else {
            const V round = hn::Mul(unit, hn::Exp(d, hn::Mul(narrow, hn::Mul(distance, distance))));
            return hn::IfThenElseZero(hn::Lt(distance, reach), round);
        }
    }
    /// Of a tap so many samples behind the position's own.
    HWY_INLINE V tap(int place, V fraction) const {
        const V p = hn::Set(d, static_cast<float>(place));
        return at(place > 0 ? hn::Sub(p, fraction) : hn::Sub(fraction, p));
    }
    HWY_INLINE V down(V place, V fraction) const { return hn::Mul(weight, at(hn::Abs(hn::Sub(place, fraction)))); }
};

/// A vector of positions. The columns of the first and the last lane are those of its ends.
template <class D>
struct PositionLanes {
    using V = hn::Vec<D>;
    using VI = hn::Vec<hn::RebindToSigned<D>>;
    VI column, row;
    V fx, fy;
    int left, top, low; ///< column that the first or the last lane has, whichever is less; first and last row
    bool far;           ///< columns lie further apart than a vector goes
};

template <class D>
HWY_INLINE PositionLanes<D> load_positions(D d, const Positions& p) {
    const hn::RebindToSigned<D> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto column = hn::LoadU(di, p.column), row = hn::LoadU(di, p.row);
    const int left = std::min(p.column[0], p.column[lanes - 1]);
    int top = p.row[0], low = top;
    if (!hn::AllTrue(di, hn::Eq(row, hn::Set(di, top))))
        top = hn::GetLane(hn::MinOfLanes(di, row)), low = hn::GetLane(hn::MaxOfLanes(di, row));
    const auto step = hn::Sub(column, hn::Set(di, left));
    const auto far = hn::Or(hn::Lt(step, hn::Zero(di)), hn::Gt(step, hn::Set(di, lanes - 1)));
    return {column, row, hn::LoadU(d, p.fraction_x), hn::LoadU(d, p.fraction_y), left,
            top,    low, !hn::AllFalse(di, far)};
}

/// A whole vector of positions.
template <int kTaps, bool kSquare, class D>
HWY_INLINE void gather_vector(D d, Drops<kTaps, kSquare, D>& drops, const PositionLanes<D>& p, float* values,
                              float* weights) {
    using V = hn::Vec<D>;
    const hn::RebindToSigned<D> di;
    constexpr int kMostRows = 4; // beyond which samples are fetched one by one
    const int before = drops.taps() / 2 - 1, top = p.top, low = p.low;
    const std::ptrdiff_t stride = drops.samples.stride;
    const V fx = p.fx, fy = p.fy;
    for (int a = 0; a < drops.taps(); ++a)
        drops.across[a] = drops.tap(a - before, fx);
    V value = hn::LoadU(d, values), weight = hn::LoadU(d, weights);
    if (HWY_LIKELY(low - top < kMostRows && !p.far)) {
        // Every row is read once for all lanes; where it is too far from a lane's position it gives nothing.
        const auto table = hn::IndicesFromVec(d, hn::Sub(p.column, hn::Set(di, p.left)));
        const auto load = [&](const float* from) { return hn::TableLookupLanes(hn::LoadU(d, from), table); };
        const std::ptrdiff_t first = (top - before) * stride + p.left - before;
        if (HWY_LIKELY(low == top)) {
            if (HWY_LIKELY(drops.samples.whole && drops.samples.whole[top - before] >= drops.taps()))
                drops.template add_rows<true>(first, fy, load, value, weight);
            else
                drops.template add_rows<false>(first, fy, load, value, weight);
        } else {
            const auto beyond = hn::Sub(hn::Set(di, top - before), p.row);
            const int rows = drops.taps() + low - top;
            const bool whole = drops.samples.whole && drops.samples.whole[top - before] >= rows;
            for (int b = 0; b < rows; ++b) {
                const V down = drops.down(hn::ConvertTo(d, hn::Add(beyond, hn::Set(di, b))), fy);
                if (whole)
                    drops.template add_row<true>(first + b * stride, down, load, value, weight);
                else
                    drops.template add_row<false>(first + b * stride, down, load, value, weight);
            }
        }
    } else {
        const auto index = hn::Add(hn::Mul(p.row, hn::Set(di, static_cast<std::int32_t>(stride))), p.column);
        const auto load = [&](const float* from) { return hn::GatherIndex(d, from, index); };
        drops.template add_rows<false>(-before * stride - before, fy, load, value, weight);
    }
    hn::StoreU(value, d, values);
    hn::StoreU(weight, d, weights);
}

constexpr int kMostLanes = 16;

/// Fewer positions than a vector has lanes; none is fine.
template <int kTaps, bool kSquare, class D>
HWY_INLINE void gather_last(D d, Drops<kTaps, kSquare, D>& drops, const Positions& p, const DropSums& sums) {
    if (p.count <= 0) return;
    std::int32_t column[kMostLanes], row[kMostLanes];
    float fx[kMostLanes], fy[kMostLanes], values[kMostLanes] = {}, weights[kMostLanes] = {};
    for (int k = 0; k < static_cast<int>(hn::Lanes(d)); ++k) { // the last position again
        const int from = std::min(k, p.count - 1);
        column[k] = p.column[from], row[k] = p.row[from];
        fx[k] = p.fraction_x[from], fy[k] = p.fraction_y[from];
    }
    std::copy_n(sums.values, p.count, values);
    std::copy_n(sums.weights, p.count, weights);
    gather_vector(d, drops, load_positions(d, {column, row, fx, fy, kMostLanes}), values, weights);
    std::copy_n(values, p.count, sums.values);
    std::copy_n(weights, p.count, sums.weights);
}

template <int kTaps, bool kSquare, class D>
HWY_INLINE void gather_all(D d, Drops<kTaps, kSquare, D>& drops, const Positions& p, const DropSums& sums) {
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto from = [&](int i, int count) {
        return Positions{p.column + i, p.row + i, p.fraction_x + i, p.fraction_y + i, count};
    };
    int i = 0;
    for (; i + lanes <= p.count; i += lanes)
        gather_vector(d, drops, load_positions(d, from(i, lanes)), sums.values + i, sums.weights + i);
    gather_last(d, drops, from(i, p.count - i), {sums.values + i, sums.weights + i});
}

template <int kTaps, bool kSquare, class D>
HWY_INLINE void gather_all(D d, Drops<kTaps, kSquare, D>& drops, const EvenPositions p, const DropSums sums) {
    const hn::RebindToSigned<D> di;
    const int lanes = static_cast<int>(hn::Lanes(d));
    std::int64_t first_u[kMostLanes], first_v[kMostLanes];
    for (int k = 0; k < lanes; ++k)
        first_u[k] = p.u + k * p.du, first_v[k] = p.v + k * p.dv;
    EvenLanes<decltype(di)> x(di, first_u, lanes * p.du, p.origin_x), y(di, first_v, lanes * p.dv, p.origin_y);
    const auto whole = [](std::int64_t at) { return static_cast<int>(at >> 32); };
    // The least column and row of a vector are those of its first or its last lane.
    const std::int64_t wide = (lanes - 1) * p.du, high = (lanes - 1) * p.dv;
    std::int64_t left = p.u + std::min<std::int64_t>(0, wide), top = p.v + std::min<std::int64_t>(0, high);
    const std::int64_t across = std::abs(wide), down = std::abs(high);
    int i = 0;
    for (; i + lanes <= p.count; i += lanes, x.next(), y.next(), left += lanes * p.du, top += lanes * p.dv)
        gather_vector(d, drops,
                      PositionLanes<D>{x.whole(), y.whole(), x.fraction(), y.fraction(), whole(left) - p.origin_x,
                                       whole(top) - p.origin_y, whole(top + down) - p.origin_y,
                                       whole(left + across) - whole(left) >= lanes},
                      sums.values + i, sums.weights + i);
    std::int32_t column[kMostLanes], row[kMostLanes];
    float fx[kMostLanes], fy[kMostLanes];
    hn::StoreU(x.whole(), di, column);
    hn::StoreU(y.whole(), di, row);
    hn::StoreU(x.fraction(), d, fx);
    hn::StoreU(y.fraction(), d, fy);
    gather_last(d, drops, {column, row, fx, fy, p.count - i}, {sums.values + i, sums.weights + i});
}

template <class P>
HWY_INLINE void gather(const DropRows& samples, const P& positions, const DropKernel& kernel, float weight,
                       const DropSums& sums) {
    const hn::CappedTag<float, kMostLanes> d;
    using D = std::remove_cv_t<decltype(d)>;
    const auto all = [&](auto taps, auto square) {
        Drops<taps(), square(), D> drops(d, samples, kernel, weight);
        gather_all(d, drops, positions, sums);
    };
    using Any = std::integral_constant<int, 0>;
    if (!kernel.numbers().square)
        all(Any(), std::false_type());
    else if (kernel.taps() == 2)
        all(std::integral_constant<int, 2>(), std::true_type());
    else
        all(Any(), std::true_type());
}

void GatherDrops(const DropRows& samples, const Positions& p, const DropKernel& kernel, float weight,
                 const DropSums& sums) {
    gather(samples, p, kernel, weight, sums);
}
void GatherEvenDrops(const DropRows& samples, const EvenPositions& p, const DropKernel& kernel, float weight,
                     const DropSums& sums) {
    gather(samples, p, kernel, weight, sums);
}

void WholeRows(const float* counts, int width, int height, std::uint8_t* whole) {
    const hn::ScalableTag<float> d;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto one = hn::Set(d, 1.0f);
    int before = 0; // of the row below
    for (int y = height - 1; y >= 0; --y) {
        const float* row = counts + static_cast<std::ptrdiff_t>(y) * width;
        bool all = true;
        int x = 0;
        for (; all && x + lanes <= width; x += lanes)
            all = hn::AllTrue(d, hn::Eq(hn::LoadU(d, row + x), one));
        for (; all && x < width; ++x)
            all = row[x] == 1.0f;
        before = all ? std::min(before + 1, 255) : 0;
        whole[y] = static_cast<std::uint8_t>(before);
    }
}

bool TapsInside(const Positions& p, int before, int after, int width, int height) {
    const hn::ScalableTag<std::int32_t> d;
    const int lanes = static_cast<int>(hn::Lanes(d));
    const auto inside = [&](int c, int r) {
        return c >= before && r >= before && c + after < width && r + after < height;
    };
    const auto least = hn::Set(d, before), right = hn::Set(d, width - after - 1), end = hn::Set(d, height - after - 1);
    int i = 0;
    for (; i + lanes <= p.count; i += lanes) {
        const auto c = hn::LoadU(d, p.column + i), r = hn::LoadU(d, p.row + i);
        const auto out = hn::Or(hn::Lt(hn::Min(c, r), least), hn::Or(hn::Gt(c, right), hn::Gt(r, end)));
        if (!hn::AllFalse(d, out)) return false;
    }
    for (; i < p.count; ++i)
        if (!inside(p.column[i], p.row[i])) return false;
    return true;
}

void MeanOfDrops(const DropSums& one, const DropSums& other, std::size_t count, float level, float times, float least,
                 const DropSums& out) {
    const hn::ScalableTag<float> d;
    const std::size_t lanes = hn::Lanes(d);
    const auto nodata = hn::Set(d, std::numeric_limits<float>::quiet_NaN());
    std::size_t i = 0;
    for (; i + lanes <= count; i += lanes) {
        const auto w = hn::Add(hn::LoadU(d, one.weights + i), hn::LoadU(d, other.weights + i)),
                   v = hn::Add(hn::LoadU(d, one.values + i), hn::LoadU(d, other.values + i));
        const auto mean = hn::Mul(hn::Set(d, times), hn::Add(hn::Set(d, level), hn::Div(v, w)));
        hn::StoreU(w, d, out.weights + i);
        hn::StoreU(hn::IfThenElse(hn::Gt(w, hn::Set(d, least)), mean, nodata), d, out.values + i);
    }
    for (; i < count; ++i) {
        const float w = one.weights[i] + other.weights[i];
        out.weights[i] = w;
        out.values[i] = w > least ? times * (level + (one.values[i] + other.values[i]) / w)
                                  : std::numeric_limits<float>::quiet_NaN();
    }
}

} // namespace kasane::HWY_NAMESPACE
HWY_AFTER_NAMESPACE();

#if HWY_ONCE
namespace kasane {
HWY_EXPORT(GatherDrops);
HWY_EXPORT(GatherEvenDrops);
HWY_EXPORT(WholeRows);
HWY_EXPORT(TapsInside);
HWY_EXPORT(MeanOfDrops);

void gather_drops(const DropRows& samples, const Positions& positions, const DropKernel& kernel, float weight,
                  const DropSums& sums) {
    HWY_DYNAMIC_DISPATCH(GatherDrops)(samples, positions, kernel, weight, sums);
}

void gather_even_drops(const DropRows& samples, const EvenPositions& positions, const DropKernel& kernel, float weight,
                       const DropSums& sums) {
    HWY_DYNAMIC_DISPATCH(GatherEvenDrops)(samples, positions, kernel, weight, sums);
}

void whole_rows(const float* counts, int width, int height, std::vector<std::uint8_t>& whole) {
    whole.resize(static_cast<std::size_t>(height));
    HWY_DYNAMIC_DISPATCH(WholeRows)(counts, width, height, whole.data());
}

bool taps_inside(const Positions& positions, const DropKernel& kernel, int width, int height) {
    return HWY_DYNAMIC_DISPATCH(TapsInside)(positions, kernel.taps() / 2 - 1, kernel.taps() / 2, width, height);
}

bool taps_inside(const EvenPositions& p, const DropKernel& kernel, int width, int height) {
    const int before = kernel.taps() / 2 - 1, after = kernel.taps() / 2;
    const auto lie_inside = [&](std::int64_t first, std::int64_t step, int origin, int size) {
        const auto whole = [&](int i) { return ((first + i * step) >> 32) - origin; };
        const auto [least, most] = std::minmax({whole(0), whole(p.count - 1)});
        return least >= before && most + after < size;
    };
    return lie_inside(p.u, p.du, p.origin_x, width) && lie_inside(p.v, p.dv, p.origin_y, height);
}

void mean_of_drops(const DropSums& one, const DropSums& other, std::size_t count, float level, float times, float least,
                   const DropSums& out) {
    HWY_DYNAMIC_DISPATCH(MeanOfDrops)(one, other, count, level, times, least, out);
}
} // namespace kasane
#endif
