#include <kasane/sky/star_views.hpp>

#include <kasane/base/units.hpp>
#include <kasane/sky/render.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cmath>

namespace kasane::sky {

namespace {

struct SkyStar {
    Point at; ///< ideal pixels of the reference
    double flux;
};

std::array<double, 9> elements(const Eigen::Matrix3d& m) {
    return {m(0, 0), m(0, 1), m(0, 2), m(1, 0), m(1, 1), m(1, 2), m(2, 0), m(2, 1), m(2, 2)};
}

Eigen::Matrix3d to_pixels(double unit, double x, double y) {
    Eigen::Matrix3d m;
    m << unit, 0, x, 0, unit, y, 0, 0, 1;
    return m;
}

/// Of both views; null where there is no distortion.
std::shared_ptr<const Lens> lens_of(const StarViewOptions& o) {
    if (o.distortion == 0) return nullptr;
    Lens l;
    l.centre = {0.5 * (o.width - 1), 0.5 * (o.height - 1)};
    l.radius = std::hypot(l.centre.x, l.centre.y);
    l.radial = {o.distortion, 0, 0};
    return std::make_shared<const Lens>(l);
}

/// Between the ideal images.
Eigen::Matrix3d pose(const StarViewOptions& o, Random& random) {
    const double cx = 0.5 * (o.width - 1), cy = 0.5 * (o.height - 1);
    const double turn = radians(o.any_turn ? random.uniform(-180, 180) : random.uniform(-0.5, 0.5));
    const double mirror = random.uniform() < o.mirrored ? -1 : 1;
    const double scale = std::exp(random.uniform(std::log(o.least_scale), std::log(o.most_scale)));
    const double direction = random.uniform(0, 2 * kPi);
    if (o.focal > 0) { // the camera is turned about an axis across the view
        const double swing = radians(o.swing);
        const Eigen::Matrix3d r =
            (Eigen::AngleAxisd(swing, Eigen::Vector3d(std::cos(direction), std::sin(direction), 0)) *
             Eigen::AngleAxisd(turn, Eigen::Vector3d::UnitZ()))
                .toRotationMatrix();
        const Eigen::Matrix3d k = to_pixels(o.focal, cx, cy);
        const Eigen::Matrix3d m = k * r * k.inverse();
        return m / m(2, 2);
    }
    // The views overlap along both axes alike, by the share of the smaller one's area.
    const double share = std::sqrt(random.uniform(o.least_overlap, o.most_overlap));
    const double mine = scale > 1 ? 1 / scale : 1; // of the reference that a frame spans
    double dx = std::cos(direction), dy = std::sin(direction);
    const double longest = std::max(std::abs(dx), std::abs(dy));
    const double spare = 0.5 * std::abs(1 - 1 / scale); // by how much the smaller may move within the larger
    const double off = (spare + (1 - share) * std::min(1.0, mine)) / longest;
    dx *= off * o.width, dy *= off * o.height;
    Eigen::Matrix3d m;
    const double c = scale * std::cos(turn), s = scale * std::sin(turn);
    m << c, -mirror * s, 0, s, mirror * c, 0, 0, 0, 1;
    m(0, 2) = cx - m(0, 0) * (cx + dx) - m(0, 1) * (cy + dy);
    m(1, 2) = cy - m(1, 0) * (cx + dx) - m(1, 1) * (cy + dy);
    return m;
}

/// Stars that both views show.
std::vector<SkyStar> common_stars(const StarViewOptions& o, const Transform& to_frame, Random& random) {
    std::vector<SkyStar> stars;
    constexpr double kEdge = 5; // pixels
    while (static_cast<int>(stars.size()) < o.common) {
        const SkyStar s{{random.uniform(kEdge, o.width - kEdge), random.uniform(kEdge, o.height - kEdge)},
                        std::pow(std::max(1e-6, random.uniform()), -1 / o.slope)};
        const Point p = to_frame.map(s.at);
        if (p.x > kEdge && p.y > kEdge && p.x < o.width - kEdge && p.y < o.height - kEdge) stars.push_back(s);
    }
    return stars;
}

std::vector<SkyStar> make_sky(const StarViewOptions& o, Random& random) {
    const double density = o.faint * o.stars / (static_cast<double>(o.width) * o.height);
    const double reach = (2.0 / std::min(1.0, o.least_scale) + (o.focal > 0 ? 1 : 0)) * std::hypot(o.width, o.height);
    const auto count = static_cast<int>(density * reach * reach);
    struct Cluster {
        double x, y, size;
    };
    std::vector<Cluster> clusters;
    for (int i = 0; i < std::max(1, count / 40); ++i)
        clusters.push_back({random.uniform(-reach / 2, reach / 2), random.uniform(-reach / 2, reach / 2),
                            std::exp(random.uniform(std::log(20.0), std::log(300.0)))});
    std::vector<SkyStar> stars;
    for (int i = 0; i < count; ++i) {
        SkyStar s{{random.uniform(-reach / 2, reach / 2), random.uniform(-reach / 2, reach / 2)},
                  std::pow(std::max(1e-6, random.uniform()), -1 / o.slope)};
        if (random.uniform() < o.clustered) {
            const auto& c = clusters[static_cast<std::size_t>(random.uniform(0, static_cast<double>(clusters.size())))];
            s.at = {c.x + c.size * random.normal(), c.y + c.size * random.normal()};
        }
        s.at.x += 0.5 * o.width, s.at.y += 0.5 * o.height;
        stars.push_back(s);
    }
    return stars;
}

std::vector<Star> look(const StarViewOptions& o, const std::vector<SkyStar>& sky, const Transform& t, Random& random) {
    std::vector<Star> list;
    const auto add = [&](double x, double y, double flux) {
        Star s;
        s.x = x + o.noise * random.normal(), s.y = y + o.noise * random.normal();
        s.flux = flux * std::pow(10, -0.4 * o.magnitudes * random.normal());
        s.position_sigma = o.noise;
        s.fwhm = 3;
        if (s.x >= 0 && s.y >= 0 && s.x < o.width && s.y < o.height) list.push_back(s);
    };
    for (const SkyStar& star : sky) {
        const Point p = t.map(star.at);
        const bool seen = random.uniform() >= o.missing;
        // On the sphere, what lies behind the camera is mapped into the view as well.
        const auto& m = t.projective();
        const bool before = m[6] * star.at.x + m[7] * star.at.y + m[8] > 0;
        if (seen && before && std::isfinite(p.x)) add(p.x, p.y, star.flux);
    }
    const auto by_flux = [](const Star& a, const Star& b) { return a.flux > b.flux; };
    std::stable_sort(list.begin(), list.end(), by_flux);
    const auto real = static_cast<std::size_t>(std::lround(o.stars * (1 - o.spurious)));
    if (list.size() > real) list.resize(real);
    const double faintest = list.empty() ? 1 : list.back().flux;
    for (auto i = list.size(); i < static_cast<std::size_t>(o.stars); ++i)
        add(random.uniform(0, o.width), random.uniform(0, o.height),
            faintest * std::pow(std::max(1e-6, random.uniform()), -1 / o.slope));
    std::stable_sort(list.begin(), list.end(), by_flux);
    return list;
}

} // namespace

StarFrames star_frames(const StarViewOptions& o, std::uint64_t seed, int count, double drift) {
    Random random(seed, 73);
    const auto lens = lens_of(o);
    StarFrames out;
    // The sky reaches as far as the drift goes, from the first view on.
    const double far = std::abs(drift) * count * o.width;
    StarViewOptions wide = o;
    wide.width += static_cast<int>(2 * far);
    wide.stars = static_cast<int>(static_cast<double>(o.stars) * wide.width / o.width);
    std::vector<SkyStar> sky = make_sky(wide, random);
    for (SkyStar& s : sky)
        s.at.x -= far;
    for (int i = 0; i < count; ++i) {
        Eigen::Matrix3d between = i == 0 ? Eigen::Matrix3d::Identity() : pose(o, random);
        Eigen::Matrix3d along = Eigen::Matrix3d::Identity();
        along(0, 2) = -drift * i * o.width;
        between = between * along;
        out.truth.emplace_back(elements(between), lens, lens);
        out.lists.push_back(look(o, sky, Transform(elements(between), lens), random));
    }
    return out;
}

StarPanels star_panels(const StarPanelOptions& o, std::uint64_t seed) {
    const StarViewOptions& v = o.view;
    Random random(seed, 79);
    const double cx = 0.5 * (v.width - 1), cy = 0.5 * (v.height - 1);
    const double step_x = (1 - o.overlap) * v.width, step_y = (1 - o.overlap) * v.height;
    StarViewOptions wide = v; // a sky for all of it, about the middle
    wide.width = static_cast<int>(v.width * (o.columns + 1)), wide.height = static_cast<int>(v.height * (o.rows + 1));
    wide.stars = v.stars * (o.columns + 1) * (o.rows + 1);
    wide.focal = 0;
    std::vector<SkyStar> sky = make_sky(wide, random);
    for (SkyStar& s : sky)
        s.at.x -= 0.5 * wide.width, s.at.y -= 0.5 * wide.height;
    const auto lens = lens_of(v);
    StarPanels out;
    std::vector<Eigen::Matrix3d> maps; // from the plane of the middle
    for (int row = 0; row < o.rows; ++row)
        for (int column = 0; column < o.columns; ++column) {
            const double turn = radians(o.turn * random.normal() + (random.uniform() < o.half_turned ? 180 : 0));
            if (row == o.rows / 2 && column == o.columns / 2) out.middle = maps.size();
            for (int k = 0; k < o.frames; ++k) {
                const double x = (column - 0.5 * (o.columns - 1)) * step_x + o.dither * v.width * random.normal(),
                             y = (row - 0.5 * (o.rows - 1)) * step_y + o.dither * v.width * random.normal();
                Eigen::Matrix3d turned, pointed = Eigen::Matrix3d::Identity();
                turned << std::cos(turn), -std::sin(turn), cx, std::sin(turn), std::cos(turn), cy, 0, 0, 1;
                if (v.focal > 0) {
                    const auto m = sky_pointed(v.focal, x, y);
                    pointed << m[0], m[1], m[2], m[3], m[4], m[5], m[6], m[7], m[8];
                } else {
                    pointed(0, 2) = -x, pointed(1, 2) = -y;
                }
                maps.emplace_back(turned * pointed);
                out.panel.push_back(row * o.columns + column);
                out.lists.push_back(look(v, sky, Transform(elements(maps.back()), lens), random));
            }
        }
    const Eigen::Matrix3d back = maps[out.middle].inverse();
    for (const Eigen::Matrix3d& m : maps) {
        const Eigen::Matrix3d from_middle = m * back;
        out.truth.emplace_back(elements(from_middle / from_middle(2, 2)), lens);
    }
    return out;
}

StarViews star_views(const StarViewOptions& o, std::uint64_t seed) {
    Random random(seed, 71);
    const auto lens = lens_of(o);
    const std::array<double, 9> between = elements(pose(o, random)), none{1, 0, 0, 0, 1, 0, 0, 0, 1};
    StarViews out;
    out.truth = Transform(between, lens, lens);
    const std::vector<SkyStar> sky =
        o.common > 0 ? common_stars(o, Transform(between, lens), random) : make_sky(o, random);
    out.reference = look(o, sky, Transform(none, lens), random);
    out.frame = look(o, o.unrelated ? make_sky(o, random) : sky, Transform(between, lens), random);
    return out;
}

TransformError transform_error(const Transform& found, const StarViewOptions& o, const Transform& truth) {
    TransformError e;
    double squares = 0;
    int n = 0;
    constexpr int kSteps = 40;
    for (int j = 0; j <= kSteps; ++j)
        for (int i = 0; i <= kSteps; ++i) {
            const Point at{(o.width - 1.0) * i / kSteps, (o.height - 1.0) * j / kSteps};
            const Point p = truth.map(at);
            if (!(p.x >= 0 && p.y >= 0 && p.x < o.width && p.y < o.height)) continue;
            const Point q = found.map(at);
            const double d = std::isfinite(q.x) ? std::hypot(p.x - q.x, p.y - q.y) : 1e9;
            squares += d * d;
            e.worst = std::max(e.worst, d);
            ++n;
        }
    e.rms = n ? std::sqrt(squares / n) : 0;
    return e;
}

} // namespace kasane::sky
