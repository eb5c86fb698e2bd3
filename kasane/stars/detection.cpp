#include <kasane/stars/detection.hpp>

#include <kasane/base/error.hpp>
#include <kasane/stars/elongation.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/binning.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/stars/aperture.hpp>
#include <kasane/stars/maxima.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <numeric>
#include <utility>

namespace kasane {

namespace {

/// Centroid under a Gaussian window that is moved onto it (iteratively; A. Stone, AJ 97, 1989, compares such
/// estimators).
void windowed_centroid(View<const float> image, double level, double sigma, double& x, double& y) {
    for (int i = 0; i < 6; ++i) {
        const int reach = static_cast<int>(std::ceil(3 * sigma));
        const Region box = intersect({static_cast<int>(std::lround(x)) - reach,
                                      static_cast<int>(std::lround(y)) - reach, 2 * reach + 1, 2 * reach + 1},
                                     image.bounds());
        double sum = 0, sx = 0, sy = 0;
        for (int v = box.y; v < box.bottom(); ++v)
            for (int u = box.x; u < box.right(); ++u) {
                const double dx = u - x, dy = v - y;
                const double w = std::exp(-0.5 * (dx * dx + dy * dy) / (sigma * sigma)) * (image(u, v) - level);
                if (!std::isfinite(w)) continue;
                sum += w;
                sx += w * dx;
                sy += w * dy;
            }
        if (!(sum > 0)) return;
        const double step_x = 2 * sx / sum, step_y = 2 * sy / sum; // twice: the window pulls half of it back
        if (std::hypot(step_x, step_y) > sigma) return;
        x += step_x;
        y += step_y;
        if (std::hypot(step_x, step_y) < 1e-3) return;
    }
}

double median(std::vector<float> v) {
    return v.empty() ? 0 : median_in_place(v);
}

struct Fitted {
    Star star;
    std::optional<PsfFit> fit;
    float strength = 0; ///< of the detection
};

/// Whether light that came through a telescope can have this shape: even a point, integrated over pixels, is wider than
/// a charged particle's track or a pair of hot pixels. A shaken telescope draws streaks as wide as its stars.
bool came_through_glass(const PsfFit& fit) {
    constexpr double kLeastWidth = 1.2, kMostElongation = 2.0; // pixels; major over minor axis
    constexpr double kLeastShaken = 1.6, kMostShaken = 4.5;    // the same of stars that were drawn out
    return (fit.fwhm_minor > kLeastWidth && fit.fwhm_major < kMostElongation * fit.fwhm_minor) ||
           (fit.fwhm_minor > kLeastShaken && fit.fwhm_major < kMostShaken * fit.fwhm_minor);
}

/// Width and narrow axis that the frame's stars have in common, pixels.
struct CommonShape {
    double fwhm = 0, minor = 0;
    int agree = 0; ///< fits within a seventh of it
};

/// Whether a fit has the shape of the frame's stars, as far as its own errors tell.
bool like_the_others(const PsfFit& fit, const CommonShape& common) {
    const double slack = 0.25 + 7 * fit.position_sigma / common.fwhm; // three sigma of a width's error
    const double ratio = std::log(fit.fwhm() / common.fwhm);
    return came_through_glass(fit) && ratio > -std::min(slack, 0.4) && ratio < std::min(slack, 0.5) &&
           fit.fwhm_minor > common.minor * (1 - std::min(slack, 0.45)) && fit.fwhm_major < 2.2 * common.fwhm;
}

/// The width of the stars. Nothing in the sky is sharper than a star, but nebulae have knots of all greater widths, and
/// may have more of them than there are stars: so of the widths on which several fits agree it is the least that
/// counts. Peaks of a kernel density estimate over the logarithms (E. Parzen, Ann. Math. Stat. 33, 1962),
/// well-determined fits counting more.
CommonShape common_shape(const std::vector<Fitted>& fitted) {
    constexpr double kBandwidth = 0.06;  // relative
    constexpr double kUncertain = 0.1;   // pixels of position error from which on a fit counts little
    constexpr double kShareOfPeak = 0.4; // of the highest density, that a lower width must reach
    constexpr int kLeastFits = 5;        // that agree on it
    struct Width {
        double log, weight, density;
        int agree;
    };
    std::vector<Width> widths;
    for (const Fitted& f : fitted)
        if (f.fit && !f.star.saturated && came_through_glass(*f.fit))
            widths.push_back(
                {std::log(f.fit->fwhm()), 1 / (1 + std::pow(f.fit->position_sigma / kUncertain, 2)), 0, 0});
    std::sort(widths.begin(), widths.end(), [](const Width& a, const Width& b) { return a.log < b.log; });
    double highest = 0;
    for (Width& w : widths) {
        for (const Width& other : widths) {
            const double d = (other.log - w.log) / kBandwidth;
            w.density += other.weight * std::exp(-0.5 * d * d);
            w.agree += std::abs(d) < 2;
        }
        highest = std::max(highest, w.density);
    }
    for (std::size_t i = 0; i < widths.size(); ++i) {
        const Width& w = widths[i];
        if (w.density < kShareOfPeak * highest || (w.agree < kLeastFits && w.density < highest)) continue;
        std::size_t peak = i; // climb to the top of this hill
        while (peak + 1 < widths.size() && widths[peak + 1].density >= widths[peak].density)
            ++peak;
        CommonShape shape{std::exp(widths[peak].log), 0, 0};
        constexpr double kAgreement = 0.14; // of the logarithm
        std::vector<float> minor;
        for (const Fitted& f : fitted)
            if (f.fit && !f.star.saturated && came_through_glass(*f.fit) &&
                std::abs(std::log(f.fit->fwhm() / shape.fwhm)) < kAgreement)
                minor.push_back(static_cast<float>(f.fit->fwhm_minor));
        shape.agree = static_cast<int>(minor.size());
        if (!minor.empty()) shape.minor = median_in_place(minor);
        return shape;
    }
    return {};
}

/// An image to look for stars in, its samples to measure them by (the same image, or one colour of a mosaic with NaN
/// between), and the background of the samples; `bin` pixels of the frame to one.
struct Scale {
    View<const float> image, samples;
    const Background* background = nullptr;
    Background limits; ///< levels, and the noise that detection is held against
    int bin = 1;
};

/// A place to begin a fit, pixels of the samples.
struct Start {
    double x, y;
    float strength;
    double fwhm;
};

Fitted fit_candidate(const Scale& at, const Start& start, const DetectOptions& o) {
    const auto [x, y, strength, start_fwhm] = start;
    Fitted f;
    f.strength = strength;
    f.star.x = x;
    f.star.y = y;
    const int cx = static_cast<int>(std::lround(x)), cy = static_cast<int>(std::lround(y));
    f.fit = fit_psf(at.samples, x, y,
                    {.start_fwhm = start_fwhm,
                     .noise = at.background->sigma_at(x, y),
                     .electrons_per_adu = o.electrons_per_adu * at.bin * at.bin,
                     .saturation = o.saturation});
    if (f.fit && std::hypot(f.fit->x - x, f.fit->y - y) > std::max(2.5, 0.5 * start_fwhm)) f.fit.reset();
    for (int j = std::max(0, cy - 1); j <= std::min(at.samples.height - 1, cy + 1); ++j)
        for (int i = std::max(0, cx - 1); i <= std::min(at.samples.width - 1, cx + 1); ++i)
            f.star.saturated = f.star.saturated || (o.saturation > 0 && at.samples(i, j) >= o.saturation);
    return f;
}

/// Whether what is bright here ends after a star's width in every direction: trails and filaments go on in two opposite
/// ones, knots in all. Far cheaper than a fit. `x`, `y` in pixels of the samples' scale.
bool ends_all_around(const Scale& at, double x, double y, double fwhm) {
    constexpr double kGoesOn = 0.65; // of the peak
    const auto mean_at = [&](double u, double v) {
        const int cx = static_cast<int>(std::lround(u)), cy = static_cast<int>(std::lround(v));
        float sum = 0;
        int n = 0;
        for (int j = std::max(0, cy - 1); j <= std::min(at.image.height - 1, cy + 1); ++j)
            for (int i = std::max(0, cx - 1); i <= std::min(at.image.width - 1, cx + 1); ++i)
                if (const float p = at.image(i, j); std::isfinite(p)) {
                    sum += p;
                    ++n;
                }
        return n ? static_cast<double>(sum) / n : 0.0;
    };
    const double level = at.background->level_at(x, y), peak = mean_at(x, y) - level,
                 slack = 0.4 * at.limits.sigma_at(x, y);
    const double radius = std::max(2.5, 1.2 * fwhm);
    for (int k = 0; k < 4; ++k) {
        const double u = radius * std::cos(k * kPi / 4), v = radius * std::sin(k * kPi / 4);
        if (0.5 * (mean_at(x + u, y + v) + mean_at(x - u, y - v)) - level > kGoesOn * peak + slack) return false;
    }
    return true;
}

/// The shape of the strongest candidates of a scale, in its pixels.
CommonShape learn_shape(const Scale& at, const std::vector<Candidate>& found, const DetectOptions& o, double& share) {
    constexpr std::size_t kAsked = 40;
    std::vector<Fitted> fitted;
    double start = 3;
    for (const Candidate& c : found) {
        if (fitted.size() == kAsked) break;
        if (!ends_all_around(at, c.x, c.y, start)) continue;
        fitted.push_back(fit_candidate(at, {static_cast<double>(c.x), static_cast<double>(c.y), c.strength, start}, o));
        if (fitted.size() == kAsked / 2)
            if (const CommonShape so_far = common_shape(fitted); so_far.fwhm > 0)
                start = std::clamp(so_far.fwhm, 1.2, 9.0);
    }
    const CommonShape shape = common_shape(fitted);
    share = fitted.empty() ? 0 : shape.agree / static_cast<double>(fitted.size());
    return shape;
}

/// Fits candidates in order of strength until the wanted number is reached, and keeps those that are stars.
class Selection {
public:
    Selection(const Scale& at, const CommonShape& learned, const DetectOptions& o)
        : at_(at), learned_(learned), o_(o) {}

    StarList select(std::vector<Candidate> found, int candidate_bin) {
        const double start = std::clamp(learned_.fwhm > 0 ? learned_.fwhm : 3.0, 1.2, 9.0);
        const double map = static_cast<double>(candidate_bin) / at_.bin;
        keep_compact(found, map, start);
        const auto strong = static_cast<std::size_t>(
            std::count_if(found.begin(), found.end(), [&](const Candidate& c) { return c.strength >= o_.threshold; }));
        const auto fit = [&](std::size_t i) {
            const double x = map * (found[i].x + 0.5) - 0.5, y = map * (found[i].y + 0.5) - 0.5;
            fitted_.push_back(fit_candidate(at_, {x, y, found[i].strength, start}, o_));
        };
        const std::size_t most = std::min(strong, static_cast<std::size_t>(o_.most));
        for (std::size_t i = 0; i < most; ++i)
            fit(i);
        common_ = common_shape(fitted_);
        const std::size_t accepted = count_accepted(0, most);
        StarList list;
        list.threshold = o_.threshold;
        list.count = static_cast<double>(accepted);
        if (strong > most) // the rest is as good as the weaker half of what was looked at
            list.count += static_cast<double>(strong - most) * static_cast<double>(count_accepted(most / 2, most)) /
                          static_cast<double>(std::max<std::size_t>(1, most - most / 2));
        constexpr std::size_t kLeastToGoOn = 3; // fewer say nothing about what else there may be
        std::size_t more = accepted;
        for (std::size_t i = most; accepted >= kLeastToGoOn && i < found.size() && strong <= most &&
                                   more < static_cast<std::size_t>(o_.least);
             ++i) {
            fit(i);
            more += is_star(fitted_.back());
            list.threshold = found[i].strength;
        }
        collect(list);
        return list;
    }

private:
    /// Looks at the places row after row, so that the pixels around them are still at hand.
    void keep_compact(std::vector<Candidate>& found, double map, double fwhm) const {
        std::vector<std::size_t> order(found.size());
        std::iota(order.begin(), order.end(), std::size_t{0});
        std::sort(order.begin(), order.end(), [&](std::size_t a, std::size_t b) {
            return std::pair(found[a].y, found[a].x) < std::pair(found[b].y, found[b].x);
        });
        std::vector<std::uint8_t> compact(found.size());
        for (const std::size_t i : order)
            compact[i] = ends_all_around(at_, map * (found[i].x + 0.5) - 0.5, map * (found[i].y + 0.5) - 0.5, fwhm);
        std::size_t kept = 0;
        for (std::size_t i = 0; i < found.size(); ++i)
            if (compact[i]) found[kept++] = found[i];
        found.resize(kept);
    }

    bool is_star(const Fitted& f) const {
        return f.star.saturated || (f.fit && common_.fwhm > 0 && like_the_others(*f.fit, common_));
    }
    std::size_t count_accepted(std::size_t from, std::size_t to) const {
        return static_cast<std::size_t>(std::count_if(fitted_.begin() + static_cast<std::ptrdiff_t>(from),
                                                      fitted_.begin() + static_cast<std::ptrdiff_t>(to),
                                                      [&](const Fitted& f) { return is_star(f); }));
    }

    void collect(StarList& list) {
        std::vector<float> widths;
        std::vector<const PsfFit*> shapes;
        const double width = common_.fwhm > 0 ? common_.fwhm : std::max(1.2, learned_.fwhm > 0 ? learned_.fwhm : 3.0);
        for (Fitted& f : fitted_) {
            Star& s = f.star;
            if (f.fit && common_.fwhm > 0 && like_the_others(*f.fit, common_)) {
                s.x = f.fit->x;
                s.y = f.fit->y;
                s.fwhm = f.fit->fwhm();
                s.eccentricity = f.fit->eccentricity();
                s.angle = f.fit->angle;
                s.position_sigma = f.fit->position_sigma;
                if (!s.saturated) {
                    widths.push_back(static_cast<float>(s.fwhm));
                    shapes.push_back(&*f.fit);
                }
            } else if (s.saturated) {
                windowed_centroid(at_.samples, at_.background->level_at(s.x, s.y), width / kFwhmPerSigma, s.x, s.y);
            } else {
                continue; // a knot of nebula, a trail, a blend
            }
            list.stars.push_back(s);
        }
        widths.resize((widths.size() + 1) / 2); // the brightest half tells the width best
        list.fwhm = median(widths);
        describe_elongation(shapes, list);
        measure(list, width);
    }

    void measure(StarList& list, double width) const {
        const double radius = aperture_radius(list.fwhm > 0 ? list.fwhm : width);
        const double noise = at_.background->global_sigma;
        for (Star& s : list.stars) {
            measure_flux(at_.samples, *at_.background, {radius, noise, o_.electrons_per_adu * at_.bin * at_.bin}, s);
            if (s.position_sigma <= 0) // from the width and the signal to noise (I. King, PASP 95, 1983)
                s.position_sigma =
                    std::max(0.01, 0.6 * width * noise * std::sqrt(kPi) * width / std::max(s.flux, 1e-6));
        }
        std::erase_if(list.stars, [](const Star& s) { return !(s.flux > 3 * s.flux_sigma); });
        std::stable_sort(list.stars.begin(), list.stars.end(),
                         [](const Star& a, const Star& b) { return a.flux > b.flux; });
        for (Star& s : list.stars) { // from the scale's pixels to the frame's
            s.x = at_.bin * (s.x + 0.5) - 0.5;
            s.y = at_.bin * (s.y + 0.5) - 0.5;
            s.fwhm *= at_.bin;
            s.position_sigma *= at_.bin;
            s.flux *= at_.bin * at_.bin;
            s.flux_sigma *= at_.bin * at_.bin;
        }
        list.fwhm *= at_.bin;
    }

    const Scale& at_;
    CommonShape learned_;
    const DetectOptions& o_;
    std::vector<Fitted> fitted_;
    CommonShape common_;
};

constexpr double kWidestAtScale = 4.5; // pixels; the matched filter is made for less
constexpr double kWidestFit = 9.0;     // pixels of the frame; wider stars are fitted on the binned image

/// The frame at the scale on which its stars are a few pixels wide: the frame itself, or binned where wide or defocused
/// stars ask for it.
StarList detect_at_scales(Scale full, const DetectOptions& o) {
    std::vector<Candidate> found = find_maxima(full.image, full.limits, std::min(o.floor, o.threshold), o);
    double share = 0;
    CommonShape shape = learn_shape(full, found, o, share);
    constexpr int kLeastAgreement = 5;
    if (shape.agree >= kLeastAgreement && shape.fwhm <= kWidestAtScale)
        return Selection(full, shape, o).select(found, 1);
    // Knots of nebula differ from each other, stars out of focus do not.
    constexpr int kLeastBlurred = 8, kWidestBin = 8;
    constexpr double kLeastShare = 0.5;
    for (int bin = 2; bin <= kWidestBin; bin *= 2) {
        if (full.image.width / bin < 8 * o.border || full.image.height / bin < 8 * o.border) break;
        const Image small = averaged_down(full.image, bin);
        const Background background = measure_background(small.plane(), {.cell = std::max(16, 64 / bin)});
        if (!(background.global_sigma > 0)) break;
        const Scale at{small.plane(), small.plane(), &background, background, bin};
        const std::vector<Candidate> wider = find_maxima(at.image, at.limits, std::min(o.floor, o.threshold), o);
        const CommonShape there = learn_shape(at, wider, o, share);
        const bool believed =
            there.agree >= kLeastBlurred && share >= kLeastShare && there.fwhm > 1.6 && there.agree > shape.agree / 2;
        if (!believed || (there.fwhm > kWidestAtScale && bin < kWidestBin)) continue;
        if (bin * there.fwhm > kWidestFit) return Selection(at, there, o).select(wider, bin);
        const CommonShape in_frame{bin * there.fwhm, bin * there.minor, there.agree};
        return Selection(full, in_frame, o).select(wider, bin);
    }
    return Selection(full, shape, o).select(found, 1);
}

bool too_small(View<const float> image, const DetectOptions& o) {
    return image.width < 4 * o.border || image.height < 4 * o.border;
}

} // namespace

std::string DetectOptions::check() const {
    if (!(threshold > 0) || !(floor > 0))
        return fmt::format("a threshold ({:g}) and a floor ({:g}) are above 0", threshold, floor);
    if (!(filter_sigma > 0))
        return fmt::format("the filter of a detection is wider than 0 pixels, not {:g}", filter_sigma);
    if (least < 0 || most < 1) return fmt::format("{} to {} stars cannot be looked for", least, most);
    if (area < 1 || area > 9) return fmt::format("a star lights 1 to 9 pixels around its peak, not {}", area);
    if (border < 0) return fmt::format("a border is 0 pixels or more, not {}", border);
    return {};
}

StarList detect_stars(View<const float> image, const DetectOptions& o) {
    require_sense(o);
    const Background background = measure_background(image);
    StarList list;
    if (!too_small(image, o) && background.global_sigma > 0)
        list = detect_at_scales({image, image, &background, background, 1}, o);
    list.background = background;
    list.noise = background.global_sigma;
    return list;
}

StarList detect_stars(const MosaicPlane& plane, const DetectOptions& o) {
    require_sense(o);
    StarList list;
    const Background& background = plane.background;
    if (!too_small(plane.samples, o) && background.global_sigma > 0) {
        Scale full{plane.filled, plane.samples, &background, background, 1};
        for (float& s : full.limits.sigma.pixels()) // fewer samples than pixels: less is averaged by the filter
            s /= std::sqrt(plane.density);
        list = detect_at_scales(std::move(full), o);
    }
    list.background = background;
    list.noise = background.global_sigma;
    return list;
}

void measure_fluxes(View<const float> image, const Background& background, double fwhm, const DetectOptions& options,
                    std::vector<Star>& stars) {
    for (Star& s : stars) {
        measure_flux(image, background, {aperture_radius(fwhm), background.global_sigma, options.electrons_per_adu}, s);
        const int cx = static_cast<int>(std::lround(s.x)), cy = static_cast<int>(std::lround(s.y));
        for (int y = std::max(0, cy - 1); y <= std::min(image.height - 1, cy + 1); ++y)
            for (int x = std::max(0, cx - 1); x <= std::min(image.width - 1, cx + 1); ++x)
                s.saturated = s.saturated || (options.saturation > 0 && image(x, y) >= options.saturation);
    }
}

} // namespace kasane
