#include <kasane/calibration/defects.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>

namespace kasane {

DefectList::DefectList(const Mask& mask) : starts_(static_cast<std::size_t>(mask.height()) + 1, 0) {
    for (int y = 0; y < mask.height(); ++y) {
        for (int x = 0; x < mask.width(); ++x)
            if (mask(x, y)) columns_.push_back(x);
        starts_[static_cast<std::size_t>(y) + 1] = columns_.size();
    }
}

bool DefectList::contains(int x, int y) const {
    if (columns_.empty()) return false;
    const auto first = columns_.begin() + static_cast<std::ptrdiff_t>(starts_[static_cast<std::size_t>(y)]);
    const auto last = columns_.begin() + static_cast<std::ptrdiff_t>(starts_[static_cast<std::size_t>(y) + 1]);
    return std::binary_search(first, last, x);
}

namespace {

/// Calls `judge(x, y, value, median of the neighbours)` for every pixel that `suspicious(value, left, right)` finds odd
/// beside two neighbours of its row; the whole neighbourhood is only looked at there.
template <class Suspicious, class Judge>
void scan_against_neighbours(const FrameReader& reader, Suspicious suspicious, Judge judge) {
    constexpr int kBand = 128, kHalo = 2;
    const int w = reader.width(), h = reader.height();
    for (int top = 0; top < h; top += kBand) {
        const int first = std::max(0, top - kHalo), last = std::min(h, top + kBand + kHalo);
        Image band(w, last - first);
        reader.read({0, first, w, last - first}, band.plane());
        const View<const float> v = band.plane();
        std::array<float, 25> ring{};
        for (int y = top; y < std::min(h, top + kBand); ++y)
            for (int x = 0; x < w; ++x) {
                const float here = v(x, y - first);
                const float left = v(std::max(0, x - 2), y - first), right = v(std::min(w - 1, x + 2), y - first);
                if (!suspicious(here, left, right)) continue;
                std::size_t n = 0;
                for (int j = std::max(first, y - 2); j <= std::min(last - 1, y + 2); ++j)
                    for (int i = std::max(0, x - 2); i <= std::min(w - 1, x + 2); ++i)
                        if (i != x || j != y) ring[n++] = v(i, j - first);
                judge(x, y, here, median_in_place(std::span(ring.data(), n)));
            }
        reader.release();
    }
}

} // namespace

DefectList find_defects(const FrameReader* dark, double frame_noise, const FrameReader* flat, const DefectOptions& o) {
    const FrameReader* any = dark ? dark : flat;
    if (!any) return {};
    Mask mask(any->width(), any->height());
    if (dark && frame_noise > 0) {
        const auto limit = static_cast<float>(o.hot_sigmas * frame_noise);
        scan_against_neighbours(
            *dark, [&](float v, float l, float r) { return !(v - std::min(l, r) <= limit); },
            [&](int x, int y, float v, float median) { mask(x, y) |= !(v - median <= limit); });
    }
    if (flat)
        scan_against_neighbours(
            *flat,
            [&](float v, float l, float r) { return !(v >= 0.7f * std::max(l, r) && v <= 1.4f * std::min(l, r)); },
            [&](int x, int y, float v, float median) {
                mask(x, y) |= !(v >= o.least_response * median && v <= o.most_response * median && v > 0);
            });
    return DefectList(mask);
}

} // namespace kasane
