#include <kasane/integration/length_match.hpp>

#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/tile_samples.hpp>

#include <algorithm>
#include <cmath>
#include <numeric>

namespace kasane {

namespace {

constexpr int kSide = 64;              // pixels of a tile that is looked at
constexpr std::size_t kMostTiles = 64; // of them
constexpr std::size_t kReferences = 6; // frames of the longer length, the best ones

/// Tiles of the canvas around what frames say they saturate; of many some spread over all.
std::vector<Region> tiles_around(const std::vector<StackFrame>& frames, const std::vector<std::size_t>& which,
                                 const Canvas& canvas) {
    const int across = (canvas.width + kSide - 1) / kSide, down = (canvas.height + kSide - 1) / kSide;
    std::vector<std::uint8_t> wanted(static_cast<std::size_t>(across) * static_cast<std::size_t>(down));
    for (const std::size_t f : which)
        for (const Region& r : frames[f].burnt) {
            const Transform& t = frames[f].planes.front().to_frame;
            Bounds b{1e18, 1e18, -1e18, -1e18}; // of the canvas
            for (const int y : {r.y, r.bottom() - 1})
                for (const int x : {r.x, r.right() - 1}) {
                    const Point p = t.unmap({static_cast<double>(x), static_cast<double>(y)});
                    if (!std::isfinite(p.x)) continue;
                    b = {std::min(b.left, p.x), std::min(b.top, p.y), std::max(b.right, p.x), std::max(b.bottom, p.y)};
                }
            constexpr double kAround = kSide / 2;
            const auto cell = [](double v, int most) {
                return static_cast<int>(std::clamp(std::floor(v / kSide), 0.0, most - 1.0));
            };
            if (!(b.right >= b.left) || b.right < -kAround || b.bottom < -kAround || b.left > canvas.width + kAround ||
                b.top > canvas.height + kAround)
                continue;
            for (int j = cell(b.top - kAround, down); j <= cell(b.bottom + kAround, down); ++j)
                for (int i = cell(b.left - kAround, across); i <= cell(b.right + kAround, across); ++i)
                    wanted[static_cast<std::size_t>(j) * static_cast<std::size_t>(across) +
                           static_cast<std::size_t>(i)] = 1;
        }
    std::vector<Region> all;
    for (int j = 0; j < down; ++j)
        for (int i = 0; i < across; ++i)
            if (wanted[static_cast<std::size_t>(j) * static_cast<std::size_t>(across) + static_cast<std::size_t>(i)])
                all.push_back(intersect({i * kSide, j * kSide, kSide, kSide}, canvas.bounds()));
    if (all.size() <= kMostTiles) return all;
    std::vector<Region> some;
    for (std::size_t k = 0; k < kMostTiles; ++k)
        some.push_back(all[k * all.size() / kMostTiles]);
    return some;
}

/// Light above the sky, of the longer length and of a frame.
struct Pair {
    float longer, frame;
};

/// What one tile tells: by plane and frame that is to be matched.
struct TilePairs {
    std::vector<std::vector<std::vector<Pair>>> pairs;
    std::optional<FrameFailure> failure;
};

/// Frames of one length, and those of the next longer one.
class Match {
public:
    Match(const std::vector<StackFrame>& frames, std::vector<std::size_t> references, std::vector<std::size_t> targets,
          const std::vector<double>& levels)
        : references_(std::move(references)), targets_(std::move(targets)), levels_(levels) {
        for (const std::size_t f : references_)
            chosen_.push_back(frames[f]);
        for (const std::size_t f : targets_)
            chosen_.push_back(frames[f]);
        for (std::size_t k = 0; k < chosen_.size(); ++k)
            chosen_[k].length = k < references_.size() ? 0 : 1;
        rules_ = std::make_unique<LengthRules>(chosen_, levels_);
    }

    TilePairs look(const Region& tile, MappedMemory& mapped) const {
        TilePairs out;
        out.pairs.assign(levels_.size(), std::vector<std::vector<Pair>>(targets_.size()));
        TileSamples samples;
        out.failure = samples.fill(chosen_, tile, {8, 0.25, true, rules_.get()}, mapped);
        if (out.failure) {
            out.failure->frame = frame_of(out.failure->frame);
            return out;
        }
        for (std::size_t p = 0; p < levels_.size(); ++p)
            collect(samples, tile, p, out.pairs[p]);
        return out;
    }

    /// A straight line through what all tiles told.
    LengthMatch fit(const std::vector<Pair>& pairs, std::size_t target, std::size_t p) const {
        constexpr std::size_t kLeast = 200;
        LengthMatch out;
        if (pairs.size() < kLeast) return out;
        const StackFrame& f = chosen_[references_.size() + target];
        const double scale = f.planes[p].level.scale.value, noise = scale * f.planes[p].noise,
                     slope = f.electrons_per_adu > 0 ? scale / f.electrons_per_adu : 0;
        constexpr double kPlace = 0.02; // of the light: frames lie and see a little differently
        std::vector<Equation<2>> equations;
        for (const Pair& pair : pairs) {
            const double x = pair.longer;
            const double variance = noise * noise + slope * x + kPlace * kPlace * x * x;
            equations.push_back({{1, x}, static_cast<double>(pair.frame), 1 / variance});
        }
        std::vector<Equation<2>> weighed = equations;
        Eigen::Vector2d line(0, 1);
        constexpr int kRounds = 8;
        constexpr double kTuning = 1.5;
        double chi2 = 0;
        for (int round = 0; round < kRounds; ++round) {
            line = least_squares(weighed);
            if (!line.allFinite()) return out;
            chi2 = 0;
            for (std::size_t k = 0; k < equations.size(); ++k) {
                const Equation<2>& e = equations[k];
                const double r = (e.value - line[0] - line[1] * e.row[1]) * std::sqrt(e.weight);
                const double w = huber_weight(r, kTuning);
                weighed[k].weight = e.weight * w;
                chi2 += w * r * r;
            }
        }
        double w = 0, wx = 0, wxx = 0;
        for (const Equation<2>& e : weighed)
            w += e.weight, wx += e.weight * e.row[1], wxx += e.weight * e.row[1] * e.row[1];
        const double spread = wxx - wx * wx / w;
        if (!(line[1] > 0.2 && line[1] < 5) || !(spread > 0)) return out; // nothing that a scale could be off by
        const double excess = std::max(1.0, chi2 / static_cast<double>(equations.size()));
        out.factor = 1 / line[1];
        out.error = std::sqrt(excess / spread) / line[1];
        out.pixels = static_cast<std::int64_t>(pairs.size());
        return out;
    }

private:
    std::size_t frame_of(std::size_t chosen) const {
        return chosen < references_.size() ? references_[chosen] : targets_[chosen - references_.size()];
    }

    void collect(const TileSamples& samples, const Region& tile, std::size_t p,
                 std::vector<std::vector<Pair>>& pairs) const {
        const auto area = static_cast<std::size_t>(tile.area());
        const float* plane = samples.plane(p);
        std::vector<float> longer(area, kNoData);
        for (std::size_t i = 0; i < area; ++i) {
            double sum = 0, n = 0;
            for (std::size_t f = 0; f < references_.size(); ++f) {
                const float v = plane[f * area + i];
                if (!(v == v)) continue;
                sum += static_cast<double>(v);
                ++n;
            }
            if (2 * n >= static_cast<double>(references_.size())) longer[i] = static_cast<float>(sum / n - levels_[p]);
        }
        constexpr float kSmooth = 0.35f;
        const float least = 0.5f * static_cast<float>(rules_->fades_from(0, p) - levels_[p]);
        for (int y = 1; y + 1 < tile.height; ++y)
            for (int x = 1; x + 1 < tile.width; ++x) {
                const auto i =
                    static_cast<std::size_t>(y) * static_cast<std::size_t>(tile.width) + static_cast<std::size_t>(x);
                const float here = longer[i];
                if (!(here > least)) continue;
                float low = here, high = here;
                bool whole = true;
                for (int b = -1; b <= 1; ++b)
                    for (int a = -1; a <= 1; ++a) {
                        const float v = longer[i + static_cast<std::size_t>(b * tile.width + a)];
                        whole = whole && v == v;
                        low = std::min(low, v), high = std::max(high, v);
                    }
                if (!whole || !(high - low < kSmooth * here)) continue;
                for (std::size_t t = 0; t < targets_.size(); ++t) {
                    const float v = plane[(references_.size() + t) * area + i];
                    if (v == v) pairs[t].push_back({here, v - static_cast<float>(levels_[p])});
                }
            }
    }

    std::vector<std::size_t> references_, targets_;
    const std::vector<double>& levels_;
    std::vector<StackFrame> chosen_;
    std::unique_ptr<LengthRules> rules_;
};

/// Of a length; the best ones first.
std::vector<std::size_t> frames_of(const std::vector<StackFrame>& frames, int length, std::size_t plane) {
    std::vector<std::size_t> out;
    for (std::size_t f = 0; f < frames.size(); ++f)
        if (frames[f].length == length) out.push_back(f);
    const auto noise = [&](std::size_t f) {
        return frames[f].planes[plane].level.scale.value * frames[f].planes[plane].noise;
    };
    std::stable_sort(out.begin(), out.end(), [&](std::size_t a, std::size_t b) { return noise(a) < noise(b); });
    return out;
}

/// A frame's light times a factor, about the level of its sky.
void rescale(LevelMap& level, double factor, double background) {
    level.scale.value *= factor, level.scale.slope_x *= factor, level.scale.slope_y *= factor;
    for (float& c : level.scale.lattice.coefficients)
        c *= static_cast<float>(factor);
    level.offset.slope_x *= factor, level.offset.slope_y *= factor;
    for (float& c : level.offset.lattice.coefficients)
        c *= static_cast<float>(factor);
    level.offset.value = factor * level.offset.value + (1 - factor) * background;
}

} // namespace

LengthMatches match_lengths(std::vector<StackFrame>& frames, const Canvas& canvas, const std::vector<double>& levels,
                            const Context& context) {
    LengthMatches out;
    out.planes.assign(levels.size(), std::vector<LengthMatch>(frames.size()));
    const auto main = static_cast<std::size_t>(main_plane(static_cast<int>(levels.size())));
    MappedMemory mapped(context.memory.for_buffers() / 4, [&] {
        for (const StackFrame& f : frames)
            f.source->release();
    });
    for (int length = 1; length < count_lengths(frames); ++length) {
        std::vector<std::size_t> references = frames_of(frames, length - 1, main);
        const std::vector<std::size_t> targets = frames_of(frames, length, main);
        const std::vector<Region> tiles = tiles_around(frames, references, canvas);
        if (references.size() > kReferences) references.resize(kReferences);
        if (tiles.empty() || references.empty() || targets.empty()) continue;
        const Match match(frames, references, targets, levels);
        std::vector<TilePairs> told(tiles.size());
        context.workers.for_each(tiles.size(), [&](std::size_t k) { told[k] = match.look(tiles[k], mapped); });
        for (TilePairs& t : told)
            if (t.failure) {
                out.failure = std::move(t.failure);
                return out;
            }
        for (std::size_t p = 0; p < levels.size(); ++p)
            for (std::size_t t = 0; t < targets.size(); ++t) {
                std::vector<Pair> all;
                for (const TilePairs& tile : told)
                    all.insert(all.end(), tile.pairs[p][t].begin(), tile.pairs[p][t].end());
                const LengthMatch m = match.fit(all, t, p);
                StackPlane& plane = frames[targets[t]].planes[p];
                const double stars = plane.scale_error;
                if (!(m.error > 0) || !(m.error < stars)) continue;
                const double w = 1 / (m.error * m.error), own = 1 / (stars * stars);
                const double factor = std::exp(w * std::log(m.factor) / (w + own));
                rescale(plane.level, factor, levels[p]);
                plane.scale_error = 1 / std::sqrt(w + own);
                out.planes[p][targets[t]] = {factor, plane.scale_error, m.pixels};
            }
    }
    return out;
}

} // namespace kasane
