// F3 and F4: centres and widths of single stars, against what was drawn and what noise allows.
#include "fidelity_measures.hpp"

#include <kasane/base/units.hpp>
#include <kasane/calibration/cfa.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/stars/detection.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

constexpr double kNoise = 12, kElectronsPerAdu = 1.2; // ADU of a background pixel; its photons are in it

/// An elliptical Moffat star of total flux 1; beta 0: a Gaussian.
struct Profile {
    double fwhm = 3, eccentricity = 0, angle = 30, beta = 3;

    double operator()(double dx, double dy) const {
        const double t = radians(angle), ratio = std::sqrt(1 - eccentricity * eccentricity);
        const double a = fwhm / std::sqrt(ratio), b = fwhm * std::sqrt(ratio);
        const double u = dx * std::cos(t) - dy * std::sin(t), v = dx * std::sin(t) + dy * std::cos(t); // y runs down
        const double q = 4 * (u * u / (a * a) + v * v / (b * b));
        if (beta == 0) return std::log(2.0) * 4 / (kPi * a * b) * std::exp(-std::log(2.0) * q);
        const double k = std::exp2(1 / beta) - 1;
        return (beta - 1) * k * 4 / (kPi * a * b) * std::pow(1 + k * q, -beta);
    }
    /// Over a pixel: Simpson's rule on a fine grid.
    double pixel(double dx, double dy) const {
        const int parts = fwhm < 2.5 ? 8 : 4;
        double sum = 0;
        const auto weight = [parts](int k) { return k == 0 || k == parts ? 1.0 : k % 2 ? 4.0 : 2.0; };
        for (int j = 0; j <= parts; ++j)
            for (int i = 0; i <= parts; ++i)
                sum += weight(i) * weight(j) *
                       (*this)(dx - 0.5 + static_cast<double>(i) / parts, dy - 0.5 + static_cast<double>(j) / parts);
        return sum / (9.0 * parts * parts);
    }
    /// Full width at half maximum after pixel integration: geometric mean over both axes, and the eccentricity then.
    void integrated(double& width, double& ecc) const {
        const double half = 0.5 * pixel(0, 0);
        double axis[2];
        for (int k = 0; k < 2; ++k) {
            const double t = radians(angle) + k * 0.5 * kPi;
            double low = 0, high = 4 * fwhm + 4;
            for (int i = 0; i < 40; ++i) {
                const double r = 0.5 * (low + high);
                (pixel(r * std::cos(t), -r * std::sin(t)) > half ? low : high) = r;
            }
            axis[k] = low + high;
        }
        width = std::sqrt(axis[0] * axis[1]);
        ecc = std::sqrt(std::max(0.0, 1 - std::pow(axis[1] / axis[0], 2)));
    }
};

struct Field {
    Image image;
    std::vector<std::pair<double, double>> at;
    double bound = 0; ///< Cramer-Rao bound of a coordinate, root mean square over the stars, pixels
};

double variance(double signal) {
    return kNoise * kNoise + std::max(0.0, signal) / kElectronsPerAdu;
}

/// Flux that gives a star the wanted signal to noise in the best possible measurement of it.
double flux_for(const Profile& p, double wanted) {
    double low = 1, high = 1e8;
    const int reach = static_cast<int>(3 * p.fwhm + 3);
    for (int i = 0; i < 50; ++i) {
        const double flux = std::sqrt(low * high);
        double sum = 0;
        for (int y = -reach; y <= reach; ++y)
            for (int x = -reach; x <= reach; ++x) {
                const double s = flux * p.pixel(x, y);
                sum += s * s / variance(s);
            }
        (std::sqrt(sum) < wanted ? low : high) = flux;
    }
    return low;
}

Field draw_field(const Profile& p, double flux, std::uint64_t seed) {
    const int step = static_cast<int>(std::max(36.0, 9 * p.fwhm)), nx = 14, ny = 11;
    Field f{Image((nx + 1) * step, (ny + 1) * step), {}, 0};
    sky::Random random(seed);
    const int reach = static_cast<int>(4 * p.fwhm + 4);
    for (int j = 1; j <= ny; ++j)
        for (int i = 1; i <= nx; ++i) {
            const double x = i * step + random.uniform(-0.5, 0.5), y = j * step + random.uniform(-0.5, 0.5);
            f.at.emplace_back(x, y);
            double information = 0;
            for (int v = j * step - reach; v <= j * step + reach; ++v)
                for (int u = i * step - reach; u <= i * step + reach; ++u) {
                    const double s = flux * p.pixel(u - x, v - y);
                    constexpr double kSmall = 0.01;
                    const double slope =
                        flux * (p.pixel(u - x + kSmall, v - y) - p.pixel(u - x - kSmall, v - y)) / (2 * kSmall);
                    information += slope * slope / variance(s);
                    f.image(u, v) += static_cast<float>(s);
                }
            f.bound += 1 / information;
        }
    f.bound = std::sqrt(f.bound / static_cast<double>(f.at.size()));
    for (float& v : f.image.pixels())
        v += static_cast<float>(800 + std::sqrt(variance(v)) * random.normal());
    return f;
}

struct Found {
    double error = 0; ///< of a coordinate, root mean square, pixels
    double share = 0;
    StarList list;
};

Found find(const Field& f, StarList list) {
    Found out;
    double squares = 0;
    int n = 0;
    for (const auto& [x, y] : f.at) {
        const Star* best = nullptr;
        double nearest = 1.5;
        for (const Star& s : list.stars)
            if (const double d = std::hypot(s.x - x, s.y - y); d < nearest) {
                nearest = d;
                best = &s;
            }
        if (!best) continue;
        squares += (best->x - x) * (best->x - x) + (best->y - y) * (best->y - y);
        n += 2;
    }
    out.error = std::sqrt(squares / std::max(1, n));
    out.share = 0.5 * n / static_cast<double>(f.at.size());
    out.list = std::move(list);
    return out;
}

const DetectOptions kDetect{.electrons_per_adu = kElectronsPerAdu};

} // namespace

std::vector<Figure> centroid_error(const Context&) {
    double worst = 0, mean = 0;
    int cases = 0, unfound = 0;
    std::string where;
    for (const double beta : {0.0, 2.5, 4.0})
        for (const double fwhm : {1.6, 2.2, 3.0, 4.5, 7.0})
            for (const double snr : {10.0, 30.0, 100.0, 500.0}) {
                const Profile p{.fwhm = fwhm, .eccentricity = 0.4, .beta = beta};
                const Field f = draw_field(p, flux_for(p, snr), 900 + static_cast<std::uint64_t>(cases));
                const Found found = find(f, detect_stars(f.image.plane(), kDetect));
                if (found.share < 0.5) {
                    ++unfound;
                    continue;
                }
                const double ratio = found.error / f.bound;
                mean += ratio;
                ++cases;
                if (ratio > worst) {
                    worst = ratio;
                    where = fmt::format("FWHM {:g} px, S/N {:g}, beta {:g}", fwhm, snr, beta);
                }
            }
    return {{"F3", "centres over the Cramer-Rao bound, mean of 60 kinds of stars", mean / std::max(1, cases), "x", 1.3},
            {"F3", "the worst of them (" + where + ")", worst, "x", 1.3},
            {"F3", "kinds of which fewer than half were found", static_cast<double>(unfound), "", 0}};
}

std::vector<Figure> width_bias(const Context&) {
    double widest = 0, most = 0;
    std::string where, which;
    int number = 0;
    for (const double beta : {0.0, 2.5, 4.0})
        for (const double fwhm : {1.5, 2.0, 3.0, 5.0, 8.0})
            for (const double ecc : {0.0, 0.3, 0.6})
                for (const double snr : {50.0, 200.0}) {
                    const Profile p{.fwhm = fwhm, .eccentricity = ecc, .beta = beta};
                    const Field f = draw_field(p, flux_for(p, snr), 5000 + static_cast<std::uint64_t>(number++));
                    const StarList list = detect_stars(f.image.plane(), kDetect);
                    double width = 0, true_ecc = 0;
                    p.integrated(width, true_ecc);
                    const double bias = std::abs(list.fwhm / width - 1),
                                 ecc_bias = std::abs(list.eccentricity - true_ecc);
                    const std::string kind =
                        fmt::format("FWHM {:g} px, eccentricity {:g}, S/N {:g}, beta {:g}", fwhm, ecc, snr, beta);
                    if (bias > widest) {
                        widest = bias;
                        where = kind;
                    }
                    if (ecc_bias > most) {
                        most = ecc_bias;
                        which = kind;
                    }
                }
    return {{"F4", "FWHM bias, the worst of 90 kinds (" + where + ")", 100 * widest, "%", 2},
            {"F4", "eccentricity bias, the worst (" + which + ")", most, "", 0.03}};
}

} // namespace kasane::bench
