#include <kasane/integration/edge_feather.hpp>

#include <kasane/base/units.hpp>
#include <kasane/integration/edge_feather_kernel.hpp>

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

void EdgeFeather::begin(const Region& region, const std::vector<RejectedSample>& rejected, std::size_t frames) {
    region_ = region;
    any_ = false;
    rejected_.resize(frames);
    for (auto& list : rejected_)
        list.clear();
    for (const RejectedSample& r : rejected)
        rejected_[r.frame].push_back(r.pixel);
    if (const auto area = static_cast<std::size_t>(region.area()); gone_.size() < area) gone_.resize(area, 0);
}

void EdgeFeather::add(const StackFrame& frame, std::size_t plane, double width, View<const float> samples,
                      double weight, std::size_t index) {
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
    for (const std::uint32_t pixel : rejected_[index])
        gone_[pixel] = 1;
    constexpr int kChunk = 64, kRows = 16;
    const FadingEdge edge{right, bottom, width, kAtTheEdge, weight};
    std::array<std::int64_t, kChunk> u{}, v{};
    std::array<float, kChunk> values{};
    Transform::Patches patches;
    const auto take_row = [&](int x, int y, int n) {
        t.row(region_.x + x, region_.y + y, n, u.data(), v.data(), patches);
        const std::size_t pixel =
            static_cast<std::size_t>(y) * static_cast<std::size_t>(region_.width) + static_cast<std::size_t>(x);
        const float* row = samples.row(y) + x;
        const std::uint8_t* gone = gone_.data() + pixel;
        for (std::size_t k = 0; k < static_cast<std::size_t>(n); ++k)
            values[k] = gone[k] ? kNoData : row[k];
        add_fading(edge, {u.data(), v.data(), values.data(), static_cast<std::size_t>(n)},
                   {sum_.data() + pixel, weight_.data() + pixel, squares_.data() + pixel});
    };
    for (int y = 0; y < region_.height; y += kRows)
        for (int x = 0; x < region_.width; x += kChunk) {
            const int n = std::min(kChunk, region_.width - x), rows = std::min(kRows, region_.height - y);
            if (!fades({region_.x + x, region_.y + y, n, rows})) continue;
            for (int k = 0; k < rows; ++k)
                take_row(x, y + k, n);
        }
    for (const std::uint32_t pixel : rejected_[index])
        gone_[pixel] = 0;
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
