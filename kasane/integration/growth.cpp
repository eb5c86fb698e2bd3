#include <kasane/integration/growth.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

std::string GrowthOptions::check() const {
    constexpr int kMost = 16;
    if (steps < 0 || steps > kMost)
        return fmt::format("what is rejected grows by 0 to {} pixels, not {}", kMost, steps);
    if (!(seed > 0 && least > 0)) return "what is rejected grows from limits above 0 sigma";
    if (!(fall > 0 && fall < 1))
        return fmt::format("light falls from pixel to pixel by a share between 0 and 1, not {:g}", fall);
    return {};
}

/// From the mean, in units of what is expected of the frame there; NaN where it has no data.
float Growth::deviation(const JudgedPlane& plane, std::size_t frame, std::uint32_t pixel) const {
    const std::size_t area = static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_);
    const float mean = plane.mean[pixel];
    const float variance = variance_at(plane.expectation->frames[frame], mean - plane.expectation->level,
                                       plane.structure ? plane.structure->curvature[pixel] : 0.0f,
                                       plane.structure ? plane.structure->slope[pixel] : 0.0f);
    return (plane.samples[frame * area + pixel] - mean) / std::sqrt(variance);
}

namespace {

/// Calls f(neighbour) for the eight around a pixel, as far as the tile reaches.
template <class F>
void for_each_neighbour(std::uint32_t pixel, int width, int height, F f) {
    const int x = static_cast<int>(pixel) % width, y = static_cast<int>(pixel) / width;
    for (int j = std::max(0, y - 1); j <= std::min(height - 1, y + 1); ++j)
        for (int i = std::max(0, x - 1); i <= std::min(width - 1, x + 1); ++i)
            if (i != x || j != y) f(static_cast<std::uint32_t>(j * width + i));
}

} // namespace

bool Growth::is_seed(const Place& at) const {
    if (at.strength >= options_.seed) return true;
    const std::int8_t side = at.high ? 1 : -1;
    bool together = false;
    for_each_neighbour(at.pixel, width_, height_, [&](std::uint32_t n) { together |= marks_[at.plane][n] == side; });
    return together;
}

void Growth::spread(const std::vector<JudgedPlane>& planes, std::size_t frame, std::vector<Place>& front) {
    const std::size_t area = static_cast<std::size_t>(width_) * static_cast<std::size_t>(height_);
    // Where two regions meet, the stronger one goes on, whichever came first.
    const auto stronger = [](const Place& a, const Place& b) {
        if (a.strength != b.strength) return a.strength > b.strength;
        return a.plane != b.plane ? a.plane < b.plane : a.pixel < b.pixel;
    };
    const auto join = [&](const Place& p) {
        const float sample = planes[p.plane].samples[frame * area + p.pixel];
        if (marks_[p.plane][p.pixel] != 0 || !(sample == sample)) return false;
        marks_[p.plane][p.pixel] = p.high ? 1 : -1;
        out_[p.plane].push_back({p.pixel, static_cast<std::uint16_t>(frame), p.high});
        return true;
    };
    std::vector<Place> all = front, next;
    for (int step = 0; step < options_.steps && !front.empty(); ++step) {
        std::sort(front.begin(), front.end(), stronger);
        next.clear();
        for (const Place& at : front) {
            const float strength = options_.fall * at.strength;
            if (strength < options_.least) break; // the others are weaker
            for_each_neighbour(at.pixel, width_, height_, [&](std::uint32_t n) {
                const Place there{at.plane, n, at.high, strength};
                if (join(there)) next.push_back(there);
            });
        }
        all.insert(all.end(), next.begin(), next.end());
        front.swap(next);
    }
    for (const Place& at : all)
        for (std::size_t p = 0; p < planes.size(); ++p)
            if (p != at.plane) join({p, at.pixel, at.high, at.strength});
}

std::vector<std::vector<RejectedSample>> Growth::grow(const GrowthOptions& options,
                                                      const std::vector<JudgedPlane>& planes, int width, int height) {
    options_ = options, width_ = width, height_ = height;
    const std::size_t area = static_cast<std::size_t>(width) * static_cast<std::size_t>(height);
    out_.assign(planes.size(), {});
    if (options.steps == 0 && planes.size() == 1) return std::move(out_);
    marks_.resize(planes.size());
    std::vector<std::vector<Place>> by_frame;
    for (std::size_t p = 0; p < planes.size(); ++p) {
        if (marks_[p].size() != area) marks_[p].assign(area, 0);
        by_frame.resize(std::max(by_frame.size(), planes[p].expectation->frames.size()));
        for (const RejectedSample& r : *planes[p].rejected) {
            const float strength = std::abs(deviation(planes[p], r.frame, r.pixel));
            by_frame[r.frame].push_back({p, r.pixel, r.high, strength >= 0 ? strength : 0}); // NaN could not be sorted
        }
    }
    std::vector<Place> front;
    std::vector<std::size_t> before(planes.size());
    for (std::size_t f = 0; f < by_frame.size(); ++f) {
        if (by_frame[f].empty()) continue;
        for (const Place& at : by_frame[f])
            marks_[at.plane][at.pixel] = at.high ? 1 : -1;
        front.clear();
        for (const Place& at : by_frame[f])
            if (is_seed(at)) front.push_back(at);
        for (std::size_t p = 0; p < planes.size(); ++p)
            before[p] = out_[p].size();
        spread(planes, f, front);
        for (const Place& at : by_frame[f])
            marks_[at.plane][at.pixel] = 0;
        for (std::size_t p = 0; p < planes.size(); ++p)
            for (std::size_t i = before[p]; i < out_[p].size(); ++i)
                marks_[p][out_[p][i].pixel] = 0;
    }
    return std::move(out_);
}

} // namespace kasane
