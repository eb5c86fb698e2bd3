// F19: what deconvolution leaves around stars, and whether it does what it says.
#include "fidelity_measures.hpp"

#include <kasane/finishing/sharpen.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <functional>

namespace kasane::bench {

namespace {

constexpr int kWidth = 1600, kHeight = 1100;
constexpr double kSky = 500, kNoise = 5, kFull = 40000;

/// Of a star of one as its peak, at a distance from its middle, in a field of -1 to 1 along its width.
using Profile = std::function<double(double dx, double dy, double place)>;

struct Case {
    const char* name;
    Profile profile;
};

double moffat(double q, double beta) {
    return std::pow(1 + (std::exp2(1 / beta) - 1) * 4 * q, -beta);
}

double gaussian(double q) {
    return std::exp2(-4 * q);
}

struct Light {
    double x, y, peak;
};

struct Field {
    Image pixels{kWidth, kHeight};
    std::vector<Light> lights;
};

Field field_of(const Profile& profile, std::uint64_t seed) {
    Field f;
    sky::Random noise(seed), place(seed + 1);
    for (float& v : f.pixels.pixels())
        v = static_cast<float>(kSky + kNoise * noise.normal());
    constexpr int kCell = 62, kReach = 60; // each star is seen alone
    for (int row = 0; row < kHeight / kCell; ++row)
        for (int column = 0; column < kWidth / kCell; ++column) {
            const Light l{kCell * (column + 0.5) + place.uniform(-6, 6), kCell * (row + 0.5) + place.uniform(-6, 6),
                          20 * std::pow(3000.0, std::pow(place.uniform(0, 1), 2))};
            f.lights.push_back(l);
            for (int y = std::max(0, static_cast<int>(l.y) - kReach);
                 y < std::min(kHeight, static_cast<int>(l.y) + kReach); ++y)
                for (int x = std::max(0, static_cast<int>(l.x) - kReach);
                     x < std::min(kWidth, static_cast<int>(l.x) + kReach); ++x) {
                    const double light = l.peak * profile(x - l.x, y - l.y, 2 * l.x / kWidth - 1);
                    f.pixels(x, y) += static_cast<float>(light + kNoise * std::sqrt(light / kSky) * noise.normal());
                }
        }
    for (float& v : f.pixels.pixels())
        v = std::min(v, static_cast<float>(kFull));
    return f;
}

/// Mean of a ring over the sky, in sigma of a pixel; nothing where it is too small.
double ring(const Image& image, const Light& l, double inner) {
    double sum = 0, count = 0;
    const int far = static_cast<int>(inner) + 3;
    for (int j = -far; j <= far; ++j)
        for (int i = -far; i <= far; ++i) {
            const int x = static_cast<int>(std::lround(l.x)) + i, y = static_cast<int>(std::lround(l.y)) + j;
            const double r = std::hypot(x - l.x, y - l.y);
            if (r < inner || r >= inner + 1.5 || x < 0 || y < 0 || x >= kWidth || y >= kHeight) continue;
            sum += static_cast<double>(image(x, y)) - kSky, ++count;
        }
    return count > 0 ? sum / count / kNoise : 0;
}

struct Outcome {
    double undershoot = 0; ///< of the darkest ring of any star beyond what it was, sigma
    double light = 0;      ///< of stars that are not cut off: mean change
    double width = 0;      ///< over what was asked for, less 1
};

Outcome sharpened(const Case& c, double share, const Workers& workers) {
    const Field f = field_of(c.profile, 17);
    const StarList stars = detect_stars(f.pixels.plane());
    const PlaneStars known = learn_stars(f.pixels.plane(), stars, kSky, kNoise);
    const FieldPsf& psf = known.psf;
    Image after = f.pixels;
    SharpenCall call;
    call.target = share * psf.fwhm, call.sky = kSky, call.noise = kNoise;
    sharpen(after.plane(), known, call, workers);
    Outcome o;
    o.width = detect_stars(after.plane()).fwhm / call.target - 1;
    double count = 0;
    for (const Light& l : f.lights) {
        for (double inner = 0.5 * psf.fwhm; inner < 6 * psf.fwhm; inner += 0.5) {
            // Noise makes dark rings as well: what is darker than the sky must have become so.
            const double is = ring(after, l, inner), was = std::min(0.0, ring(f.pixels, l, inner));
            o.undershoot = std::max(o.undershoot, was - is);
        }
        if (l.peak < 200 * kNoise || l.peak > 0.9 * (kFull - kSky)) continue;
        double lights[2] = {};
        for (int j = -16; j <= 16; ++j)
            for (int i = -16; i <= 16; ++i) {
                const int x = static_cast<int>(std::lround(l.x)) + i, y = static_cast<int>(std::lround(l.y)) + j;
                if (x < 0 || y < 0 || x >= kWidth || y >= kHeight || std::hypot(i, j) > 16) continue;
                lights[0] += static_cast<double>(f.pixels(x, y)) - kSky;
                lights[1] += static_cast<double>(after(x, y)) - kSky;
            }
        o.light += lights[1] / lights[0] - 1, ++count;
    }
    o.light /= std::max(1.0, count);
    return o;
}

} // namespace

std::vector<Figure> sharpening(const Context& context) {
    constexpr double kWide = 3.2;
    const Case cases[] = {
        {"Moffat stars", [](double dx, double dy, double) { return moffat((dx * dx + dy * dy) / (kWide * kWide), 3); }},
        {"drawn out towards the edges",
         [](double dx, double dy, double place) {
             const double wide = kWide * (1 + 0.25 * place * place);
             return moffat(dx * dx / (wide * wide) + dy * dy / (kWide * kWide), 3);
         }},
        {"a core in a halo, as no Moffat function has it", [](double dx, double dy, double) {
             const double q = (dx * dx + dy * dy) / (kWide * kWide);
             return 0.9 * gaussian(q) + 0.1 * gaussian(q / 4);
         }}};
    std::vector<Figure> figures;
    for (const Case& c : cases)
        for (const double share : {0.75, 0.6}) {
            const Outcome o = sharpened(c, share, context.workers);
            const std::string what = fmt::format("sharpened to {} of their width, {}", share, c.name);
            figures.push_back({"F19", what + ": darkest ring around any star", o.undershoot, "sigma", 0.5});
            figures.push_back({"F19", what + ": light of stars", 100 * o.light, "%", 1});
            figures.push_back({"F19", what + ": FWHM over that asked for, less 1", 100 * o.width, "%", 20});
        }
    return figures;
}

} // namespace kasane::bench
