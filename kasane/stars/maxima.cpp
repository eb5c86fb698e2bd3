#include <kasane/stars/maxima.hpp>

#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>
#include <span>
#include <utility>

namespace kasane {

namespace {

constexpr int kFilterReach = 3;

/// The middle of a normalised Gaussian, and what follows on either side.
std::array<float, kFilterReach + 1> gaussian_taps(float sigma) {
    std::array<float, kFilterReach + 1> taps{};
    float sum = 0;
    for (int i = 0; i <= kFilterReach; ++i) {
        const float t = std::exp(-0.5f * static_cast<float>(i * i) / (sigma * sigma));
        taps[static_cast<std::size_t>(i)] = t;
        sum += i ? 2 * t : t;
    }
    for (float& t : taps)
        t /= sum;
    return taps;
}

/// Columns of an image from `first` to before `last`.
struct Columns {
    int first, last;
    int count() const { return last - first; }
};

/// Rows of the background-subtracted image after the matched filter, of some columns, made one after another in a ring,
/// so that the filtered image is never whole in memory and a strip of it stays at hand for the processor.
class FilteredRows {
public:
    FilteredRows(View<const float> image, const Background& background, float sigma, Columns columns)
        : image_(image), background_(background), columns_(columns), taps_(gaussian_taps(sigma)),
          line_(static_cast<std::size_t>(columns.count() + 2 * kFilterReach)) {
        for (auto& r : horizontal_)
            r.assign(static_cast<std::size_t>(columns.count()), 0.0f);
        for (auto& r : rows_)
            r.assign(static_cast<std::size_t>(columns.count()), 0.0f);
        for (int y = -kFilterReach; y < kFilterReach; ++y)
            filter_across(y);
    }

    /// Factor between the noise of a filtered and of a plain pixel.
    float noise_factor() const {
        float sum = taps_[0] * taps_[0];
        for (std::size_t k = 1; k < taps_.size(); ++k)
            sum += 2 * taps_[k] * taps_[k];
        return sum;
    }

    /// Rows have to be asked for in order; the last three stay valid. They begin with the first of the columns.
    const float* next(int y) {
        filter_across(y + kFilterReach);
        float* out = rows_[static_cast<std::size_t>(y % 3)].data();
        filter(out, horizontal_row(y).data(), [&](int k) { return horizontal_row(y + k).data(); });
        return out;
    }
    const float* row(int y) const { return rows_[static_cast<std::size_t>(y % 3)].data(); }

private:
    std::vector<float>& horizontal_row(int y) { return horizontal_[static_cast<std::size_t>((y + 70) % 7)]; }

    template <class Neighbour>
    void filter(float* out, const float* middle, Neighbour at) const {
        std::array<const float*, kFilterReach> before{}, after{};
        for (int k = 1; k <= kFilterReach; ++k) {
            before[static_cast<std::size_t>(k - 1)] = at(-k);
            after[static_cast<std::size_t>(k - 1)] = at(k);
        }
        symmetric_row(out, middle, before.data(), after.data(), taps_.data(), taps_.size(),
                      static_cast<std::size_t>(columns_.count()));
    }

    /// Rows of a strip lie too far apart for the processor to foresee the next.
    static void fetch(const float* from, int count) {
        constexpr int kCacheLine = 64 / sizeof(float);
        for (int i = 0; i < count; i += kCacheLine)
            __builtin_prefetch(from + i);
    }

    void filter_across(int y) {
        const int row = std::clamp(y, 0, image_.height - 1);
        const int first = std::max(0, columns_.first - kFilterReach),
                  last = std::min(image_.width, columns_.last + kFilterReach);
        float *begin = line_.data(), *line = begin + kFilterReach;
        float *from = line + (first - columns_.first), *end = line + (last - columns_.first);
        if (row + 1 < image_.height) fetch(image_.row(row + 1) + first, last - first);
        background_.above_level_row(row, first, last - first, image_.row(row) + first, from); // no data: as the level
        std::fill(begin, from, *from);                                                        // beyond the image
        std::fill(end, begin + line_.size(), end[-1]);
        filter(horizontal_row(y).data(), line, [&](int k) { return line + k; });
    }

    View<const float> image_;
    const Background& background_;
    Columns columns_;
    std::array<float, kFilterReach + 1> taps_; ///< from the middle on
    std::array<std::vector<float>, 7> horizontal_;
    std::array<std::vector<float>, 3> rows_;
    std::vector<float> line_;
};

/// What a place is held against.
struct Sky {
    float level, noise;
};

/// A star lights its neighbours; a hot pixel or a cosmic ray does not.
bool looks_like_light(View<const float> image, int x, int y, const Sky& sky, int area) {
    const auto [level, noise] = sky;
    float peak = -std::numeric_limits<float>::infinity();
    int px = x, py = y;
    for (int j = -1; j <= 1; ++j)
        for (int i = -1; i <= 1; ++i)
            if (image(x + i, y + j) > peak) {
                peak = image(x + i, y + j);
                px = x + i;
                py = y + j;
            }
    float sum = 0;
    int lit = 1;
    for (int j = -1; j <= 1; ++j)
        for (int i = -1; i <= 1; ++i)
            if (i || j) {
                const float v = image(px + i, py + j) - level;
                sum += v;
                lit += v > noise;
            }
    return lit >= area && sum / 8 > 0.07f * (peak - level) + 0.35f * noise;
}

/// The places between radii 4 and 7 pixels around a place, and room for their values.
class Ring {
public:
    explicit Ring(View<const float> image) : image_(image) {
        constexpr int kInner2 = 16;
        for (int y = -kReach; y <= kReach; ++y)
            for (int x = -kReach; x <= kReach; ++x) {
                if (const int r2 = x * x + y * y; r2 < kInner2 || r2 > kReach * kReach) continue;
                const bool goes_on = !places_.empty() && places_.back() == std::pair(x - 1, y);
                if (goes_on)
                    ++runs_.back().count;
                else
                    runs_.push_back({y * image.stride + x, 1});
                places_.emplace_back(x, y);
            }
        values_.resize(places_.size() + kWide);
    }

    /// How high the surroundings reach, without the noise: the upper quartile of a ring, so that the crest of a
    /// filament, or the slope of a galaxy, counts as surroundings and not as a star. Infinite where it is `enough` at
    /// least.
    float level(int x, int y, float sigma, float enough) {
        const std::span<float> values(values_.data(), collect(x, y));
        if (values.empty()) return 0;
        constexpr float kQuartileOfNormal = 0.6745f;
        constexpr double kQuartile = 0.75;
        const float away = kQuartileOfNormal * sigma, wanted = enough + away;
        // The lower of the two values that it lies between, as quantile_in_place has it.
        const auto rank = static_cast<std::size_t>(kQuartile * static_cast<double>(values.size() - 1));
        if (count_at_least(values.data(), wanted, values.size()) >= values.size() - rank)
            return std::numeric_limits<float>::infinity();
        return quantile_in_place(values, kQuartile) - away;
    }

private:
    static constexpr int kReach = 7, kWide = 16; // pixels

    std::size_t collect(int x, int y) {
        std::size_t n = 0;
        const Region around{x - kReach, y - kReach, 2 * kReach + 1, 2 * kReach + 2}; // with a row to be read into
        if (image_.bounds().contains(around)) {
            const float* middle = image_.row(y) + x;
            for (const auto& [step, count] : runs_) { // more than is asked for, which the next one takes the place of
                std::copy_n(middle + step, kWide, values_.data() + n);
                n += count;
            }
            if (!any_gap(values_.data(), n)) return n;
        }
        n = 0;
        for (const auto& [dx, dy] : places_)
            if (image_.bounds().contains({x + dx, y + dy, 1, 1}) && std::isfinite(image_(x + dx, y + dy)))
                values_[n++] = image_(x + dx, y + dy);
        return n;
    }

    struct Run {
        std::ptrdiff_t step; ///< from the middle, in memory
        std::size_t count;
    };
    View<const float> image_;
    std::vector<std::pair<int, int>> places_; ///< from the middle
    std::vector<Run> runs_;                   ///< the same, along rows
    std::vector<float> values_;
};

} // namespace

std::vector<Candidate> find_maxima(View<const float> image, const Background& background, float least,
                                   const DetectOptions& o) {
    const int border = std::max(2, o.border); // what lies so far around is looked at
    std::vector<Candidate> found;
    Ring ring(image);
    constexpr int kStrip = 512; // columns, so that a ring of rows of them stays in the nearest cache
    std::vector<std::int32_t> places(kStrip);
    for (int first = border; first < image.width - border; first += kStrip) {
        const int count = std::min(kStrip, image.width - border - first);
        FilteredRows filtered(image, background, o.filter_sigma, {first - 1, first + count + 1});
        const float factor = filtered.noise_factor();
        for (int y = 0; y < image.height; ++y) {
            filtered.next(y);
            const int m = y - 1; // the row whose neighbours are all there
            if (m < border || m >= image.height - border) continue;
            const float *above = filtered.row(m - 1) + 1, *here = filtered.row(m) + 1, *below = filtered.row(m + 1) + 1;
            const float any_limit = least * factor * background.least_sigma(m, first, count);
            const std::size_t peaks =
                peaks_of_row({above, here, below}, any_limit, static_cast<std::size_t>(count), places.data());
            for (std::size_t k = 0; k < peaks; ++k) {
                const int place = places[k], x = first + place;
                const float v = here[place], sigma = background.sigma_at(x, m), limit = least * factor * sigma;
                if (!(v > limit)) continue;
                const float level = background.level_at(x, m);
                if (!looks_like_light(image, x, m, {level, sigma}, o.area)) continue;
                const float surroundings = std::max(0.0f, ring.level(x, m, sigma, v - limit + level) - level);
                if (v - surroundings <= limit) continue;
                found.push_back({x, m, (v - surroundings) / (factor * sigma)});
            }
        }
    }
    std::sort(found.begin(), found.end(), [](const Candidate& a, const Candidate& b) {
        return a.strength != b.strength ? a.strength > b.strength : a.y != b.y ? a.y < b.y : a.x < b.x;
    });
    return found;
}

} // namespace kasane
