#include <kasane/integration/drop_samples.hpp>

#include <kasane/integration/drop_gather.hpp>
#include <kasane/integration/edge_feather.hpp>

#include <algorithm>
#include <bit>
#include <cmath>
#include <cstring>

namespace kasane {

namespace {

constexpr int kStep = DropStretch::kMost; // pixels of a frame between nodes
constexpr float kOutlier = 4;             // sigmas from which a sample does not count
constexpr float kSuspect = 2.5f;          // from which the image around it is asked
constexpr float kSurely = 2.4f;           // up to which a first look will do, whatever its rounding

int floor_to_step(int v) {
    return (v >= 0 ? v / kStep : -((-v + kStep - 1) / kStep)) * kStep;
}

/// How far the image goes up and down around a pixel.
float range_around(const JudgingStack& s, int x, int y) {
    float least = s.mean[static_cast<std::ptrdiff_t>(y) * s.region.width + x], most = least;
    for (int j = std::max(0, y - 1); j <= std::min(s.region.height - 1, y + 1); ++j)
        for (int i = std::max(0, x - 1); i <= std::min(s.region.width - 1, x + 1); ++i) {
            const float v = s.mean[static_cast<std::ptrdiff_t>(j) * s.region.width + i];
            least = std::min(least, v), most = std::max(most, v); // NaN is passed over
        }
    return most - least;
}

/// The pixel of the stack's rectangle nearest to a place of the canvas; -1 outside.
std::ptrdiff_t nearest(const JudgingStack& s, double x, double y) {
    const double cx = std::clamp(x, static_cast<double>(s.whole.x), s.whole.right() - 1.0) - s.region.x,
                 cy = std::clamp(y, static_cast<double>(s.whole.y), s.whole.bottom() - 1.0) - s.region.y;
    if (!(cx >= 0 && cy >= 0 && cx <= s.region.width - 1 && cy <= s.region.height - 1)) return -1;
    return static_cast<std::ptrdiff_t>(cy + 0.5) * s.region.width + static_cast<std::ptrdiff_t>(cx + 0.5);
}

/// Bit i is set where the i-th of a few single bytes is not 0; most of them are 0.
template <class Byte>
std::uint64_t marked_among(const Byte* bytes, int count) {
    std::uint64_t bits = 0, eight = 0;
    int i = 0;
    const auto look = [&](int until) {
        for (; i < until; ++i)
            bits |= static_cast<std::uint64_t>(bytes[i] != Byte{}) << i;
    };
    while (i + static_cast<int>(sizeof(eight)) <= count) {
        std::memcpy(&eight, bytes + i, sizeof(eight));
        if (eight == 0)
            i += static_cast<int>(sizeof(eight));
        else
            look(i + static_cast<int>(sizeof(eight)));
    }
    look(count);
    return bits;
}

/// Bits of the places `where(0)`, `where(1)`, ... of `n`, that lie along a straight line, within bounds.
template <class Where>
std::uint64_t run_within(int n, const Where& where, const Bounds& b) {
    const auto bits = [](int k) { return k < kStep ? (std::uint64_t{1} << k) - 1 : ~std::uint64_t{0}; };
    const auto on_one_axis = [&](double Point::*at, double from, double end) {
        const bool down = where(n - 1).*at < where(0).*at;
        // As many as lie below, or from the last one on.
        const auto below = [&](double limit) {
            if (!(where(down ? n - 1 : 0).*at < limit)) return 0;
            if (where(down ? 0 : n - 1).*at < limit) return n;
            int least = 0, most = n;
            while (least < most) {
                const int k = (least + most) / 2;
                if (where(down ? n - 1 - k : k).*at < limit)
                    least = k + 1;
                else
                    most = k;
            }
            return least;
        };
        const int first = below(from), last = below(end);
        return down ? bits(n - first) & ~bits(n - last) : bits(last) & ~bits(first);
    };
    return on_one_axis(&Point::x, b.left, b.right) & on_one_axis(&Point::y, b.top, b.bottom);
}

bool holds(const Bounds& b, Point p) {
    return p.x >= b.left && p.y >= b.top && p.x < b.right && p.y < b.bottom;
}

} // namespace

double share_of_samples(const PlaneSource& source, std::size_t plane) {
    if (!source.sensor()) return 1;
    constexpr int kPeriod = 6;
    int count = 0;
    for (int y = 0; y < kPeriod; ++y)
        for (int x = 0; x < kPeriod; ++x)
            count += source.plane_of(x, y) == static_cast<int>(plane);
    return std::max(1, count) / static_cast<double>(kPeriod * kPeriod);
}

void DropSamples::read(const StackFrame& frame, const Region& box) {
    mosaic_ = frame.source->sensor() != nullptr;
    source_ = mosaic_ ? frame.source->sensor() : frame.source.get();
    box_ = box;
    inside_ = intersect(box, source_->bounds());
    if (inside_.empty()) return;
    const auto planes = static_cast<std::size_t>(source_->planes());
    const auto area = static_cast<std::size_t>(inside_.area());
    pixels_.resize(planes);
    quality_.resize(planes);
    std::vector<View<float>> out;
    for (std::vector<float>& p : pixels_) {
        if (p.size() < area) p.resize(area);
        out.push_back({p.data(), inside_.width, inside_.height, inside_.width});
    }
    source_->read_along(inside_, out, quality_, memory_);
}

/// At multiples of a step of the frame, so that what lies between does not depend on the box.
void DropSamples::lay_nodes(const StackFrame& frame, std::size_t plane) {
    const Transform t = to_plane(frame, plane);
    const LevelMap& level = frame.planes[plane].level;
    node_x_ = floor_to_step(inside_.x), node_y_ = floor_to_step(inside_.y);
    across_ = (inside_.right() - node_x_ + kStep - 1) / kStep + 1;
    const int down = (inside_.bottom() - node_y_ + kStep - 1) / kStep + 1;
    std::vector<Node>& nodes = planes_[plane].nodes;
    nodes.clear();
    for (int j = 0; j < down; ++j)
        for (int i = 0; i < across_; ++i) {
            const Point p =
                t.unmap({static_cast<double>(node_x_ + i * kStep), static_cast<double>(node_y_ + j * kStep)});
            nodes.push_back({p.x, p.y, level.scale_at(p), level.offset_at(p)});
        }
}

/// Between node (i, j) and the one below it.
DropSamples::Node DropSamples::along(const Plane& plane, int i, int j, double down) const {
    const Node& a = plane.nodes[static_cast<std::size_t>(j * across_ + i)];
    const Node& b = plane.nodes[static_cast<std::size_t>((j + 1) * across_ + i)];
    return {a.x + down * (b.x - a.x), a.y + down * (b.y - a.y), a.scale + down * (b.scale - a.scale),
            a.offset + down * (b.offset - a.offset)};
}

DropSamples::Node DropSamples::at(const Plane& plane, int x, int y) const {
    const int i = (x - node_x_) / kStep, j = (y - node_y_) / kStep;
    const double across = static_cast<double>(x - node_x_ - i * kStep) / kStep,
                 down = static_cast<double>(y - node_y_ - j * kStep) / kStep;
    const Node a = along(plane, i, j, down), b = along(plane, i + 1, j, down);
    return {a.x + across * (b.x - a.x), a.y + across * (b.y - a.y), a.scale + across * (b.scale - a.scale),
            a.offset + across * (b.offset - a.offset)};
}

std::size_t DropSamples::in_box(std::int32_t place) const {
    const int x = place % inside_.width + inside_.x - box_.x, y = place / inside_.width + inside_.y - box_.y;
    return static_cast<std::size_t>(y) * static_cast<std::size_t>(box_.width) + static_cast<std::size_t>(x);
}

/// What the source says of its samples.
void DropSamples::take_marks(const QualityPlane& marks, const DropSampleOptions& o) {
    fates_.assign(static_cast<std::size_t>(inside_.area()), Fate::counts);
    marked_.assign(static_cast<std::size_t>(inside_.height), false);
    marks.for_each([&](int x, int y, quality::Bits bits) {
        Fate& fate =
            fates_[static_cast<std::size_t>(y) * static_cast<std::size_t>(inside_.width) + static_cast<std::size_t>(x)];
        if ((bits & quality::kRepaired) && !o.repaired) fate = Fate::passed_over;
        if (bits & quality::kMasked) fate = Fate::absent;
        if (fate != Fate::counts) marked_[static_cast<std::size_t>(y)] = true;
    });
}

/// Sigmas by which a sample (its value above the level) at a place of the canvas lies beyond what is to be expected
/// there.
float DropSamples::score(double x, double y, float value, const JudgingStack& s) const {
    const double cx = std::clamp(x, static_cast<double>(s.whole.x), s.whole.right() - 1.0) - s.region.x,
                 cy = std::clamp(y, static_cast<double>(s.whole.y), s.whole.bottom() - 1.0) - s.region.y;
    if (!(cx >= 0 && cy >= 0 && cx <= s.region.width - 1 && cy <= s.region.height - 1)) return 0;
    const int i = std::min(static_cast<int>(cx), std::max(0, s.region.width - 2)),
              j = std::min(static_cast<int>(cy), std::max(0, s.region.height - 2));
    const int right = i + 1 < s.region.width ? 1 : 0;
    const auto a = static_cast<float>(cx - i), b = static_cast<float>(cy - j);
    const float* upper = s.mean + static_cast<std::ptrdiff_t>(j) * s.region.width + i;
    const float* lower = upper + (j + 1 < s.region.height ? s.region.width : 0);
    const float expected =
        (upper[0] * (1 - a) + upper[right] * a) * (1 - b) + (lower[0] * (1 - a) + lower[right] * a) * b;
    const float excess = expected - s.level, off = value - excess;
    const float variance = s.sigma * s.sigma + variance_at(s.frame, excess, 0.0f, 0.0f);
    if (!(off * off > kSuspect * kSuspect * variance)) return 0; // without data as well
    if (off > 0 ? !s.high : !s.low) return 0;
    // Frames lie differently on a steep image, and see it differently sharp.
    const auto ni = static_cast<int>(cx + 0.5), nj = static_cast<int>(cy + 0.5);
    constexpr float kNoiseOfNine = 4; // sigmas that the range of nine pixels goes over at most by noise alone
    const float steep = std::max(0.0f, range_around(s, ni, nj) - kNoiseOfNine * s.sigma);
    float wide = variance;
    if (s.structure && !s.structure->curvature.empty()) {
        const auto pixel = static_cast<std::size_t>(nj * s.region.width + ni);
        wide =
            s.sigma * s.sigma + variance_at(s.frame, excess, s.structure->curvature[pixel], s.structure->slope[pixel]);
    }
    const float beyond = std::max(0.0f, std::abs(off) - steep) / std::sqrt(wide);
    return off > 0 ? beyond : -beyond;
}

/// Values to the level, each against the stack at its place.
void DropSamples::judge_rows(Plane& plane, const std::vector<float>& pixels, const JudgingStack& stack) {
    for (int y = inside_.y; y < inside_.bottom(); ++y) {
        const int j = (y - node_y_) / kStep;
        const double down = static_cast<double>(y - node_y_ - j * kStep) / kStep;
        const float* row = pixels.data() + static_cast<std::ptrdiff_t>(y - inside_.y) * inside_.width;
        for (int i = 0; i + 1 < across_; ++i) {
            const int first = node_x_ + i * kStep, from = std::max(first, inside_.x),
                      until = std::min(first + kStep, inside_.right());
            if (until > from)
                judge_stretch(plane, {first, from, until, y, along(plane, i, j, down), along(plane, i + 1, j, down)},
                              row + (from - inside_.x), stack);
        }
    }
}

/// `pixels`: of its samples.
void DropSamples::judge_stretch(Plane& plane, const Stretch& at, const float* pixels, const JudgingStack& stack) {
    const Node &a = at.a, &b = at.b;
    const int n = at.until - at.from;
    const std::int32_t inside = (at.y - inside_.y) * inside_.width + at.from - inside_.x;
    const std::size_t place = static_cast<std::size_t>(at.y - box_.y) * static_cast<std::size_t>(box_.width) +
                              static_cast<std::size_t>(at.from - box_.x);
    float *values = plane.out.values.data() + place, *counts = plane.out.counts.data() + place;
    Fate* fates = fates_.data() + inside;
    const float* holds = plane.holds[static_cast<std::size_t>(at.y % kPeriod)].data() + at.from % kPeriod;
    std::copy_n(holds, n, counts);
    if (!(std::abs(a.x) + std::abs(b.x) < 1e9 && std::abs(a.y) + std::abs(b.y) < 1e9)) { // no such place
        std::fill_n(values, n, 0.0f);
        std::fill_n(counts, n, 0.0f);
        for (int i = 0; i < n; ++i)
            if (holds[i] > 0) fates[i] = Fate::absent;
        return;
    }
    const double dx = (b.x - a.x) / kStep, dy = (b.y - a.y) / kStep;
    const auto where = [&](int i) {
        const double k = at.from - at.first + i;
        return Point{a.x + k * dx, a.y + k * dy};
    };
    const Point one = where(0), last = where(n - 1);
    const auto both = [&](double left, double top, double right, double bottom) {
        return std::min(one.x, last.x) >= left && std::min(one.y, last.y) >= top && std::max(one.x, last.x) < right &&
               std::max(one.y, last.y) < bottom;
    };
    constexpr double kInside = 1.01; // with the pixel beside, and what single precision rounds
    // Wholly inside, only what is marked or not as expected need be asked.
    const bool counted = both(stack.own.left, stack.own.top, stack.own.right, stack.own.bottom);
    const Region known = intersect(stack.region, stack.whole);
    const bool plain = !stack.hidden && both(known.x, known.y, known.right() - kInside, known.bottom() - kInside);
    DropStretch s{at.from - at.first, n, pixels};
    s.scale = static_cast<float>(a.scale), s.scale_step = static_cast<float>((b.scale - a.scale) / kStep);
    s.offset = static_cast<float>(a.offset - stack.level);
    s.offset_step = static_cast<float>((b.offset - a.offset) / kStep);
    s.holds = mosaic_ ? holds : nullptr;
    s.x = static_cast<float>(a.x - stack.region.x), s.x_step = static_cast<float>(dx);
    s.y = static_cast<float>(a.y - stack.region.y), s.y_step = static_cast<float>(dy);
    DropExpectation e;
    e.mean = plain ? stack.mean : nullptr;
    e.stride = stack.region.width, e.size = static_cast<std::ptrdiff_t>(stack.region.area());
    e.level = stack.level, e.sigmas = kSurely;
    e.variance = stack.sigma * stack.sigma + stack.frame.variance, e.slope = stack.frame.variance_slope;
    e.scale_error2 = stack.frame.scale_error * stack.frame.scale_error;
    std::uint64_t asked = level_stretch(s, e, values);
    if (marked_[static_cast<std::size_t>(at.y - inside_.y)]) asked |= marked_among(fates, n);
    std::uint64_t own = ~std::uint64_t{0} >> (kStep - n);
    if (!counted) own &= run_within(n, where, stack.own);
    if (mosaic_) {
        std::uint64_t held = 0;
        for (int i = 0; i < n; ++i)
            held |= static_cast<std::uint64_t>(holds[i] > 0) << i;
        asked &= held, own &= held;
    }
    plane.out.present += static_cast<std::uint64_t>(std::popcount(own));
    while (asked != 0) {
        const int i = std::countr_zero(asked);
        asked &= asked - 1;
        judge_sample(plane, place + static_cast<std::size_t>(i), inside + i, where(i), (own >> i & 1) != 0, stack);
    }
}

/// `place` of the box and of what was read of it; `at` of the canvas.
void DropSamples::judge_sample(Plane& plane, std::size_t place, std::int32_t inside, Point at, bool own,
                               const JudgingStack& stack) {
    Fate& fate = fates_[static_cast<std::size_t>(inside)];
    float &value = plane.out.values[place], &count = plane.out.counts[place];
    if (!(std::abs(value) < 1e30f)) { // NaN as well
        fate = Fate::absent;
        plane.out.present -= own;
    }
    if (fate != Fate::counts) {
        plane.out.passed_over += own && fate == Fate::passed_over;
        value = count = 0;
        return;
    }
    if (stack.hidden)
        if (const std::ptrdiff_t pixel = nearest(stack, at.x, at.y);
            pixel >= 0 && stack.hidden[pixel] != JudgingStack::shown) {
            if (stack.hidden[pixel] == JudgingStack::trail) {
                fate = Fate::streak;
                return;
            }
            fate = Fate::absent;
            plane.out.present -= own;
            value = count = 0;
            return;
        }
    const float beyond = score(at.x, at.y, value, stack);
    if (std::abs(beyond) < kOutlier) return;
    fate = beyond > 0 ? Fate::high : Fate::low;
    found_.push_back({inside, beyond});
}

/// What lies beside a sample far beyond the limits, or beside another that was rejected, goes as far as its light is
/// expected to reach (growth.hpp).
void DropSamples::grow(const GrowthOptions& o) {
    const int w = inside_.width, h = inside_.height;
    const auto for_each_beside = [&](std::int32_t place, auto f) {
        const int x = place % w, y = place / w;
        for (int j = std::max(0, y - 1); j <= std::min(h - 1, y + 1); ++j)
            for (int i = std::max(0, x - 1); i <= std::min(w - 1, x + 1); ++i)
                if (i != x || j != y) f(static_cast<std::int32_t>(j * w + i));
    };
    std::vector<Grown> front, next;
    for (const Grown& g : found_) {
        bool seed = std::abs(g.strength) >= o.seed;
        for_each_beside(g.place, [&](std::int32_t beside) {
            const Fate f = fates_[static_cast<std::size_t>(beside)];
            seed = seed || f == Fate::low || f == Fate::high;
        });
        if (seed) front.push_back(g);
    }
    for (int step = 0; step < o.steps && !front.empty(); ++step) {
        next.clear();
        for (const Grown& g : front)
            if (const float light = g.strength * o.fall; std::abs(light) >= o.least)
                for_each_beside(g.place, [&](std::int32_t beside) {
                    if (fates_[static_cast<std::size_t>(beside)] == Fate::counts) next.push_back({beside, light});
                });
        // The strongest light tells, in whatever order it comes.
        std::sort(next.begin(), next.end(), [](const Grown& a, const Grown& b) {
            if (a.place != b.place) return a.place < b.place;
            return std::abs(a.strength) != std::abs(b.strength) ? std::abs(a.strength) > std::abs(b.strength)
                                                                : a.strength > b.strength;
        });
        next.erase(
            std::unique(next.begin(), next.end(), [](const Grown& a, const Grown& b) { return a.place == b.place; }),
            next.end());
        for (const Grown& g : next) {
            fates_[static_cast<std::size_t>(g.place)] = g.strength > 0 ? Fate::high : Fate::low;
            found_.push_back(g);
        }
        front.swap(next);
    }
}

/// Takes out what does not count, and tells of it.
void DropSamples::settle(Plane& plane, const JudgingStack& stack, double feather) {
    const auto tell = [&](std::int32_t place, Fate fate) {
        const int x = place % inside_.width + inside_.x, y = place / inside_.width + inside_.y;
        if (!is_of(plane, x, y)) return; // another colour's: told there
        const std::size_t k = in_box(place);
        if (plane.out.counts[k] == 0) return;
        plane.out.values[k] = plane.out.counts[k] = 0;
        const Node n = at(plane, x, y);
        plane.out.rejected.push_back(
            {x, y, n.x, n.y, fate != Fate::low, fate == Fate::streak, holds(stack.own, {n.x, n.y})});
    };
    for (const Grown& g : found_)
        tell(g.place, g.strength > 0 ? Fate::high : Fate::low);
    if (stack.hidden)
        for (std::size_t i = 0; i < fates_.size(); ++i)
            if (fates_[i] == Fate::streak) tell(static_cast<std::int32_t>(i), Fate::streak);
    const double most = feather - 0.5;
    if (!(feather > 0) || (inside_.x > most && inside_.y > most && inside_.right() - 1 < source_->width() - 1 - most &&
                           inside_.bottom() - 1 < source_->height() - 1 - most))
        return;
    for (int y = inside_.y; y < inside_.bottom(); ++y)
        for (int x = inside_.x; x < inside_.right(); ++x) {
            const double deep = 0.5 + std::min({x, y, source_->width() - 1 - x, source_->height() - 1 - y});
            if (deep >= feather) continue;
            const std::size_t k = in_box((y - inside_.y) * inside_.width + x - inside_.x);
            const auto share = static_cast<float>(feather_share(deep, feather));
            plane.out.values[k] *= share, plane.out.counts[k] *= share;
        }
}

void DropSamples::judge(const StackFrame& frame, const std::vector<JudgingStack>& stacks,
                        const DropSampleOptions& options) {
    planes_.resize(stacks.size());
    for (std::size_t p = 0; p < stacks.size(); ++p) {
        Plane& plane = planes_[p];
        const std::size_t size = static_cast<std::size_t>(box_.area()) + DropRows::kBehind;
        for (std::vector<float>* v : {&plane.out.values, &plane.out.counts}) {
            v->resize(size);
            if (inside_.area() != box_.area()) std::fill(v->begin(), v->end(), 0.0f);
        }
        plane.out.whole.assign(static_cast<std::size_t>(box_.height), 0);
        plane.out.rejected.clear();
        plane.out.present = plane.out.passed_over = 0;
        if (inside_.empty()) continue;
        for (int y = 0; y < kPeriod; ++y)
            for (std::size_t x = 0; x < plane.holds.front().size(); ++x)
                plane.holds[static_cast<std::size_t>(y)][x] =
                    !mosaic_ || frame.source->plane_of(static_cast<int>(x) % kPeriod, y) == static_cast<int>(p) ? 1.0f
                                                                                                                : 0.0f;
        lay_nodes(frame, p);
    }
    if (inside_.empty()) return;
    const std::size_t together = mosaic_ ? stacks.size() : 1; // planes that share their samples' grid
    for (std::size_t first = 0; first < stacks.size(); first += together) {
        found_.clear();
        take_marks(quality_[first], options);
        for (std::size_t p = first; p < first + together; ++p)
            judge_rows(planes_[p], pixels_[first], stacks[p]);
        grow(options.growth);
        for (std::size_t p = first; p < first + together; ++p) {
            settle(planes_[p], stacks[p], options.feather);
            whole_rows(planes_[p].out.counts.data(), box_.width, box_.height, planes_[p].out.whole);
        }
    }
}

} // namespace kasane
