#include <kasane/integration/resample_pass.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/integration/expected_stack.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// Calls f(pixel of the tile with its rim, x, y) for each pixel of the rectangle.
template <class F>
void for_each_pixel(const Region& region, const Region& wide, F f) {
    for (int y = region.y; y < region.bottom(); ++y)
        for (int x = region.x; x < region.right(); ++x)
            f(static_cast<std::size_t>(y - wide.y) * static_cast<std::size_t>(wide.width) +
                  static_cast<std::size_t>(x - wide.x),
              x, y);
}

} // namespace

ResamplePass::ResamplePass(const std::vector<StackFrame>& frames, const std::vector<Combiner>& combiners,
                           const CombineOptions& combine, const IntegrateOptions& options, MasterLight& result,
                           RejectedPixels* rejected)
    : frames_(frames), combiners_(combiners), options_(options), result_(result), rejected_(rejected),
      lengths_(frames, levels_of(combiners)), judge_(combiners, combine, options.judge),
      bounds_(result.pixels.bounds()), cells_(frames),
      halves_(combiners.size(), HalvesScatter(result.pixels.bounds())) {
    counts_.shares.resize(frames.size());
    if (combine.combination == Combination::sum) times_ = static_cast<float>(frames.size());
}

std::uint64_t ResamplePass::bytes(std::int64_t pixels) const {
    const std::uint64_t samples = frames_.size() * combiners_.size();
    constexpr std::uint64_t kBeside = 104; // bytes a pixel: results, structure, and the rectangle of a frame
    const auto side = static_cast<std::uint64_t>(std::ceil(std::sqrt(static_cast<double>(pixels)))) +
                      2 * static_cast<std::uint64_t>(halo());
    return side * side * (sizeof(float) * samples + kBeside);
}

int ResamplePass::halo() const {
    return lengths_.several() ? std::max(judge_.halo(), LengthFade::kWidth) : judge_.halo();
}

void ResamplePass::release() {
    for (const StackFrame& f : frames_)
        f.source->release();
}

bool ResamplePass::Tile::holds(std::uint32_t pixel) const {
    const int x = wide.x + static_cast<int>(pixel) % wide.width, y = wide.y + static_cast<int>(pixel) / wide.width;
    return x >= region.x && x < region.right() && y >= region.y && y < region.bottom();
}

std::size_t ResamplePass::Tile::place(std::uint32_t pixel) const {
    const int x = wide.x + static_cast<int>(pixel) % wide.width, y = wide.y + static_cast<int>(pixel) / wide.width;
    return static_cast<std::size_t>(y - region.y) * static_cast<std::size_t>(region.width) +
           static_cast<std::size_t>(x - region.x);
}

void ResamplePass::run(const Region& region, MappedMemory& mapped) {
    if (failed_) return;
    auto s = pool_.borrow();
    const int rim = halo();
    const Tile tile{
        region, intersect({region.x - rim, region.y - rim, region.width + 2 * rim, region.height + 2 * rim}, bounds_)};
    const SampleOptions options{options_.ringing_sigmas, options_.real_share, options_.mask_streaks, &lengths_};
    if (auto failure = s->samples.fill(frames_, tile.wide, options, mapped)) {
        const std::lock_guard lock(mutex_);
        if (!result_.failure) result_.failure = std::move(*failure);
        failed_ = true;
        return;
    }
    judge_.judge(s->samples.data(), tile.wide.width, tile.wide.height, s->judged);
    SampleCounts counts;
    counts.shares.resize(frames_.size());
    s->low.assign(static_cast<std::size_t>(region.area()), 0);
    s->high.assign(static_cast<std::size_t>(region.area()), 0);
    s->marked.assign(static_cast<std::size_t>(region.height), 0);
    s->stays.clear();
    for (std::size_t p = 0; p < combiners_.size(); ++p) {
        take(tile, *s, p, counts);
        compare_halves(tile, *s, p);
    }
    write_maps(tile, *s);
    if (lengths_.several()) write_lengths(tile, *s);
    const std::vector<std::uint32_t> burnt = burnt_pixels(s->samples, combiners_.size());
    const std::lock_guard lock(mutex_);
    counts_ += counts;
    for (const std::uint32_t pixel : burnt)
        if (tile.holds(pixel))
            result_.burnt.add(tile.wide.x + static_cast<int>(pixel) % tile.wide.width,
                              tile.wide.y + static_cast<int>(pixel) / tile.wide.width);
}

/// One plane of a tile into the result, and what is counted in it.
void ResamplePass::take(const Tile& tile, Scratch& s, std::size_t plane, SampleCounts& counts) {
    const PlaneVerdict& v = s.judged.planes[plane];
    const Region& region = tile.region;
    const int p = static_cast<int>(plane);
    const float* samples = s.samples.plane(plane);
    const std::ptrdiff_t pixels = s.samples.pixels();
    for (int y = region.y; y < region.bottom(); ++y) {
        const std::ptrdiff_t from =
            static_cast<std::ptrdiff_t>(y - tile.wide.y) * tile.wide.width + (region.x - tile.wide.x);
        float* to = result_.pixels.plane(p).row(y) + region.x;
        std::copy_n(v.mean.data() + from, region.width, to);
        for (int x = 0; times_ != 1 && x < region.width; ++x)
            to[x] *= times_;
        std::copy_n(v.weight.data() + from, region.width, result_.coverage.plane(p).row(y) + region.x);
        s.core.assign(static_cast<std::size_t>(region.width), 0);
        if (!v.structure.curvature.empty()) {
            const float *curvature = v.structure.curvature.data() + from, *slope = v.structure.slope.data() + from;
            for (std::size_t x = 0; x < s.core.size(); ++x) // without a branch
                s.core[x] = static_cast<std::int32_t>(curvature[x] > 0) | static_cast<std::int32_t>(slope[x] > 0);
        }
        const auto cores = static_cast<std::uint64_t>(std::count(s.core.begin(), s.core.end(), 1));
        for (std::size_t f = 0; f < frames_.size(); ++f) {
            if (s.samples.complete(plane, f)) {
                counts.shares[f].samples += s.core.size();
                counts.cores.samples += cores;
                continue;
            }
            const float* row = samples + static_cast<std::ptrdiff_t>(f) * pixels + from;
            counts.shares[f].samples += count_present(row, s.core.size());
            if (cores > 0) counts.cores.samples += count_present(row, s.core.data(), s.core.size());
        }
    }
    const auto taken_out = [&](const RejectedSample& r) {
        if (!s.samples.complete(plane, r.frame)) return; // not counted
        --counts.shares[r.frame].samples;
        counts.cores.samples -= !v.structure.curvature.empty() && v.structure.any(r.pixel);
    };
    if (options_.feather > 0) feather(tile, s, plane);
    if (!s.samples.left(plane).empty()) fade_lengths(tile, s, plane);
    RejectedCellCounts::Rectangle cells(cells_, tile.wide);
    const std::vector<FrameExpectation>& frames = combiners_[plane].expectation().frames;
    const float planes = static_cast<float>(combiners_.size());
    const auto mark = [&](const RejectedSample& r, bool high) {
        const std::size_t place = tile.place(r.pixel);
        (high ? s.high : s.low)[place] += frames[r.frame].weight / planes;
        s.marked[place / static_cast<std::size_t>(region.width)] = 1;
        const int pixel = static_cast<int>(r.pixel);
        const int x = tile.wide.x + pixel % tile.wide.width, y = tile.wide.y + pixel / tile.wide.width;
        cells.add(r.frame, x, y, high);
        if (rejected_) rejected_->add(r.frame, p, x, y);
    };
    for (const RejectedSample& r : v.rejected) {
        if (!tile.holds(r.pixel)) continue;
        ++(r.high ? counts.shares[r.frame].high : counts.shares[r.frame].low);
        ++(v.core(r.pixel) ? counts.cores.rejected : counts.cores.rejected_elsewhere);
        mark(r, r.high);
    }
    for (const RejectedSample& r : v.spared)
        counts.cores.at_first += tile.holds(r.pixel);
    for (const RejectedSample& r : s.samples.under_streaks(plane)) {
        if (!tile.holds(r.pixel)) continue;
        ++counts.shares[r.frame].streaks;
        mark(r, true);
        taken_out(r);
    }
    for (const RejectedSample& r : s.samples.saturated(plane)) {
        if (!tile.holds(r.pixel)) continue;
        ++counts.saturated;
        taken_out(r);
    }
    for (const RejectedSample& r : s.samples.passed_over(plane)) {
        if (!tile.holds(r.pixel)) continue;
        ++counts.passed_over;
        taken_out(r);
    }
}

/// Frames near their edges count less: what they had too much is taken out again.
void ResamplePass::feather(const Tile& tile, Scratch& s, std::size_t plane) {
    const PlaneVerdict& v = s.judged.planes[plane];
    s.feather.begin(tile.wide, v.rejected, frames_.size());
    for (std::size_t f = 0; f < frames_.size(); ++f)
        s.feather.add(frames_[f], plane, options_.feather,
                      {s.samples.plane(plane) + static_cast<std::ptrdiff_t>(f) * s.samples.pixels(), tile.wide.width,
                       tile.wide.height, tile.wide.width},
                      combiners_[plane].expectation().frames[f].weight, f);
    const int p = static_cast<int>(plane);
    for (int y = tile.region.y; y < tile.region.bottom(); ++y) {
        const std::size_t from = static_cast<std::size_t>(y - tile.wide.y) * static_cast<std::size_t>(tile.wide.width) +
                                 static_cast<std::size_t>(tile.region.x - tile.wide.x);
        float* mean = result_.pixels.plane(p).row(y) + tile.region.x;
        float* weight = result_.coverage.plane(p).row(y) + tile.region.x;
        for (int x = 0; x < tile.region.width; ++x)
            s.feather.apply(from + static_cast<std::size_t>(x), times_, mean[x], weight[x]);
    }
}

/// Lengths that are about to leave count less: a part of each mean is that without them.
void ResamplePass::fade_lengths(const Tile& tile, Scratch& s, std::size_t plane) {
    const Combination how = options_.combination;
    if (how != Combination::mean && how != Combination::sum) return;
    const std::vector<std::uint8_t>& left = s.samples.left(plane);
    s.fade.begin(left, tile.wide.width, tile.wide.height);
    const bool main = static_cast<int>(plane) == main_plane(static_cast<int>(combiners_.size()));
    if (main) s.stays.assign(left.size(), 1);
    const PlaneVerdict& v = s.judged.planes[plane];
    const StackExpectation& expected = combiners_[plane].expectation();
    const float* samples = s.samples.plane(plane);
    const auto before = [](const RejectedSample& a, std::uint32_t pixel) { return a.pixel < pixel; };
    for_each_pixel(tile.region, tile.wide, [&](std::size_t pixel, int x, int y) {
        const double stays = s.fade.share(pixel);
        if (stays >= 1) return;
        float& mean = result_.pixels.plane(static_cast<int>(plane))(x, y);
        float& weight = result_.coverage.plane(static_cast<int>(plane))(x, y);
        const int leaving = left[pixel]; // the longest that is still there
        const double value = static_cast<double>(mean) / static_cast<double>(times_), level = expected.level,
                     from = lengths_.fades_from(leaving, plane);
        const double bright = std::clamp((value - from) / std::max(1e-9, from - level), 0.0, 1.0);
        const double share = 1 - (1 - stays) * bright;
        if (!(bright > 0) || !(weight > 0)) return;
        auto rejected =
            std::lower_bound(v.rejected.begin(), v.rejected.end(), static_cast<std::uint32_t>(pixel), before);
        double sum = 0, weights = 0;
        for (std::size_t f = 0; f < frames_.size(); ++f) {
            const bool out = rejected != v.rejected.end() && rejected->pixel == pixel && rejected->frame == f;
            if (out) ++rejected;
            const float sample =
                samples[static_cast<std::ptrdiff_t>(f) * s.samples.pixels() + static_cast<std::ptrdiff_t>(pixel)];
            if (out || frames_[f].length <= leaving || std::isnan(sample)) continue;
            sum += static_cast<double>(expected.frames[f].weight) * static_cast<double>(sample);
            weights += static_cast<double>(expected.frames[f].weight);
        }
        if (!(weights > 0)) return;
        if (main) s.stays[pixel] = static_cast<float>(share);
        mean = times_ * static_cast<float>(share * value + (1 - share) * sum / weights);
        // What both parts have in common counts in both.
        const double all = static_cast<double>(weight), rest = 1 - share;
        weight = static_cast<float>(1 / ((share * share + 2 * share * rest) / all + rest * rest / weights));
    });
}

void ResamplePass::write_lengths(const Tile& tile, Scratch& s) {
    const auto plane = static_cast<std::size_t>(main_plane(static_cast<int>(combiners_.size())));
    map_lengths(s.samples, {frames_, combiners_[plane].expectation(), s.stays.empty() ? nullptr : &s.stays},
                tile.wide.width, tile.wide.height, s.lengths);
    for_each_pixel(tile.region, tile.wide,
                   [&](std::size_t pixel, int x, int y) { result_.lengths(x, y) = s.lengths[pixel]; });
}

void ResamplePass::write_maps(const Tile& tile, const Scratch& s) {
    const Region& region = tile.region;
    const auto write = [&](const std::vector<float>& from, Raster<std::uint16_t>& to) {
        for (int y = 0; y < region.height; ++y) {
            if (!s.marked[static_cast<std::size_t>(y)]) continue; // zero already
            const float* row = from.data() + static_cast<std::ptrdiff_t>(y) * region.width;
            std::uint16_t* line = &to(region.x, region.y + y);
            for (int x = 0; x < region.width; ++x) // to the nearest: shares are not below 0
                line[x] = static_cast<std::uint16_t>(
                    static_cast<std::int32_t>(std::min(row[x], 1.0f) * RejectionMaps::kUnit + 0.5f));
        }
    };
    write(s.low, result_.rejected.low);
    write(s.high, result_.rejected.high);
}

void ResamplePass::compare_halves(const Tile& tile, const Scratch& s, std::size_t plane) {
    HalvesScatter here(bounds_, tile.region);
    const int every = HalvesScatter::every(bounds_.width, bounds_.height);
    const Structure& structure = s.judged.planes[plane].structure;
    const Structure* const known = structure.curvature.empty() ? nullptr : &structure;
    for (int y = tile.region.y; y < tile.region.bottom(); ++y) {
        if (y % every != every / 2) continue;
        const std::ptrdiff_t from =
            static_cast<std::ptrdiff_t>(y - tile.wide.y) * tile.wide.width + (tile.region.x - tile.wide.x);
        here.add(
            tile.region.x, y,
            {s.samples.plane(plane) + from, static_cast<int>(frames_.size()), s.samples.pixels(), tile.region.width},
            s.judged.planes[plane].mean.data() + from, combiners_[plane].expectation(), known,
            static_cast<std::size_t>(from));
    }
    const std::lock_guard lock(mutex_);
    halves_[plane].add(here);
}

void ResamplePass::finish() {
    for (std::size_t p = 0; p < halves_.size(); ++p)
        result_.noise.push_back(result_.expected_noise[p] * halves_[p].ratio());
    result_.cells = cells_.shares();
    counts_.tell(result_);
}

} // namespace kasane
