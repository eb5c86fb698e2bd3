#include <kasane/integration/tile_judge.hpp>

#include <kasane/base/units.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

bool estimates(Combination c) {
    return c == Combination::huber || c == Combination::tukey;
}

bool is_extreme(Combination c) {
    return c == Combination::max || c == Combination::min;
}

bool before(const RejectedSample& a, const RejectedSample& b) {
    return a.pixel != b.pixel ? a.pixel < b.pixel : a.frame < b.frame;
}

} // namespace

TileJudge::TileJudge(const std::vector<Combiner>& combiners, const CombineOptions& combine, const JudgeOptions& options)
    : combiners_(combiners), combine_(combine), options_(options) {
    for (const Combiner& c : combiners) {
        survivors_.emplace_back(c.expectation(), CombineOptions{NoRejection{}, combine.combination});
        structured_.push_back(options.star_cores && !is_extreme(combine.combination) &&
                              feels_structure(c.expectation()));
    }
}

/// Some sample may count less than another.
bool TileJudge::judges() const {
    return rejects_low(combine_.rejection) || rejects_high(combine_.rejection) || estimates(combine_.combination);
}

int TileJudge::halo() const {
    const bool rejects = rejects_low(combine_.rejection) || rejects_high(combine_.rejection);
    const bool structured = std::find(structured_.begin(), structured_.end(), true) != structured_.end();
    const bool grows =
        rejects && !is_extreme(combine_.combination) && (options_.growth.steps > 0 || combiners_.size() > 1);
    return (grows ? options_.growth.steps + 1 : 0) + (structured && judges() ? 2 : 0);
}

/// The samples of `s.pixels`, frame by frame.
void TileJudge::gather(const float* samples, std::size_t area, Scratch& s) const {
    const std::size_t frames = combiners_.front().expectation().frames.size(), count = s.pixels.size();
    s.samples.resize(frames * count);
    s.mean.resize(count);
    s.weight.resize(count);
    for (std::size_t f = 0; f < frames; ++f)
        for (std::size_t i = 0; i < count; ++i)
            s.samples[f * count + i] = samples[f * area + s.pixels[i]];
}

/// Where all samples of a pixel would be rejected (two that contradict each other), none is.
void TileJudge::leave_some(const float* samples, std::size_t plane, std::size_t area, Scratch& s) const {
    PlaneVerdict& v = s.planes[plane];
    s.pixels.clear();
    for (const RejectedSample& r : v.rejected)
        if (std::isnan(v.mean[r.pixel]) && (s.pixels.empty() || s.pixels.back() != r.pixel))
            s.pixels.push_back(r.pixel);
    if (s.pixels.empty()) return;
    std::sort(s.pixels.begin(), s.pixels.end());
    s.pixels.erase(std::unique(s.pixels.begin(), s.pixels.end()), s.pixels.end());
    gather(samples, area, s);
    const auto n = static_cast<int>(s.pixels.size());
    survivors_[plane].combine({s.samples.data(), static_cast<int>(combiners_[plane].expectation().frames.size()), n, n},
                              {s.mean.data(), s.weight.data(), nullptr, nullptr, nullptr});
    for (std::size_t i = 0; i < s.pixels.size(); ++i) {
        v.mean[s.pixels[i]] = s.mean[i];
        v.weight[s.pixels[i]] = s.weight[i];
    }
    std::erase_if(v.rejected, [&](const RejectedSample& r) {
        return std::binary_search(s.pixels.begin(), s.pixels.end(), r.pixel);
    });
}

/// Where the image has structure: with what that lets expect.
void TileJudge::look_again(const float* samples, std::size_t plane, std::size_t area, Scratch& s) const {
    PlaneVerdict& v = s.planes[plane];
    s.pixels.clear();
    if (estimates(combine_.combination)) {
        for (std::uint32_t i = 0; i < area; ++i)
            if (v.core(i)) s.pixels.push_back(i);
    } else {
        for (const RejectedSample& r : v.rejected)
            if (v.core(r.pixel) && (s.pixels.empty() || s.pixels.back() != r.pixel)) s.pixels.push_back(r.pixel);
    }
    if (s.pixels.empty()) return;
    gather(samples, area, s);
    const std::size_t count = s.pixels.size();
    s.curvature.resize(count);
    s.slope.resize(count);
    for (std::size_t i = 0; i < count; ++i) {
        s.curvature[i] = v.structure.curvature[s.pixels[i]];
        s.slope[i] = v.structure.slope[s.pixels[i]];
    }
    s.rejected.clear();
    const auto n = static_cast<int>(count);
    combiners_[plane].combine({s.samples.data(), static_cast<int>(combiners_[plane].expectation().frames.size()), n, n,
                               s.curvature.data(), s.slope.data()},
                              {s.mean.data(), s.weight.data(), nullptr, nullptr, &s.rejected});
    // Limits only widen: what was not rejected at first stays.
    s.merged.clear();
    v.spared.clear();
    for (const RejectedSample& r : v.rejected)
        (std::binary_search(s.pixels.begin(), s.pixels.end(), r.pixel) ? v.spared : s.merged).push_back(r);
    for (RejectedSample r : s.rejected) {
        const std::uint32_t at = r.pixel;
        r.pixel = s.pixels[at];
        if (!std::binary_search(v.spared.begin(), v.spared.end(), r, before)) continue;
        s.merged.push_back(r);
        s.samples[r.frame * count + at] = kNoData;
    }
    if (!estimates(combine_.combination))
        survivors_[plane].combine(
            {s.samples.data(), static_cast<int>(combiners_[plane].expectation().frames.size()), n, n},
            {s.mean.data(), s.weight.data(), nullptr, nullptr, nullptr});
    for (std::size_t i = 0; i < count; ++i) {
        v.mean[s.pixels[i]] = s.mean[i];
        v.weight[s.pixels[i]] = s.weight[i];
    }
    std::sort(s.merged.begin(), s.merged.end(), before);
    v.rejected.swap(s.merged);
}

/// Combines anew where more samples go, as long as enough are left.
void TileJudge::take_grown(const float* samples, std::size_t plane, std::size_t area,
                           std::vector<RejectedSample>& grown, Scratch& s) const {
    if (grown.empty()) return;
    PlaneVerdict& v = s.planes[plane];
    std::sort(grown.begin(), grown.end(), before);
    s.pixels.clear();
    for (const RejectedSample& r : grown)
        if (s.pixels.empty() || s.pixels.back() != r.pixel) s.pixels.push_back(r.pixel);
    gather(samples, area, s);
    const std::size_t count = s.pixels.size(), frames = combiners_[plane].expectation().frames.size();
    constexpr std::size_t kLeast = 2; // samples that must be left
    s.merged.clear();
    auto old = v.rejected.cbegin();
    auto added = grown.cbegin();
    for (std::size_t i = 0; i < count; ++i) {
        const std::uint32_t pixel = s.pixels[i];
        std::size_t there = 0;
        for (std::size_t f = 0; f < frames; ++f)
            there += s.samples[f * count + i] == s.samples[f * count + i];
        for (; old != v.rejected.cend() && old->pixel < pixel; ++old)
            s.merged.push_back(*old);
        const std::size_t first = s.merged.size();
        for (; old != v.rejected.cend() && old->pixel == pixel; ++old)
            s.merged.push_back(*old);
        const auto end = std::find_if(added, grown.cend(), [&](const RejectedSample& r) { return r.pixel != pixel; });
        const std::size_t gone = s.merged.size() - first + static_cast<std::size_t>(end - added);
        if (there >= gone + kLeast) s.merged.insert(s.merged.end(), added, end);
        added = end;
        std::sort(s.merged.begin() + static_cast<std::ptrdiff_t>(first), s.merged.end(), before);
        for (std::size_t k = first; k < s.merged.size(); ++k)
            s.samples[s.merged[k].frame * count + i] = kNoData;
    }
    s.merged.insert(s.merged.end(), old, v.rejected.cend());
    v.rejected.swap(s.merged);
    const auto n = static_cast<int>(count);
    survivors_[plane].combine({s.samples.data(), static_cast<int>(frames), n, n},
                              {s.mean.data(), s.weight.data(), nullptr, nullptr, nullptr});
    for (std::size_t i = 0; i < count; ++i) {
        v.mean[s.pixels[i]] = s.mean[i];
        v.weight[s.pixels[i]] = s.weight[i];
    }
}

void TileJudge::judge(const float* samples, int width, int height, Scratch& s) const {
    const std::size_t planes = combiners_.size(), frames = combiners_.front().expectation().frames.size();
    const auto area = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
    s.planes.resize(planes);
    std::vector<JudgedPlane> judged(planes);
    for (std::size_t p = 0; p < planes; ++p) {
        const float* block = samples + p * frames * area;
        PlaneVerdict& v = s.planes[p];
        v.mean.resize(area);
        v.weight.resize(area);
        v.rejected.clear();
        v.spared.clear();
        combiners_[p].combine(
            {block, static_cast<int>(frames), static_cast<std::ptrdiff_t>(area), static_cast<int>(area)},
            {v.mean.data(), v.weight.data(), nullptr, nullptr, &v.rejected});
        leave_some(block, p, area, s);
        v.structure.curvature.clear();
        if (structured_[p] && judges()) {
            measure_structure({v.mean.data(), width, height, width}, {v.weight.data(), width, height, width},
                              combiners_[p].expectation(), v.structure);
            look_again(block, p, area, s);
        }
        judged[p] = {block, v.mean.data(), &combiners_[p].expectation(), nullptr, &v.rejected};
        if (!v.structure.curvature.empty()) judged[p].structure = &v.structure;
    }
    if (is_extreme(combine_.combination)) return; // nothing is compared with a mean
    auto grown = s.growth.grow(options_.growth, judged, width, height);
    for (std::size_t p = 0; p < planes; ++p)
        take_grown(samples + p * frames * area, p, area, grown[p], s);
}

} // namespace kasane
