#include <kasane/integration/edge_feather.hpp>

#include <algorithm>
#include <array>
#include <cmath>

namespace kasane {

namespace {

constexpr double kAtTheEdge = 0.01; // of the weight: single precision can take out the rest

} // namespace

double feather_share(double deep, double width) {
    // Level at both ends: (10 - 15 t + 6 t^2) t^3 has no slope and no curvature at 0 and 1.
    const double t = std::clamp(deep / width, 0.0, 1.0);
    return kAtTheEdge + (1 - kAtTheEdge) * t * t * t * (10 + t * (6 * t - 15));
}

double default_feather(int width, int height) {
    constexpr double kMost = 64, kShare = 0.03;
    return std::floor(std::min(kMost, kShare * std::min(width, height)));
}

void EdgeFeather::begin(const Region& region) {
    region_ = region;
    any_ = false;
}

void EdgeFeather::add(const StackFrame& frame, std::size_t plane, double width, View<const float> samples,
                      double weight, const std::vector<RejectedSample>& rejected, std::uint16_t index) {
    const Transform t = to_plane(frame, plane);
    const double right = frame.source->width() - 0.5, bottom = frame.source->height() - 0.5;
    // Samples reach a little beyond the middles of the outermost pixels, and rows are exact to a lattice, bounds are
    // not.
    constexpr double kSlack = 2;
    const auto fades = [&](const Region& r) {
        const Bounds b = t.bounds(r);
        const double deep = width + kSlack;
        const bool inside = b.left >= deep && b.top >= deep && b.right <= right - deep && b.bottom <= bottom - deep;
        const bool outside =
            b.right < -kSlack || b.bottom < -kSlack || b.left > right + kSlack || b.top > bottom + kSlack;
        return !inside && !outside;
    };
    if (!fades(region_)) return;
    const auto area = static_cast<std::size_t>(region_.area());
    if (!any_) {
        sum_.assign(area, 0);
        weight_.assign(area, 0);
        squares_.assign(area, 0);
        any_ = true;
    }
    rejected_.assign(area, false);
    for (const RejectedSample& r : rejected)
        if (r.frame == index) rejected_[r.pixel] = true;
    constexpr int kChunk = 64, kRows = 16;
    std::array<std::int64_t, kChunk> u{}, v{};
    Transform::Patches patches;
    const auto take_row = [&](int x, int y, int n) {
        t.row(region_.x + x, region_.y + y, n, u.data(), v.data(), patches);
        for (int i = 0; i < n; ++i) {
            const auto k = static_cast<std::size_t>(i);
            const double fx = static_cast<double>(u[k]) * 0x1p-32, fy = static_cast<double>(v[k]) * 0x1p-32;
            const double deep = std::min(std::min(fx + 0.5, right - fx), std::min(fy + 0.5, bottom - fy));
            if (deep >= width) continue;
            const float value = samples(x + i, y);
            const std::size_t pixel =
                static_cast<std::size_t>(y) * static_cast<std::size_t>(region_.width) + static_cast<std::size_t>(x + i);
            if (std::isnan(value) || rejected_[pixel]) continue;
            const double share = feather_share(deep, width), less = weight * (1 - share);
            sum_[pixel] += less * static_cast<double>(value);
            weight_[pixel] += less;
            squares_[pixel] += less * (1 + share);
        }
    };
    for (int y = 0; y < region_.height; y += kRows)
        for (int x = 0; x < region_.width; x += kChunk) {
            const int n = std::min(kChunk, region_.width - x), rows = std::min(kRows, region_.height - y);
            if (!fades({region_.x + x, region_.y + y, n, rows})) continue;
            for (int k = 0; k < rows; ++k)
                take_row(x, y + k, n);
        }
}

void EdgeFeather::apply(std::size_t pixel, float factor, float& mean, float& weight) const {
    if (!any_ || weight_[pixel] == 0) return;
    const double left = static_cast<double>(weight) - weight_[pixel];
    if (!(left > 0)) return; // nothing counted there
    const double before = static_cast<double>(mean) / static_cast<double>(factor);
    const double sum = before * static_cast<double>(weight) - sum_[pixel];
    mean = factor * static_cast<float>(sum / left);
    weight = static_cast<float>(left * left / (static_cast<double>(weight) - squares_[pixel]));
}

} // namespace kasane
