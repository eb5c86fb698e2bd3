#include <kasane/stars/streaks.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <bit>
#include <cmath>
#include <fmt/format.h>
#include <memory>
#include <optional>

namespace kasane {

namespace {

/// Significance of each averaged pixel, clipped, zero under stars and where there is no data.
struct Field {
    Image pixels;
    int bin = 1; ///< pixels of the frame to one of the field
};

/// To units of the local spread: where there is structure, it counts as noise. A line is made of many pixels, not of a
/// few bright ones, so each is clipped.
void level_out(Image& field) {
    constexpr int kCell = 24, kReach = 6; // pixels: where the spread is taken, and over which structure is taken off
    constexpr float kClip = 4;
    // Sums over all rectangles that begin at the first pixel (F. Crow, SIGGRAPH 1984).
    const int w = field.width(), h = field.height();
    Raster<double> sums(w + 1, h + 1), counts(w + 1, h + 1);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) {
            const bool known = std::isfinite(field(x, y));
            sums(x + 1, y + 1) = (known ? field(x, y) : 0) + sums(x, y + 1) + sums(x + 1, y) - sums(x, y);
            counts(x + 1, y + 1) = known + counts(x, y + 1) + counts(x + 1, y) - counts(x, y);
        }
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) {
            const int x0 = std::max(0, x - kReach), x1 = std::min(w, x + kReach + 1), y0 = std::max(0, y - kReach),
                      y1 = std::min(h, y + kReach + 1);
            const auto over = [&](const Raster<double>& v) { return v(x1, y1) - v(x0, y1) - v(x1, y0) + v(x0, y0); };
            const double count = over(counts);
            if (count > 0) field(x, y) -= static_cast<float>(over(sums) / count);
        }
    std::vector<float> around;
    Image spread((field.width() + kCell - 1) / kCell, (field.height() + kCell - 1) / kCell);
    for (int j = 0; j < spread.height(); ++j)
        for (int i = 0; i < spread.width(); ++i) {
            around.clear();
            for (int y = j * kCell; y < std::min(field.height(), (j + 1) * kCell); ++y)
                for (int x = i * kCell; x < std::min(field.width(), (i + 1) * kCell); ++x)
                    if (std::isfinite(field(x, y))) around.push_back(field(x, y));
            spread(i, j) = around.empty() ? 0 : clipped_statistics(around, 3).sigma;
        }
    around.assign(spread.pixels().begin(), spread.pixels().end());
    const float usual = median_in_place(around);
    for (int y = 0; y < field.height(); ++y)
        for (int x = 0; x < field.width(); ++x) {
            const float sigma = std::max(usual, spread(x / kCell, y / kCell));
            const float v = field(x, y) / sigma;
            field(x, y) = std::isfinite(v) ? std::clamp(v, -kClip, kClip) : 0.0f;
        }
}

Field make_field(const StreakField& of, const StreakOptions& o) {
    const auto& [small, bin, background, stars, fwhm] = of;
    const int more = std::max(1, (std::max(small.width, small.height) + o.size - 1) / o.size);
    Field f{Image(small.width / more, small.height / more), bin * more};
    std::vector<float> level(static_cast<std::size_t>(f.pixels.width() * f.bin));
    for (int y = 0; y < f.pixels.height(); ++y) {
        background.level_row(f.bin * y + f.bin / 2, 0, f.pixels.width() * f.bin, level.data());
        for (int x = 0; x < f.pixels.width(); ++x) {
            double sum = 0;
            for (int j = 0; j < more; ++j)
                for (int i = 0; i < more; ++i)
                    sum += small(x * more + i, y * more + j);
            f.pixels(x, y) =
                static_cast<float>(sum / (more * more)) - level[static_cast<std::size_t>(x * f.bin + f.bin / 2)];
        }
    }
    for (const Star& star : stars) {
        const double bright = std::log10(std::max(1.0, star.flux / std::max(1e-9, star.flux_sigma)));
        const double reach = (1 + 0.7 * bright) * std::max(2.0, fwhm) / f.bin + 0.7;
        const double cx = (star.x + 0.5) / f.bin - 0.5, cy = (star.y + 0.5) / f.bin - 0.5;
        for (int y = std::max(0, static_cast<int>(cy - reach));
             y <= std::min<int>(f.pixels.height() - 1, static_cast<int>(cy + reach + 1)); ++y)
            for (int x = std::max(0, static_cast<int>(cx - reach));
                 x <= std::min<int>(f.pixels.width() - 1, static_cast<int>(cx + reach + 1)); ++x)
                if ((x - cx) * (x - cx) + (y - cy) * (y - cy) < reach * reach) f.pixels(x, y) = kNoData;
    }
    level_out(f.pixels);
    return f;
}

/// A straight piece in the coordinates of one quadrant of directions: from column `x` of length `length`, rising from
/// row `y` by `rise`.
struct Piece {
    int x = 0, length = 0, y = 0, rise = 0;
    double score = 0;
};

constexpr int kBeside = 4; // rows between a line and the parallels that it is held against

/// Sums along lines, of this stage and the next.
struct LineSums {
    std::unique_ptr<float[]> now, next;
    std::size_t size = 0;

    void make_room(std::size_t wanted) {
        if (wanted <= size) return;
        size = wanted;
        for (auto* v : {&now, &next})
            *v = std::make_unique_for_overwrite<float[]>(size);
    }
};

/// The best piece of the image among lines that rise by 0 to 45 degrees, if its score is at least `least_score`; rows
/// outside count as zero.
Piece best_piece(View<const float> image, double least_length, double least_score, LineSums& sums_of) {
    const auto n = static_cast<int>(std::bit_ceil(static_cast<unsigned>(image.width)));
    const int height = image.height + n; // lines may begin below the image by as much as they rise
    const auto at = [&](int strip, int rise, int y, int rises) {
        return (static_cast<std::size_t>(strip) * static_cast<std::size_t>(rises) + static_cast<std::size_t>(rise)) *
                   static_cast<std::size_t>(height) +
               static_cast<std::size_t>(y);
    };
    sums_of.make_room(static_cast<std::size_t>(n) * static_cast<std::size_t>(height));
    auto &now = sums_of.now, &next = sums_of.next;
    for (int x = 0; x < image.width; ++x) {
        now[at(x, 0, n - 2, 1)] = now[at(x, 0, n - 1, 1)] = 0; // all that two pixels ask for below the image
        for (int y = 0; y < image.height; ++y)
            now[at(x, 0, y + n, 1)] = image(x, y);
    }
    Piece best;
    const auto least_excess = static_cast<float>(least_score * std::sqrt(1.5 * least_length));
    for (int length = 2; length <= n; length *= 2) {
        const int half = length / 2, strips = (image.width + length - 1) / length,
                  halves = (image.width + half - 1) / half;
        // Lines of this length that begin lower never meet the image; of them, the next length asks for these.
        const int first = n - length, below = std::max(0, n - 2 * length);
        for (int strip = 0; strip < strips; ++strip)
            for (int rise = 0; rise < length; ++rise) {
                const int part = rise / 2, step = part + rise % 2;
                const float* left = &now[at(2 * strip, part, 0, half)];
                float* out = &next[at(strip, rise, 0, length)];
                std::fill(out + below, out + first, 0.0f);
                if (2 * strip + 1 == halves) { // beyond the image's last column
                    std::copy(left + first, left + height, out + first);
                    continue;
                }
                const float* right = &now[at(2 * strip + 1, part, 0, half)];
                for (int y = first; y < height - step; ++y)
                    out[y] = left[y] + right[y + step];
                std::copy(left + height - step, left + height, out + height - step);
            }
        std::swap(now, next);
        if (length < least_length || length < n / 4) continue;
        for (int strip = 0; strip < strips; ++strip) {
            const int columns = std::clamp(image.width - strip * length, 0, length);
            for (int rise = 0; rise < length; ++rise) {
                const float* sums = &now[at(strip, rise, 0, length)];
                int worth_a_look = 0;
                for (int y = first + kBeside; y + kBeside < height; ++y)
                    worth_a_look += sums[y] - 0.5f * (sums[y - kBeside] + sums[y + kBeside]) >= least_excess;
                if (worth_a_look == 0) continue; // nearly always
                for (int y = first + kBeside; y + kBeside < height; ++y) {
                    const float excess = sums[y] - 0.5f * (sums[y - kBeside] + sums[y + kBeside]);
                    if (excess < least_excess) continue;
                    // Columns in which the line lies inside the image.
                    const double low = n - y, high = n - y + image.height; // in units of the rise
                    double inside = columns;
                    if (rise > 0)
                        inside = std::min<double>(columns, high * length / rise) - std::max(0.0, low * length / rise);
                    else if (low > 0 || high <= 0)
                        inside = 0;
                    if (inside < least_length) continue;
                    const double score = excess / std::sqrt(1.5 * inside);
                    if (score >= least_score && score > best.score) best = {strip * length, length, y - n, rise, score};
                }
            }
        }
    }
    return best;
}

enum class Quadrant { shallow, shallow_down, steep, steep_down };

Image turned_for(const Image& v, Quadrant q) {
    const bool steep = q == Quadrant::steep || q == Quadrant::steep_down,
               down = q == Quadrant::shallow_down || q == Quadrant::steep_down;
    Image out(steep ? v.height() : v.width(), steep ? v.width() : v.height());
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x) {
            const int row = down ? out.height() - 1 - y : y;
            out(x, y) = steep ? v(row, x) : v(x, row);
        }
    return out;
}

/// Ends of a piece in field pixels, cut to the field.
struct Segment {
    double x0, y0, x1, y1;
};

Segment in_field(const Piece& p, Quadrant q, const Image& field) {
    const bool steep = q == Quadrant::steep || q == Quadrant::steep_down,
               down = q == Quadrant::shallow_down || q == Quadrant::steep_down;
    const int height = steep ? field.width() : field.height();
    double a[2] = {static_cast<double>(p.x), static_cast<double>(p.x + p.length - 1)};
    double b[2] = {static_cast<double>(p.y), static_cast<double>(p.y + p.rise)};
    if (down)
        for (double& v : b)
            v = height - 1 - v;
    return steep ? Segment{b[0], a[0], b[1], a[1]} : Segment{a[0], b[0], a[1], b[1]};
}

/// Follows the line through the whole field and finds where along it there is light: the ends of the streak, and
/// whether it is one: light all along it, or in dashes.
std::optional<Segment> trace(const Image& field, const Segment& s, double least_length) {
    const double length = std::hypot(s.x1 - s.x0, s.y1 - s.y0);
    if (!(length > 0)) return std::nullopt;
    const double ux = (s.x1 - s.x0) / length, uy = (s.y1 - s.y0) / length;
    const auto reach = static_cast<int>(std::hypot(field.width(), field.height()));
    std::vector<float> along; // excess over the parallels, a sample a pixel
    std::vector<double> where;
    const auto sample = [&](double x, double y) {
        const auto i = static_cast<int>(std::lround(x)), j = static_cast<int>(std::lround(y));
        return field.bounds().contains({i, j, 1, 1}) ? field(i, j) : 0.0f;
    };
    for (int t = -reach; t <= reach + static_cast<int>(length); ++t) {
        const double x = s.x0 + t * ux, y = s.y0 + t * uy;
        if (x < 0 || y < 0 || x > field.width() - 1 || y > field.height() - 1) continue;
        float core = -10, side = 0;
        for (const int d : {-1, 0, 1})
            core = std::max(core, sample(x - d * uy, y + d * ux));
        for (const int d : {-kBeside - 1, -kBeside, kBeside, kBeside + 1})
            side += 0.25f * sample(x - d * uy, y + d * ux);
        constexpr float kHighestOfThree = 0.85f; // expected, in units of the noise
        along.push_back(core - side - kHighestOfThree);
        where.push_back(t);
    }
    constexpr std::size_t kPart = 10;
    std::vector<bool> lit;
    for (std::size_t i = 0; i + kPart <= along.size(); i += kPart) {
        float sum = 0;
        for (std::size_t k = i; k < i + kPart; ++k)
            sum += along[k];
        lit.push_back(sum > 0.7f * static_cast<float>(kPart) / std::sqrt(10.0f) * 3);
    }
    // The longest run in which no more than three parts in succession are dark and half of all are lit.
    std::size_t best_from = 0, best_to = 0, best_lit = 0;
    for (std::size_t i = 0; i < lit.size(); ++i) {
        if (!lit[i]) continue;
        std::size_t last = i, count = 0, dark = 0;
        for (std::size_t k = i; k < lit.size() && dark <= 3; ++k) {
            dark = lit[k] ? 0 : dark + 1;
            count += lit[k];
            if (lit[k]) last = k;
        }
        if (last - i + 1 > best_to - best_from && 2 * count >= last - i + 1) {
            best_from = i;
            best_to = last + 1;
            best_lit = count;
        }
        i = last;
    }
    if (best_lit < 3 || static_cast<double>((best_to - best_from) * kPart) < least_length) return std::nullopt;
    const double from = where[best_from * kPart], to = where[std::min(where.size(), best_to * kPart) - 1];
    return Segment{s.x0 + from * ux, s.y0 + from * uy, s.x0 + to * ux, s.y0 + to * uy};
}

/// What of an averaged image lies beside a line: the mean along it at whole distances to either side, without the
/// brightest and darkest tenth (stars).
class Profile {
public:
    static constexpr int kReach = 24; ///< pixels of the averaged image

    /// Of the part of the line between two shares of its length.
    Profile(View<const float> image, const Segment& s, double from, double to) : values_(2 * kReach + 1, 0.0f) {
        const double length = std::hypot(s.x1 - s.x0, s.y1 - s.y0);
        const double ux = (s.x1 - s.x0) / length, uy = (s.y1 - s.y0) / length;
        std::vector<float> along;
        for (int d = -kReach; d <= kReach; ++d) {
            along.clear();
            for (double t = from * length; t <= to * length; ++t) {
                const auto x = static_cast<int>(std::lround(s.x0 + t * ux - d * uy)),
                           y = static_cast<int>(std::lround(s.y0 + t * uy + d * ux));
                if (x < 0 || y < 0 || x >= image.width || y >= image.height) continue;
                if (const float v = image(x, y); std::isfinite(v)) along.push_back(v);
            }
            values_[static_cast<std::size_t>(d + kReach)] = trimmed_mean(along);
        }
        std::vector<float> outer;
        for (int d = -kReach; d <= kReach; ++d)
            if (std::abs(d) > kReach / 2) outer.push_back(at(d));
        const float level = median_in_place(outer), noise = mad_sigma_in_place(outer, level);
        for (float& v : values_)
            v -= level;
        for (int d = -kReach / 2; d <= kReach / 2; ++d)
            if (at(d) > at(peak_)) peak_ = d;
        constexpr float kSeen = 3, kOfPeak = 0.01f;
        const float least = std::max(kSeen * noise, kOfPeak * at(peak_));
        while (left_ = peak_ - reach_left_, left_ > -kReach && at(left_ - 1) > least)
            ++reach_left_;
        while (right_ = peak_ + reach_right_, right_ < kReach && at(right_ + 1) > least)
            ++reach_right_;
    }

    float at(int d) const { return values_[static_cast<std::size_t>(d + kReach)]; }
    /// Where the light lies, by its weight.
    double centre() const {
        double sum = 0, weight = 0;
        for (int d = left_; d <= right_; ++d) {
            sum += d * static_cast<double>(std::max(0.0f, at(d)));
            weight += std::max(0.0f, at(d));
        }
        return weight > 0 ? sum / weight : peak_;
    }
    /// As far as light is seen to either side of the line.
    double half_width() const { return std::max(-left_, right_) + 0.5; }

private:
    static float trimmed_mean(std::vector<float>& v) {
        if (v.empty()) return 0;
        std::sort(v.begin(), v.end());
        const std::size_t off = v.size() / 10;
        double sum = 0;
        for (std::size_t i = off; i < v.size() - off; ++i)
            sum += v[i];
        return static_cast<float>(sum / static_cast<double>(v.size() - 2 * off));
    }

    std::vector<float> values_;
    int peak_ = 0, reach_left_ = 0, reach_right_ = 0, left_ = 0, right_ = 0;
};

/// The line put onto the light, and how far to either side that is seen. In pixels of the frame.
Streak settled(const StreakField& of, const Streak& found) {
    const auto small = [&](double v) { return (v + 0.5) / of.bin - 0.5; };
    Segment s{small(found.x0), small(found.y0), small(found.x1), small(found.y1)};
    const double length = std::hypot(s.x1 - s.x0, s.y1 - s.y0);
    if (!(length > 0)) return found;
    const double nx = -(s.y1 - s.y0) / length, ny = (s.x1 - s.x0) / length;
    // The middles of both halves say where the line runs.
    const double first = Profile(of.small, s, 0, 0.5).centre(), second = Profile(of.small, s, 0.5, 1).centre();
    const double begin = 1.5 * first - 0.5 * second, end = 1.5 * second - 0.5 * first;
    s.x0 += begin * nx, s.y0 += begin * ny, s.x1 += end * nx, s.y1 += end * ny;
    constexpr double kOff = 1; // pixels of the averaged image by which the line itself may be off
    const double half_width = Profile(of.small, s, 0, 1).half_width() + kOff;
    const auto back = [&](double v) { return of.bin * (v + 0.5) - 0.5; };
    return {back(s.x0), back(s.y0), back(s.x1), back(s.y1), of.bin * half_width};
}

void cover(Image& field, const Segment& s) {
    constexpr double kHalfWidth = 10; // the levelling leaves marks beside a bright streak
    const double length = std::max(1e-9, std::hypot(s.x1 - s.x0, s.y1 - s.y0));
    const double ux = (s.x1 - s.x0) / length, uy = (s.y1 - s.y0) / length;
    for (int y = 0; y < field.height(); ++y)
        for (int x = 0; x < field.width(); ++x)
            if (std::abs((x - s.x0) * uy - (y - s.y0) * ux) < kHalfWidth) field(x, y) = 0;
}

} // namespace

std::string StreakOptions::check() const {
    if (size < 16) return fmt::format("streaks are looked for in an image of 16 pixels or more, not {}", size);
    if (!(threshold > 0)) return fmt::format("a streak stands above a threshold above 0, not {:g}", threshold);
    if (!(least_length > 0)) return fmt::format("a streak is longer than 0 pixels, not {:g}", least_length);
    if (most < 0) return fmt::format("{} streaks cannot be looked for", most);
    return {};
}

std::vector<Streak> find_streaks(const StreakField& of, const StreakOptions& o) {
    require_sense(o);
    std::vector<Streak> out;
    Field field = make_field(of, o);
    if (field.pixels.empty() || std::min(field.pixels.width(), field.pixels.height()) < o.least_length) return out;
    LineSums sums;
    for (int tries = 0; tries < o.most + 2 && static_cast<int>(out.size()) < o.most; ++tries) {
        Piece best;
        Segment line{};
        for (const Quadrant q : {Quadrant::shallow, Quadrant::shallow_down, Quadrant::steep, Quadrant::steep_down}) {
            const Image turned = turned_for(field.pixels, q);
            const Piece p = best_piece(turned.plane(), o.least_length, o.threshold, sums);
            if (p.score <= best.score) continue;
            best = p;
            line = in_field(p, q, field.pixels);
        }
        if (best.score <= 0) break;
        const auto segment = trace(field.pixels, line, o.least_length);
        cover(field.pixels, line);
        if (!segment) continue;
        const auto back = [&](double v) { return field.bin * (v + 0.5) - 0.5; };
        out.push_back(settled(of, {back(segment->x0), back(segment->y0), back(segment->x1), back(segment->y1)}));
    }
    return out;
}

} // namespace kasane
