#include <kasane/integration/drizzle_pass.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/positions.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/expected_stack.hpp>
#include <kasane/integration/pixel_response.hpp>

#include <algorithm>
#include <array>
#include <cmath>

namespace kasane {

namespace {

/// Frames whose drops are laid down row by row together, so that what they are added to stays in the nearest cache.
constexpr std::size_t kTogether = 4;

Region united(const Region& a, const Region& b) {
    if (a.empty()) return b;
    const int x = std::min(a.x, b.x), y = std::min(a.y, b.y);
    return {x, y, std::max(a.right(), b.right()) - x, std::max(a.bottom(), b.bottom()) - y};
}

/// Whole pixels around positions, cut to what a frame and `reach` pixels around it hold.
Region box_around(const Bounds& b, int reach, const Region& frame) {
    const auto whole = [](double v) { return static_cast<int>(std::floor(std::clamp(v, -1e6, 1e6))); };
    const Region wanted{whole(b.left) - reach, whole(b.top) - reach, whole(b.right) - whole(b.left) + 2 * reach + 1,
                        whole(b.bottom) - whole(b.top) + 2 * reach + 1};
    return intersect(wanted, {-reach, -reach, frame.width + 2 * reach, frame.height + 2 * reach});
}

} // namespace

DrizzlePass::DrizzlePass(const DrizzleStack& stack, const IntegrateOptions& integrate, const DrizzleOptions& options,
                         MasterLight& result)
    : stack_(stack), integrate_(integrate), options_(options), result_(result),
      lengths_(stack.frames, levels_of(stack.combiners)), judge_(stack.combiners, stack.combine, integrate.judge),
      fine_(result.pixels.bounds()), to_coarse_(to_coarse(options.scale)), cells_(stack.frames) {
    counts_.shares.resize(stack.frames.size());
    if (stack.combine.combination == Combination::sum) times_ = static_cast<float>(stack.frames.size());
    int reach = 1;
    std::vector<float> sides;
    for (std::size_t f = 0; f < stack.frames.size(); ++f) {
        std::vector<Way> ways;
        for (std::size_t p = 0; p < stack.combiners.size(); ++p) {
            const Transform t = to_plane(stack.frames[f], p);
            // Of a pixel of the canvas, in the frame.
            const PlaneSource& source = *stack.frames[f].source;
            const double side = std::sqrt(pixel_density(t, source.width(), source.height()));
            const double usable = std::isfinite(side) && side > 0.05 ? side : 1;
            sides.push_back(static_cast<float>(1 / usable));
            const DropKernel kernel(options.shape, options.drop, usable / options.scale);
            const double apart = 2 * kernel.reach() * options.scale / usable; // pixels that share a drop, at most
            reach = std::max(reach, static_cast<int>(std::ceil(apart)));
            const double share = share_of_samples(*stack.frames[f].source, p);
            const float weight = stack.combiners[p].expectation().frames[f].weight;
            margin_ = std::max(
                margin_,
                static_cast<int>(std::ceil((kernel.taps() / 2 + integrate.judge.growth.steps + 2) / usable)) + 2);
            const double pixels = (stack.frames[f].source->sensor() ? static_cast<double>(stack.combiners.size()) : 1) /
                                  (usable * usable);
            ways.push_back({t.after(to_coarse_), kernel, weight / static_cast<float>(share),
                            std::max(1, static_cast<int>(std::lround(pixels)))});
        }
        ways_.push_back(std::move(ways));
    }
    if (!sides.empty()) side_ = static_cast<double>(median_in_place(sides));
    half_of_ = split_evenly();
    covariance_.assign(stack.combiners.size(), NoiseCovariance(reach));
}

std::vector<int> DrizzlePass::split_evenly() const {
    constexpr int kPlaces = 16; // along a side
    std::array<std::array<int, kPlaces * kPlaces>, 2> shown{};
    std::array<int, 2> sizes{};
    std::vector<int> out;
    for (std::size_t f = 0; f < ways_.size(); ++f) {
        const Region frame = stack_.frames[f].source->bounds();
        std::vector<std::size_t> places;
        std::array<int, 2> before{};
        for (std::size_t k = 0; k < shown[0].size(); ++k) {
            const double x = (static_cast<double>(k % kPlaces) + 0.5) / kPlaces * fine_.width,
                         y = (static_cast<double>(k / kPlaces) + 0.5) / kPlaces * fine_.height;
            const Point at = ways_[f].front().to_frame.map({x, y});
            if (!(at.x >= 0 && at.y >= 0 && at.x < frame.width && at.y < frame.height)) continue;
            places.push_back(k);
            for (std::size_t half = 0; half < 2; ++half)
                before[half] += shown[half][k];
        }
        const std::size_t half = before[0] != before[1] ? before[1] < before[0] : sizes[1] < sizes[0];
        for (const std::size_t k : places)
            ++shown[half][k];
        ++sizes[half];
        out.push_back(static_cast<int>(half));
    }
    return out;
}

std::uint64_t DrizzlePass::bytes(std::int64_t pixels) const {
    const std::uint64_t planes = stack_.combiners.size();
    const auto side = static_cast<std::uint64_t>(std::ceil(std::sqrt(static_cast<double>(pixels)) / options_.scale) +
                                                 2 * (judge_.halo() + margin_));
    constexpr std::uint64_t kOfFrame = 40, kBeside = 96, kHeld = 12, kHeldBeside = 6;
    return side * side *
               (sizeof(float) * stack_.frames.size() * planes + kBeside + kOfFrame * planes +
                (together() - 1) * (kHeldBeside + kHeld * planes)) +
           static_cast<std::uint64_t>(pixels) * (4 * sizeof(float) * planes + 2 * sizeof(float));
}

void DrizzlePass::release() {
    for (const StackFrame& f : stack_.frames)
        f.source->release();
}

/// The part of the canvas that decides which samples count in a rectangle of the output.
Region DrizzlePass::judging_region(const Region& r) const {
    const auto low = [&](int v) { return static_cast<int>(std::floor((v + 0.5) / options_.scale - 0.5)); };
    const int x = low(r.x) - margin_, y = low(r.y) - margin_;
    return intersect({x, y, low(r.right()) + margin_ + 2 - x, low(r.bottom()) + margin_ + 2 - y},
                     stack_.canvas.bounds());
}

bool DrizzlePass::work(const Region& region, Scratch& s, MappedMemory& mapped) {
    const std::size_t planes = stack_.combiners.size();
    const Region judged = judging_region(region);
    const int halo = judge_.halo();
    const Region wide = intersect({judged.x - halo, judged.y - halo, judged.width + 2 * halo, judged.height + 2 * halo},
                                  stack_.canvas.bounds());
    const auto fail = [&](FrameFailure failure) {
        const std::lock_guard lock(mutex_);
        if (!result_.failure) result_.failure = std::move(failure);
        failed_ = true;
        return false;
    };
    const SampleOptions options{integrate_.ringing_sigmas, integrate_.real_share, integrate_.mask_streaks, &lengths_};
    if (auto failure = s.samples.fill(stack_.frames, wide, options, mapped)) return fail(std::move(*failure));
    judge_.judge(s.samples.data(), wide.width, wide.height, s.judged);
    s.judged_region = wide;

    s.counts = {};
    s.counts.shares.resize(stack_.frames.size());
    s.sums.resize(4 * planes);
    for (std::vector<float>& sums : s.sums)
        sums.assign(static_cast<std::size_t>(region.area()), 0.0f);
    s.low.assign(static_cast<std::size_t>(region.area()), 0);
    s.high.assign(static_cast<std::size_t>(region.area()), 0);
    s.marked.assign(static_cast<std::size_t>(region.height), 0);
    s.hidden.resize(planes);
    s.drops.resize(together());
    s.held.clear();
    for (std::size_t f = 0; f < stack_.frames.size(); ++f) {
        bool shown = false;
        if (auto failure = attempt([&] { shown = judge_drops(f, region, s.drops[s.held.size()], s, mapped); }))
            return fail({f, std::move(*failure)});
        if (!shown) continue;
        s.held.push_back(f);
        if (s.held.size() == s.drops.size()) lay_down(region, s);
    }
    lay_down(region, s);
    return true;
}

std::size_t DrizzlePass::together() const {
    return std::clamp<std::size_t>(stack_.frames.size(), 1, kTogether);
}

bool DrizzlePass::judge_drops(std::size_t f, const Region& region, DropSamples& drops, Scratch& s,
                              MappedMemory& mapped) const {
    const StackFrame& frame = stack_.frames[f];
    Region box{};
    for (const Way& way : ways_[f]) {
        const int reach = way.kernel.taps() / 2 + integrate_.judge.growth.steps + 2;
        box = united(box, box_around(way.to_frame.bounds(region), reach, frame.source->bounds()));
    }
    if (box.empty()) return false;
    drops.read(frame, box);
    if (drops.inside().empty()) return false;
    mapped.touched(frame.source->mapped_bytes(drops.inside()));
    const Point first = {to_coarse_.a * (region.x - 0.5) + to_coarse_.c,
                         to_coarse_.e * (region.y - 0.5) + to_coarse_.f},
                end = {to_coarse_.a * (region.right() - 0.5) + to_coarse_.c,
                       to_coarse_.e * (region.bottom() - 0.5) + to_coarse_.f};
    const Region& wide = s.judged_region;
    std::vector<JudgingStack> stacks(stack_.combiners.size());
    for (std::size_t p = 0; p < stacks.size(); ++p) {
        const StackExpectation& expected = stack_.combiners[p].expectation();
        JudgingStack& j = stacks[p];
        j.region = wide, j.whole = stack_.canvas.bounds();
        j.own = {first.x, first.y, end.x, end.y};
        j.mean = s.judged.planes[p].mean.data();
        j.structure = &s.judged.planes[p].structure;
        j.level = expected.level, j.sigma = static_cast<float>(stack_.noise[p]);
        j.frame = expected.frames[f];
        const StackPlane& plane = frame.planes[p];
        const double scale = plane.level.scale.value, sigma = scale * plane.noise;
        j.frame.variance = static_cast<float>(sigma * sigma);
        j.frame.variance_slope = static_cast<float>(frame.electrons_per_adu > 0 ? scale / frame.electrons_per_adu : 0);
        j.low = rejects_low(stack_.combine.rejection), j.high = rejects_high(stack_.combine.rejection);
        std::vector<std::uint8_t>& hidden = s.hidden[p];
        j.hidden = nullptr;
        const auto hide = [&](const std::vector<RejectedSample>& samples, JudgingStack::Hidden why) {
            for (const RejectedSample& r : samples) {
                if (r.frame != f) continue;
                if (!j.hidden) hidden.assign(static_cast<std::size_t>(wide.area()), JudgingStack::shown);
                j.hidden = hidden.data();
                hidden[r.pixel] = why;
            }
        };
        hide(s.samples.under_streaks(p), JudgingStack::trail);
        hide(s.samples.saturated(p), JudgingStack::saturated);
    }
    const bool few = stack_.frames.size() < 4; // then samples made of neighbours count, rather than none
    drops.judge(frame, stacks, {integrate_.judge.growth, few, integrate_.feather});
    return true;
}

DrizzlePass::Halves DrizzlePass::halves(Scratch& s, std::size_t p) {
    std::vector<float>* own = &s.sums[4 * p];
    return {{own[0].data(), own[1].data()}, {own[2].data(), own[3].data()}};
}

void DrizzlePass::lay_down(const Region& region, Scratch& s) {
    for (std::size_t p = 0; p < stack_.combiners.size(); ++p) {
        std::vector<Rows> rows;
        for (std::size_t k = 0; k < s.held.size(); ++k)
            rows.push_back(rows_of(k, p, region, s));
        for (int y = 0; y < region.height; ++y)
            for (Rows& of_frame : rows)
                lay_row(of_frame, p, region, y, s);
    }
    for (std::size_t k = 0; k < s.held.size(); ++k)
        for (std::size_t p = 0; p < stack_.combiners.size(); ++p) {
            mark_rejected(s.held[k], p, s.drops[k].plane(p), region, s);
            count_drops(s.held[k], p, s.drops[k].plane(p), s);
        }
    s.held.clear();
}

DrizzlePass::Rows DrizzlePass::rows_of(std::size_t held, std::size_t p, const Region& region, const Scratch& s) const {
    Rows rows{held, {}, 0, 0, {}};
    const Transform& t = ways_[s.held[held]][p].to_frame;
    if (const auto first = t.even_row(region.x, region.y)) {
        const auto next = *t.even_row(region.x, region.y + 1);
        const Region& box = s.drops[held].box();
        rows.first = {first->u, first->du, first->v, first->dv, box.x, box.y, region.width};
        rows.down_u = next.u - first->u, rows.down_v = next.v - first->v;
    }
    return rows;
}

void DrizzlePass::lay_row(Rows& line, std::size_t p, const Region& region, int y, Scratch& s) const {
    constexpr int kChunk = 512;
    SplitPlaces<kChunk> places;
    std::int32_t *const column = places.column(), *const row = places.row();
    float *const fx = places.fraction_x(), *const fy = places.fraction_y();
    const std::size_t f = s.held[line.held];
    const Region& box = s.drops[line.held].box();
    const auto half = static_cast<std::size_t>(half_of_[f]);
    const Way& way = ways_[f][p];
    const int before = way.kernel.taps() / 2 - 1, after = way.kernel.taps() / 2;
    const Halves sums = halves(s, p);
    const DropPlane& plane = s.drops[line.held].plane(p);
    const DropRows rows{plane.values.data(), plane.counts.data(), box.width, plane.whole.data()};
    const std::size_t begin = static_cast<std::size_t>(y) * static_cast<std::size_t>(region.width);
    if (line.first) {
        EvenPositions all = *line.first;
        all.u += y * line.down_u, all.v += y * line.down_v;
        if (taps_inside(all, way.kernel, box.width, box.height))
            return gather_even_drops(rows, all, way.kernel, way.weight,
                                     {sums.values[half] + begin, sums.weights[half] + begin});
    }
    for (int x = 0; x < region.width; x += kChunk) {
        const int n = std::min(kChunk, region.width - x);
        const auto count = static_cast<std::size_t>(n);
        const std::size_t at = begin + static_cast<std::size_t>(x);
        way.to_frame.row(region.x + x, region.y + y, n, places.from(box.x, box.y), line.patches);
        const Positions all{column, row, fx, fy, n};
        const auto gather = [&](const Positions& part, std::size_t from) {
            gather_drops(rows, part, way.kernel, way.weight,
                         {sums.values[half] + at + from, sums.weights[half] + at + from});
        };
        // Runs of places whose samples lie in the box: beyond it the frame shows nothing.
        const auto inside = [&](std::size_t i) {
            return column[i] >= before && row[i] >= before && column[i] + after < box.width &&
                   row[i] + after < box.height;
        };
        if (taps_inside(all, way.kernel, box.width, box.height)) {
            gather(all, 0);
            continue;
        }
        for (std::size_t i = 0; i < count;) {
            if (!inside(i)) {
                ++i;
                continue;
            }
            std::size_t until = i + 1;
            while (until < count && inside(until))
                ++until;
            gather({column + i, row + i, fx + i, fy + i, static_cast<int>(until - i)}, i);
            i = until;
        }
    }
}

void DrizzlePass::count_drops(std::size_t f, std::size_t p, const DropPlane& plane, Scratch& s) {
    FrameShare& share = s.counts.shares[f];
    share.samples += plane.present - plane.passed_over;
    s.counts.passed_over += plane.passed_over;
    for (const RejectedDrop& r : plane.rejected) {
        if (!r.own) continue;
        if (s.counted) cells_.add_sample(f, r.x, r.y, r.high, ways_[f][p].pixels);
        ++(r.streak ? share.streaks : r.high ? share.high : share.low);
        if (r.streak)
            --share.samples;
        else
            ++s.counts.cores.rejected_elsewhere; // cores are not told apart: their tolerance is no widened limit
    }
}

/// The weight that the drops of rejected samples would have had, where they would have lain.
void DrizzlePass::mark_rejected(std::size_t f, std::size_t p, const DropPlane& drops, const Region& region,
                                Scratch& s) const {
    const Way& way = ways_[f][p];
    const float share = way.weight / static_cast<float>(stack_.combiners.size());
    for (const RejectedDrop& r : drops.rejected) {
        const Point at = {(r.at_x - to_coarse_.c) / to_coarse_.a, (r.at_y - to_coarse_.f) / to_coarse_.e};
        if (!(std::abs(at.x) < 1e6 && std::abs(at.y) < 1e6)) continue;
        const Affine near = way.to_frame.at(at);
        const double side = std::max(1e-3, near.scale());
        const int reach = static_cast<int>(std::ceil(way.kernel.reach() / side)) + 1;
        const int cx = static_cast<int>(std::lround(at.x)), cy = static_cast<int>(std::lround(at.y));
        const Region box = intersect({cx - reach, cy - reach, 2 * reach + 1, 2 * reach + 1}, region);
        for (int y = box.y; y < box.bottom(); ++y) {
            s.marked[static_cast<std::size_t>(y - region.y)] = 1;
            for (int x = box.x; x < box.right(); ++x) {
                double u = 0, v = 0;
                near.apply(x, y, u, v);
                const float part =
                    way.kernel.at(static_cast<float>(u - r.x)) * way.kernel.at(static_cast<float>(v - r.y));
                (r.high ? s.high
                        : s.low)[static_cast<std::size_t>(y - region.y) * static_cast<std::size_t>(region.width) +
                                 static_cast<std::size_t>(x - region.x)] += share * part;
            }
        }
    }
}

void DrizzlePass::write(const Region& region, Scratch& s) {
    for (std::size_t p = 0; p < stack_.combiners.size(); ++p) {
        const float level = stack_.combiners[p].expectation().level;
        const Halves sums = halves(s, p);
        for (int y = region.y; y < region.bottom(); ++y) {
            const auto from = static_cast<std::ptrdiff_t>(y - region.y) * region.width;
            const auto row = [&](int half) { return DropSums{sums.values[half] + from, sums.weights[half] + from}; };
            mean_of_drops(row(0), row(1), static_cast<std::size_t>(region.width), level, times_, kLeastWeight,
                          {result_.pixels.plane(static_cast<int>(p)).row(y) + region.x,
                           result_.coverage.plane(static_cast<int>(p)).row(y) + region.x});
        }
    }
    const auto map = [&](const std::vector<float>& from, Raster<std::uint16_t>& to) {
        for (int y = 0; y < region.height; ++y) {
            if (!s.marked[static_cast<std::size_t>(y)]) continue; // zero already
            for (int x = 0; x < region.width; ++x)
                to(region.x + x, region.y + y) = static_cast<std::uint16_t>(
                    std::min(from[static_cast<std::size_t>(y) * static_cast<std::size_t>(region.width) +
                                  static_cast<std::size_t>(x)],
                             1.0f) *
                        RejectionMaps::kUnit +
                    0.5f);
        }
    };
    map(s.low, result_.rejected.low);
    map(s.high, result_.rejected.high);
}

/// As the stack that judges has them, at the nearest pixel.
void DrizzlePass::write_lengths(const Region& region, Scratch& s) {
    const auto plane = static_cast<std::size_t>(main_plane(static_cast<int>(stack_.combiners.size())));
    const std::vector<std::uint32_t> burnt = burnt_pixels(s.samples, stack_.combiners.size());
    const Region& judged = s.judged_region;
    if (lengths_.several())
        map_lengths(s.samples, {stack_.frames, stack_.combiners[plane].expectation()}, judged.width, judged.height,
                    s.lengths);
    else if (burnt.empty())
        return;
    const std::lock_guard lock(mutex_);
    for (int y = region.y; y < region.bottom(); ++y)
        for (int x = region.x; x < region.right(); ++x) {
            double u = 0, v = 0;
            to_coarse_.apply(x, y, u, v);
            const int i = std::clamp(static_cast<int>(std::lround(u)) - judged.x, 0, judged.width - 1),
                      j = std::clamp(static_cast<int>(std::lround(v)) - judged.y, 0, judged.height - 1);
            const auto pixel = static_cast<std::uint32_t>(j * judged.width + i);
            if (lengths_.several()) result_.lengths(x, y) = s.lengths[pixel];
            if (std::binary_search(burnt.begin(), burnt.end(), pixel)) result_.burnt.add(x, y);
        }
}

void DrizzlePass::run(const Region& region, MappedMemory& mapped) {
    if (failed_) return;
    auto s = pool_.borrow();
    s->counted = true;
    if (!work(region, *s, mapped)) return;
    write(region, *s);
    write_lengths(region, *s);
    const std::lock_guard lock(mutex_);
    counts_ += s->counts;
}

void DrizzlePass::restore_pixels(const Context& context) {
    const std::vector<float> kernel = restoring_kernel(options_, side_);
    constexpr double kNear = 3; // pixels of a frame: so far from a star there is sky
    const int near = static_cast<int>(std::ceil(kNear * side_ * options_.scale));
    for (std::size_t p = 0; p < covariance_.size(); ++p) {
        const double scatter = covariance_[p].pixel_after(kernel) * result_.expected_noise[p];
        const double noise = scatter > 0 ? scatter : result_.expected_noise[p]; // which is more than that
        restore(result_.pixels.plane(static_cast<int>(p)), kernel, noise * static_cast<double>(times_), near, context);
        if (!result_.pixel_noise.empty()) result_.pixel_noise[p] = scatter;
    }
}

void DrizzlePass::finish(const Context& context) {
    bool told = true; // by a single frame, or too few pixels, nothing is
    for (std::size_t p = 0; p < covariance_.size(); ++p) {
        const double expected = result_.expected_noise[p], white = covariance_[p].white();
        told = told && white > 0;
        result_.noise.push_back(white > 0 ? white * expected : expected);
        result_.pixel_noise.push_back(covariance_[p].pixel() * expected);
    }
    if (!told) result_.pixel_noise.clear();
    if (options_.restore && !failed_) restore_pixels(context);
    result_.cells = cells_.shares();
    counts_.tell(result_);
}

} // namespace kasane
