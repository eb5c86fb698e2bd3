#include <kasane/integration/streak_mask.hpp>

#include <algorithm>
#include <array>
#include <cmath>

namespace kasane {

namespace {

/// Distance of a place from a trail, with its round ends.
double distance(const Streak& s, double x, double y) {
    const double ux = s.x1 - s.x0, uy = s.y1 - s.y0, length2 = ux * ux + uy * uy;
    const double t = length2 > 0 ? std::clamp(((x - s.x0) * ux + (y - s.y0) * uy) / length2, 0.0, 1.0) : 0.0;
    return std::hypot(x - s.x0 - t * ux, y - s.y0 - t * uy);
}

/// Whether any place of a rectangle may lie that near: by the circle around it.
bool may_meet(const Streak& s, const Bounds& b) {
    const double x = 0.5 * (b.left + b.right), y = 0.5 * (b.top + b.bottom);
    return distance(s, x, y) <= s.half_width + 0.5 * std::hypot(b.right - b.left, b.bottom - b.top);
}

} // namespace

void samples_under_streaks(const StackFrame& frame, std::size_t plane, const Region& region,
                           std::vector<std::uint32_t>& out) {
    out.clear();
    if (frame.streaks.empty()) return;
    const Transform& to_frame = frame.planes[plane].to_frame;
    const Bounds bounds = to_frame.bounds(region);
    std::vector<Streak> near;
    for (const Streak& s : frame.streaks)
        if (may_meet(s, bounds)) near.push_back(s);
    if (near.empty()) return;
    constexpr int kChunk = 256;
    std::array<std::int64_t, kChunk> u{}, v{};
    Transform::Patches patches;
    for (int y = 0; y < region.height; ++y)
        for (int x = 0; x < region.width; x += kChunk) {
            const int n = std::min(kChunk, region.width - x);
            to_frame.row(region.x + x, region.y + y, n, u.data(), v.data(), patches);
            for (int i = 0; i < n; ++i) {
                const double fx = static_cast<double>(u[static_cast<std::size_t>(i)]) * 0x1p-32,
                             fy = static_cast<double>(v[static_cast<std::size_t>(i)]) * 0x1p-32;
                if (std::any_of(near.begin(), near.end(),
                                [&](const Streak& s) { return distance(s, fx, fy) <= s.half_width; }))
                    out.push_back(static_cast<std::uint32_t>(y * region.width + x + i));
            }
        }
}

void samples_covered(const StackFrame& frame, std::size_t plane, const Region& region,
                     std::vector<std::uint32_t>& out) {
    if (frame.covered.empty()) return;
    const Transform& to_frame = frame.planes[plane].to_frame;
    const Bounds bounds = to_frame.bounds(region);
    for (const Disc& d : frame.covered) {
        if (d.x + d.radius < bounds.left || d.y + d.radius < bounds.top || d.x - d.radius > bounds.right ||
            d.y - d.radius > bounds.bottom)
            continue;
        const Point centre = to_frame.unmap({d.x, d.y});
        if (!std::isfinite(centre.x)) continue;
        const Affine near = to_frame.at(centre); // over a star no lens bends
        const double reach = std::min(1e4, d.radius / std::max(0.05, near.scale()) + 1);
        const auto whole = [](double v) { return static_cast<int>(std::floor(std::clamp(v, -1e6, 1e6))); };
        const Region box = intersect(
            {whole(centre.x - reach), whole(centre.y - reach), 2 * whole(reach) + 3, 2 * whole(reach) + 3}, region);
        for (int y = box.y; y < box.bottom(); ++y)
            for (int x = box.x; x < box.right(); ++x) {
                double u = 0, v = 0;
                near.apply(x, y, u, v);
                if (std::hypot(u - d.x, v - d.y) <= d.radius)
                    out.push_back(static_cast<std::uint32_t>((y - region.y) * region.width + x - region.x));
            }
    }
}

} // namespace kasane
