#include <kasane/integration/resampler.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/positions.hpp>
#include <kasane/image/resample.hpp>
#include <kasane/integration/parts_under.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <functional>
#include <memory>
#include <utility>

namespace kasane {

namespace {

/// The rectangle of the frame under an output rectangle, with the kernel's reach, cut to the frame with that reach.
Region source_box(const Transform& t, const Region& r, const Region& frame) {
    const auto [x0, y0, x1, y1] = t.bounds(r);
    constexpr int kBefore = kLanczosRadius - 1, kAfter = kLanczosRadius + 1; // one more for rounding
    const Region wanted{static_cast<int>(std::floor(std::clamp(x0, -1e6, 1e6))) - kBefore - 1,
                        static_cast<int>(std::floor(std::clamp(y0, -1e6, 1e6))) - kBefore - 1,
                        static_cast<int>(std::floor(std::clamp(x1 - x0, 0.0, 1e6))) + 2 + kBefore + kAfter + 2,
                        static_cast<int>(std::floor(std::clamp(y1 - y0, 0.0, 1e6))) + 2 + kBefore + kAfter + 2};
    return intersect(
        wanted, {-kBefore, -kBefore, frame.width + kBefore + kLanczosRadius, frame.height + kBefore + kLanczosRadius});
}

/// Fills what lies outside `at` with the nearest pixel inside: the frame's edge is repeated.
void pad(View<float> out, const Region& at) {
    for (int y = at.y; y < at.bottom(); ++y) {
        std::fill(out.row(y), out.row(y) + at.x, out(at.x, y));
        std::fill(out.row(y) + at.right(), out.row(y) + out.width, out(at.right() - 1, y));
    }
    for (int y = 0; y < out.height; ++y)
        if (y < at.y || y >= at.bottom())
            std::copy_n(out.row(std::clamp(y, at.y, at.bottom() - 1)), out.width, out.row(y));
}

Region united(const Region& a, const Region& b) {
    if (a.empty()) return b;
    if (b.empty()) return a;
    const int x = std::min(a.x, b.x), y = std::min(a.y, b.y);
    return {x, y, std::max(a.right(), b.right()) - x, std::max(a.bottom(), b.bottom()) - y};
}

/// Output pixels for which the sample at (x, y) of the frame is one of the four nearest.
template <class F>
void for_each_touched(const Transform& to_frame, int x, int y, const Region& region, F f) {
    const Point centre = to_frame.unmap({static_cast<double>(x), static_cast<double>(y)});
    if (!std::isfinite(centre.x)) return;
    const Affine near = to_frame.at(centre); // over two pixels no lens bends
    const int reach = static_cast<int>(std::ceil(1.5 / std::max(0.1, near.scale())));
    const Region box = intersect({static_cast<int>(std::lround(centre.x)) - reach,
                                  static_cast<int>(std::lround(centre.y)) - reach, 2 * reach + 1, 2 * reach + 1},
                                 region);
    for (int j = box.y; j < box.bottom(); ++j)
        for (int i = box.x; i < box.right(); ++i) {
            double u = 0, v = 0;
            near.apply(i, j, u, v);
            if (std::abs(u - x) < 1 && std::abs(v - y) < 1) f(i, j);
        }
}

/// How the frame is turned in the middle of a rectangle of the canvas, where the pixels of a row lie in many of its
/// rows.
std::optional<Slant> turned(const Transform& to_frame, const Region& region) {
    const Affine near = to_frame.at({region.x + 0.5 * region.width, region.y + 0.5 * region.height});
    if (!Slant::worth_while(near)) return std::nullopt; // nor is what is no number
    return Slant(near);
}

/// A band, and what lines that reach into it hold beside it.
Region with_beside(const Region& band, const Slant& slant) {
    const int more = slant.highest() - slant.lowest();
    if (slant.steep) return {band.x - more, band.y, band.width + 2 * more, band.height};
    return {band.x, band.y - more, band.width, band.height + 2 * more};
}

/// A row's places, and what may be written beside them.
int padded(int width) {
    return width + 2 * kRowSlack;
}

/// What a pixel to the left of a sample and above it has among those that the sample is made of.
constexpr std::uint8_t kFar = 1, kNear = 2; // a saturated one among the sixteen nearest; among the four

std::pair<std::int32_t, std::int32_t> limits_of(const std::int32_t* values, std::size_t count) {
    std::int32_t low = values[0], high = values[0];
    for (std::size_t i = 1; i < count; ++i) {
        low = std::min(low, values[i]);
        high = std::max(high, values[i]);
    }
    return {low, high};
}

/// Positions::upper of a line of positions in units of 2^-32 pixels, and of all that are as far from these as each
/// other.
int upper_of_line(const std::array<std::int64_t, kLineLanes>& x, const std::array<std::int64_t, kLineLanes>& y) {
    const bool one_way =
        std::is_sorted(x.begin(), x.end()) || std::is_sorted(x.begin(), x.end(), std::greater<std::int64_t>());
    const auto [upper, lower] = std::minmax_element(y.begin(), y.end());
    return one_way && *lower - *upper < std::int64_t{1} << 32 ? static_cast<int>(upper - y.begin()) : -1;
}

} // namespace

void Resampler::resample(const StackFrame& frame, const Region& region, double ringing_sigmas,
                         const std::vector<View<float>>& out, const Along& along) {
    saturated_.assign(out.size(), {});
    const PlaneSource& view = *frame.source;
    Region box{};
    for (std::size_t p = 0; p < out.size(); ++p)
        box = united(box, source_box(to_plane(frame, p), region, view.bounds()));
    inside_ = intersect(box, view.bounds());
    if (box.width < kLanczosTaps || box.height < kLanczosTaps || inside_.empty()) {
        quality_.clear();
        for (std::size_t p = 0; p < out.size(); ++p)
            for (int y = 0; y < region.height; ++y) {
                std::fill_n(out[p].row(y), region.width, kNoData);
                if (along.row) along.row(p, y);
            }
        return;
    }
    const auto area = static_cast<std::size_t>(box.area());
    if (pixels_.size() < area * out.size()) pixels_.resize(area * out.size());
    const Region at{inside_.x - box.x, inside_.y - box.y, inside_.width, inside_.height};
    std::vector<View<float>> source(out.size()), inside(out.size());
    for (std::size_t p = 0; p < out.size(); ++p) {
        source[p] = {pixels_.data() + p * area, box.width, box.height, box.width};
        inside[p] = source[p].crop(at);
    }
    quality_.resize(out.size());
    std::vector<Region> parts{inside_};
    if (turned(to_plane(frame, 0), region)) {
        PartsUnder under(inside_);
        for (std::size_t p = 0; p < out.size(); ++p)
            under.add(to_plane(frame, p), region);
        parts = under.parts();
    }
    view.read_parts(inside_, parts, inside, quality_, memory_);
    // From here on they count in the views. Beside them stands what was there before; no pixel of the rectangle asks.
    if (box == inside_) {
        for (Region& part : parts)
            part.x -= box.x, part.y -= box.y;
    } else {
        parts = {{0, 0, box.width, box.height}};
        for (std::size_t p = 0; p < out.size(); ++p)
            pad(source[p], at);
    }

    for (std::size_t p = 0; p < out.size(); ++p) {
        const Transform t = to_plane(frame, p);
        const auto contrast = static_cast<float>(ringing_sigmas * frame.planes[p].noise);
        constexpr double kLeft = 0.4; // sigma of the frame's noise
        const auto left = static_cast<float>(kLeft * frame.planes[p].noise);
        peaks_.take(source[p], parts);
        any_near_full_ = false;
        patches_.restart();
        if (!along.bright_from.empty()) mark_near_full(p);
        const Plane plane{p, t, region, {box.x, box.y}, source[p], out[p], {contrast, left, &peaks_}, along};
        if (const auto slant = turned(t, region))
            resample_turned(plane, *slant);
        else
            resample_rows(plane, 0, region.height);
    }
}

/// The positions of a part of a row. Whether they lie evenly.
bool Resampler::split_row(const Plane& p, int x, int y, int n) {
    return p.to_frame.row(p.region.x + x, p.region.y + y, n, split_.from(p.origin.x, p.origin.y), patches_);
}

void Resampler::resample_rows(const Plane& p, int top, int bottom) {
    for (int y = top; y < bottom; ++y) {
        for (int x = 0; x < p.region.width; x += kChunk) {
            const int n = std::min(kChunk, p.region.width - x);
            const bool even = split_row(p, x, y, n);
            resample_lanczos3(p.source, split(n), p.out.row(y) + x, p.options);
            take_saturated(p, {x, y, n, 1}, even);
        }
        if (p.along.row) p.along.row(p.index, y);
    }
}

/// Line by line of the frame, a band of rows after the other.
void Resampler::resample_turned(const Plane& p, const Slant& slant) {
    constexpr int kBand = 4 * kLineLanes; // its rows stay in the nearer caches until they are brought to their level
    const int width = p.region.width;
    for (int top = 0, height = 0; top < p.region.height; top += height) {
        const int left = p.region.height - top;
        height = left < kBand + kLineLanes ? left : kBand;
        const Region band{p.region.x, p.region.y + top, width, height};
        if ((slant.steep ? band.height : band.width) < kLineLanes) {
            resample_rows(p, top, top + band.height);
            continue;
        }
        resample_band(p, band, slant, top > 0);
        for (int y = top; y < top + band.height; ++y) {
            for (int x = 0; any_near_full_ && x < width; x += kChunk) {
                const int n = std::min(kChunk, width - x);
                const bool even = split_row(p, x, y, n);
                take_saturated(p, {x, y, n, 1}, even);
            }
            if (p.along.row) p.along.row(p.index, y);
        }
    }
}

/// Where the pixels of the band lie: all of them, or the first and the steps.
void Resampler::prepare_band(const Plane& p, const Region& band, const Slant& slant) {
    if (const auto first = p.to_frame.even_row(band.x, band.y)) {
        const auto next = *p.to_frame.even_row(band.x, band.y + 1);
        even_ = {first->u, first->du, next.u - first->u, first->v, first->dv, next.v - first->v};
        return;
    }
    const Region wide = with_beside(band, slant);
    const auto all = static_cast<std::size_t>(padded(wide.width)) * static_cast<std::size_t>(wide.height);
    column_.resize(all), row_.resize(all), fraction_x_.resize(all), fraction_y_.resize(all);
    for (int y = 0; y < wide.height; ++y) {
        const std::ptrdiff_t from = static_cast<std::ptrdiff_t>(y) * padded(wide.width) + kRowSlack;
        p.to_frame.row(wide.x, wide.y + y, wide.width,
                       {p.origin.x, p.origin.y, column_.data() + from, row_.data() + from, fraction_x_.data() + from,
                        fraction_y_.data() + from},
                       patches_);
    }
}

/// The positions of lines, of the band's sixteen rows or columns from `first` on.
Positions Resampler::split_lines(const Plane& p, const Region& band, const Slant& slant, int first, int line,
                                 int count) {
    Positions out = split(count * kLineLanes);
    const auto lines = static_cast<std::size_t>(count);
    if (p.to_frame.is_affine()) {
        std::array<std::int64_t, kLineLanes> u, v;
        for (int k = 0; k < kLineLanes; ++k) {
            const auto lane = static_cast<std::size_t>(k);
            const int along = first + k, across = line + slant.rise[lane];
            const int x = slant.steep ? across : along, y = slant.steep ? along : across;
            u[lane] = even_.u + x * even_.u_x + y * even_.u_y;
            v[lane] = even_.v + x * even_.v_x + y * even_.v_y;
        }
        split_line_positions(u, slant.steep ? even_.u_x : even_.u_y, lines, p.origin.x, split_.column(),
                             split_.fraction_x());
        split_line_positions(v, slant.steep ? even_.v_x : even_.v_y, lines, p.origin.y, split_.row(),
                             split_.fraction_y());
        out.upper = upper_of_line(u, v);
        return out;
    }
    const Region wide = with_beside(band, slant);
    const int by_row = padded(wide.width), by_lane = slant.steep ? by_row : 1, by_line = slant.steep ? 1 : by_row,
              beside = slant.steep ? band.x - wide.x : band.y - wide.y;
    std::array<std::int32_t, kChunk> places;
    for (int n = 0; n < count; ++n)
        for (int k = 0; k < kLineLanes; ++k)
            places[static_cast<std::size_t>(n * kLineLanes + k)] =
                kRowSlack + (first + k) * by_lane +
                (beside + line + n + slant.rise[static_cast<std::size_t>(k)]) * by_line;
    const std::size_t all = lines * kLineLanes;
    pick_positions(column_.data(), fraction_x_.data(), places.data(), all, split_.column(), split_.fraction_x());
    pick_positions(row_.data(), fraction_y_.data(), places.data(), all, split_.row(), split_.fraction_y());
    return out;
}

/// `continued`: the band above it was the last one.
void Resampler::resample_band(const Plane& p, const Region& band, const Slant& slant, bool continued) {
    prepare_band(p, band, slant);
    constexpr int kTogether = kChunk / kLineLanes;
    const int length = slant.steep ? band.height : band.width, across = slant.steep ? band.width : band.height;
    const int begin = -slant.highest(), end = across - slant.lowest(); // lines that reach into the band
    const std::size_t all = static_cast<std::size_t>(end - begin) * kLineLanes;
    lines_.resize(all + kLineLanes);
    void* at = lines_.data(); // a line in one line of the cache
    std::size_t room = lines_.size() * sizeof(float);
    float* const lines = static_cast<float*>(std::align(kLineLanes * sizeof(float), all * sizeof(float), at, room));
    // Where bands lie one after the other across the lines, the last ones of each are the first ones of the next.
    const int shared = slant.steep ? 0 : slant.highest() - slant.lowest(), known = continued ? shared : 0;
    const auto share = static_cast<std::size_t>(shared) * kLineLanes;
    carried_.resize(static_cast<std::size_t>((length + kLineLanes - 1) / kLineLanes) * share);
    float* carried = carried_.data();
    std::array<std::int32_t, kLineLanes> places; // of a pixel of sixteen lines
    for (std::size_t k = 0; k < places.size(); ++k)
        places[k] = static_cast<std::int32_t>(k) * kLineLanes;
    for (int block = 0; block < length; block += kLineLanes) {
        const int first = std::min(block, length - kLineLanes); // the last block makes some of it again
        // What is written across many rows is not at hand by itself.
        if (!slant.steep)
            for (int y = 0; y < across; ++y)
                __builtin_prefetch(p.out.row(band.y - p.region.y + y) + first + kLineLanes - 1, 1);
        if (known > 0) std::copy_n(carried, share, lines);
        for (int line = begin + known; line < end; line += kTogether) {
            const int count = std::min(kTogether, end - line);
            resample_lanczos3(p.source, split_lines(p, band, slant, first, line, count),
                              lines + static_cast<std::ptrdiff_t>(line - begin) * kLineLanes, p.options);
        }
        std::copy_n(lines + all - share, share, carried);
        carried += share;
        if (!slant.steep) {
            rows_of_lines(lines - begin * kLineLanes, slant.rise, static_cast<std::size_t>(across),
                          p.out.row(band.y - p.region.y) + first, p.out.stride);
            continue;
        }
        for (int k = 0; k < kLineLanes; ++k) {
            const float* from = lines + (-begin - slant.rise[static_cast<std::size_t>(k)]) * kLineLanes + k;
            float* to = p.out.row(band.y - p.region.y + first + k);
            const int whole = across / kLineLanes;
            gather_lanes(from, kLineLanes * kLineLanes, places, static_cast<std::size_t>(whole), to, kLineLanes);
            for (int x = whole * kLineLanes; x < across; ++x)
                to[x] = from[x * kLineLanes];
        }
    }
}

/// Of a part of a row, whose positions were split last. `even`: they lie evenly.
void Resampler::take_saturated(const Plane& p, const Region& part, bool even) {
    if (!any_near_full_) return;
    const auto n = static_cast<std::size_t>(part.width);
    const int before_x = inside_.x - p.origin.x,
              before_y = inside_.y - p.origin.y; // whole pixels count from the origin
    const auto [low, high] = even ? std::minmax({split_.row()[0], split_.row()[n - 1]}) : limits_of(split_.row(), n);
    if (!near_full({low - before_y, high - before_y + 1})) return;
    const float* const values = p.out.row(part.y) + part.x;
    for (std::size_t k = 0; k < n; ++k) {
        const int i = split_.column()[k] - before_x, j = split_.row()[k] - before_y;
        if (i < 0 || j < 0 || i >= inside_.width || j >= inside_.height) continue;
        if (!near_full_rows_[static_cast<std::size_t>(j)]) continue;
        const std::uint8_t there = near_full_[static_cast<std::size_t>(j) * static_cast<std::size_t>(inside_.width) +
                                              static_cast<std::size_t>(i)];
        if (there == kNear || (there == kFar && values[k] >= p.along.bright_from[p.index]))
            saturated_[p.index].push_back(
                static_cast<std::uint32_t>(part.y * p.region.width + part.x + static_cast<int>(k)));
    }
}

void Resampler::for_each_marked(const StackFrame& frame, const Region& region,
                                const std::function<void(std::size_t, int, int, quality::Bits)>& f) const {
    for (std::size_t p = 0; p < quality_.size(); ++p) {
        if (!quality_[p].any()) continue;
        const Transform t = to_plane(frame, p);
        quality_[p].for_each([&](int i, int j, quality::Bits bits) {
            for_each_touched(t, inside_.x + i, inside_.y + j, region,
                             [&](int x, int y) { f(p, x - region.x, y - region.y, bits); });
        });
    }
}

void Resampler::mark_near_full(std::size_t plane) {
    constexpr int kReach = 2; // out to second neighbours: the third weigh 3 % at most
    const int width = inside_.width, height = inside_.height;
    near_full_rows_.assign(static_cast<std::size_t>(height), 0);
    any_near_full_ = false;
    if (!quality_[plane].any()) return;
    if (const auto area = static_cast<std::size_t>(inside_.area()); near_full_.size() < area) near_full_.resize(area);
    quality_[plane].for_each([&](int i, int j, quality::Bits bits) {
        if (!(bits & quality::kSaturated)) return;
        any_near_full_ = true;
        for (int y = std::max(0, j - kReach); y <= std::min(height - 1, j + kReach - 1); ++y) {
            std::uint8_t* const row = near_full_.data() + static_cast<std::ptrdiff_t>(y) * width;
            if (!std::exchange(near_full_rows_[static_cast<std::size_t>(y)], std::uint8_t{1}))
                std::fill_n(row, width, std::uint8_t{0});
            for (int x = std::max(0, i - kReach); x <= std::min(width - 1, i + kReach - 1); ++x) {
                const bool near = (x == i || x == i - 1) && (y == j || y == j - 1);
                row[x] = std::max(row[x], near ? kNear : kFar);
            }
        }
    });
}

bool Resampler::near_full(const Rows& rows) const {
    const int last = static_cast<int>(near_full_rows_.size());
    const auto from = near_full_rows_.begin() + std::clamp(rows.first, 0, last),
               to = near_full_rows_.begin() + std::clamp(rows.end, 0, last);
    return std::find(from, to, std::uint8_t{1}) != to;
}

} // namespace kasane
