#include <kasane/calibration/defects.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

DefectList::DefectList(const Mask& mask) : starts_(static_cast<std::size_t>(mask.height()) + 1, 0) {
    for (int y = 0; y < mask.height(); ++y) {
        for (int x = 0; x < mask.width(); ++x)
            if (mask(x, y)) columns_.push_back(x);
        starts_[static_cast<std::size_t>(y) + 1] = columns_.size();
    }
}

DefectList::DefectList(int height, const std::vector<std::pair<int, int>>& places)
    : starts_(static_cast<std::size_t>(height) + 1, 0) {
    for (const auto& [x, y] : places) {
        columns_.push_back(x);
        ++starts_[static_cast<std::size_t>(y) + 1];
    }
    for (std::size_t y = 1; y < starts_.size(); ++y)
        starts_[y] += starts_[y - 1];
}

std::vector<std::pair<int, int>> DefectList::places() const {
    std::vector<std::pair<int, int>> out;
    for (std::size_t y = 0; y + 1 < starts_.size(); ++y)
        for (std::size_t i = starts_[y]; i < starts_[y + 1]; ++i)
            out.emplace_back(columns_[i], static_cast<int>(y));
    return out;
}

bool DefectList::contains(int x, int y) const {
    if (columns_.empty()) return false;
    const auto first = columns_.begin() + static_cast<std::ptrdiff_t>(starts_[static_cast<std::size_t>(y)]);
    const auto last = columns_.begin() + static_cast<std::ptrdiff_t>(starts_[static_cast<std::size_t>(y) + 1]);
    return std::binary_search(first, last, x);
}

namespace {

enum Kind : std::uint8_t { kHot = 1, kCold = 2, kDead = 3, kLine = 4 };

/// One plane of a master, compared pixel by pixel with the median of the neighbours of the same colour.
class Comparison {
public:
    Comparison(const FrameReader& reader, int plane, const CfaPattern& cfa)
        : reader_(reader), plane_(plane), cfa_(reader.planes() == 1 ? cfa : CfaPattern{}),
          reach_(cfa_.empty() ? 2 : 4) {}

    /// Calls `judge(x, y, value, median of the neighbours)` for every pixel that `suspicious(value, left, right)` finds
    /// odd beside two neighbours of its row; the whole neighbourhood is only looked at there. Neighbours in `without`
    /// do not count.
    template <class Suspicious, class Judge>
    void scan(const Mask* without, Suspicious suspicious, Judge judge) const {
        constexpr int kBand = 128;
        const int w = reader_.width(), h = reader_.height();
        for (int top = 0; top < h; top += kBand) {
            const int first = std::max(0, top - reach_), last = std::min(h, top + kBand + reach_);
            Image band(w, last - first);
            reader_.read({0, first, w, last - first}, band.plane(), plane_);
            const View<const float> v = band.plane();
            for (int y = top; y < std::min(h, top + kBand); ++y)
                for (int x = 0; x < w; ++x) {
                    const float here = v(x, y - first);
                    const float left = v(x >= 2 ? x - 2 : std::min(w - 1, x + 2), y - first);
                    const float right = v(x + 2 < w ? x + 2 : std::max(0, x - 2), y - first);
                    if (suspicious(x, y, here, left, right)) judge(x, y, here, median_around(v, first, x, y, without));
                }
            reader_.release();
        }
    }

private:
    float median_around(View<const float> v, int first, int x, int y, const Mask* without) const {
        std::array<float, 81> ring{};
        std::size_t n = 0;
        const int own = cfa_.colour(x, y);
        for (int j = std::max(first, y - reach_); j <= std::min(first + v.height - 1, y + reach_); ++j)
            for (int i = std::max(0, x - reach_); i <= std::min(v.width - 1, x + reach_); ++i) {
                if ((i == x && j == y) || (!cfa_.empty() && cfa_.colour(i, j) != own)) continue;
                const float value = v(i, j - first);
                if (std::isfinite(value) && !(without && (*without)(i, j))) ring[n++] = value;
            }
        return median_in_place(std::span(ring.data(), n));
    }

    const FrameReader& reader_;
    int plane_;
    CfaPattern cfa_;
    int reach_;
};

/// Scatter of a master about its neighbours, and the excess above which finds are false no more often than allowed.
float adaptive_limit(const FrameReader& reader, int plane, const CfaPattern& cfa, double matters, double false_share) {
    constexpr int kRows = 64;
    constexpr double kStep = 0.25, kFirst = 3; // bins of the excess, in sigma
    constexpr std::size_t kBins = 200;
    const int step = cfa.empty() || reader.planes() > 1 ? 1 : 2;
    std::vector<float> d;
    Image row(reader.width(), 1);
    for (int k = 0; k < kRows; ++k) {
        reader.read({0, static_cast<int>((k + 0.5) * reader.height() / kRows), reader.width(), 1}, row.plane(), plane);
        for (int x = step; x + step < row.width(); ++x)
            d.push_back(row(x, 0) - 0.5f * (row(x - step, 0) + row(x + step, 0)));
    }
    std::vector<float> sorted = d;
    const double sigma = clipped_statistics(sorted, 3).sigma;
    if (!(sigma > 0) || d.empty()) return static_cast<float>(matters);
    std::array<double, kBins> above{};
    for (const float v : d)
        for (std::size_t b = 0; b < kBins && v > (kFirst + kStep * static_cast<double>(b)) * sigma; ++b)
            ++above[b];
    for (std::size_t b = 0; b < kBins; ++b) {
        const double t = kFirst + kStep * static_cast<double>(b);
        const double expected = 0.5 * std::erfc(t / std::sqrt(2.0)) * static_cast<double>(d.size());
        if (expected <= false_share * std::max(1.0, above[b]))
            return static_cast<float>(std::max(matters, t * sigma / std::sqrt(1.5))); // the differences scatter more
    }
    return static_cast<float>(matters);
}

/// Columns and rows of which a good part is defective are so from the first defect to the last.
void complete_lines(Mask& mask, float share, DefectCounts& counts) {
    constexpr int kLeast = 16; // pixels
    const int w = mask.width(), h = mask.height();
    const auto complete = [&](int lines, int length, auto at) {
        int found = 0;
        for (int l = 0; l < lines; ++l) {
            int n = 0, first = length, last = -1;
            for (int i = 0; i < length; ++i)
                if (const auto kind = at(l, i); kind && kind != kLine) {
                    ++n;
                    first = std::min(first, i);
                    last = i;
                }
            if (n < kLeast || n < share * static_cast<float>(last - first + 1) ||
                last - first + 1 < std::min(length, 4 * kLeast))
                continue;
            ++found;
            for (int i = first; i <= last; ++i)
                if (auto& kind = at(l, i); !kind) kind = kLine;
        }
        return found;
    };
    counts.columns = complete(w, h, [&](int l, int i) -> std::uint8_t& { return mask(l, i); });
    counts.rows = complete(h, w, [&](int l, int i) -> std::uint8_t& { return mask(i, l); });
}

} // namespace

std::string DefectOptions::check() const {
    if (!(hot_sigmas > 0)) return fmt::format("a hot pixel stands out by more than 0 sigma, not {:g}", hot_sigmas);
    if (!(least_response >= 0 && least_response < 1 && most_response > 1))
        return fmt::format("sound pixels respond by a share from below 1 to above it, not from {:g} to {:g}",
                           least_response, most_response);
    if (!(false_share > 0 && false_share < 1) || !(line_share > 0 && line_share <= 1))
        return fmt::format("shares lie between 0 and 1, not at {:g} and {:g}", false_share, line_share);
    return {};
}

DefectList find_defects(const FrameReader* dark, double frame_noise, const FrameReader* flat, const DefectOptions& o,
                        DefectCounts* counts) {
    require_sense(o);
    const FrameReader* any = dark ? dark : flat;
    if (!any) return {};
    Mask mask(any->width(), any->height());
    if (dark && frame_noise > 0)
        for (int p = 0; p < dark->planes(); ++p) {
            const Comparison compare(*dark, p, o.cfa);
            const float limit = adaptive_limit(*dark, p, o.cfa, o.hot_sigmas * frame_noise, o.false_share);
            const auto judge = [&](int x, int y, float v, float median) {
                if (!(v - median <= limit)) mask(x, y) = kHot;
                if (v - median < -limit) mask(x, y) = kCold;
            };
            compare.scan(
                nullptr,
                [&](int, int, float v, float l, float r) {
                    return !(v - std::min(l, r) <= limit && v - std::max(l, r) >= -limit);
                },
                judge);
            const Mask found = mask; // once more, clusters by what is sound around them
            compare.scan(
                &found,
                [&](int x, int y, float, float, float) {
                    for (int j = std::max(0, y - 1); j <= std::min(mask.height() - 1, y + 1); ++j)
                        for (int i = std::max(0, x - 1); i <= std::min(mask.width() - 1, x + 1); ++i)
                            if (found(i, j) && (i != x || j != y)) return true;
                    return false;
                },
                judge);
        }
    if (flat)
        for (int p = 0; p < flat->planes(); ++p)
            Comparison(*flat, p, o.cfa)
                .scan(
                    nullptr,
                    [&](int, int, float v, float l, float r) {
                        return !(v >= 0.7f * std::max(l, r) && v <= 1.4f * std::min(l, r));
                    },
                    [&](int x, int y, float v, float median) {
                        if (!(v >= o.least_response * median && v <= o.most_response * median && v > 0))
                            mask(x, y) = kDead;
                    });
    DefectCounts all;
    for (const auto kind : mask.pixels()) {
        all.hot += kind == kHot;
        all.cold += kind == kCold;
        all.dead += kind == kDead;
    }
    complete_lines(mask, o.line_share, all);
    if (counts) *counts = all;
    return DefectList(mask);
}

} // namespace kasane
