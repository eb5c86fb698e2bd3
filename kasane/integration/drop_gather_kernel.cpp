// Compiled once for every instruction set.
#undef HWY_TARGET_INCLUDE
#define HWY_TARGET_INCLUDE "kasane/integration/drop_gather_kernel.cpp"
#include <hwy/foreach_target.h>
// The order matters: foreach_target first.
#include <hwy/contrib/math/math-inl.h>
#include <hwy/highway.h>

#include <kasane/integration/drop_gather.hpp>

#include <algorithm>
#include <limits>

HWY_BEFORE_NAMESPACE();
namespace kasane::HWY_NAMESPACE {
namespace hn = hwy::HWY_NAMESPACE;

template <bool kSquare, class D, class V = hn::Vec<D>>
HWY_INLINE V drop_at(D d, const DropKernel::Numbers& k, V distance) {
    const V unit = hn::Set(d, k.unit), reach = hn::Set(d, k.reach);
    if constexpr (kSquare) {
        const V inside = hn::Max(hn::Zero(d), hn::Sub(reach, hn::Abs(distance)));
        return hn::Mul(unit, hn::Min(hn::Set(d, k.most), inside));
    } else {
        const V round = hn::Mul(unit, hn::Exp(d, hn::Mul(hn::Set(d, k.narrow), hn::Mul(distance, distance))));
        return hn::IfThenElseZero(hn::Lt(hn::Abs(distance), reach), round);
    }
}

/// What a vector of positions reads, and by which weights. kTaps: 0 where they are not known beforehand.
template <int kTaps, bool kSquare, class D>
struct Drops {
    using V = hn::Vec<D>;
    using VI = hn::Vec<hn::RebindToSigned<D>>;
    D d;
    const DropRows& samples;
    const DropKernel::Numbers& kernel;
    int any_taps;
    V weight;
    V across[kTaps > 0 ? kTaps : DropKernel::kMostTaps];

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
            add_row<kWhole>(first + b * samples.stride, down(hn::Set(d, static_cast<float>(b - before)), fraction),
                            load, values, counts);
    }
    HWY_INLINE V down(V place, V fraction) const {
        return hn::Mul(weight, drop_at<kSquare>(d, kernel, hn::Sub(place, fraction)));
    }
};

/// A whole vector of positions.
template <int kTaps, bool kSquare, class D>
HWY_INLINE void gather_vector(D d, Drops<kTaps, kSquare, D>& drops, const Positions& p, float* values, float* weights) {
    using V = hn::Vec<D>;
    const hn::RebindToSigned<D> di;
    constexpr int kMostRows = 4; // beyond which samples are fetched one by one
    const int lanes = static_cast<int>(hn::Lanes(d)), before = drops.taps() / 2 - 1;
    const std::ptrdiff_t stride = drops.samples.stride;
    const V fx = hn::LoadU(d, p.fraction_x), fy = hn::LoadU(d, p.fraction_y);
    for (int a = 0; a < drops.taps(); ++a)
        drops.across[a] = drop_at<kSquare>(d, drops.kernel, hn::Sub(hn::Set(d, static_cast<float>(a - before)), fx));
    V value = hn::LoadU(d, values), weight = hn::LoadU(d, weights);
    const auto column = hn::LoadU(di, p.column), row = hn::LoadU(di, p.row);
    const int left = std::min(p.column[0], p.column[lanes - 1]);
    int top = p.row[0], low = top;
    if (!hn::AllTrue(di, hn::Eq(row, hn::Set(di, top))))
        top = hn::GetLane(hn::MinOfLanes(di, row)), low = hn::GetLane(hn::MaxOfLanes(di, row));
    const auto step = hn::Sub(column, hn::Set(di, left));
    const auto far = hn::Or(hn::Lt(step, hn::Zero(di)), hn::Gt(step, hn::Set(di, lanes - 1)));
    if (HWY_LIKELY(low - top < kMostRows && hn::AllFalse(di, far))) {
        // Every row is read once for all lanes; where it is too far from a lane's position it gives nothing.
        const auto table = hn::IndicesFromVec(d, step);
        const auto load = [&](const float* from) { return hn::TableLookupLanes(hn::LoadU(d, from), table); };
        const std::ptrdiff_t first = (top - before) * stride + left - before;
        if (HWY_LIKELY(low == top)) {
            if (HWY_LIKELY(drops.samples.whole && drops.samples.whole[top - before] >= drops.taps()))
                drops.template add_rows<true>(first, fy, load, value, weight);
            else
                drops.template add_rows<false>(first, fy, load, value, weight);
        } else {
            const auto beyond = hn::Sub(hn::Set(di, top - before), row);
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
        const auto index = hn::Add(hn::Mul(row, hn::Set(di, static_cast<std::int32_t>(stride))), column);
        const auto load = [&](const float* from) { return hn::GatherIndex(d, from, index); };
        drops.template add_rows<false>(-before * stride - before, fy, load, value, weight);
    }
    hn::StoreU(value, d, values);
    hn::StoreU(weight, d, weights);
}

template <int kTaps, bool kSquare>
HWY_INLINE void gather_all(const DropRows& samples, const Positions& p, const DropKernel& kernel, float weight,
                           const DropSums& sums) {
    using D = hn::ScalableTag<float>;
    const D d;
    constexpr int kMostLanes = 16;
    const int lanes = static_cast<int>(std::min<std::size_t>(hn::Lanes(d), kMostLanes));
    Drops<kTaps, kSquare, D> drops{d, samples, kernel.numbers(), kernel.taps(), hn::Set(d, weight), {}};
    int i = 0;
    for (; i + lanes <= p.count; i += lanes)
        gather_vector(d, drops, {p.column + i, p.row + i, p.fraction_x + i, p.fraction_y + i, lanes}, sums.values + i,
                      sums.weights + i);
    if (i == p.count) return;
    std::int32_t column[kMostLanes], row[kMostLanes];
    float fx[kMostLanes], fy[kMostLanes], values[kMostLanes] = {}, weights[kMostLanes] = {};
    const int left = p.count - i;
    for (int k = 0; k < lanes; ++k) { // the last position again
        const int from = i + std::min(k, left - 1);
        column[k] = p.column[from], row[k] = p.row[from];
        fx[k] = p.fraction_x[from], fy[k] = p.fraction_y[from];
    }
    std::copy_n(sums.values + i, left, values);
    std::copy_n(sums.weights + i, left, weights);
    gather_vector(d, drops, {column, row, fx, fy, lanes}, values, weights);
    std::copy_n(values, left, sums.values + i);
    std::copy_n(weights, left, sums.weights + i);
}

void GatherDrops(const DropRows& samples, const Positions& p, const DropKernel& kernel, float weight,
                 const DropSums& sums) {
    if (!kernel.numbers().square)
        gather_all<0, false>(samples, p, kernel, weight, sums);
    else if (kernel.taps() == 2)
        gather_all<2, true>(samples, p, kernel, weight, sums);
    else
        gather_all<0, true>(samples, p, kernel, weight, sums);
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
HWY_EXPORT(WholeRows);
HWY_EXPORT(TapsInside);
HWY_EXPORT(MeanOfDrops);

void gather_drops(const DropRows& samples, const Positions& positions, const DropKernel& kernel, float weight,
                  const DropSums& sums) {
    HWY_DYNAMIC_DISPATCH(GatherDrops)(samples, positions, kernel, weight, sums);
}

void whole_rows(const float* counts, int width, int height, std::vector<std::uint8_t>& whole) {
    whole.resize(static_cast<std::size_t>(height));
    HWY_DYNAMIC_DISPATCH(WholeRows)(counts, width, height, whole.data());
}

bool taps_inside(const Positions& positions, const DropKernel& kernel, int width, int height) {
    return HWY_DYNAMIC_DISPATCH(TapsInside)(positions, kernel.taps() / 2 - 1, kernel.taps() / 2, width, height);
}

void mean_of_drops(const DropSums& one, const DropSums& other, std::size_t count, float level, float times, float least,
                   const DropSums& out) {
    HWY_DYNAMIC_DISPATCH(MeanOfDrops)(one, other, count, level, times, least, out);
}
} // namespace kasane
#endif
