#include <kasane/finishing/sky_noise.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/robust_fit.hpp>

#include <algorithm>
#include <cmath>
#include <complex>
#include <kissfft/kissfft.hh>
#include <numeric>
#include <optional>

namespace kasane {

namespace {

constexpr int kSide = 32;     // pixels of a window
constexpr int kRings = 24;    // of frequencies, each one cycle in a window wide, to the corner
constexpr int kMostRows = 80; // of windows

using Power = std::array<double, kRings>; // squared ADU, of white noise its variance

/// Which ring a frequency belongs to, in cycles along a window.
int ring_of(int u, int v) {
    const auto cycles = [](int k) { return k <= kSide / 2 ? k : k - kSide; };
    return static_cast<int>(std::lround(std::hypot(cycles(u), cycles(v))));
}

std::array<double, kSide> taper() {
    std::array<double, kSide> w{};
    for (int i = 0; i < kSide; ++i)
        w[static_cast<std::size_t>(i)] = 0.5 - 0.5 * std::cos(2 * kPi * (i + 0.5) / kSide);
    return w;
}

/// Frequencies of each ring.
std::array<int, kRings> ring_sizes() {
    std::array<int, kRings> n{};
    for (int v = 0; v < kSide; ++v)
        for (int u = 0; u < kSide; ++u)
            ++n[static_cast<std::size_t>(ring_of(u, v))];
    return n;
}

/// The power by rings of a window less its plane; empty where a pixel has no data.
std::optional<Power> power_of(View<const float> image, int left, int top) {
    static const std::array<double, kSide> window = taper();
    std::vector<std::complex<float>> values(kSide * kSide), turned(kSide * kSide);
    double mean = 0, slope_x = 0, slope_y = 0, squares = 0;
    constexpr double kMiddle = 0.5 * (kSide - 1);
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x) {
            const auto v = static_cast<double>(image(left + x, top + y));
            if (!std::isfinite(v)) return std::nullopt;
            mean += v, slope_x += (x - kMiddle) * v, slope_y += (y - kMiddle) * v;
            squares += (x - kMiddle) * (x - kMiddle);
        }
    mean /= kSide * kSide, slope_x /= squares, slope_y /= squares;
    double weight = 0;
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x) {
            const double w = window[static_cast<std::size_t>(x)] * window[static_cast<std::size_t>(y)];
            weight += w * w;
            values[static_cast<std::size_t>(y * kSide + x)] =
                static_cast<float>(w * (static_cast<double>(image(left + x, top + y)) - mean - slope_x * (x - kMiddle) -
                                        slope_y * (y - kMiddle)));
        }
    const kissfft<float> transform(kSide, false);
    for (int y = 0; y < kSide; ++y)
        transform.transform(&values[static_cast<std::size_t>(y * kSide)], &turned[static_cast<std::size_t>(y * kSide)]);
    for (int y = 0; y < kSide; ++y)
        for (int x = 0; x < kSide; ++x)
            values[static_cast<std::size_t>(x * kSide + y)] = turned[static_cast<std::size_t>(y * kSide + x)];
    Power out{};
    static const std::array<int, kRings> sizes = ring_sizes();
    for (int x = 0; x < kSide; ++x) {
        transform.transform(&values[static_cast<std::size_t>(x * kSide)], turned.data());
        for (int y = 0; y < kSide; ++y)
            out[static_cast<std::size_t>(ring_of(x, y))] +=
                static_cast<double>(std::norm(turned[static_cast<std::size_t>(y)]));
    }
    for (std::size_t r = 0; r < kRings; ++r)
        out[r] /= weight * std::max(1, sizes[r]);
    return out;
}

/// Cycles a pixel beyond which there is no sky. Of undersampled stars something of it is left at the highest.
double cutoff(double fwhm) {
    constexpr double kCycles = 0.95, kMost = 0.42; // in a FWHM; a pixel
    return std::min(kMost, kCycles / std::max(0.5, fwhm));
}

/// Where no star is near: of pixels of the first image.
Mask near_stars(const std::vector<ComparedImage>& images) {
    Mask mask(images.front().pixels->width(), images.front().pixels->height());
    for (const ComparedImage& image : images)
        for (const Star& s : *image.stars) {
            const Point at = image.to_image.unmap({s.x, s.y});
            if (!std::isfinite(at.x) || !std::isfinite(at.y)) continue;
            constexpr double kWings = 2.5; // FWHM from its middle, of a star
            const double scale = std::max(1e-3, image.to_image.at(at).scale()),
                         reach = kWings * std::max(image.fwhm, s.fwhm) / scale;
            if (!std::isfinite(reach)) continue;
            const int across = static_cast<int>(2 * reach) + 3;
            const Region box = intersect({static_cast<int>(std::floor(at.x - reach)),
                                          static_cast<int>(std::floor(at.y - reach)), across, across},
                                         mask.bounds());
            for (int y = box.y; y < box.bottom(); ++y)
                for (int x = box.x; x < box.right(); ++x)
                    if (std::hypot(x - at.x, y - at.y) <= reach) mask(x, y) = 1;
        }
    return mask;
}

/// A place that all images show.
struct Place {
    std::vector<Power> power; ///< by image; empty: some image does not show it
    bool starless = false;
    double roughness = 0; ///< logarithm of the power at the lowest frequencies, of all images
};

class Sky {
public:
    Sky(const std::vector<ComparedImage>& images, const std::vector<double>& scales, const Workers& workers)
        : images_(images) {
        const int width = images.front().pixels->width(), height = images.front().pixels->height();
        double apart = std::max(width, height) / static_cast<double>(kMostRows);
        for (const double scale : scales) {
            sides_.push_back(kSide / scale);
            apart = std::max(apart, 0.5 * sides_.back());
        }
        const int columns = std::max(1, static_cast<int>(width / apart)),
                  rows = std::max(1, static_cast<int>(height / apart));
        const Mask stars = near_stars(images);
        places_.resize(static_cast<std::size_t>(columns) * static_cast<std::size_t>(rows));
        workers.for_each(static_cast<std::size_t>(rows), [&](std::size_t row) {
            for (int i = 0; i < columns; ++i)
                places_[row * static_cast<std::size_t>(columns) + static_cast<std::size_t>(i)] =
                    look({(i + 0.5) * width / columns, (static_cast<double>(row) + 0.5) * height / rows}, stars);
        });
    }

    /// The places that tell: without stars, where there are enough of them.
    std::vector<const Place*> places() const {
        constexpr std::size_t kEnough = 40, kLeast = 10, kCrowded = 10;
        std::vector<const Place*> starless, all;
        for (const Place& p : places_) {
            if (p.power.empty()) continue;
            all.push_back(&p);
            if (p.starless) starless.push_back(&p);
        }
        if (starless.size() >= kEnough) return starless;
        return flattest(all.size() < kLeast ? std::vector<const Place*>() : all, kCrowded);
    }
    /// One in `part` of them, those with least at the lowest frequencies, but ten at least.
    static std::vector<const Place*> flattest(std::vector<const Place*> from, std::size_t part) {
        constexpr std::size_t kFewest = 10;
        std::stable_sort(from.begin(), from.end(),
                         [](const Place* a, const Place* b) { return a->roughness < b->roughness; });
        from.resize(std::min(from.size(), std::max(kFewest, from.size() / part)));
        return from;
    }

private:
    Place look(Point at, const Mask& stars) const {
        Place out;
        std::vector<Power> power;
        double widest = 0;
        for (std::size_t k = 0; k < images_.size(); ++k) {
            const Point p = images_[k].to_image.map(at);
            const View<const float> plane = images_[k].pixels->plane(main_plane(images_[k].pixels->planes()));
            if (!std::isfinite(p.x) || !std::isfinite(p.y)) return out;
            const double x = std::floor(p.x) - kSide / 2, y = std::floor(p.y) - kSide / 2;
            if (!(x >= 0 && y >= 0 && x + kSide <= plane.width && y + kSide <= plane.height)) return out;
            const auto here = power_of(plane, static_cast<int>(x), static_cast<int>(y));
            if (!here) return out;
            out.roughness += std::log(std::max(1e-30, (*here)[1]));
            power.push_back(*here);
            widest = std::max(widest, sides_[k]);
        }
        const int half = static_cast<int>(0.5 * widest);
        const Region around = intersect(
            {static_cast<int>(at.x) - half, static_cast<int>(at.y) - half, 2 * half + 1, 2 * half + 1}, stars.bounds());
        out.starless = true;
        for (int y = around.y; out.starless && y < around.bottom(); ++y)
            out.starless = std::find(stars.plane().row(y) + around.x, stars.plane().row(y) + around.right(), 1) ==
                           stars.plane().row(y) + around.right();
        out.power = std::move(power);
        return out;
    }

    const std::vector<ComparedImage>& images_;
    std::vector<double> sides_; ///< of the windows, pixels of the first image
    std::vector<Place> places_;
};

/// The spectrum of noise alone.
struct NoiseSpectrum {
    double at_zero = 0, fall = 0; ///< below the cutoff: at_zero exp(-fall f^2), squared ADU; f in cycles a pixel
    double from = 0;              ///< the cutoff
    Power measured{};

    double at(double f) const {
        if (f <= from) return at_zero * std::exp(-fall * f * f);
        const double place = std::min(f * kSide, kRings - 1.001);
        const auto r = static_cast<std::size_t>(place);
        return measured[r] + (place - static_cast<double>(r)) * (measured[r + 1] - measured[r]);
    }
};

/// That of the usual place.
Power usual_power(const std::vector<const Place*>& places, std::size_t image) {
    static const std::array<int, kRings> sizes = ring_sizes();
    Power out{};
    for (std::size_t r = 0; r < kRings; ++r) {
        std::vector<float> values;
        for (const Place* p : places)
            values.push_back(static_cast<float>(p->power[image][r]));
        // Each is a sum of squares over so many independent frequencies: the median lies below the mean (E. Wilson and
        // M. Hilferty, Proc. Nat. Acad. Sci. 17, 1931). The taper makes two and a quarter frequencies one.
        const double freedom = std::max(1.0, sizes[r] / 2.25);
        out[r] = static_cast<double>(median_in_place(values)) / std::pow(1 - 2 / (9 * freedom), 3);
    }
    return out;
}

/// Squared cycles a pixel.
double square_of(int ring) {
    return ring * ring / static_cast<double>(kSide * kSide);
}

/// The logarithm of the power between two rings of so many windows, as a straight line in the square of the frequency:
/// to the first order it falls so, whatever shares the noise. Level where a fall is no more than chance.
Eigen::Vector2d line_through(const Power& power, int first, int last, std::size_t windows) {
    static const std::array<int, kRings> sizes = ring_sizes();
    // Of real values half the frequencies are news, of those the taper makes one of two and a quarter, and windows
    // share half their pixels.
    constexpr double kNews = 1 / (2 * 2.25 * 2);
    std::vector<Equation<2>> equations;
    double weights = 0, sum = 0, squares = 0, logs = 0;
    for (int r = first; r <= last; ++r) {
        const auto at = static_cast<std::size_t>(r);
        if (!(power[at] > 0)) continue;
        const double w = kNews * sizes[at] * static_cast<double>(windows), x = square_of(r), y = std::log(power[at]);
        equations.push_back({{1, -x}, y, w});
        weights += w, sum += w * x, squares += w * x * x, logs += w * y;
    }
    const Eigen::Vector2d line = least_squares(equations);
    constexpr double kChance = 2.5; // errors
    const double error = 1 / std::sqrt(std::max(1e-12, squares - sum * sum / std::max(1e-12, weights)));
    if (line.allFinite() && std::abs(line[1]) < kChance * error) return {logs / weights, 0};
    return line;
}

NoiseSpectrum spectrum_of(const std::vector<const Place*>& places, std::size_t image, double fwhm) {
    static const std::array<int, kRings> sizes = ring_sizes();
    constexpr std::size_t kFlattest = 3;
    const std::vector<const Place*> flattest = Sky::flattest(places, kFlattest);
    const Power flat = usual_power(flattest, image);
    NoiseSpectrum out;
    out.measured = usual_power(places, image);
    out.from = cutoff(fwhm);
    constexpr double kBand = 1.35; // up to so many times the cutoff
    constexpr int kFewest = 4;
    const int first = static_cast<int>(std::ceil(out.from * kSide)),
              last = std::min(kRings - 2, std::max(first + kFewest - 1, static_cast<int>(kBand * out.from * kSide)));
    const Eigen::Vector2d line = line_through(out.measured, first, last, places.size()),
                          shape = line_through(flat, first, last, flattest.size());
    out.at_zero = std::nan("");
    if (!line.allFinite() || !shape.allFinite()) return out; // nothing scatters there: steps, or no noise at all
    const double edge = square_of(first);
    out.fall = line[1];
    out.at_zero = std::exp(line[0]);
    if (out.fall <= 0) return out;
    // Below, there is sky beside the noise: never less than the noise. What keeps its noise up to the cutoff and loses
    // it beyond (a good interpolation) is told so from what loses it all the way. Rings two by two; the taper keeps
    // those from the third on free of the mean.
    constexpr double kNear = 0.8;
    for (int r = 3; r + 1 <= std::max(4, static_cast<int>(kNear * first)) && r + 1 < first; r += 2) {
        const auto at = static_cast<std::size_t>(r);
        const double n0 = sizes[at], n1 = sizes[at + 1], power = (n0 * flat[at] + n1 * flat[at + 1]) / (n0 + n1),
                     square = (n0 * square_of(r) + n1 * square_of(r + 1)) / (n0 + n1);
        const double error = 1 / std::sqrt(static_cast<double>(flattest.size()) * 0.5 * (n0 + n1)); // of its logarithm
        const double most =
            (std::log(std::max(1e-300, power)) + error - (shape[0] - shape[1] * edge)) / std::max(1e-9, edge - square);
        out.fall = std::min(out.fall, most);
    }
    out.at_zero = std::exp(line[0] - line[1] * edge + out.fall * edge);
    return out;
}

/// Variance of the sum over a disc: the spectrum times the squared transform of the disc, r J1(2 pi r f) / f.
double disc_variance_of(const NoiseSpectrum& s, double radius) {
    constexpr int kSteps = 2000;
    constexpr double kMost = 0.7;
    double sum = 0;
    for (int i = 0; i < kSteps; ++i) {
        const double f = (i + 0.5) * kMost / kSteps;
        const double disc = radius * ::j1(2 * kPi * radius * f) / f;
        sum += s.at(f) * disc * disc * 2 * kPi * f * kMost / kSteps;
    }
    return sum;
}

} // namespace

SkyNoise measure_sky_noise(const std::vector<ComparedImage>& images, const std::vector<double>& radius,
                           const std::vector<double>& scale, const Workers& workers) {
    SkyNoise out;
    out.images.resize(images.size());
    const Sky sky(images, scale, workers);
    const std::vector<const Place*> places = sky.places();
    out.places = static_cast<int>(places.size());
    static const std::array<int, kRings> sizes = ring_sizes();
    for (std::size_t k = 0; k < images.size() && out.places > 0; ++k) {
        const NoiseSpectrum s = spectrum_of(places, k, radius[k]);
        double pixel = 0;
        for (int r = 0; r < kRings; ++r)
            pixel += sizes[static_cast<std::size_t>(r)] * s.at(static_cast<double>(r) / kSide) / (kSide * kSide);
        SkyNoise::OfImage& o = out.images[k];
        o.pixel = std::sqrt(pixel);
        o.disc = std::sqrt(disc_variance_of(s, radius[k]));
        NoiseSpectrum white;
        white.at_zero = pixel, white.from = 1;
        o.white = std::sqrt(disc_variance_of(white, radius[k]));
    }
    return out;
}

} // namespace kasane
