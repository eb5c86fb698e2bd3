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
        const std::uint8_t *const row = mask.plane().row(y), *const end = row + mask.width();
        for (const std::uint8_t* at = next_marked(row, end); at != end; at = next_marked(at + 1, end))
            columns_.push_back(static_cast<int>(at - row));
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

    /// Calls `judge(x, y, value, median of the neighbours)` for every pixel that `mark(y, row, odd)` has marked in
    /// `odd` by what its row shows; the whole neighbourhood is only looked at there. Neighbours in `without` do not
    /// count. Bands of rows are gone through on several threads.
    template <class Mark, class Judge>
    void scan(const Mask* without, Mark mark, Judge judge, const Workers* workers) const {
        constexpr int kBand = 128;
        const int w = reader_.width(), h = reader_.height();
        const auto look_at = [&](std::size_t k) {
            const int top = static_cast<int>(k) * kBand;
            const int first = std::max(0, top - reach_), last = std::min(h, top + kBand + reach_);
            Image band(w, last - first);
            reader_.read({0, first, w, last - first}, band.plane(), plane_);
            const View<const float> v = std::as_const(band).plane();
            std::vector<std::uint8_t> odd(static_cast<std::size_t>(w));
            for (int y = top; y < std::min(h, top + kBand); ++y) {
                const float* row = v.row(y - first);
                mark(y, row, odd.data());
                const std::uint8_t* const end = odd.data() + w;
                for (const auto* at = next_marked(odd.data(), end); at != end; at = next_marked(at + 1, end)) {
                    const auto x = static_cast<int>(at - odd.data());
                    judge(x, y, row[x], median_around(v, first, x, y, without));
                }
            }
        };
        const auto bands = static_cast<std::size_t>((h + kBand - 1) / kBand);
        if (workers)
            workers->for_each(bands, look_at);
        else
            for (std::size_t k = 0; k < bands; ++k)
                look_at(k);
        reader_.release();
    }

    /// Marks the values of a row that `suspicious(value, left, right)` finds odd beside two neighbours of their colour.
    template <class Suspicious>
    void mark_beside(const float* row, std::uint8_t* odd, Suspicious suspicious) const {
        const int w = reader_.width();
        const auto at = [&](int x) { // at the edge the other neighbour counts twice
            return suspicious(row[x], row[x >= 2 ? x - 2 : std::min(w - 1, x + 2)],
                              row[x + 2 < w ? x + 2 : std::max(0, x - 2)]);
        };
        const int inside = std::max(2, w - 2);
        for (int x = 0; x < std::min(w, 2); ++x)
            odd[x] = at(x);
        for (int x = 2; x < inside; ++x)
            odd[x] = suspicious(row[x], row[x - 2], row[x + 2]);
        for (int x = inside; x < w; ++x)
            odd[x] = at(x);
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
    // Few have enough to be looked at.
    std::vector<int> in_column(static_cast<std::size_t>(w)), in_row(static_cast<std::size_t>(h));
    for (int y = 0; y < h; ++y) {
        const std::uint8_t *const row = mask.plane().row(y), *const end = row + w;
        for (const std::uint8_t* at = next_marked(row, end); at != end; at = next_marked(at + 1, end)) {
            ++in_column[static_cast<std::size_t>(at - row)];
            ++in_row[static_cast<std::size_t>(y)];
        }
    }
    const auto complete = [&](const std::vector<int>& marked, int length, auto at) {
        int found = 0;
        for (int l = 0; l < static_cast<int>(marked.size()); ++l) {
            if (marked[static_cast<std::size_t>(l)] < kLeast) continue;
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
    counts.columns = complete(in_column, h, [&](int l, int i) -> std::uint8_t& { return mask(l, i); });
    counts.rows = complete(in_row, w, [&](int l, int i) -> std::uint8_t& { return mask(i, l); });
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
                        DefectCounts* counts, const Workers* workers) {
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
            const auto beside = [&](int, const float* row, std::uint8_t* odd) {
                compare.mark_beside(row, odd, [limit](float v, float l, float r) {
                    const int low = v - std::min(l, r) <= limit, high = v - std::max(l, r) >= -limit;
                    return static_cast<std::uint8_t>(1 - (low & high)); // without a branch
                });
            };
            compare.scan(nullptr, beside, judge, workers);
            const Mask found = mask; // once more, clusters by what is sound around them
            const DefectList places(found);
            const auto clustered = [&](int y, const float*, std::uint8_t* odd) {
                std::fill_n(odd, mask.width(), std::uint8_t{0});
                for (int j = std::max(0, y - 1); j <= std::min(mask.height() - 1, y + 1); ++j)
                    places.for_each({0, j, mask.width(), 1}, [&](int i, int) {
                        for (int x = std::max(0, i - 1); x <= std::min(mask.width() - 1, i + 1); ++x)
                            if (x != i || j != y) odd[x] = 1;
                    });
            };
            compare.scan(&found, clustered, judge, workers);
        }
    if (flat)
        for (int p = 0; p < flat->planes(); ++p) {
            const Comparison compare(*flat, p, o.cfa);
            const auto beside = [&](int, const float* row, std::uint8_t* odd) {
                compare.mark_beside(row, odd, [](float v, float l, float r) {
                    const int low = v >= 0.7f * std::max(l, r), high = v <= 1.4f * std::min(l, r);
                    return static_cast<std::uint8_t>(1 - (low & high));
                });
            };
            const auto judge = [&](int x, int y, float v, float median) {
                if (!(v >= o.least_response * median && v <= o.most_response * median && v > 0)) mask(x, y) = kDead;
            };
            compare.scan(nullptr, beside, judge, workers);
        }
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
