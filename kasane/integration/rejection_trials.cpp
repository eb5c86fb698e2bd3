#include <kasane/integration/rejection_trials.hpp>

#include <kasane/base/units.hpp>
#include <kasane/combination/efficiency.hpp>
#include <kasane/integration/lengths.hpp>
#include <kasane/integration/tile_judge.hpp>
#include <kasane/integration/tile_samples.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <random>

namespace kasane {

namespace {

constexpr int kSide = 48;                                // pixels of a tile that is looked at
constexpr std::int64_t kMostTiles = 24, kLeastTiles = 6; // of them
constexpr std::int64_t kOneIn = 12;                      // pixels of the canvas

/// Tiles spread over the canvas, one somewhere in each cell of a grid; always the same. Those beside each other lie at
/// one height: frames that are hardly turned are read in a few bands of rows, not all over.
std::vector<Region> sample_tiles(const Canvas& canvas) {
    const std::int64_t wanted = std::clamp(canvas.bounds().area() / kOneIn / (kSide * kSide), kLeastTiles, kMostTiles);
    const int across = std::max(1, static_cast<int>(std::lround(std::sqrt(static_cast<double>(wanted) * canvas.width /
                                                                          std::max(1, canvas.height)))));
    const int down = std::max(1, static_cast<int>((wanted + across - 1) / across));
    std::mt19937_64 random(7);
    std::vector<Region> out;
    const auto from = [&](int a, int room) {
        return a + static_cast<int>(random() % static_cast<std::uint64_t>(room + 1));
    };
    for (int j = 0; j < down; ++j) {
        const int y0 = canvas.height * j / down, y1 = canvas.height * (j + 1) / down, h = std::min(kSide, y1 - y0);
        const int y = from(y0, y1 - y0 - h);
        for (int i = 0; i < across; ++i) {
            const int x0 = canvas.width * i / across, x1 = canvas.width * (i + 1) / across,
                      w = std::min(kSide, x1 - x0);
            const int x = from(x0, x1 - x0 - w);
            if (w > 0 && h > 0) out.push_back({x, y, w, h});
        }
    }
    return out;
}

/// Outliers of known light, added to the samples of a tile: particles, a trail, and gaps.
class Outliers {
public:
    Outliers(const StackExpectation& expectation, const Region& wide, std::uint64_t seed)
        : expectation_(expectation), wide_(wide), random_(seed) {}

    void add_to(float* samples) {
        const std::size_t frames = expectation_.frames.size();
        const auto area = static_cast<double>(wide_.area());
        // So few that hardly two meet, and enough to tell.
        const double share = std::min(0.004, 0.03 / static_cast<double>(frames));
        for (std::size_t f = 0; f < frames; ++f) {
            float* frame = samples + f * static_cast<std::size_t>(wide_.area());
            const int particles = count(share * area), gaps = count(0.25 * share * area);
            for (int i = 0; i < particles; ++i)
                spot(frame, f, 1);
            for (int i = 0; i < gaps; ++i)
                spot(frame, f, -1);
        }
        const std::size_t f = random_() % frames;
        trail(samples + f * static_cast<std::size_t>(wide_.area()), f);
    }

private:
    double uniform() { return (static_cast<double>(random_() >> 11) + 0.5) * 0x1p-53; }
    int count(double mean) { return static_cast<int>(mean + uniform()); }
    double sigmas(double least, double most) { return least * std::pow(most / least, uniform()); }
    double noise(std::size_t f) const { return std::sqrt(std::max(0.0f, expectation_.frames[f].variance)); }

    /// As a particle's charge lies on the canvas after interpolation.
    void spot(float* frame, std::size_t f, double sign) {
        const int x = static_cast<int>(uniform() * wide_.width), y = static_cast<int>(uniform() * wide_.height);
        const double height = sign * noise(f) * (sign > 0 ? sigmas(5, 300) : sigmas(5, 50));
        for (int j = std::max(0, y - 1); j <= std::min(wide_.height - 1, y + 1); ++j)
            for (int i = std::max(0, x - 1); i <= std::min(wide_.width - 1, x + 1); ++i) {
                const int off = std::abs(i - x) + std::abs(j - y);
                const double part = off == 0 ? 1 : off == 1 ? 0.3 : 0.1;
                frame[j * wide_.width + i] += static_cast<float>(part * height); // NaN stays
            }
    }
    void trail(float* frame, std::size_t f) {
        const double angle = kPi * uniform(), ux = std::cos(angle), uy = std::sin(angle);
        const double x0 = uniform() * wide_.width, y0 = uniform() * wide_.height;
        const double height = noise(f) * sigmas(4, 30);
        constexpr double kWidth = 1.3; // sigma of its profile, pixels
        for (int y = 0; y < wide_.height; ++y)
            for (int x = 0; x < wide_.width; ++x) {
                const double off = ((x - x0) * uy - (y - y0) * ux) / kWidth;
                if (std::abs(off) < 4)
                    frame[y * wide_.width + x] += static_cast<float>(height * std::exp(-0.5 * off * off));
            }
    }

    const StackExpectation& expectation_;
    const Region& wide_;
    std::mt19937_64 random_;
};

/// Sums over tiles, of one candidate.
struct Sums {
    double high = 0, low = 0; ///< what the added outliers changed
    CoreShares cores;
};

struct TileSums {
    std::vector<Sums> by_candidate;
    std::optional<FrameFailure> failure;
};

class Trials {
public:
    Trials(const TrialStack& stack, const IntegrateOptions& options, std::vector<Rejection> candidates)
        : stack_(stack), options_(options), candidates_(std::move(candidates)),
          lengths_(stack.frames, std::vector<double>(stack.frames.front().planes.size(), stack.expectation.level)) {
        for (const Rejection& r : candidates_)
            combiners_.push_back({Combiner(stack.expectation, {r, Combination::mean})});
        for (std::size_t k = 0; k < candidates_.size(); ++k) {
            judges_.push_back(std::make_unique<TileJudge>(
                combiners_[k], CombineOptions{candidates_[k], Combination::mean}, options.judge));
            halo_ = std::max(halo_, judges_.back()->halo());
        }
    }

    TileSums run(const Region& tile, std::uint64_t seed, MappedMemory& mapped) const {
        TileSums out;
        out.by_candidate.resize(candidates_.size());
        const Region wide = intersect({tile.x - halo_, tile.y - halo_, tile.width + 2 * halo_, tile.height + 2 * halo_},
                                      stack_.canvas.bounds());
        TileSamples samples;
        out.failure =
            samples.fill(stack_.frames, wide,
                         {options_.ringing_sigmas, options_.real_share, options_.mask_streaks, &lengths_}, mapped);
        if (out.failure) return out;
        const float* clean = samples.plane(stack_.plane);
        const std::size_t size = stack_.frames.size() * static_cast<std::size_t>(wide.area());
        std::vector<float> dirty(clean, clean + size);
        Outliers(stack_.expectation, wide, seed).add_to(dirty.data());
        // Which pixels were touched, and to which side, the plain mean tells.
        const std::vector<float> before = plain(clean, wide), after = plain(dirty.data(), wide);
        const auto area = static_cast<std::size_t>(wide.area());
        std::vector<int> shown(area);
        for (std::size_t f = 0; f < stack_.frames.size(); ++f)
            for (std::size_t i = 0; i < area; ++i)
                shown[i] += std::isfinite(clean[f * area + i]);
        const int told = std::min(3, static_cast<int>(stack_.frames.size()));
        TileJudge::Scratch scratch;
        for (std::size_t k = 0; k < candidates_.size(); ++k) {
            Sums& sums = out.by_candidate[k];
            judges_[k]->judge(clean, wide.width, wide.height, scratch);
            const std::vector<float> without = scratch.planes.front().mean;
            count_cores(scratch.planes.front(), clean, tile, wide, sums.cores);
            judges_[k]->judge(dirty.data(), wide.width, wide.height, scratch);
            const std::vector<float>& with = scratch.planes.front().mean;
            for_inside(tile, wide, [&](std::size_t i) {
                if (shown[i] < told) return;
                const double changed = static_cast<double>(with[i]) - without[i];
                if (!std::isfinite(changed)) return;
                (after[i] < before[i] ? sums.low : sums.high) += changed;
            });
        }
        return out;
    }

private:
    template <class F>
    static void for_inside(const Region& tile, const Region& wide, F f) {
        for (int y = tile.y; y < tile.bottom(); ++y)
            for (int x = tile.x; x < tile.right(); ++x)
                f(static_cast<std::size_t>(y - wide.y) * static_cast<std::size_t>(wide.width) +
                  static_cast<std::size_t>(x - wide.x));
    }

    std::vector<float> plain(const float* samples, const Region& wide) const {
        const auto area = static_cast<std::size_t>(wide.area());
        std::vector<float> mean(area), weight(area);
        Combiner(stack_.expectation, {NoRejection{}, Combination::mean})
            .combine({samples, static_cast<int>(stack_.frames.size()), static_cast<std::ptrdiff_t>(area),
                      static_cast<int>(area)},
                     {mean.data(), weight.data()});
        return mean;
    }

    void count_cores(const PlaneVerdict& v, const float* samples, const Region& tile, const Region& wide,
                     CoreShares& cores) const {
        const auto area = static_cast<std::size_t>(wide.area());
        std::vector<std::uint8_t> inside(area);
        for_inside(tile, wide, [&](std::size_t i) {
            inside[i] = 1;
            for (std::size_t f = 0; f < stack_.frames.size(); ++f)
                if (const float s = samples[f * area + i]; s == s) ++(v.core(i) ? cores.samples : cores.elsewhere);
        });
        for (const RejectedSample& r : v.rejected)
            if (inside[r.pixel]) ++(v.core(r.pixel) ? cores.rejected : cores.rejected_elsewhere);
    }

    const TrialStack& stack_;
    const IntegrateOptions& options_;
    std::vector<Rejection> candidates_;
    LengthRules lengths_;
    std::vector<std::vector<Combiner>> combiners_;
    std::vector<std::unique_ptr<TileJudge>> judges_;
    int halo_ = 0;
};

double share(std::uint64_t part, std::uint64_t whole) {
    return whole > 0 ? static_cast<double>(part) / static_cast<double>(whole) : 0;
}

/// What speaks against a rejection: what it leaves, and what it takes from the cores of stars.
double harm(const RejectionTrial& t) {
    constexpr double kLowCounts = 0.2; // of what is left on the high side, where nearly all outliers are
    return std::abs(t.left) + kLowCounts * std::abs(t.left_low) + std::max(0.0, t.cores - kMostInCores);
}

/// The one that does least harm among those that cost little; of several that are nearly the same the quickest.
std::size_t choose(const std::vector<RejectionTrial>& trials, std::size_t count) {
    constexpr double kNearly = 0.003;
    double least = HUGE_VAL;
    for (std::size_t k = 0; k < count; ++k)
        if (trials[k].loss <= kMostLoss) least = std::min(least, harm(trials[k]));
    for (std::size_t k = 0; k < count; ++k)
        if (trials[k].loss <= kMostLoss && harm(trials[k]) <= least + kNearly) return k;
    return count - 1; // nothing is rejected
}

} // namespace

namespace {

RejectionComparison try_all(const TrialStack& stack, const IntegrateOptions& options, const Context& context) {
    std::vector<Rejection> candidates;
    std::vector<double> losses;
    for (RejectionCandidate& c : rejection_candidates(stack.usual, kMostLoss, context.workers)) {
        candidates.push_back(std::move(c.rejection));
        losses.push_back(c.loss);
    }
    const std::size_t count = candidates.size(), none = count - 1;
    if (options.rejection && std::find(candidates.begin(), candidates.end(), *options.rejection) == candidates.end()) {
        candidates.push_back(*options.rejection); // looked at, not chosen
        losses.push_back(measure_efficiency(stack.usual, {*options.rejection, Combination::mean}).loss);
    }
    const std::vector<Region> tiles = sample_tiles(stack.canvas);
    const Trials trials(stack, options, candidates);
    std::vector<TileSums> sums(tiles.size());
    MappedMemory mapped(context.memory.for_buffers() / 4, [&] {
        for (const StackFrame& f : stack.frames)
            f.source->release();
    });
    context.workers.for_each(tiles.size(), [&](std::size_t i) { sums[i] = trials.run(tiles[i], 1000 + i, mapped); });
    RejectionComparison out;
    std::vector<Sums> all(candidates.size());
    for (TileSums& t : sums) { // in their order, whoever did them
        if (t.failure) {
            out.failure = std::move(t.failure);
            return out;
        }
        for (std::size_t k = 0; k < all.size(); ++k) {
            all[k].high += t.by_candidate[k].high;
            all[k].low += t.by_candidate[k].low;
            all[k].cores += t.by_candidate[k].cores;
        }
    }
    for (std::size_t k = 0; k < candidates.size(); ++k) {
        RejectionTrial t{candidates[k]};
        t.loss = losses[k];
        t.left = all[none].high != 0 ? all[k].high / all[none].high : 0;
        t.left_low = all[none].low != 0 ? all[k].low / all[none].low : 0;
        t.cores = std::max(0.0, share(all[k].cores.rejected, all[k].cores.samples) -
                                    share(all[k].cores.rejected_elsewhere, all[k].cores.elsewhere));
        out.trials.push_back(std::move(t));
    }
    // What all that do their work reject in the cores are outliers that lie there.
    double common = HUGE_VAL;
    for (std::size_t k = 0; k < none; ++k)
        if (out.trials[k].left < 0.5) common = std::min(common, out.trials[k].cores);
    for (RejectionTrial& t : out.trials)
        if (std::isfinite(common)) t.cores = std::max(0.0, t.cores - common);
    out.chosen = choose(out.trials, count);
    const RejectionTrial& best = out.trials[out.chosen];
    out.reason =
        fmt::format("the best of {} ways tried: leaves {:.2g} % of the outliers that were added, costs {:.2g} % "
                    "of the efficiency",
                    count, 100 * std::abs(best.left), 100 * best.loss);
    if (out.chosen == none) out.reason = "no rejection helps without costing too much";
    return out;
}

constexpr std::size_t kMostFrames = 300; // beyond, more of them tell no more, and take memory

/// As many as that, spread over all.
template <class T>
std::vector<T> spread_over(const std::vector<T>& all) {
    if (all.size() <= kMostFrames) return all;
    std::vector<T> out;
    for (std::size_t k = 0; k < kMostFrames; ++k)
        out.push_back(all[(2 * k + 1) * all.size() / (2 * kMostFrames)]);
    return out;
}

} // namespace

RejectionComparison compare_rejections(const TrialStack& stack, const IntegrateOptions& options,
                                       const Context& context) {
    if (stack.frames.size() <= kMostFrames) return try_all(stack, options, context);
    const std::vector<StackFrame> frames = spread_over(stack.frames);
    StackExpectation expectation = stack.expectation, usual = stack.usual;
    expectation.frames = spread_over(expectation.frames);
    usual.frames = spread_over(usual.frames);
    RejectionComparison out = try_all({frames, stack.canvas, expectation, usual, stack.plane}, options, context);
    out.reason += fmt::format(", tried on {} of its {} frames", frames.size(), stack.frames.size());
    if (out.failure) // by its place among all of them
        out.failure->frame = (2 * out.failure->frame + 1) * stack.frames.size() / (2 * kMostFrames);
    return out;
}

} // namespace kasane
