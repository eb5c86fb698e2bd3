#include <kasane/finishing/comparison.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/finishing/sky_noise.hpp>
#include <kasane/finishing/star_light.hpp>
#include <kasane/grading/figures.hpp>
#include <kasane/image/robust_fit.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <span>

namespace kasane {

namespace {

constexpr double kStarDisc = 2.5; // radius in which a star's light is measured, in units of the widest FWHM
constexpr double kRingInner = 1.2, kRingOuter = 1.9; // of the sky around it, in units of that

/// A star that all images show.
struct CommonStar {
    std::vector<Star> seen;                   ///< by image, as its list has it
    std::vector<std::array<double, 3>> light; ///< by image and plane
    std::vector<double> in_disc;              ///< by image: in the disc of its FWHM, main plane
    double main(std::size_t image, int planes) const {
        return light[image][static_cast<std::size_t>(main_plane(planes))];
    }
};

double median_of(std::vector<float> values) {
    return values.empty() ? std::nan("") : static_cast<double>(median_in_place(values));
}

/// The middle of values, and its error; each has a weight.
struct Middle {
    double value = 0, error = 0, scatter = 0;
};

/// A robust mean (Tukey's bisquare) of values of known errors; the error is not below what they scatter by.
Middle middle_of(const std::vector<double>& values, const std::vector<double>& errors) {
    std::vector<Equation<1>> equations;
    for (std::size_t i = 0; i < values.size(); ++i)
        equations.push_back({Eigen::Matrix<double, 1, 1>(1.0), values[i], 1 / (errors[i] * errors[i])});
    Middle out;
    if (equations.empty()) return out;
    out.value = robust_fit(equations)[0];
    std::vector<float> off, relative;
    double weight = 0;
    for (std::size_t i = 0; i < values.size(); ++i) {
        off.push_back(static_cast<float>(std::abs(values[i] - out.value)));
        relative.push_back(off.back() / static_cast<float>(errors[i]));
        weight += equations[i].weight;
    }
    out.scatter = kSigmaPerMad * static_cast<double>(median_in_place(off));
    const double chi = std::max(1.0, kSigmaPerMad * static_cast<double>(median_in_place(relative)));
    out.error = chi / std::sqrt(weight);
    return out;
}

class Judge {
public:
    Judge(const std::vector<ComparedImage>& images, const Workers& workers) : images_(images), workers_(workers) {}

    Comparison judge() {
        Comparison out;
        out.images.resize(images_.size());
        find_common();
        for (std::size_t k = 0; k < images_.size(); ++k) {
            ImageJudgement& j = out.images[k];
            j.scale = scale_[k];
            std::vector<float> widths, shapes;
            for (const CommonStar& s : stars_)
                if (s.seen[k].fwhm > 0) {
                    widths.push_back(static_cast<float>(s.seen[k].fwhm));
                    shapes.push_back(static_cast<float>(s.seen[k].eccentricity));
                }
            j.own_fwhm = median_of(widths);
            if (!(j.own_fwhm > 0)) j.own_fwhm = images_[k].fwhm;
            j.fwhm = j.own_fwhm / scale_[k];
            j.eccentricity = median_of(shapes);
            discs_.push_back(j.own_fwhm);
            widest_ = std::max(widest_, j.fwhm);
        }
        measure_light();
        out.stars = static_cast<int>(stars_.size());
        noise_ = measure_sky_noise(images_, discs_, scale_, workers_);
        out.places = noise_.places;
        out.by_account = take_accounts();
        for (std::size_t k = 0; k < images_.size(); ++k) {
            tell_light(k, out.images[k]);
            tell_noise(k, out.images[k], out.by_account);
            tell_sky(k, out.images[k]);
            constexpr double kPogson = 2.5;
            out.images[k].deeper = kPogson * std::log10(out.images.front().depth / out.images[k].depth);
        }
        return out;
    }

private:
    int planes(std::size_t k) const { return images_[k].pixels->planes(); }

    void find_common() {
        for (std::size_t i = 0; i < images_.front().stars->size(); ++i) {
            CommonStar star{{(*images_.front().stars)[i]}, {}, {}};
            for (const ComparedImage& image : std::span(images_).subspan(1)) {
                const int other = i < image.match.size() ? image.match[i] : -1;
                if (other < 0) break;
                star.seen.push_back((*image.stars)[static_cast<std::size_t>(other)]);
            }
            if (star.seen.size() != images_.size()) continue;
            if (std::any_of(star.seen.begin(), star.seen.end(), [](const Star& s) { return s.saturated; })) continue;
            stars_.push_back(std::move(star));
        }
        // Where they are: elsewhere a transform with a lens may mean nothing.
        Point middle;
        for (const CommonStar& star : stars_)
            middle.x += star.seen[0].x / static_cast<double>(stars_.size()),
                middle.y += star.seen[0].y / static_cast<double>(stars_.size());
        for (const ComparedImage& image : images_) {
            const double scale = image.to_image.at(middle).scale();
            scale_.push_back(scale > 0 && std::isfinite(scale) ? scale : 1);
        }
    }

    /// Of every common star in every image; those that some image does not show whole are left out.
    void measure_light() {
        workers_.for_each(stars_.size(), [&](std::size_t i) {
            CommonStar& s = stars_[i];
            for (std::size_t k = 0; k < images_.size(); ++k) {
                const double x = s.seen[k].x, y = s.seen[k].y, radius = kStarDisc * widest_ * scale_[k];
                std::array<double, 3> light{};
                for (int p = 0; p < planes(k); ++p) {
                    const View<const float> view = images_[k].pixels->plane(p);
                    const RingSky sky = ring_sky(view, x, y, kRingInner * radius, kRingOuter * radius);
                    light[static_cast<std::size_t>(p)] = disc_light(view, x, y, radius, sky.level);
                    if (p == main_plane(planes(k))) s.in_disc.push_back(disc_light(view, x, y, discs_[k], sky.level));
                }
                s.light.push_back(light);
            }
        });
        std::erase_if(stars_, [&](const CommonStar& s) {
            for (std::size_t k = 0; k < images_.size(); ++k)
                if (!(s.main(k, planes(k)) > 0) || !(s.in_disc[k] > 0)) return true;
            return false;
        });
        if (static_cast<int>(stars_.size()) < kLeastCommonStars)
            throw DataError(fmt::format("the images have {} unsaturated star{} in common that can be measured; {} are "
                                        "needed",
                                        stars_.size(), stars_.size() == 1 ? "" : "s", kLeastCommonStars),
                            {}, "Compare images that show more of the same field");
        std::sort(stars_.begin(), stars_.end(), [&](const CommonStar& a, const CommonStar& b) {
            return a.main(0, planes(0)) > b.main(0, planes(0));
        });
    }

    /// Where all images state their noise that is known better: it is told by two halves of a stack, and no sky is in
    /// it.
    bool take_accounts() {
        const auto states = [](const ComparedImage& image) { return image.stated_noise > 0 && image.stated_fwhm > 0; };
        if (noise_.places == 0 || !std::all_of(images_.begin(), images_.end(), states)) return false;
        for (std::size_t k = 0; k < images_.size(); ++k)
            noise_.images[k].disc = images_[k].stated_noise * std::sqrt(kPi) * discs_[k];
        return true;
    }

    /// Relative error of a star's light, as the sky lets expect.
    double error_of(const CommonStar& s, std::size_t k) const {
        const double radius = kStarDisc * widest_ * scale_[k], grown = radius / discs_[k];
        const double disc = noise_.places > 0 ? noise_.images[k].disc : 0,
                     noise = std::isfinite(disc) ? disc * grown : 0;
        constexpr double kLeast = 0.002; // flats, and where a star lies between the pixels
        return std::hypot(kLeast, noise / s.main(k, planes(k)));
    }

    void tell_light(std::size_t k, ImageJudgement& j) const {
        if (k == 0) return;
        std::vector<double> logs, errors;
        for (const CommonStar& s : stars_) {
            logs.push_back(std::log(s.main(k, planes(k)) / s.main(0, planes(0))));
            errors.push_back(std::hypot(error_of(s, k), error_of(s, 0)));
        }
        const Middle all = middle_of(logs, errors);
        j.ratio = std::exp(all.value), j.ratio_error = j.ratio * all.error;
        const std::size_t bright = std::max<std::size_t>(kLeastCommonStars, stars_.size() / 4);
        j.scatter = middle_of({logs.begin(), logs.begin() + static_cast<std::ptrdiff_t>(bright)},
                              {errors.begin(), errors.begin() + static_cast<std::ptrdiff_t>(bright)})
                        .scatter;
        tell_slope(logs, errors, j);
        tell_steps(logs, errors, all.value, j);
        if (planes(k) == 3 && planes(0) == 3) tell_colour(k, j);
    }

    /// A straight line through the ratios by brightness.
    void tell_slope(const std::vector<double>& logs, const std::vector<double>& errors, ImageJudgement& j) const {
        std::vector<Equation<2>> equations;
        double weights = 0, sum = 0;
        std::vector<double> decades;
        for (std::size_t i = 0; i < stars_.size(); ++i) {
            decades.push_back(std::log10(stars_[i].main(0, planes(0))));
            weights += 1 / (errors[i] * errors[i]), sum += decades[i] / (errors[i] * errors[i]);
        }
        double square = 0;
        for (std::size_t i = 0; i < stars_.size(); ++i) {
            const double off = decades[i] - sum / weights;
            equations.push_back({{1, off}, logs[i], 1 / (errors[i] * errors[i])});
            square += off * off / (errors[i] * errors[i]);
        }
        const Eigen::Vector2d line = robust_fit(equations);
        if (!line.allFinite() || !(square > 0)) return;
        std::vector<float> off;
        for (const Equation<2>& e : equations)
            off.push_back(static_cast<float>(std::abs(e.value - e.row.dot(line)) * std::sqrt(e.weight)));
        j.slope = line[1];
        j.slope_error = std::max(1.0, kSigmaPerMad * static_cast<double>(median_in_place(off))) / std::sqrt(square);
    }

    /// By brightness, from the brightest on: as many as make a factor of three, or five stars.
    void tell_steps(const std::vector<double>& logs, const std::vector<double>& errors, double all,
                    ImageJudgement& j) const {
        constexpr std::size_t kFewest = 5;
        const double step = std::sqrt(10.0);
        for (std::size_t from = 0; from < stars_.size();) {
            const double brightest = stars_[from].main(0, planes(0));
            std::size_t to = from;
            while (to < stars_.size() && (to - from < kFewest || stars_[to].main(0, planes(0)) > brightest / step))
                ++to;
            if (to - from < kFewest) break;
            const auto part = [&](const std::vector<double>& v) {
                return std::vector<double>(v.begin() + static_cast<std::ptrdiff_t>(from),
                                           v.begin() + static_cast<std::ptrdiff_t>(to));
            };
            const Middle m = middle_of(part(logs), part(errors));
            const double ratio = std::exp(m.value - all);
            j.steps.push_back({std::sqrt(brightest * stars_[to - 1].main(0, planes(0))), ratio, ratio * m.error,
                               static_cast<int>(to - from)});
            from = to;
        }
    }

    /// Red and blue against green, of the brighter half.
    void tell_colour(std::size_t k, ImageJudgement& j) const {
        for (int side = 0; side < 2; ++side) {
            std::vector<double> logs, errors;
            for (std::size_t i = 0; i < std::max<std::size_t>(kLeastCommonStars, stars_.size() / 2); ++i) {
                const std::array<double, 3>&here = stars_[i].light[k], &first = stars_[i].light[0];
                const double value = std::log(here[static_cast<std::size_t>(2 * side)] / here[1] * first[1] /
                                              first[static_cast<std::size_t>(2 * side)]);
                if (!std::isfinite(value)) continue;
                logs.push_back(value), errors.push_back(std::hypot(error_of(stars_[i], k), error_of(stars_[i], 0)));
            }
            const Middle m = middle_of(logs, errors);
            if (logs.empty()) continue;
            j.colour[static_cast<std::size_t>(side)] = std::exp(m.value);
            j.colour_scatter = std::max(j.colour_scatter, m.scatter);
        }
    }

    void tell_noise(std::size_t k, ImageJudgement& j, bool by_account) const {
        std::vector<float> shares;
        const std::size_t bright = std::max<std::size_t>(kLeastCommonStars, stars_.size() / 3);
        for (const CommonStar& star : std::span(stars_).first(bright))
            shares.push_back(static_cast<float>(star.in_disc[k] / star.main(k, planes(k))));
        j.disc_share = median_of(shares);
        j.pixel_noise = j.disc_noise = j.depth = j.correlation = std::nan("");
        if (noise_.places == 0) return;
        const SkyNoise::OfImage& n = noise_.images[k];
        constexpr double kSigmas = 5;
        j.pixel_noise = n.pixel;
        if (by_account) {
            const double gaussian = 1 - std::exp2(-4.0); // of its light within its FWHM
            j.disc_share = gaussian;
        }
        j.disc_noise = n.disc / j.ratio * (by_account ? images_[k].stated_fwhm / discs_[k] : 1);
        j.correlation = n.white > 0 ? n.disc / n.white : std::nan("");
        j.depth = kSigmas * j.disc_noise / j.disc_share;
    }

    void tell_sky(std::size_t k, ImageJudgement& j) const {
        const Background& mesh = *images_[k].mesh;
        j.background = static_cast<double>(mesh.global_level);
        const double unit = surface_unit(k, j.ratio);
        const Slope slope = background_slope(mesh);
        j.gradient = slope.size / unit, j.gradient_angle = slope.angle;
        if (k == 0) return;
        // Where the first image's cells lie on this one.
        const Background& first = *images_.front().mesh;
        const int width = images_.front().pixels->width(), height = images_.front().pixels->height();
        std::vector<Equation<3>> equations;
        for (int row = 0; row < first.level.height(); ++row)
            for (int column = 0; column < first.level.width(); ++column) {
                const Point c{std::min((column + 0.5) * first.cell, width - 1.0),
                              std::min((row + 0.5) * first.cell, height - 1.0)};
                const Point p = images_[k].to_image.map(c);
                if (!(p.x >= 0 && p.y >= 0 && p.x <= images_[k].pixels->width() - 1 &&
                      p.y <= images_[k].pixels->height() - 1))
                    continue;
                const double value =
                    static_cast<double>(mesh.level_at(p.x, p.y)) / unit - static_cast<double>(first.level(column, row));
                if (std::isfinite(value)) equations.push_back({{1, c.x / width - 0.5, c.y / height - 0.5}, value, 1});
            }
        const Eigen::Vector3d plane = robust_fit(equations);
        if (equations.size() < 6 || !plane.allFinite()) {
            j.difference = j.difference_gradient = std::nan("");
            return;
        }
        double squares = 0;
        for (const Equation<3>& e : equations)
            squares += std::pow(e.value - e.row.dot(plane), 2);
        j.difference_gradient = std::hypot(plane[1], plane[2]);
        j.difference = std::sqrt(squares / static_cast<double>(equations.size()));
    }

    /// What one ADU of the first image's sky is in this one.
    double surface_unit(std::size_t k, double ratio) const { return ratio / (scale_[k] * scale_[k]); }

    const std::vector<ComparedImage>& images_;
    const Workers& workers_;
    std::vector<double> scale_, discs_; ///< by image; the radii in its own pixels
    double widest_ = 0;                 ///< FWHM, pixels of the first image
    std::vector<CommonStar> stars_;     ///< the brightest of the first image first
    SkyNoise noise_;
};

} // namespace

Comparison compare(const std::vector<ComparedImage>& images, const Workers& workers) {
    return Judge(images, workers).judge();
}

} // namespace kasane
