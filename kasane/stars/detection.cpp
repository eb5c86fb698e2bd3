#include <kasane/stars/detection.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <limits>

namespace kasane {

namespace {

constexpr int kFilterReach = 3;

struct Candidate {
    int x, y;
    float strength; ///< of the filtered image over the surroundings
};

std::array<float, 2 * kFilterReach + 1> gaussian_taps(float sigma) {
    std::array<float, 2 * kFilterReach + 1> taps{};
    float sum = 0;
    for (int i = -kFilterReach; i <= kFilterReach; ++i) {
        const float t = std::exp(-0.5f * static_cast<float>(i * i) / (sigma * sigma));
        taps[static_cast<std::size_t>(i + kFilterReach)] = t;
        sum += t;
    }
    for (float& t : taps)
        t /= sum;
    return taps;
}

/// Rows of the background-subtracted image after the matched filter, made one after another in a ring, so that the
/// filtered image is never whole in memory.
class FilteredRows {
public:
    FilteredRows(View<const float> image, const Background& background, float sigma)
        : image_(image), background_(background), taps_(gaussian_taps(sigma)),
          line_(static_cast<std::size_t>(image.width + 2 * kFilterReach)) {
        for (auto& r : horizontal_)
            r.assign(static_cast<std::size_t>(image.width), 0.0f);
        for (auto& r : rows_)
            r.assign(static_cast<std::size_t>(image.width), 0.0f);
        for (int y = -kFilterReach; y < kFilterReach; ++y)
            filter_across(y);
    }

    /// Factor between the noise of a filtered and of a plain pixel.
    float noise_factor() const {
        float sum = 0;
        for (const float t : taps_)
            sum += t * t;
        return sum;
    }

    /// Rows have to be asked for in order; the last three stay valid.
    const float* next(int y) {
        filter_across(y + kFilterReach);
        auto& out = rows_[static_cast<std::size_t>(y % 3)];
        std::fill(out.begin(), out.end(), 0.0f);
        for (int j = -kFilterReach; j <= kFilterReach; ++j) {
            const float t = taps_[static_cast<std::size_t>(j + kFilterReach)];
            const float* from = horizontal_row(y + j).data();
            float* to = out.data();
            for (int x = 0; x < image_.width; ++x)
                to[x] += t * from[x];
        }
        return out.data();
    }
    const float* row(int y) const { return rows_[static_cast<std::size_t>(y % 3)].data(); }

private:
    std::vector<float>& horizontal_row(int y) { return horizontal_[static_cast<std::size_t>((y + 70) % 7)]; }

    void filter_across(int y) {
        const int from_row = std::clamp(y, 0, image_.height - 1), w = image_.width;
        background_.level_row(from_row, w, line_.data() + kFilterReach);
        const float* pixels = image_.row(from_row);
        float* line = line_.data() + kFilterReach;
        for (int x = 0; x < w; ++x) {
            const float d = pixels[x] - line[x];
            line[x] = d == d ? d : 0.0f; // no data: as the background
        }
        for (int i = 1; i <= kFilterReach; ++i) {
            line[-i] = line[0];
            line[w - 1 + i] = line[w - 1];
        }
        float* to = horizontal_row(y).data();
        for (int x = 0; x < w; ++x) {
            float s = 0;
            for (int i = 0; i < 2 * kFilterReach + 1; ++i)
                s += taps_[static_cast<std::size_t>(i)] * line[x + i - kFilterReach];
            to[x] = s;
        }
    }

    View<const float> image_;
    const Background& background_;
    std::array<float, 2 * kFilterReach + 1> taps_;
    std::array<std::vector<float>, 7> horizontal_;
    std::array<std::vector<float>, 3> rows_;
    std::vector<float> line_;
};

/// A star lights its neighbours; a hot pixel or a cosmic ray does not.
bool looks_like_light(View<const float> image, int x, int y, float level, float noise) {
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
    for (int j = -1; j <= 1; ++j)
        for (int i = -1; i <= 1; ++i)
            if (i || j) sum += image(px + i, py + j) - level;
    return sum / 8 > 0.07f * (peak - level) + 0.35f * noise;
}

/// How high the surroundings reach, without the noise: the upper quartile of a ring, so that the crest of a filament,
/// or the slope of a galaxy, counts as surroundings and not as a star.
float ring_level(View<const float> image, int x, int y, float sigma, std::vector<float>& scratch) {
    constexpr int kInner2 = 16, kOuter = 7; // pixels: between radii 4 and 7
    scratch.clear();
    for (int j = std::max(0, y - kOuter); j <= std::min(image.height - 1, y + kOuter); ++j)
        for (int i = std::max(0, x - kOuter); i <= std::min(image.width - 1, x + kOuter); ++i) {
            const int r2 = (i - x) * (i - x) + (j - y) * (j - y);
            if (r2 >= kInner2 && r2 <= kOuter * kOuter && std::isfinite(image(i, j))) scratch.push_back(image(i, j));
        }
    constexpr float kQuartileOfNormal = 0.6745f;
    return scratch.empty() ? 0 : quantile_in_place(scratch, 0.75) - kQuartileOfNormal * sigma;
}

std::vector<Candidate> find_maxima(View<const float> image, const Background& background, const DetectOptions& o) {
    FilteredRows filtered(image, background, o.filter_sigma);
    const float limit = o.threshold * background.global_sigma * filtered.noise_factor();
    std::vector<Candidate> found;
    std::vector<float> scratch;
    for (int y = 0; y < image.height; ++y) {
        filtered.next(y);
        const int m = y - 1; // the row whose neighbours are all there
        if (m < o.border || m >= image.height - o.border) continue;
        const float *above = filtered.row(m - 1), *here = filtered.row(m), *below = filtered.row(m + 1);
        for (int x = o.border; x < image.width - o.border; ++x) {
            const float v = here[x];
            if (v <= limit || v < here[x - 1] || v <= here[x + 1]) continue;
            if (v < above[x - 1] || v < above[x] || v < above[x + 1] || v <= below[x - 1] || v <= below[x] ||
                v <= below[x + 1])
                continue;
            const float level = background.level_at(x, m);
            const float surroundings =
                std::max(0.0f, ring_level(image, x, m, background.global_sigma, scratch) - level);
            if (v - surroundings <= limit || !looks_like_light(image, x, m, level, background.global_sigma)) continue;
            found.push_back({x, m, v - surroundings});
        }
    }
    std::sort(found.begin(), found.end(), [](const Candidate& a, const Candidate& b) {
        return a.strength != b.strength ? a.strength > b.strength : a.y != b.y ? a.y < b.y : a.x < b.x;
    });
    return found;
}

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

/// Flux in a soft-edged circle over the median of a ring around it.
void measure_flux(View<const float> image, const Background& background, double radius, double noise,
                  double electrons_per_adu, Star& s) {
    const int reach = static_cast<int>(std::ceil(2.6 * radius + 2));
    const Region box = intersect({static_cast<int>(std::lround(s.x)) - reach,
                                  static_cast<int>(std::lround(s.y)) - reach, 2 * reach + 1, 2 * reach + 1},
                                 image.bounds());
    std::vector<float> ring;
    double sum = 0, area = 0, peak = 0;
    for (int y = box.y; y < box.bottom(); ++y)
        for (int x = box.x; x < box.right(); ++x) {
            const double d = std::hypot(x - s.x, y - s.y);
            const float v = image(x, y);
            if (!std::isfinite(v)) continue;
            if (d > 1.5 * radius && d < 2.6 * radius) ring.push_back(v);
            const double share = std::clamp(radius + 0.5 - d, 0.0, 1.0);
            sum += share * v;
            area += share;
            if (d < 2) peak = std::max<double>(peak, v);
        }
    const double level = ring.size() >= 12 ? clipped_statistics(ring, 2.5f).location : background.level_at(s.x, s.y);
    s.flux = sum - area * level;
    s.peak = peak - level;
    const double photons = electrons_per_adu > 0 ? std::max(0.0, s.flux) / electrons_per_adu : 0;
    s.flux_sigma =
        std::sqrt(area * noise * noise * (1 + area / std::max<double>(12, static_cast<double>(ring.size()))) + photons);
}

double aperture_radius(double fwhm) {
    return std::max(2.0, 2 * fwhm);
}

double median(std::vector<float> v) {
    return v.empty() ? 0 : median_in_place(v);
}

struct Fitted {
    Star star;
    std::optional<PsfFit> fit;
};

/// Whether light that came through a telescope can have this shape: even a point, integrated over pixels, is wider than
/// a charged particle's track or a pair of hot pixels.
bool came_through_glass(const PsfFit& fit) {
    constexpr double kLeastWidth = 1.2, kMostElongation = 2.0; // pixels; major over minor axis
    return fit.fwhm_minor > kLeastWidth && fit.fwhm_major < kMostElongation * fit.fwhm_minor;
}

/// Whether a fit has the width of the frame's stars, as far as its own errors tell.
bool like_the_others(const PsfFit& fit, double fwhm) {
    const double slack = 0.25 + 7 * fit.position_sigma / fwhm; // three sigma of a width's error
    const double ratio = std::log(fit.fwhm() / fwhm);
    return came_through_glass(fit) && ratio > -std::min(slack, 0.4) && ratio < std::min(slack, 0.5) &&
           fit.fwhm_major < 2.2 * fwhm;
}

/// The width of the stars. Nothing in the sky is sharper than a star, but nebulae have knots of all greater widths, and
/// may have more of them than there are stars: so of the widths on which several fits agree it is the least that
/// counts. Peaks of a kernel density estimate over the logarithms (E. Parzen, Ann. Math. Stat. 33, 1962),
/// well-determined fits counting more.
double common_width(const std::vector<Fitted>& fitted, double otherwise) {
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
        return std::exp(widths[peak].log);
    }
    return otherwise;
}

} // namespace

StarList detect_stars(View<const float> image, const DetectOptions& o) {
    StarList list;
    list.background = measure_background(image);
    list.noise = list.background.global_sigma;
    if (image.width < 4 * o.border || image.height < 4 * o.border || !(list.noise > 0)) return list;
    std::vector<Candidate> found = find_maxima(image, list.background, o);
    if (found.size() > static_cast<std::size_t>(o.most)) found.resize(static_cast<std::size_t>(o.most));

    std::vector<Fitted> fitted;
    double start_fwhm = 3;
    for (const Candidate& c : found) {
        Fitted f;
        f.star.x = c.x;
        f.star.y = c.y;
        f.fit = fit_psf(image, c.x, c.y,
                        {.start_fwhm = start_fwhm,
                         .noise = list.noise,
                         .electrons_per_adu = o.electrons_per_adu,
                         .saturation = o.saturation});
        if (f.fit && std::hypot(f.fit->x - c.x, f.fit->y - c.y) > 2.5) f.fit.reset();
        for (int j = -1; j <= 1; ++j)
            for (int i = -1; i <= 1; ++i)
                f.star.saturated = f.star.saturated || (o.saturation > 0 && image(c.x + i, c.y + j) >= o.saturation);
        fitted.push_back(std::move(f));
        if (fitted.size() == 25) start_fwhm = std::clamp(common_width(fitted, start_fwhm), 1.2, 9.0);
    }
    list.fwhm = common_width(fitted, 0);
    std::vector<float> widths, eccentricities;
    for (Fitted& f : fitted) {
        Star& s = f.star;
        if (f.fit && like_the_others(*f.fit, list.fwhm)) {
            s.x = f.fit->x;
            s.y = f.fit->y;
            s.fwhm = f.fit->fwhm();
            s.eccentricity = f.fit->eccentricity();
            s.position_sigma = f.fit->position_sigma;
            if (!s.saturated) {
                widths.push_back(static_cast<float>(s.fwhm));
                eccentricities.push_back(static_cast<float>(s.eccentricity));
            }
        } else if (s.saturated) {
            windowed_centroid(image, list.background.level_at(s.x, s.y),
                              std::max(start_fwhm, list.fwhm) / kFwhmPerSigma, s.x, s.y);
        } else {
            continue; // a knot of nebula, a trail, a blend
        }
        list.stars.push_back(s);
    }
    // The brightest half tells the width best.
    widths.resize((widths.size() + 1) / 2);
    eccentricities.resize((eccentricities.size() + 1) / 2);
    list.fwhm = median(widths);
    list.eccentricity = median(eccentricities);

    const double radius = aperture_radius(list.fwhm > 0 ? list.fwhm : start_fwhm);
    for (Star& s : list.stars) {
        measure_flux(image, list.background, radius, list.noise, o.electrons_per_adu, s);
        if (s.position_sigma <= 0) // from the width and the signal to noise (I. King, PASP 95, 1983)
            s.position_sigma =
                std::max(0.01, 0.6 * start_fwhm * list.noise * std::sqrt(kPi) * start_fwhm / std::max(s.flux, 1e-6));
    }
    std::erase_if(list.stars, [](const Star& s) { return !(s.flux > 3 * s.flux_sigma); });
    std::stable_sort(list.stars.begin(), list.stars.end(),
                     [](const Star& a, const Star& b) { return a.flux > b.flux; });
    return list;
}

void measure_fluxes(View<const float> image, const Background& background, double fwhm, const DetectOptions& options,
                    std::vector<Star>& stars) {
    for (Star& s : stars) {
        measure_flux(image, background, aperture_radius(fwhm), background.global_sigma, options.electrons_per_adu, s);
        const int cx = static_cast<int>(std::lround(s.x)), cy = static_cast<int>(std::lround(s.y));
        for (int y = std::max(0, cy - 1); y <= std::min(image.height - 1, cy + 1); ++y)
            for (int x = std::max(0, cx - 1); x <= std::min(image.width - 1, cx + 1); ++x)
                s.saturated = s.saturated || (options.saturation > 0 && image(x, y) >= options.saturation);
    }
}

} // namespace kasane
