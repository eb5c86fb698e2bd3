#include <kasane/sky/scene.hpp>

#include <kasane/base/units.hpp>
#include <kasane/sky/random.hpp>

#include <algorithm>
#include <cmath>

namespace kasane::sky {

namespace {

/// How a filter sees the parts of the scene, relative to L.
struct FilterView {
    double stars, hydrogen, reflection, galaxy;
};

FilterView filter_view(const std::string& filter) {
    static const std::map<std::string, FilterView> known = {
        {"L", {1.0, 1.0, 1.0, 1.0}},     {"R", {0.36, 0.75, 0.18, 0.38}},   {"G", {0.34, 0.16, 0.34, 0.33}},
        {"B", {0.30, 0.10, 0.50, 0.26}}, {"Ha", {0.035, 0.62, 0.01, 0.03}}, {"O3", {0.02, 0.20, 0.02, 0.02}},
    };
    const auto it = known.find(filter);
    return it == known.end() ? known.at("L") : it->second;
}

/// Smooth noise on a lattice of unit spacing, 0..1.
double lattice_noise(double x, double y, std::uint64_t seed) {
    const double fx = std::floor(x), fy = std::floor(y);
    const auto value = [&](double i, double j) {
        Random r(seed, static_cast<std::uint64_t>(static_cast<std::int64_t>(i)),
                 static_cast<std::uint64_t>(static_cast<std::int64_t>(j)));
        return r.uniform();
    };
    const auto ease = [](double t) { return t * t * t * (t * (t * 6 - 15) + 10); };
    const double u = ease(x - fx), v = ease(y - fy);
    return std::lerp(std::lerp(value(fx, fy), value(fx + 1, fy), u),
                     std::lerp(value(fx, fy + 1), value(fx + 1, fy + 1), u), v);
}

/// Several octaves of it, 0..1.
double cloud(double x, double y, int octaves, std::uint64_t seed) {
    double sum = 0, weight = 0;
    for (int o = 0; o < octaves; ++o) {
        const double a = std::pow(0.55, o);
        // Each octave turned against the last, so that the lattice does not show.
        const double c = std::cos(1.1 * o + 0.4), s = std::sin(1.1 * o + 0.4), f = std::exp2(o);
        sum += a * lattice_noise(f * (c * x - s * y) + 17.3 * o, f * (s * x + c * y) - 5.1 * o,
                                 seed + static_cast<std::uint64_t>(o));
        weight += a;
    }
    return sum / weight;
}

/// The folded paper of the lantern: a glowing oval with ribs, veils and a dark mouth, in coordinates where the oval has
/// the half-axes 1. `hydrogen` and `reflection` are the two kinds of light.
struct Glow {
    double hydrogen, reflection;
};
Glow lantern(double x, double y, std::uint64_t seed) {
    const double wx = x + 0.22 * (cloud(2.1 * x + 3, 2.1 * y, 3, seed) - 0.5);
    const double wy = y + 0.22 * (cloud(2.1 * x - 7, 2.1 * y + 5, 3, seed + 11) - 0.5);
    const double r = std::hypot(wx, wy);
    const double body = 1 / (1 + std::exp((r - 0.86) / 0.07));
    const double latitude = wy / std::sqrt(std::max(0.04, 1 - 0.75 * wx * wx));
    const double ribs = 0.55 + 0.45 * std::cos(2 * kPi * 4.5 * latitude);
    const double ridge =
        1 - std::abs(2 * cloud(3.3 * x, 3.3 * y, 4, seed + 23) - 1); // filaments: crests of a folded field
    const double filaments = std::pow(ridge, 7);
    const double mouth = 1 - 0.75 * std::exp(-(std::pow((x - 0.08) / 0.16, 2) + std::pow((y + 0.83) / 0.11, 2)));
    const double veil = std::exp(-0.5 * std::pow(r / 1.25, 2)) * (0.25 + 0.75 * cloud(1.7 * x, 1.7 * y, 4, seed + 37));
    const double shell = std::exp(-0.5 * std::pow((r - 0.84) / 0.06, 2));
    return {mouth *
                (body * (0.18 + 0.34 * ribs * (0.5 + 0.5 * ridge)) + 0.75 * filaments * veil + 0.55 * shell * ridge),
            0.30 * veil + 0.35 * body * std::exp(-2.2 * r)};
}

double galaxy_light(double dx, double dy) {
    constexpr double kTilt = 0.45, kFlatness = 0.42;
    const double x = dx * std::cos(kTilt) + dy * std::sin(kTilt);
    const double y = (-dx * std::sin(kTilt) + dy * std::cos(kTilt)) / kFlatness;
    const double r = std::hypot(x, y);
    const double arms = 1 + 0.5 * std::cos(2 * (std::atan2(y, x) - 1.1 * std::log(1 + r / 4)));
    return 0.35 * std::exp(-r / 16) * arms + 0.65 * std::exp(-r / 3.5);
}

/// The flame in the lantern, peak 1: bright and steep, with tongues; `x`, `y` in units of its core.
double flame_light(double x, double y, std::uint64_t seed) {
    const double r2 = x * x + y * y;
    const double tongues = 1 + 0.5 * (cloud(0.7 * x + 5, 0.7 * y + 2, 3, seed) - 0.5);
    return tongues / std::pow(1 + r2, 1.5);
}

} // namespace

float Scene::extended_at(const Image& map, double x, double y) const {
    const double u = x / extended_step + map.width() / 2, v = y / extended_step + map.height() / 2;
    const double fu = std::floor(u), fv = std::floor(v);
    if (fu < 0 || fv < 0 || fu + 1 >= map.width() || fv + 1 >= map.height()) return 0;
    const int i = static_cast<int>(fu), j = static_cast<int>(fv);
    const auto a = static_cast<float>(u - fu), b = static_cast<float>(v - fv);
    const View<const float> p = map.plane();
    return (p(i, j) * (1 - a) + p(i + 1, j) * a) * (1 - b) + (p(i, j + 1) * (1 - a) + p(i + 1, j + 1) * a) * b;
}

Scene make_scene(const SceneOptions& o, const Workers& workers) {
    Scene scene;
    scene.extended_step = o.extended_step;
    const double width = o.width + 2.0 * o.margin, height = o.height + 2.0 * o.margin;

    Random random(o.seed, 1);
    const auto count = static_cast<int>(o.stars * (width * height) / (static_cast<double>(o.width) * o.height));
    for (int i = 0; i < count; ++i) {
        SceneStar star{random.uniform(-width / 2, width / 2), random.uniform(-height / 2, height / 2), {}};
        // Inverse of the truncated power law.
        const double lo = std::pow(o.faintest_rate, -o.slope), hi = std::pow(o.brightest_rate, -o.slope);
        const double rate = std::pow(lo + (hi - lo) * random.uniform(), -1 / o.slope);
        const double warmth = random.normal() * 0.25;
        for (const auto& f : o.filters) {
            const double tint = f == "R" || f == "Ha" ? std::exp(warmth) : f == "B" ? std::exp(-warmth) : 1.0;
            star.rate[f] = rate * filter_view(f).stars * tint;
        }
        scene.stars.push_back(std::move(star));
    }

    const int gw = static_cast<int>(std::ceil(width / o.extended_step)),
              gh = static_cast<int>(std::ceil(height / o.extended_step));
    for (const auto& f : o.filters)
        scene.extended[f] = Image(gw, gh);
    if (o.nebula <= 0 && o.galaxy <= 0 && o.veil <= 0 && o.flame <= 0) return scene;
    const double size = 0.40 * std::min(o.width, o.height);
    const double galaxy_x = -0.36 * o.width, galaxy_y = 0.30 * o.height,
                 galaxy_size = std::min(o.width, o.height) / 600.0;
    workers.for_each(static_cast<std::size_t>(gh), [&](std::size_t row) {
        const int j = static_cast<int>(row);
        for (int i = 0; i < gw; ++i) {
            const double x = (i - gw / 2) * o.extended_step, y = (j - gh / 2) * o.extended_step;
            const Glow glow = lantern((x - 0.05 * o.width) / (1.18 * size), y / size, o.seed + 101);
            constexpr double kCoarsest = 64, kSpread = 6; // pixels; from the clouds' deviation to a relative one
            const double rough =
                o.texture > 0
                    ? std::exp(o.texture * kSpread * (cloud(x / kCoarsest, y / kCoarsest, 5, o.seed + 211) - 0.5))
                    : 1;
            const double galaxy = galaxy_light((x - galaxy_x) / galaxy_size, (y - galaxy_y) / galaxy_size);
            constexpr double kFlame = 30; // of its core in the lantern
            const double flame = o.flame > 0 ? flame_light(kFlame / size * (x - 0.05 * o.width - 0.1 * size),
                                                           kFlame / size * (y - 0.15 * size), o.seed + 307)
                                             : 0;
            for (const auto& f : o.filters) {
                const FilterView v = filter_view(f);
                scene.extended[f](i, j) = static_cast<float>(
                    rough * (o.nebula * (v.hydrogen * glow.hydrogen + v.reflection * glow.reflection) +
                             o.veil * v.hydrogen) +
                    o.galaxy * v.galaxy * galaxy + o.flame * v.reflection * flame);
            }
        }
    });
    return scene;
}

} // namespace kasane::sky
