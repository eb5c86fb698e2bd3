#include <kasane/stars/field_psf.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/robust_fit.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

constexpr std::size_t kLeastStars = 5;

std::array<double, 6> terms(double x, double y) {
    return {1, x, y, x * x, x * y, y * y};
}

constexpr int terms_of_degree(int degree) {
    return (degree + 1) * (degree + 2) / 2;
}

double moffat(const StarWidth& w, double beta, double dx, double dy) {
    const double determinant = w.xx * w.yy - w.xy * w.xy,
                 q = 4 * (w.yy * dx * dx - 2 * w.xy * dx * dy + w.xx * dy * dy) / determinant;
    return std::pow(1 + (std::exp2(1 / beta) - 1) * q, -beta);
}

void bring_to_one(Image& image) {
    double sum = 0;
    for (float& v : image.pixels()) {
        v = std::max(0.0f, v);
        sum += static_cast<double>(v);
    }
    for (float& v : image.pixels())
        v = static_cast<float>(static_cast<double>(v) / sum);
}

/// A star that tells it.
struct Sample {
    const Star* star = nullptr;
    PsfFit fit;
    StarWidth width;
};

StarWidth width_of(const PsfFit& f) {
    // The angle is counter-clockwise as displayed, y goes down.
    const double angle = radians(f.angle), c = std::cos(angle), s = -std::sin(angle);
    const double a = f.fwhm_major * f.fwhm_major, b = f.fwhm_minor * f.fwhm_minor;
    return {a * c * c + b * s * s, (a - b) * c * s, a * s * s + b * c * c};
}

std::vector<Sample> choose(View<const float> plane, const StarList& list, const std::vector<Disc>& forbidden) {
    constexpr double kLeastSnr = 25, kAlone = 0.05, kFar = 4; // of a neighbour's light; FWHM
    constexpr std::size_t kMost = 250;
    std::vector<Sample> out;
    const double fwhm = list.fwhm > 0 ? list.fwhm : 3, far = kFar * fwhm;
    for (const Star& s : list.stars) {
        if (out.size() == kMost) break;
        if (s.saturated || !(s.fwhm > 0) || !(s.flux > kLeastSnr * s.flux_sigma)) continue;
        if (s.x < far || s.y < far || s.x > plane.width - 1 - far || s.y > plane.height - 1 - far) continue;
        if (std::any_of(forbidden.begin(), forbidden.end(),
                        [&](const Disc& d) { return std::hypot(d.x - s.x, d.y - s.y) < d.radius; }))
            continue;
        if (std::any_of(list.stars.begin(), list.stars.end(), [&](const Star& o) {
                return &o != &s && o.flux > kAlone * s.flux && std::hypot(o.x - s.x, o.y - s.y) < far;
            }))
            continue;
        const auto fit =
            fit_psf(plane, s.x, s.y, {.start_fwhm = s.fwhm, .noise = std::max(1e-6, static_cast<double>(list.noise))});
        if (fit && fit->amplitude > 0) out.push_back({&s, *fit, width_of(*fit)});
    }
    return out;
}

/// The polynomials of one degree, and what stars scatter about them, pixels^2.
struct Shapes {
    std::array<std::array<double, 6>, 3> polynomials{};
    double scatter = 0;
    bool known = false;
};

template <int Terms>
Shapes fit_shapes(const std::vector<Sample>& samples, const FieldPsf& psf) {
    Shapes out;
    out.known = true;
    std::vector<float> off;
    for (std::size_t k = 0; k < 3; ++k) {
        std::vector<Equation<Terms>> equations;
        for (const Sample& s : samples) {
            const auto t = terms((s.fit.x - psf.middle_x) / psf.half, (s.fit.y - psf.middle_y) / psf.half);
            Equation<Terms> e;
            for (int i = 0; i < Terms; ++i)
                e.row(i) = t[static_cast<std::size_t>(i)];
            e.value = k == 0 ? s.width.xx : k == 1 ? s.width.xy : s.width.yy;
            equations.push_back(e);
        }
        const auto fit = robust_fit<Terms>(equations);
        out.known = out.known && fit.allFinite();
        for (int i = 0; i < Terms; ++i)
            out.polynomials[k][static_cast<std::size_t>(i)] = fit(i);
        for (const auto& e : equations)
            off.push_back(static_cast<float>(std::abs(e.value - e.row.dot(fit))));
    }
    out.scatter = out.known ? kSigmaPerMad * static_cast<double>(median_in_place(off)) : 0;
    return out;
}

/// The degree that stars bear out, by an information criterion (G. Schwarz, Ann. Stat. 6, 1978).
void fit_widths(const std::vector<Sample>& samples, FieldPsf& psf) {
    double best = HUGE_VAL;
    const double n = 3 * static_cast<double>(samples.size());
    for (int degree = 0; degree <= 2; ++degree) {
        constexpr std::size_t kEachTerm = 5;
        if (degree > 0 && samples.size() < kEachTerm * static_cast<std::size_t>(terms_of_degree(degree))) break;
        const Shapes shapes = degree == 0   ? fit_shapes<terms_of_degree(0)>(samples, psf)
                              : degree == 1 ? fit_shapes<terms_of_degree(1)>(samples, psf)
                                            : fit_shapes<terms_of_degree(2)>(samples, psf);
        if (!shapes.known) continue;
        const double told =
            2 * n * std::log(std::max(1e-6, shapes.scatter)) + 3 * terms_of_degree(degree) * std::log(n);
        if (told < best) best = told, psf.degree = degree, psf.polynomials = shapes.polynomials;
    }
}

/// The median, place by place, of what stars are beyond their Moffat functions.
Image rest_of(View<const float> plane, const std::vector<Sample>& samples, const FieldPsf& psf) {
    const int reach = std::max(4, static_cast<int>(std::ceil(2.5 * psf.fwhm))), side = 2 * reach + 1;
    constexpr std::size_t kLeast = 15;
    Image out(side, side);
    std::vector<std::vector<float>> off(static_cast<std::size_t>(side) * static_cast<std::size_t>(side));
    for (const Sample& s : samples) {
        const int cx = static_cast<int>(std::lround(s.fit.x)), cy = static_cast<int>(std::lround(s.fit.y));
        const StarWidth w = psf.width_at(s.fit.x, s.fit.y);
        for (int j = -reach; j <= reach; ++j)
            for (int i = -reach; i <= reach; ++i) {
                if (cx + i < 0 || cy + j < 0 || cx + i >= plane.width || cy + j >= plane.height) continue;
                const double dx = cx + i - s.fit.x, dy = cy + j - s.fit.y;
                const double seen = (static_cast<double>(plane(cx + i, cy + j)) - s.fit.background) / s.fit.amplitude;
                if (std::isfinite(seen))
                    off[static_cast<std::size_t>((j + reach) * side + i + reach)].push_back(
                        static_cast<float>(seen - moffat(w, psf.beta, dx, dy)));
            }
    }
    const double flat = reach - 1.5; // nothing jumps at the rim
    for (int j = 0; j < side; ++j)
        for (int i = 0; i < side; ++i) {
            auto& values = off[static_cast<std::size_t>(j * side + i)];
            const double r = std::hypot(i - reach, j - reach), taper = std::clamp((flat + 1.5 - r) / 1.5, 0.0, 1.0);
            if (values.size() >= kLeast) out(i, j) = static_cast<float>(taper) * median_in_place(values);
        }
    return out;
}

} // namespace

double StarWidth::major() const {
    return std::sqrt(0.5 * (xx + yy) + std::hypot(0.5 * (xx - yy), xy));
}

double StarWidth::minor() const {
    return std::sqrt(std::max(0.01, 0.5 * (xx + yy) - std::hypot(0.5 * (xx - yy), xy)));
}

double StarWidth::fwhm() const {
    return std::sqrt(major() * minor());
}

StarWidth FieldPsf::width_at(double x, double y) const {
    const auto t = terms((x - middle_x) / half, (y - middle_y) / half);
    std::array<double, 3> value{};
    for (std::size_t k = 0; k < 3; ++k)
        for (std::size_t i = 0; i < t.size(); ++i)
            value[k] += polynomials[k][i] * t[i];
    // Beyond the stars a polynomial may lead anywhere: no star is half or twice as wide as the others.
    const double usual = fwhm * fwhm, least = 0.25 * usual, most = 4 * usual;
    StarWidth w{std::clamp(value[0], least, most), value[1], std::clamp(value[2], least, most)};
    const double across = 0.8 * std::sqrt(w.xx * w.yy);
    w.xy = std::clamp(w.xy, -across, across);
    return w;
}

double FieldPsf::profile(const StarWidth& width, double dx, double dy) const {
    return moffat(width, beta, dx, dy);
}

Image FieldPsf::at(double x, double y, int reach) const {
    Image out(2 * reach + 1, 2 * reach + 1);
    const StarWidth w = width_at(x, y);
    const int known = rest.empty() ? -1 : rest.width() / 2;
    for (int j = -reach; j <= reach; ++j)
        for (int i = -reach; i <= reach; ++i)
            out(i + reach, j + reach) =
                static_cast<float>(moffat(w, beta, i, j)) +
                (std::abs(i) <= known && std::abs(j) <= known ? rest(i + known, j + known) : 0.0f);
    bring_to_one(out);
    return out;
}

Image round_star(double fwhm, double beta, int reach) {
    Image out(2 * reach + 1, 2 * reach + 1);
    for (int j = -reach; j <= reach; ++j)
        for (int i = -reach; i <= reach; ++i)
            out(i + reach, j + reach) = static_cast<float>(moffat({fwhm * fwhm, 0, fwhm * fwhm}, beta, i, j));
    bring_to_one(out);
    return out;
}

FieldPsf measure_field_psf(View<const float> plane, const StarList& stars, const std::vector<Disc>& forbidden) {
    const std::vector<Sample> samples = choose(plane, stars, forbidden);
    if (samples.size() < kLeastStars)
        throw DataError(
            fmt::format("{} of its stars tell what a star looks like, {} are needed", samples.size(), kLeastStars), {},
            "Stars tell it that are bright, not saturated, and have no other beside them");
    FieldPsf psf;
    psf.stars = static_cast<int>(samples.size());
    psf.middle_x = 0.5 * (plane.width - 1), psf.middle_y = 0.5 * (plane.height - 1);
    psf.half = 0.5 * std::max(plane.width, plane.height);
    std::vector<float> widths, betas;
    for (const Sample& s : samples) {
        widths.push_back(static_cast<float>(s.width.fwhm()));
        betas.push_back(static_cast<float>(1 / s.fit.beta));
    }
    psf.fwhm = static_cast<double>(median_in_place(widths));
    psf.beta = 1 / static_cast<double>(median_in_place(betas));
    fit_widths(samples, psf);
    psf.rest = rest_of(plane, samples, psf);
    return psf;
}

} // namespace kasane
