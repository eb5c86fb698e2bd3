#include <kasane/registration/correlation.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>
#include <complex>
#include <fmt/format.h>
#include <kissfft/kissfft.hh>

namespace kasane {

namespace {

using Complex = std::complex<float>;

/// A field of complex numbers, and its transform.
struct Field {
    int width = 0, height = 0;
    std::vector<Complex> v;
    Field(int w, int h) : width(w), height(h), v(static_cast<std::size_t>(w) * static_cast<std::size_t>(h)) {}
    Complex& at(int x, int y) {
        return v[static_cast<std::size_t>(y) * static_cast<std::size_t>(width) + static_cast<std::size_t>(x)];
    }
    const Complex& at(int x, int y) const {
        return v[static_cast<std::size_t>(y) * static_cast<std::size_t>(width) + static_cast<std::size_t>(x)];
    }
};

/// In place: rows, then columns.
void fourier(Field& f, bool inverse) {
    const auto w = static_cast<std::size_t>(f.width), h = static_cast<std::size_t>(f.height);
    const kissfft<float> rows(w, inverse), columns(h, inverse);
    std::vector<Complex> in(std::max(w, h)), out(std::max(w, h));
    for (int y = 0; y < f.height; ++y) {
        std::copy_n(&f.at(0, y), w, in.begin());
        rows.transform(in.data(), &f.at(0, y));
    }
    for (int x = 0; x < f.width; ++x) {
        for (int y = 0; y < f.height; ++y)
            in[static_cast<std::size_t>(y)] = f.at(x, y);
        columns.transform(in.data(), out.data());
        for (int y = 0; y < f.height; ++y)
            f.at(x, y) = out[static_cast<std::size_t>(y)];
    }
}

/// The next even length that a fast transform likes.
int good_length(int n) {
    for (int m = n + n % 2;; m += 2) {
        int rest = m;
        for (const int p : {2, 3, 5})
            while (rest % p == 0)
                rest /= p;
        if (rest == 1) return m;
    }
}

/// Brightness in units of noise about the middle, bright stars pressed down.
Image flattened(const Image& picture) {
    std::vector<float> known;
    for (const float v : picture.pixels())
        if (std::isfinite(v)) known.push_back(v);
    Image out(picture.width(), picture.height());
    if (known.empty()) return out;
    const float middle = median_in_place(known);
    for (float& v : known)
        v = std::abs(v - middle);
    const float spread = std::max(1e-6f, 1.4826f * median_in_place(known));
    for (std::size_t i = 0; i < out.pixels().size(); ++i) {
        const float v = picture.pixels()[i];
        out.pixels()[i] = std::isfinite(v) ? std::asinh((v - middle) / (3 * spread)) : kNoData;
    }
    return out;
}

float sample(const Image& i, double x, double y) {
    const int x0 = static_cast<int>(std::floor(x)), y0 = static_cast<int>(std::floor(y));
    if (x0 < 0 || y0 < 0 || x0 + 1 >= i.width() || y0 + 1 >= i.height()) return kNoData;
    const auto fx = static_cast<float>(x - x0), fy = static_cast<float>(y - y0);
    return (1 - fy) * ((1 - fx) * i(x0, y0) + fx * i(x0 + 1, y0)) +
           fy * ((1 - fx) * i(x0, y0 + 1) + fx * i(x0 + 1, y0 + 1));
}

/// The part of a picture (already flattened) that lies under a square of the reference's picture, through a map.
Image under(const Image& picture, const Affine& map, const Region& square) {
    Image out(square.width, square.height);
    for (int y = 0; y < square.height; ++y)
        for (int x = 0; x < square.width; ++x) {
            double u = 0, v = 0;
            map.apply(square.x + x, square.y + y, u, v);
            const float s = sample(picture, u, v);
            out(x, y) = s;
        }
    return out;
}

/// Gradients as complex numbers under a window; none where data end. The field closes upon itself, so that chance makes
/// the same everywhere in what is correlated.
Field gradients(const Image& picture, int width, int height) {
    Field f(width, height);
    const int w = picture.width(), h = picture.height();
    const int left = (width - w) / 2, top = (height - h) / 2;
    const auto window = [](int n) {
        std::vector<float> v;
        for (int i = 0; i < n; ++i)
            v.push_back(static_cast<float>(std::pow(std::sin(kPi * (i + 0.5) / n), 0.7)));
        return v;
    };
    const std::vector<float> across = window(w), down = window(h);
    for (int y = 1; y + 1 < h; ++y)
        for (int x = 1; x + 1 < w; ++x) {
            const float dx = picture(x + 1, y) - picture(x - 1, y), dy = picture(x, y + 1) - picture(x, y - 1);
            if (!std::isfinite(dx) || !std::isfinite(dy)) continue;
            f.at(left + x, top + y) =
                across[static_cast<std::size_t>(x)] * down[static_cast<std::size_t>(y)] * Complex(dx, dy);
        }
    return f;
}

struct Peak {
    double x = 0, y = 0; ///< how far the second picture has moved, pixels
    double height = 0;   ///< in units of what chance makes
    double zero = 0;     ///< the same of what does not move
};

/// Whether what does not move may be what was looked for.
enum class Still { counts, is_told_apart };

/// Both fields are transforms; their phases decide, damped where noise rules.
Peak correlate(const Field& a, const Field& b, Still still) {
    const int w = a.width, h = a.height;
    Field product(w, h);
    constexpr double kSoft = 0.17; // of the sampling frequency: beyond, pixels are noise
    const auto soft = [](int n) {
        std::vector<float> v;
        for (int i = 0; i < n; ++i) {
            const double k = (i <= n / 2 ? i : i - n) / static_cast<double>(n);
            v.push_back(static_cast<float>(std::exp(-0.5 * k * k / (kSoft * kSoft))));
        }
        return v;
    };
    const std::vector<float> across = soft(w), down = soft(h);
    for (int y = 0; y < h; ++y)
        for (int x = 0; x < w; ++x) {
            const Complex c = b.at(x, y) * std::conj(a.at(x, y));
            const float root = std::sqrt(std::sqrt(std::norm(c))); // of its size, of which three quarters are taken out
            if (root > 0)
                product.at(x, y) = c * (across[static_cast<std::size_t>(x)] * down[static_cast<std::size_t>(y)] /
                                        (root * std::sqrt(root)));
        }
    fourier(product, true);
    std::vector<float> heights;
    heights.reserve(product.v.size());
    for (const Complex& c : product.v)
        heights.push_back(c.real());
    std::vector<float> sizes = heights;
    for (float& v : sizes)
        v = std::abs(v);
    const double sigma = std::max(1e-30, 1.4826 * static_cast<double>(median_in_place(sizes)));
    const auto height = [&](int x, int y) { return static_cast<double>(product.at((x + w) % w, (y + h) % h).real()); };
    Peak best;
    int bx = 0, by = 0;
    constexpr int kStill = 2;
    for (int y = -h / 2; y < h / 2; ++y)
        for (int x = -w / 2; x < w / 2; ++x) {
            const double here = height(x, y) / sigma;
            if (std::abs(x) < kStill && std::abs(y) < kStill) {
                best.zero = std::max(best.zero, here);
                if (still == Still::is_told_apart) continue;
            }
            if (here > best.height) best.height = here, bx = x, by = y;
        }
    // The shoulder of what stands still is not another peak.
    if (still == Still::is_told_apart && best.zero > best.height && std::abs(bx) <= 2 * kStill &&
        std::abs(by) <= 2 * kStill)
        best.height = 0;
    const auto vertex = [](double before, double at, double after) {
        const double bend = before - 2 * at + after;
        return bend < 0 ? std::clamp(0.5 * (before - after) / bend, -0.5, 0.5) : 0.0;
    };
    best.x = bx + vertex(height(bx - 1, by), height(bx, by), height(bx + 1, by));
    best.y = by + vertex(height(bx, by - 1), height(bx, by), height(bx, by + 1));
    return best;
}

/// Magnitudes of a spectrum by angle (half a turn) and logarithm of the radius.
Field log_polar(const Field& spectrum, int size, double& log_step) {
    const int n = spectrum.width;
    Field out(size, size);
    const double least = 0.02 * n, most = 0.35 * n; // between vignetting and noise
    log_step = std::log(most / least) / size;
    Image magnitudes(size, size);
    for (int y = 0; y < size; ++y)
        for (int x = 0; x < size; ++x) {
            const double angle = kPi * y / size, r = least * std::exp(log_step * x);
            const double u = r * std::cos(angle), v = r * std::sin(angle);
            const int iu = static_cast<int>(std::lround(u)), iv = static_cast<int>(std::lround(v));
            const float m = std::log(1e-12f + std::abs(spectrum.at((iu + n) % n, (iv + n) % n)));
            magnitudes(x, y) = m;
        }
    // Each radius against its own mean: spectra fall off.
    for (int x = 0; x < size; ++x) {
        float mean = 0;
        for (int y = 0; y < size; ++y)
            mean += magnitudes(x, y);
        mean /= static_cast<float>(size);
        const double window = std::sin(kPi * (x + 0.5) / size);
        for (int y = 0; y < size; ++y)
            out.at(x, y) = static_cast<float>(window) * (magnitudes(x, y) - mean);
    }
    return out;
}

/// A turn about the middle of one picture and the middle of the other, counter-clockwise as displayed.
Affine turned_about(const Image& reference, const Image& frame, double degrees_, double scale) {
    const double c = scale * std::cos(radians(degrees_)), s = scale * std::sin(radians(degrees_));
    const double rx = 0.5 * (reference.width() - 1), ry = 0.5 * (reference.height() - 1),
                 fx = 0.5 * (frame.width() - 1), fy = 0.5 * (frame.height() - 1);
    return {c, s, fx - c * rx - s * ry, -s, c, fy + s * rx - c * ry};
}

class Correlation {
public:
    Correlation(const PicturePyramid& reference, const PicturePyramid& frame, const CorrelationOptions& o)
        : r_(reference), f_(frame), o_(o), reference_(flattened(reference.coarse)), frame_(flattened(frame.coarse)),
          // Frames of other pixels are brought to one of the steps.
          steps_(static_cast<double>(reference.coarse_step) / frame.coarse_step) {
        still_ = spectrum(reference_, good_length(reference_.width()), good_length(reference_.height()));
    }

    Outcome run() {
        for (const Affine& guess : o_.guesses)
            try_turn(guess.rotation(), steps_ * guess.scale());
        for (const double turn : {0.0, 180.0})
            try_turn(turn, steps_);
        if (!significant()) by_spectra();
        if (!significant()) return refusal();
        refine_turn();
        Affine map = to_pixels(best_map(), r_.coarse_step, f_.coarse_step);
        double left = 0.3 * r_.coarse_step;
        int looked_at = 0;
        const int patches = by_patches(map, left, looked_at);
        // What agrees as a whole agrees in its parts: a pattern of the sensor's or a flat's does not.
        constexpr double kShare = 0.4, kPlain = 3; // of the patches; times the least height, where there are none
        if (looked_at > 0 ? patches < std::max(3.0, kShare * looked_at) : best_.height < kPlain * least_height())
            return {{},
                    Hindrance::no_agreement,
                    fmt::format("nor does its picture agree with the reference's but in {} of {} patches", patches,
                                looked_at)};
        Registration found;
        found.to_frame = Transform(map);
        found.model = {Mapping::similarity, Optics::none};
        found.rms = left;
        found.share = 1;
        found.way = fmt::format("by its picture, not by stars: a peak {:.0f} times what chance makes, {}", best_.height,
                                patches ? fmt::format("{} patches {:.2f} px apart", patches, left)
                                        : std::string("its place in coarse pixels only"));
        return Outcome::of(found);
    }

private:
    static Field spectrum(const Image& picture, int width, int height) {
        Field f = gradients(picture, width, height);
        fourier(f, false);
        return f;
    }

    /// A normal deviate as high is expected `false_alarms` times in all places that were tried.
    double least_height() const {
        const double places = static_cast<double>(still_.v.size()) * (1 + tried_);
        // Pictures are no noise: what is smooth in both, a gradient or the edge of a flat, makes higher peaks by
        // chance.
        constexpr double kTexture = 1.6;
        return kTexture * std::sqrt(2 * std::log(places / o_.false_alarms));
    }
    bool significant() const { return best_.height > least_height(); }

    Outcome refusal() const {
        if (still_height_ > least_height())
            return {{},
                    Hindrance::no_agreement,
                    "what its picture has in common with the reference's stands still as the sensor does, as hot "
                    "pixels or dust would"};
        return {{},
                Hindrance::no_agreement,
                fmt::format("nor does its picture agree with the reference's anywhere (a peak of {:.1f}, chance makes "
                            "{:.1f})",
                            best_.height, least_height())};
    }

    Peak peak_of(double turn, double scale) const {
        const Affine map = turned_about(reference_, frame_, turn, scale);
        const Field f =
            spectrum(under(frame_, map, {0, 0, reference_.width(), reference_.height()}), still_.width, still_.height);
        // A pattern that stands still is seen through a slight turn as well.
        constexpr double kUpright = 1.5, kAlike = 0.02; // degrees; of the scale
        const bool upright = std::abs(turn) < kUpright && std::abs(scale / steps_ - 1) < kAlike;
        return correlate(still_, f, upright ? Still::is_told_apart : Still::counts);
    }

    void try_turn(double turn, double scale) {
        ++tried_;
        const Peak p = peak_of(turn, scale);
        still_height_ = std::max(still_height_, p.zero);
        if (p.height <= best_.height) return;
        best_ = p;
        turn_ = turn;
        scale_ = scale;
    }

    /// Turn and scale from the magnitudes of the spectra, which shifts do not touch.
    void by_spectra() {
        constexpr int kSize = 256;
        double step = 0;
        const int side =
            good_length(std::max({reference_.width(), reference_.height(), frame_.width(), frame_.height()}));
        Field a = log_polar(spectrum(reference_, side, side), kSize, step),
              b = log_polar(spectrum(frame_, side, side), kSize, step);
        fourier(a, false);
        fourier(b, false);
        const Peak p = correlate(a, b, Still::counts);
        // The frame's spectrum turns as the frame does; it shrinks where the frame grows.
        const double turn = -180.0 * p.y / kSize, scale = std::exp(-step * p.x);
        constexpr double kLeast = 0.18, kMost = 5.5;
        if (!(scale > kLeast && scale < kMost)) return;
        for (const double half : {0.0, 180.0})
            for (const double off : {-0.5, 0.0, 0.5})
                try_turn(turn + half + off, scale);
    }

    void refine_turn() {
        for (const double reach : {0.5, 0.25, 0.12, 0.06}) {
            const double turn = turn_;
            for (const double off : {-reach, reach})
                try_turn(turn + off, scale_);
        }
    }

    Affine best_map() const {
        Affine m = turned_about(reference_, frame_, turn_, scale_);
        // The picture under the reference has moved by the peak: what lies at p in it belongs to p - peak.
        m.c += m.a * best_.x + m.b * best_.y;
        m.f += m.d * best_.x + m.e * best_.y;
        return m;
    }

    /// From pixels to squares of pixels: square i reaches over pixels i step to (i + 1) step.
    static Affine into(double step) { return {1 / step, 0, 0.5 / step - 0.5, 0, 1 / step, 0.5 / step - 0.5}; }
    /// Between pixels what `m` is between squares.
    static Affine to_pixels(const Affine& m, double reference_step, double frame_step) {
        return into(frame_step).inverse().after(m.after(into(reference_step)));
    }

    /// A similarity through what patches of the finer pictures have moved; how many agreed, at least two.
    int by_patches(Affine& map, double& left, int& looked_at) const {
        constexpr int kSquare = 256, kAcross = 5, kDown = 4;
        const Image reference = flattened(r_.fine), frame = flattened(f_.fine);
        if (reference.width() < kSquare || reference.height() < kSquare) return 0;
        int used = 0;
        for (int round = 0; round < 3; ++round) {
            looked_at = 0;
            struct Moved {
                Point at, to; // fine pixels of reference and frame
            };
            std::vector<Moved> all;
            const double ratio_r = r_.fine_step, ratio_f = f_.fine_step;
            const Affine fine = into(ratio_f).after(map.after(into(ratio_r).inverse()));
            for (int row = 0; row < kDown; ++row)
                for (int column = 0; column < kAcross; ++column) {
                    const Region square{(reference.width() - kSquare) * column / (kAcross - 1),
                                        (reference.height() - kSquare) * row / (kDown - 1), kSquare, kSquare};
                    const Image here = under(reference, {}, square), there = under(frame, fine, square);
                    std::size_t known = 0;
                    for (const float v : there.pixels())
                        known += std::isfinite(v);
                    constexpr double kEnough = 0.6;
                    if (static_cast<double>(known) < kEnough * kSquare * kSquare) continue;
                    ++looked_at;
                    const Peak p =
                        correlate(spectrum(here, kSquare, kSquare), spectrum(there, kSquare, kSquare), Still::counts);
                    const double reach = round == 0 ? 3.0 * r_.coarse_step / r_.fine_step : 3.0;
                    constexpr double kClear = 7; // of 65536 places, by chance once in a million
                    if (p.height < kClear || std::hypot(p.x, p.y) > reach) continue;
                    const Point at{square.x + 0.5 * (kSquare - 1), square.y + 0.5 * (kSquare - 1)};
                    Point to;
                    fine.apply(at.x + p.x, at.y + p.y, to.x, to.y);
                    all.push_back({at, to});
                }
            if (all.size() < 2) return used;
            // Least squares in a, b, c, f of a similarity, twice, without what is far off.
            Eigen::Vector4d s;
            double spread = 0;
            for (int pass = 0; pass < 2; ++pass) {
                Eigen::Matrix4d normal = Eigen::Matrix4d::Zero();
                Eigen::Vector4d right = Eigen::Vector4d::Zero();
                for (const Moved& m : all) {
                    Eigen::Matrix<double, 2, 4> row;
                    row << m.at.x, m.at.y, 1, 0, m.at.y, -m.at.x, 0, 1;
                    normal += row.transpose() * row;
                    right += row.transpose() * Eigen::Vector2d(m.to.x, m.to.y);
                }
                s = normal.ldlt().solve(right);
                std::vector<float> off;
                for (const Moved& m : all)
                    off.push_back(static_cast<float>(std::hypot(s[0] * m.at.x + s[1] * m.at.y + s[2] - m.to.x,
                                                                s[0] * m.at.y - s[1] * m.at.x + s[3] - m.to.y)));
                std::vector<float> sorted = off;
                spread = median_in_place(sorted);
                constexpr double kFar = 4;
                std::vector<Moved> near;
                for (std::size_t i = 0; i < all.size(); ++i)
                    if (off[i] <= kFar * spread + 1e-9) near.push_back(all[i]);
                if (near.size() >= 2) all = near;
            }
            const Affine fitted{s[0], s[1], s[2], -s[1], s[0], s[3]};
            map = to_pixels(fitted, ratio_r, ratio_f);
            left = spread * ratio_f;
            used = static_cast<int>(all.size());
        }
        return used;
    }

    const PicturePyramid &r_, &f_;
    const CorrelationOptions& o_;
    Image reference_, frame_;
    double steps_;
    Field still_{0, 0}; ///< spectrum of the reference
    Peak best_;
    double turn_ = 0, scale_ = 1, still_height_ = 0;
    int tried_ = 0;
};

/// Means over squares; NaN where less than half of one is known.
void add_band(const Image& band, int y0, int step, Image& out) {
    const int rows = std::min(band.height() / step, out.height() - y0 / step);
    for (int y = 0; y < rows; ++y)
        for (int x = 0; x < out.width(); ++x) {
            double sum = 0;
            int n = 0;
            for (int j = 0; j < step; ++j)
                for (int i = 0; i < step; ++i)
                    if (const float v = band(x * step + i, y * step + j); std::isfinite(v)) sum += v, ++n;
            out(x, y0 / step + y) = 2 * n >= step * step ? static_cast<float>(sum / n) : kNoData;
        }
}

} // namespace

PicturePyramid picture_of(const PlaneSource& source, int plane) {
    constexpr int kCoarse = 400, kFine = 2000; // pixels of the longer side, at most
    const int longer = std::max(source.width(), source.height());
    PicturePyramid p;
    p.width = source.width();
    p.height = source.height();
    p.fine_step = std::max(1, (longer + kFine - 1) / kFine);
    p.coarse_step = p.fine_step * std::max(1, (longer / p.fine_step + kCoarse - 1) / kCoarse);
    p.fine = Image(p.width / p.fine_step, p.height / p.fine_step);
    p.coarse = Image(p.width / p.coarse_step, p.height / p.coarse_step);
    constexpr int kRows = 96; // at once: what demosaics reads a margin around each band
    const int rows = std::max(1, kRows / p.coarse_step) * p.coarse_step, all_rows = p.coarse.height() * p.coarse_step;
    for (int y = 0; y < all_rows; y += rows) {
        const Region band{0, y, p.width, std::min(rows, all_rows - y)};
        Image all(band.width, band.height, source.planes());
        std::vector<View<float>> views;
        for (int k = 0; k < source.planes(); ++k)
            views.push_back(all.plane(k));
        source.read(band, views);
        Image one(band.width, band.height);
        for (int row = 0; row < band.height; ++row)
            std::copy_n(all.plane(plane).row(row), band.width, one.plane().row(row));
        add_band(one, y, p.fine_step, p.fine);
        add_band(one, y, p.coarse_step, p.coarse);
    }
    for (int y = p.coarse.height() * p.coarse_step / p.fine_step; y < p.fine.height(); ++y)
        std::fill_n(p.fine.plane().row(y), p.fine.width(), kNoData);
    source.release();
    return p;
}

Outcome correlate_pictures(const PicturePyramid& reference, const PicturePyramid& frame,
                           const CorrelationOptions& options) {
    constexpr int kLeast = 48; // pixels
    if (std::min({reference.coarse.width(), reference.coarse.height(), frame.coarse.width(), frame.coarse.height()}) <
        kLeast)
        return {{}, Hindrance::no_agreement, "its picture is too small to be compared"};
    return Correlation(reference, frame, options).run();
}

} // namespace kasane
