#include <kasane/sky/render.hpp>

#include <kasane/base/units.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace kasane::sky {

namespace {

/// From the scene to the sensor and back, through mount and glass.
struct Frame {
    std::array<double, 6> forward;
    std::array<double, 9> sky, back;
    bool wide;
    double cx, cy, corner, distortion;
    const std::optional<Lens>& lens;

    Frame(const Pointing& p, const Instrument& n)
        : forward(scene_to_pixel(p, n.width, n.height)), sky(p.sky), cx(0.5 * (n.width - 1)), cy(0.5 * (n.height - 1)),
          corner(std::hypot(cx, cy)), distortion(n.distortion), lens(n.lens) {
        wide = sky != Pointing{}.sky;
        const Eigen::Matrix<double, 3, 3, Eigen::RowMajor> m =
            Eigen::Map<const Eigen::Matrix<double, 3, 3, Eigen::RowMajor>>(sky.data()).inverse();
        std::copy_n(m.data(), back.size(), back.begin());
    }

    static bool move(const std::array<double, 9>& m, double& x, double& y) {
        const double w = m[6] * x + m[7] * y + m[8];
        if (!(w > 1e-6)) return false;
        const double u = (m[0] * x + m[1] * y + m[2]) / w, v = (m[3] * x + m[4] * y + m[5]) / w;
        x = u, y = v;
        return true;
    }

    /// False for what lies behind the camera.
    bool to_pixel(double sx, double sy, double& x, double& y) const {
        if (wide && !move(sky, sx, sy)) return false;
        x = forward[0] * sx + forward[1] * sy + forward[2];
        y = forward[3] * sx + forward[4] * sy + forward[5];
        if (lens) {
            const Point seen = lens->distort({x, y});
            x = seen.x, y = seen.y;
            return std::isfinite(x);
        }
        if (distortion == 0) return true;
        const double dx = x - cx, dy = y - cy, r = std::hypot(dx, dy) / corner;
        x = cx + dx * (1 + distortion * r * r);
        y = cy + dy * (1 + distortion * r * r);
        return true;
    }

    void to_scene(double x, double y, double& sx, double& sy) const {
        if (lens) {
            const Point ideal = lens->correct({x, y});
            x = ideal.x, y = ideal.y;
        } else if (distortion != 0) { // fixed point; the shift is small and smooth
            double ux = x - cx, uy = y - cy;
            for (int i = 0; i < 8; ++i) {
                const double r = std::hypot(ux, uy) / corner, s = 1 + distortion * r * r;
                ux = (x - cx) / s;
                uy = (y - cy) / s;
            }
            x = cx + ux;
            y = cy + uy;
        }
        const double det = forward[0] * forward[4] - forward[1] * forward[3];
        const double dx = x - forward[2], dy = y - forward[5];
        sx = (forward[4] * dx - forward[1] * dy) / det;
        sy = (-forward[3] * dx + forward[0] * dy) / det;
        if (wide) move(back, sx, sy);
    }
};

/// An elliptical Moffat profile of unit volume.
class Moffat {
public:
    Moffat(double fwhm, double ellipticity, double angle_deg, double beta) : beta_(beta) {
        const double q =
            1 - ellipticity; // axes a, b with the geometric mean kept: the area of the star does not change
        const double alpha = fwhm / (2 * std::sqrt(std::exp2(1 / beta) - 1));
        const double a = alpha / std::sqrt(q), b = alpha * std::sqrt(q);
        const double c = std::cos(radians(angle_deg)), s = -std::sin(radians(angle_deg)); // y runs down
        xx_ = c * c / (a * a) + s * s / (b * b);
        yy_ = s * s / (a * a) + c * c / (b * b);
        xy_ = 2 * c * s * (1 / (a * a) - 1 / (b * b));
        peak_ = (beta - 1) / (kPi * a * b);
        longest_ = a;
    }
    double operator()(double dx, double dy) const {
        return peak_ * std::pow(1 + xx_ * dx * dx + xy_ * dx * dy + yy_ * dy * dy, -beta_);
    }
    /// Where the profile has fallen to `value`.
    double radius(double value) const {
        return value >= peak_ ? longest_ : longest_ * std::sqrt(std::pow(peak_ / value, 1 / beta_) - 1);
    }

private:
    double beta_, xx_, yy_, xy_, peak_, longest_;
};

/// A star on the sensor.
struct Spot {
    double x, y, electrons;
};

/// Adds a star, integrated over each pixel: fine sub-sampling in the core, the centre value in the smooth wings.
void add_star(Image& image, const Spot& spot, const Moffat& psf, double core) {
    const auto& [x, y, electrons] = spot;
    constexpr double kFaintest = 0.02; // electrons: far below any noise
    const int reach =
        static_cast<int>(std::min(90.0, std::ceil(psf.radius(kFaintest / std::max(electrons, kFaintest)) + 2)));
    const Region box = intersect({static_cast<int>(std::lround(x)) - reach, static_cast<int>(std::lround(y)) - reach,
                                  2 * reach + 1, 2 * reach + 1},
                                 image.bounds());
    for (int j = box.y; j < box.bottom(); ++j)
        for (int i = box.x; i < box.right(); ++i) {
            const double distance = std::hypot(i - x, j - y);
            const int n = distance < core ? 7 : distance < 3 * core ? 3 : 1;
            double sum = 0;
            for (int b = 0; b < n; ++b)
                for (int a = 0; a < n; ++a)
                    sum += psf(i + (a + 0.5) / n - 0.5 - x, j + (b + 0.5) / n - 0.5 - y);
            image(i, j) += static_cast<float>(electrons * sum / (n * n));
        }
}

void add_trail(Image& image, const Trail& t) {
    const double length = std::hypot(t.x1 - t.x0, t.y1 - t.y0);
    const double ux = (t.x1 - t.x0) / length, uy = (t.y1 - t.y0) / length;
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x) {
            const double across = (x - t.x0) * uy - (y - t.y0) * ux, along = (x - t.x0) * ux + (y - t.y0) * uy;
            if (std::abs(across) > 5 * t.width || along < 0 || along > length) continue;
            if (t.blink > 0 && std::fmod(along, 2 * t.blink) > t.blink) continue;
            image(x, y) += static_cast<float>(t.electrons * std::exp(-0.5 * across * across / (t.width * t.width)));
        }
}

/// Share of light that an obstruction rising from the last row lets through at row y.
double clear_above(double obstruction, double y, int height) {
    if (obstruction < 0) return 1;
    const double edge = height * (1 - obstruction);
    return 1 / (1 + std::exp((y - edge) / 12.0));
}

/// The same of a landscape, a pixel and a half of haze at its edge.
double clear_of(const std::vector<Point>& skyline, double x, double y) {
    if (skyline.empty()) return 1;
    auto right = std::find_if(skyline.begin(), skyline.end(), [&](const Point& p) { return p.x >= x; });
    if (right == skyline.end()) right = std::prev(right);
    const auto left = right == skyline.begin() ? right : std::prev(right);
    const double share = right->x > left->x ? std::clamp((x - left->x) / (right->x - left->x), 0.0, 1.0) : 0;
    return 1 / (1 + std::exp((y - (left->y + share * (right->y - left->y))) / 1.5));
}

char colour_at(const std::string& cfa, int x, int y) {
    return cfa[static_cast<std::size_t>((y & 1) * 2 + (x & 1))];
}

/// The scene as an instrument sees it.
struct Sight {
    const Scene& scene;
    const Instrument& instrument;
    const Conditions& conditions;
};

void add_scene(Image& image, const Sight& sight, const std::string& filter, double factor) {
    const auto& [scene, n, c] = sight;
    const Frame frame(c.pointing, n);
    const Image& map = scene.extended.at(filter);
    const double area = 1 / (c.pointing.scale * c.pointing.scale); // surface brightness is per scene pixel
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x) {
            double sx = 0, sy = 0;
            frame.to_scene(x, y, sx, sy);
            image(x, y) += static_cast<float>(factor * area * scene.extended_at(map, sx, sy));
        }
    const Moffat psf(c.fwhm, c.ellipticity, c.ellipticity_angle, n.moffat_beta);
    for (const SceneStar& star : scene.stars) {
        double x = 0, y = 0;
        if (!frame.to_pixel(star.x, star.y, x, y)) continue;
        if (x < -90 || y < -90 || x > n.width + 90 || y > n.height + 90) continue;
        add_star(image, {x, y, factor * star.rate.at(filter)}, psf, std::max(2.0, c.fwhm));
    }
}

/// In steps along its way during the exposure.
void add_comet(Image& image, const Sight& sight, const std::string& filter, double factor) {
    if (!sight.conditions.comet) return;
    const auto& [scene, n, c] = sight;
    const Comet& comet = *c.comet;
    const Frame frame(c.pointing, n);
    const double through = factor * Comet::share_through(filter), area = 1 / (c.pointing.scale * c.pointing.scale);
    constexpr int kSteps = 7;
    const Moffat psf(c.fwhm, c.ellipticity, c.ellipticity_angle, n.moffat_beta);
    const auto along = [&](int step) { return (step + 0.5) / kSteps - 0.5; };
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x) {
            double sx = 0, sy = 0, sum = 0;
            frame.to_scene(x, y, sx, sy);
            for (int k = 0; k < kSteps; ++k)
                sum += comet.light_at(sx - along(k) * comet.moved_x, sy - along(k) * comet.moved_y);
            image(x, y) += static_cast<float>(through * area * sum / kSteps);
        }
    for (int k = 0; k < kSteps; ++k) {
        double x = 0, y = 0;
        if (!frame.to_pixel(comet.x + along(k) * comet.moved_x, comet.y + along(k) * comet.moved_y, x, y)) continue;
        add_star(image, {x, y, through * comet.nucleus / kSteps}, psf, std::max(2.0, c.fwhm));
    }
}

Image render_filter(const Scene& scene, const std::string& filter, const Instrument& n, const Conditions& c,
                    double seconds) {
    Image image(n.width, n.height);
    add_scene(image, {scene, n, c}, filter, c.transparency * seconds);
    add_comet(image, {scene, n, c}, filter, c.transparency * seconds);
    for (int y = 0; y < n.height; ++y)
        for (int x = 0; x < n.width; ++x) {
            const double u = 2.0 * x / (n.width - 1) - 1, v = 2.0 * y / (n.height - 1) - 1;
            const double clear = clear_above(c.obstruction, y, n.height) * clear_of(c.skyline, x, y);
            double rate = c.sky * (1 + u * c.gradient_x + v * c.gradient_y + 0.5 * c.bow * (u * u + v * v));
            for (const Lamp& lamp : c.lamps)
                rate += lamp.rate * std::exp(-0.5 * (std::pow(x - lamp.x, 2) + std::pow(y - lamp.y, 2)) /
                                             (lamp.radius * lamp.radius));
            const double sky = seconds * rate;
            image(x, y) = static_cast<float>(clear * (image(x, y) + sky) + (1 - clear) * 0.35 * c.sky * seconds);
        }
    return image;
}

} // namespace

double Comet::light_at(double scene_x, double scene_y) const {
    const double dx = scene_x - x, dy = scene_y - y, r2 = (dx * dx + dy * dy) / (size * size);
    double light = coma * std::pow(1 + r2, -0.75) * std::exp(-std::sqrt(r2) / 12);
    const double ux = std::cos(radians(tail_angle)), uy = -std::sin(radians(tail_angle));
    const double along = dx * ux + dy * uy, across = -dx * uy + dy * ux, width = size + 0.12 * std::max(0.0, along);
    constexpr double kRise = 0.5; // of the coma's size, over which the tail begins
    light += tail * std::exp(-std::max(0.0, along) / length) * std::exp(-0.5 * across * across / (width * width)) /
             (1 + std::exp(-along / (kRise * size)));
    return light;
}

double Comet::share_through(const std::string& filter) {
    return filter == "L" ? 1 : filter == "G" ? 0.5 : filter == "B" ? 0.3 : filter == "R" ? 0.2 : 0.02;
}

std::array<double, 6> scene_to_pixel(const Pointing& p, int width, int height) {
    const double c = p.scale * std::cos(radians(p.rotation)), s = p.scale * std::sin(radians(p.rotation));
    // Counter-clockwise as displayed with y running down.
    return {c,  s, 0.5 * (width - 1) - c * p.offset_x - s * p.offset_y,
            -s, c, 0.5 * (height - 1) + s * p.offset_x - c * p.offset_y};
}

std::array<double, 9> sky_pointed(double focal, double x, double y) {
    const double k = 1 / (focal * focal), c = k / (std::sqrt(1 + k * (x * x + y * y)) + 1);
    return {1 + c * y * y, -c * x * y, -x, -c * x * y, 1 + c * x * x, -y, k * x, k * y, 1};
}

std::array<double, 9> sky_turn(double focal, double pole_x, double pole_y, double degrees_) {
    using Rows = Eigen::Matrix<double, 3, 3, Eigen::RowMajor>;
    const Eigen::Vector3d axis = Eigen::Vector3d(pole_x, pole_y, focal).normalized();
    const Eigen::DiagonalMatrix<double, 3> plane(focal, focal, 1), ray(1 / focal, 1 / focal, 1);
    Rows m = plane * Eigen::AngleAxisd(radians(degrees_), axis).toRotationMatrix() * ray;
    m /= m(2, 2);
    std::array<double, 9> out{};
    std::copy_n(m.data(), out.size(), out.begin());
    return out;
}

Point scene_at(const Pointing& pointing, const Instrument& instrument, Point pixel) {
    Point out;
    Frame(pointing, instrument).to_scene(pixel.x, pixel.y, out.x, out.y);
    return out;
}

Point pixel_of(const Pointing& pointing, const Instrument& instrument, Point scene) {
    Point out{kNoData, kNoData};
    Frame(pointing, instrument).to_pixel(scene.x, scene.y, out.x, out.y);
    return out;
}

Image render_light(const Scene& scene, const std::string& filter, const Camera& camera, const Conditions& c,
                   double seconds) {
    const auto& [n, maps] = camera;
    Image image;
    if (n.cfa.empty()) {
        image = render_filter(scene, filter, n, c, seconds);
    } else {
        image = Image(n.width, n.height);
        for (const char colour : {'R', 'G', 'B'}) {
            const Image one = render_filter(scene, std::string(1, colour), n, c, seconds);
            for (int y = 0; y < n.height; ++y)
                for (int x = 0; x < n.width; ++x)
                    if (colour_at(n.cfa, x, y) == colour) image(x, y) = one(x, y);
        }
    }
    for (const Trail& t : c.trails)
        add_trail(image, t);
    for (std::size_t i = 0; i < image.pixels().size(); ++i)
        image.pixels()[i] *= maps.illumination.pixels()[i];
    return image;
}

Image render_truth(const Scene& scene, const std::string& filter, const Instrument& n, const Conditions& c) {
    Image image(n.width, n.height);
    add_scene(image, {scene, n, c}, filter, 1.0);
    return image;
}

Raster<std::uint16_t> expose(const Image& electrons, const Camera& camera, const Exposing& how, std::uint64_t seed) {
    const auto& [n, maps] = camera;
    const auto& [seconds, temperature, cosmic_rays] = how;
    Image signal = electrons;
    Random rays(seed, 31);
    for (int hits = static_cast<int>(rays.poisson(cosmic_rays)); hits > 0; --hits) {
        double x = rays.uniform(0, n.width), y = rays.uniform(0, n.height);
        const double angle = rays.uniform(0, 2 * kPi), charge = rays.uniform(400, 6000);
        for (int length = 1 + static_cast<int>(rays.uniform(0, 6)); length > 0;
             --length, x += std::cos(angle), y += std::sin(angle))
            if (x >= 0 && y >= 0 && x < n.width && y < n.height)
                signal(static_cast<int>(x), static_cast<int>(y)) += static_cast<float>(charge);
    }
    const double dark = seconds * std::exp2((temperature - n.reference_temperature) / 6);
    Raster<std::uint16_t> adu(n.width, n.height);
    for (int y = 0; y < n.height; ++y) {
        Random random(seed, 32, static_cast<std::uint64_t>(y));
        for (int x = 0; x < n.width; ++x) {
            const double charge =
                random.poisson(signal(x, y) + dark * maps.dark(x, y)) + n.read_noise * random.normal();
            const double value = charge / n.gain + maps.offset(x, y);
            adu(x, y) = static_cast<std::uint16_t>(std::clamp(std::round(value), 0.0, n.saturation_adu));
        }
    }
    return adu;
}

} // namespace kasane::sky
