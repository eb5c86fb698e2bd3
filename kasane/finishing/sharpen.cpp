#include <kasane/finishing/sharpen.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/finishing/deconvolution.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <optional>

namespace kasane {

namespace {

constexpr int kSide = 384, kSeam = 16; // of a tile; over which neighbours go over into each other
constexpr int kLeast = 12, kMost = 30; // iterations; the most only where residuals do not settle before
constexpr std::size_t kTiles = 8;      // by which their number is told
constexpr int kFarthest = 24;          // that the kernel reaches

/// Tiles of an image, and with what share each counts at a pixel.
class Tiling {
public:
    Tiling(int width, int height) : width_(width), height_(height) {}
    int columns() const { return std::max(1, (width_ + kSide / 2) / kSide); }
    int rows() const { return std::max(1, (height_ + kSide / 2) / kSide); }
    std::size_t count() const { return static_cast<std::size_t>(columns()) * static_cast<std::size_t>(rows()); }
    Region own(int column, int row) const { // without seams
        const auto edge = [](int k, int parts, int size) { return static_cast<int>(std::int64_t{size} * k / parts); };
        const int x = edge(column, columns(), width_), y = edge(row, rows(), height_);
        return {x, y, edge(column + 1, columns(), width_) - x, edge(row + 1, rows(), height_) - y};
    }
    Region grown(const Region& r, int by) const {
        return intersect({r.x - by, r.y - by, r.width + 2 * by, r.height + 2 * by}, {0, 0, width_, height_});
    }
    /// Those of all tiles that reach a pixel make 1.
    float share(const Region& r, int x, int y) const {
        return along(x, r.x, r.right(), width_) * along(y, r.y, r.bottom(), height_);
    }

private:
    static float along(int x, int begin, int end, int size) {
        constexpr float kRamp = 2 * kSeam;
        const auto rise = [](int d) { return std::clamp((static_cast<float>(d + kSeam) + 0.5f) / kRamp, 0.0f, 1.0f); };
        return (begin == 0 ? 1 : rise(x - begin)) - (end == size ? 0 : rise(x - end));
    }
    int width_, height_;
};

/// What is without data gets what lies beside it in its row, or the sky.
void fill(View<const float> plane, const Region& part, float sky, float pedestal, DeconvolutionTile& tile) {
    tile.data = Image(part.width, part.height);
    tile.pedestal = pedestal;
    Mask gap(part.width, part.height);
    bool any = false;
    for (int y = 0; y < part.height; ++y) {
        const float* row = plane.row(part.y + y) + part.x;
        float* to = tile.data.plane().row(y);
        int known = -1;
        for (int x = 0; x < part.width; ++x) {
            if (!std::isfinite(row[x])) {
                gap(x, y) = 1, any = true;
                if (known >= 0) to[x] = to[known];
                continue;
            }
            to[x] = std::max(0.01f * pedestal, row[x] - sky + pedestal);
            if (known < 0) std::fill_n(to, x, to[x]);
            known = x;
        }
        if (known < 0) std::fill_n(to, part.width, pedestal);
    }
    if (any) tile.gap = std::move(gap);
}

/// The residuals of some tiles: where something shows, and where there is sky.
struct Residuals {
    struct Sum {
        double squares = 0, count = 0;
        double mean() const { return squares / count; }
        void add(float v) { squares += static_cast<double>(v) * static_cast<double>(v), ++count; }
        void add(const Sum& o) { squares += o.squares, count += o.count; }
    } something, sky, noise, noise_of_sky; ///< the last two: the same places in an image of noise alone
    void add(const Residuals& o) {
        something.add(o.something), sky.add(o.sky), noise.add(o.noise), noise_of_sky.add(o.noise_of_sky);
    }
};

/// Nearly normal numbers, always the same (the sum of twelve even ones; the generator: G. Steele et al., OOPSLA 2014).
class Noise {
public:
    explicit Noise(std::uint64_t seed) : state_(seed) {}
    float next() {
        float sum = -6;
        for (int k = 0; k < 3; ++k) {
            std::uint64_t z = state_ += 0x9e3779b97f4a7c15ULL;
            z = (z ^ (z >> 30)) * 0xbf58476d1ce4e5b9ULL;
            z = (z ^ (z >> 27)) * 0x94d049bb133111ebULL;
            z ^= z >> 31;
            for (int part = 0; part < 4; ++part, z >>= 16)
                sum += (static_cast<float>(z & 0xffff) + 0.5f) * 0x1p-16f;
        }
        return sum;
    }

private:
    std::uint64_t state_;
};

class Sharpener {
public:
    Sharpener(View<float> plane, const PlaneStars& stars, const SharpenCall& call, const Workers& workers)
        : plane_(plane), psf_(stars.psf), kept_(stars.flat_tops), call_(call), workers_(workers),
          tiling_(plane.width, plane.height) {
        // Light below the sky must stay above zero; where the sky itself is brighter, photons scatter as it lets them.
        constexpr double kPedestal = 20; // sigma
        pedestal_ = static_cast<float>(std::max(call.sky, kPedestal * call.noise));
        reach_ = std::clamp(static_cast<int>(std::ceil(2.5 * psf_.fwhm)), 6, kFarthest);
        told_.before = psf_.fwhm, told_.target = call.target, told_.kept = static_cast<int>(kept_.size());
    }

    Sharpening run() {
        learn_noise();
        choose_iterations();
        Image out(plane_.width, plane_.height);
        // Four turns, so that no two tiles that go over into each other are at work at once: sums have one order.
        for (int turn = 0; turn < 4; ++turn) {
            std::vector<std::pair<int, int>> places;
            for (int row = turn / 2; row < tiling_.rows(); row += 2)
                for (int column = turn % 2; column < tiling_.columns(); column += 2)
                    places.emplace_back(column, row);
            workers_.for_each(places.size(), [&](std::size_t i) {
                add(tiling_.own(places[i].first, places[i].second), out.plane());
                if (call_.advance) call_.advance();
            });
        }
        keep_flat_tops(out);
        workers_.for_each(static_cast<std::size_t>(plane_.height), [&](std::size_t y) {
            float* to = plane_.row(static_cast<int>(y));
            const float* from = out.plane().row(static_cast<int>(y));
            for (int x = 0; x < plane_.width; ++x)
                if (std::isfinite(to[x])) to[x] = from[x] - pedestal_ + static_cast<float>(call_.sky);
        });
        return told_;
    }

private:
    int margin() const { return 2 * reach_ + kSeam + 8; }

    DeconvolutionTile tile_at(const Region& own) const {
        DeconvolutionTile tile;
        fill(plane_, tiling_.grown(own, margin()), static_cast<float>(call_.sky), pedestal_, tile);
        return tile;
    }

    void finish(const Region& own, DeconvolutionTile& tile) const {
        find_floor(tile, psf_.fwhm, call_.target, call_.noise);
        find_trust(tile, noise_);
        const double x = own.x + 0.5 * own.width, y = own.y + 0.5 * own.height;
        tile.blur =
            SeparableKernel(blur_between(round_star(call_.target, psf_.beta, reach_), psf_.at(x, y, reach_), reach_));
    }

    /// Some tiles all over the field.
    std::vector<Region> samples() const {
        std::vector<Region> out;
        const std::size_t step = (tiling_.count() + kTiles - 1) / kTiles;
        for (std::size_t i = step / 2; i < tiling_.count(); i += step)
            out.push_back(
                tiling_.own(static_cast<int>(i) % tiling_.columns(), static_cast<int>(i) / tiling_.columns()));
        return out;
    }

    void learn_noise() {
        const std::vector<Region> places = samples();
        std::vector<std::array<double, kWaveletScales>> each(places.size());
        workers_.for_each(places.size(), [&](std::size_t i) { each[i] = wavelet_noise(tile_at(places[i]).data); });
        for (std::size_t s = 0; s < kWaveletScales; ++s) {
            std::vector<float> values;
            for (const auto& one : each)
                if (one[s] > 0) values.push_back(static_cast<float>(one[s]));
            constexpr double kDarker = 0.3; // nebula adds to it
            noise_[s] = values.empty() ? call_.noise : static_cast<double>(quantile_in_place(values, kDarker));
        }
    }

    /// A tile that tells when it is enough, and one of noise beside it.
    struct Trial {
        DeconvolutionTile tile, of_noise;
        std::vector<std::size_t> something, sky; ///< pixels of both
        std::optional<Deconvolution> real, noise;
    };

    void choose_iterations() {
        const std::vector<Region> places = samples();
        std::vector<Trial> trials(places.size());
        workers_.for_each(places.size(), [&](std::size_t i) { prepare(places[i], trials[i]); });
        std::vector<double> more; // than noise leaves, in units of that
        told_.iterations = kMost;
        for (int k = 0; k < kMost; ++k) {
            std::vector<Residuals> each(places.size());
            workers_.for_each(places.size(), [&](std::size_t i) { each[i] = look(trials[i]); });
            Residuals all;
            for (const Residuals& one : each)
                all.add(one);
            constexpr double kFew = 200, kNothing = 0.02, kFalls = 0.97;
            constexpr int kBefore = 2;
            if (all.something.count < kFew || all.sky.count < kFew) { // nothing tells it
                told_.iterations = (kLeast + kMost) / 2;
                return;
            }
            // As much as the made-up noise leaves there, were it as strong as that of the sky.
            const double noise = all.noise.mean() * all.sky.mean() / all.noise_of_sky.mean();
            told_.left = all.something.mean() / noise;
            more.push_back(told_.left - 1);
            const double before = k >= kBefore ? more[static_cast<std::size_t>(k - kBefore)] : HUGE_VAL;
            if (k >= kLeast && (more.back() < kNothing || more.back() > kFalls * before)) {
                told_.iterations = k, told_.settled = true;
                return;
            }
            workers_.for_each(places.size(), [&](std::size_t i) { trials[i].real->step(), trials[i].noise->step(); });
        }
    }

    void prepare(const Region& own, Trial& t) const {
        DeconvolutionTile& tile = t.tile;
        tile = tile_at(own);
        finish(own, tile);
        const Region whole = tiling_.grown(own, margin());
        const bool near_kept = std::any_of(kept_.begin(), kept_.end(), [&](const Disc& d) {
            const int reach = static_cast<int>(std::ceil(d.radius + fade()));
            return !intersect(own, {static_cast<int>(d.x) - reach, static_cast<int>(d.y) - reach, 2 * reach + 2,
                                    2 * reach + 2})
                        .empty();
        });
        constexpr float kFaint = 3, kBright = 100; // sigma
        constexpr int kEach = 3;                   // pixels of the sky
        for (int y = own.y - whole.y; y < own.y - whole.y + own.height; ++y)
            for (int x = own.x - whole.x; x < own.x - whole.x + own.width; ++x) {
                if (!tile.gap.empty() && tile.gap(x, y)) continue;
                if (near_kept && kept_share(x + whole.x, y + whole.y) > 0) continue;
                const float above = (tile.data(x, y) - pedestal_) / static_cast<float>(call_.noise);
                const auto at =
                    static_cast<std::size_t>(y) * static_cast<std::size_t>(whole.width) + static_cast<std::size_t>(x);
                if (tile.trust[1](x, y) > 0.5f && above > kFaint && above < kBright)
                    t.something.push_back(at);
                else if (tile.trust[0](x, y) == 0 && tile.trust[1](x, y) == 0 && tile.trust[2](x, y) == 0 &&
                         x % kEach == 0 && y % kEach == 0)
                    t.sky.push_back(at);
            }
        t.of_noise = tile;
        Noise noise(static_cast<std::uint64_t>(own.x) * 65536 + static_cast<std::uint64_t>(own.y));
        for (float& v : t.of_noise.data.pixels())
            v = pedestal_ + static_cast<float>(call_.noise) * noise.next();
        t.of_noise.floor = t.of_noise.wall = Image(whole.width, whole.height);
        t.real.emplace(t.tile), t.noise.emplace(t.of_noise);
    }

    Residuals look(Trial& t) const {
        Residuals r;
        const Image &real = t.real->residual(), &noise = t.noise->residual();
        for (const std::size_t at : t.something) {
            r.something.add(real.pixels()[at] /
                            std::sqrt(std::max(1.0f, t.tile.data.pixels()[at] / pedestal_))); // photons scatter
            r.noise.add(noise.pixels()[at]);
        }
        for (const std::size_t at : t.sky)
            r.sky.add(real.pixels()[at]), r.noise_of_sky.add(noise.pixels()[at]);
        return r;
    }

    void add(const Region& own, View<float> out) const {
        DeconvolutionTile tile = tile_at(own);
        finish(own, tile);
        Deconvolution iteration(tile);
        for (int k = 0; k < told_.iterations; ++k) {
            workers_.cancel().check();
            iteration.residual();
            iteration.step();
        }
        const Image sharp = iteration.finish();
        const Region whole = tiling_.grown(own, margin()), seen = tiling_.grown(own, kSeam);
        for (int y = seen.y; y < seen.bottom(); ++y)
            for (int x = seen.x; x < seen.right(); ++x)
                out(x, y) += tiling_.share(own, x, y) * sharp(x - whole.x, y - whole.y);
    }

    double fade() const { return std::max(2.0, psf_.fwhm); }

    /// 1 where a flat top is kept, 0 far from any.
    float kept_share(int x, int y) const {
        float most = 0;
        for (const Disc& d : kept_) {
            const double r = std::hypot(x - d.x, y - d.y);
            most = std::max(most, static_cast<float>(std::clamp((d.radius + fade() - r) / fade(), 0.0, 1.0)));
        }
        return most;
    }

    void keep_flat_tops(Image& out) const {
        for (const Disc& d : kept_) {
            const int reach = static_cast<int>(std::ceil(d.radius + fade()));
            const Region box =
                intersect({static_cast<int>(d.x) - reach, static_cast<int>(d.y) - reach, 2 * reach + 2, 2 * reach + 2},
                          out.bounds());
            for (int y = box.y; y < box.bottom(); ++y)
                for (int x = box.x; x < box.right(); ++x) {
                    const float share = kept_share(x, y),
                                was = plane_(x, y) - static_cast<float>(call_.sky) + pedestal_;
                    if (share > 0 && std::isfinite(was)) out(x, y) += share * (was - out(x, y));
                }
        }
    }

    View<float> plane_;
    const FieldPsf& psf_;
    const std::vector<Disc>& kept_;
    const SharpenCall& call_;
    const Workers& workers_;
    Tiling tiling_;
    float pedestal_ = 0;
    int reach_ = 6;
    std::array<double, kWaveletScales> noise_{};
    Sharpening told_;
};

/// Finds what is connected at one level, and remembers at which places that was looked for.
class Tops {
public:
    explicit Tops(View<const float> plane) : plane_(plane), seen_(plane.width, plane.height) {}
    bool seen(int x, int y) const { return seen_(x, y) != 0; }

    /// Pixels around (x, y) that are at least `level` high, up to `most`.
    std::vector<std::pair<int, int>> at(int x, int y, float level, std::size_t most) {
        std::vector<std::pair<int, int>> out{{x, y}};
        const std::uint8_t mark = ++mark_ ? mark_ : ++mark_;
        seen_(x, y) = mark;
        for (std::size_t i = 0; i < out.size() && out.size() < most; ++i)
            for (const auto& [dx, dy] : {std::pair(1, 0), std::pair(-1, 0), std::pair(0, 1), std::pair(0, -1)}) {
                const int px = out[i].first + dx, py = out[i].second + dy;
                if (px < 0 || py < 0 || px >= plane_.width || py >= plane_.height) continue;
                if (!(plane_(px, py) >= level) || seen_(px, py) == mark) continue;
                seen_(px, py) = mark;
                out.emplace_back(px, py);
            }
        return out;
    }

private:
    View<const float> plane_;
    Mask seen_;
    std::uint8_t mark_ = 0;
};

/// Stars whose middle is not as bright as their skirts let expect, or no peak at all.
class FlatTops {
public:
    FlatTops(View<const float> plane, const FieldPsf& psf, double sky, double noise)
        : plane_(plane), psf_(psf), zero_(static_cast<float>(sky)), noise_(static_cast<float>(noise)), tops_(plane) {}

    std::vector<Disc> find() {
        constexpr float kBright = 100; // sigma
        const float bright = zero_ + kBright * noise_;
        for (int y = 1; y + 1 < plane_.height; ++y)
            for (int x = 1; x + 1 < plane_.width; ++x)
                if (plane_(x, y) > bright && is_highest(x, y)) look(x, y);
        return std::move(found_);
    }

private:
    bool is_highest(int x, int y) const {
        const float v = plane_(x, y);
        if (v < plane_(x - 1, y) || v < plane_(x + 1, y) || v < plane_(x, y - 1) || v < plane_(x, y + 1)) return false;
        const int box = std::max(2, static_cast<int>(std::lround(psf_.fwhm)));
        const Region around =
            intersect({x - box, y - box, 2 * box + 1, 2 * box + 1}, {0, 0, plane_.width, plane_.height});
        for (int j = around.y; j < around.bottom(); ++j)
            for (int i = around.x; i < around.right(); ++i)
                if (plane_(i, j) > v) return false;
        return true;
    }

    /// Pixels whose middles lie `inner` to `outer` from a place.
    template <class Each>
    void in_ring(double cx, double cy, double inner, double outer, Each each) const {
        const int far = static_cast<int>(std::ceil(outer)) + 1;
        for (int j = static_cast<int>(cy) - far; j <= static_cast<int>(cy) + far; ++j)
            for (int i = static_cast<int>(cx) - far; i <= static_cast<int>(cx) + far; ++i) {
                const double r = std::hypot(i - cx, j - cy);
                if (i < 0 || j < 0 || i >= plane_.width || j >= plane_.height || r < inner || r >= outer) continue;
                if (std::isfinite(plane_(i, j))) each(i, j, static_cast<double>(plane_(i, j) - zero_));
            }
    }

    void look(int x, int y) {
        constexpr float kTop = 0.9f, kEdge = 0.5f;      // of the peak over the sky
        constexpr std::size_t kMany = 6000, kFew = 3;   // pixels of a top
        constexpr double kArea = 0.119, kFlatter = 2.2; // FWHM^2: of a Gaussian above nine tenths of its peak
        constexpr double kPixels = 3;                   // more that may lie there
        constexpr double kSpan = 0.62;                  // FWHM: of the same between four pixels
        if (std::any_of(found_.begin(), found_.end(),
                        [&](const Disc& d) { return std::hypot(d.x - x, d.y - y) < d.radius; }) ||
            tops_.seen(x, y))
            return;
        const float v = plane_(x, y) - zero_;
        const auto top = tops_.at(x, y, zero_ + kTop * v, kMany);
        if (top.size() < kFew || top.size() >= kMany) return;
        const auto area = static_cast<double>(top.size());
        double cx = 0, cy = 0;
        for (const auto& [px, py] : top)
            cx += px / area, cy += py / area;
        const double fwhm = psf_.fwhm;
        const bool wide =
            area > kFlatter * kArea * fwhm * fwhm + kPixels || span(top) > kSpan * psf_.width_at(cx, cy).major();
        if (!wide && !lacks_a_peak(cx, cy)) return;
        // Nebula and cores of galaxies are flat, but do not end within the width of a star.
        const double radius = std::sqrt(area / kPi);
        std::vector<float> ring;
        in_ring(cx, cy, radius + fwhm, radius + 1.6 * fwhm,
                [&](int, int, double value) { ring.push_back(static_cast<float>(value)); });
        if (!ring.empty() && median_in_place(ring) < kEdge * v) found_.push_back({cx, cy, radius + 2.5 * fwhm});
    }

    /// From middle to middle of its outermost pixels.
    static int span(const std::vector<std::pair<int, int>>& top) {
        const auto [left, right] = std::minmax_element(top.begin(), top.end());
        const auto [high, low] = std::minmax_element(top.begin(), top.end(),
                                                     [](const auto& a, const auto& b) { return a.second < b.second; });
        return std::max(right->first - left->first, low->second - high->second);
    }

    bool lacks_a_peak(double cx, double cy) const {
        constexpr double kSkirt = 0.7, kEnd = 1.5, kMiddle = 0.5, kLacks = 0.87; // widths
        const StarWidth width = psf_.width_at(cx, cy);
        double product = 0, square = 0, is = 0, expected = 0;
        in_ring(cx, cy, kSkirt * psf_.fwhm, kEnd * psf_.fwhm, [&](int i, int j, double value) {
            const double p = psf_.profile(width, i - cx, j - cy);
            product += p * value, square += p * p;
        });
        in_ring(cx, cy, 0, kMiddle * psf_.fwhm,
                [&](int i, int j, double value) { is += value, expected += psf_.profile(width, i - cx, j - cy); });
        return square > 0 && is < kLacks * expected * product / square;
    }

    View<const float> plane_;
    const FieldPsf& psf_;
    float zero_, noise_;
    Tops tops_;
    std::vector<Disc> found_;
};

} // namespace

PlaneStars learn_stars(View<const float> plane, const StarList& stars, double sky, double noise) {
    if (!(noise > 0)) throw DataError("it has no noise by which light could be told from it", {}, {});
    PlaneStars out;
    out.psf = measure_field_psf(plane, stars, {});
    out.flat_tops = FlatTops(plane, out.psf, sky, noise).find();
    if (!out.flat_tops.empty()) out.psf = measure_field_psf(plane, stars, out.flat_tops);
    return out;
}

std::int64_t sharpening_tiles(int width, int height) {
    return static_cast<std::int64_t>(Tiling(width, height).count());
}

std::uint64_t sharpening_bytes(int width, int height) {
    constexpr std::uint64_t kImages = 20,
                            kWide = kSide + kSide / 2; // of a tile and its iteration; a tile with its margin
    const std::uint64_t plane = static_cast<std::uint64_t>(width) * static_cast<std::uint64_t>(height) * sizeof(float);
    const std::uint64_t tiles = std::min(kTiles, Tiling(width, height).count());
    return plane + plane / 4 + 2 * tiles * kImages * kWide * kWide * sizeof(float);
}

Sharpening sharpen(View<float> plane, const PlaneStars& stars, const SharpenCall& call, const Workers& workers) {
    if (!(call.target < stars.psf.fwhm))
        throw UsageError(
            fmt::format("stars of {:.2f} pixels cannot be sharpened to {:.2f}", stars.psf.fwhm, call.target), {},
            "Name a smaller share");
    return Sharpener(plane, stars, call, workers).run();
}

} // namespace kasane
