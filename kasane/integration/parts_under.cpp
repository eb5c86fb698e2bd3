#include <kasane/integration/parts_under.hpp>

#include <kasane/image/resample.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {
constexpr int kStrip = 12;                                           // rows
constexpr int kBefore = kLanczosRadius, kAfter = kLanczosRadius + 2; // pixels that taps reach, with room for rounding
constexpr double kFar = 1e6;
} // namespace

PartsUnder::PartsUnder(const Region& inside)
    : inside_(inside), strips_(static_cast<std::size_t>((inside.height + kStrip - 1) / kStrip), Strip{kFar, -kFar}) {}

void PartsUnder::add(const Transform& to_frame, const Region& region) {
    const auto [outline, margin] = to_frame.outline(region);
    Point from = outline.back();
    for (const Point& to : outline) {
        add(from, to, margin);
        from = to;
    }
}

/// What an edge needs of each strip: the part of it whose taps reach into the strip.
void PartsUnder::add(Point a, Point b, double margin) {
    if (!(std::abs(a.x) < kFar && std::abs(a.y) < kFar && std::abs(b.x) < kFar && std::abs(b.y) < kFar)) {
        everywhere_ = true;
        return;
    }
    if (b.y < a.y) std::swap(a, b);
    const double before = kBefore + margin, after = kAfter + margin;
    const auto strip_of = [&](double y) {
        return std::clamp(static_cast<int>(std::floor((y - inside_.y) / kStrip)), 0,
                          static_cast<int>(strips_.size()) - 1);
    };
    const auto at = [&](double y) { return b.y > a.y ? a.x + (y - a.y) / (b.y - a.y) * (b.x - a.x) : a.x; };
    for (int i = strip_of(a.y - before); i <= strip_of(b.y + after); ++i) {
        const double top = inside_.y + i * kStrip - after, bottom = inside_.y + (i + 1) * kStrip + before;
        if (b.y < top || a.y > bottom) continue;
        const double x0 = a.y < top ? at(top) : a.x, x1 = b.y > bottom ? at(bottom) : b.x;
        Strip& s = strips_[static_cast<std::size_t>(i)];
        s.left = std::min({s.left, x0 - margin, x1 - margin});
        s.right = std::max({s.right, x0 + margin, x1 + margin});
    }
}

std::vector<Region> PartsUnder::parts() const {
    constexpr double kWorthWhile = 0.85; // of the pixels: strips have more neighbours that are read beside them
    std::vector<Region> out;
    std::int64_t pixels = 0;
    for (std::size_t i = 0; i < strips_.size(); ++i) {
        const Strip& s = strips_[i];
        if (s.right < s.left) continue;
        const double left = std::clamp(s.left, -kFar, kFar), right = std::clamp(s.right, -kFar, kFar);
        const int x = static_cast<int>(std::floor(left)) - kBefore, end = static_cast<int>(std::ceil(right)) + kAfter;
        const Region part = intersect({x, inside_.y + static_cast<int>(i) * kStrip, end - x, kStrip}, inside_);
        if (part.empty()) continue;
        out.push_back(part);
        pixels += part.area();
    }
    if (everywhere_ || static_cast<double>(pixels) > kWorthWhile * static_cast<double>(inside_.area()))
        return {inside_};
    return out;
}

} // namespace kasane
