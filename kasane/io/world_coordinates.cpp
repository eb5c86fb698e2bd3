#include <kasane/io/world_coordinates.hpp>

#include <kasane/base/units.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <cctype>
#include <cmath>
#include <fmt/format.h>
#include <limits>

namespace kasane {

namespace {

constexpr double kDegree = kPi / 180;

/// Degrees on the plane that touches at `centre`; NaN from a right angle on.
Point project(const SkyPoint& centre, const SkyPoint& s) {
    const double d0 = centre.dec * kDegree, d = s.dec * kDegree, da = (s.ra - centre.ra) * kDegree;
    const double w = std::sin(d) * std::sin(d0) + std::cos(d) * std::cos(d0) * std::cos(da);
    if (!(w > 1e-6)) return {kNoData, kNoData};
    return {std::cos(d) * std::sin(da) / w / kDegree,
            (std::sin(d) * std::cos(d0) - std::cos(d) * std::sin(d0) * std::cos(da)) / w / kDegree};
}

SkyPoint unproject(const SkyPoint& centre, const Point& plane) {
    const double xi = plane.x * kDegree, eta = plane.y * kDegree, d0 = centre.dec * kDegree;
    const double down = std::cos(d0) - eta * std::sin(d0);
    double ra = centre.ra + std::atan2(xi, down) / kDegree;
    const double dec = std::atan2(std::sin(d0) + eta * std::cos(d0), std::hypot(xi, down)) / kDegree;
    ra = std::fmod(ra, 360);
    return {ra < 0 ? ra + 360 : ra, dec};
}

double value_of(const WorldCoordinates::Polynomial& p, int order, double x, double y) {
    double sum = 0, px = 1;
    for (int i = 0; i <= order; ++i, px *= x) {
        double py = px;
        for (int j = 0; i + j <= order; ++j, py *= y)
            sum += p[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)] * py;
    }
    return sum;
}

std::array<double, 4> inverse(const std::array<double, 4>& m) {
    const double det = m[0] * m[3] - m[1] * m[2];
    return {m[3] / det, -m[1] / det, -m[2] / det, m[0] / det};
}

bool read_polynomial(const Header& h, char name, int order, WorldCoordinates::Polynomial& p) {
    for (int i = 0; i <= order; ++i)
        for (int j = 0; i + j <= order; ++j)
            if (const auto v = h.number(fmt::format("{}_{}_{}", name, i, j)))
                p[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)] = *v;
    return true;
}

/// Coefficients of all powers up to `order` of x and y (divided by `size`) that give `values` best; two columns at
/// once.
Eigen::MatrixXd fit_powers(const std::vector<Point>& at, const Eigen::MatrixXd& values, int order, double size) {
    const int n = (order + 1) * (order + 2) / 2;
    Eigen::MatrixXd m(static_cast<Eigen::Index>(at.size()), n);
    for (std::size_t k = 0; k < at.size(); ++k) {
        int c = 0;
        double px = 1;
        for (int i = 0; i <= order; ++i, px *= at[k].x / size) {
            double py = px;
            for (int j = 0; i + j <= order; ++j, py *= at[k].y / size)
                m(static_cast<Eigen::Index>(k), c++) = py;
        }
    }
    return m.colPivHouseholderQr().solve(values);
}

/// Column of the powers i and j in fit_powers.
int column_of(int order, int i, int j) {
    int c = j;
    for (int k = 0; k < i; ++k)
        c += order - k + 1;
    return c;
}

std::string upper(std::string s) {
    std::transform(s.begin(), s.end(), s.begin(), [](unsigned char c) { return static_cast<char>(std::toupper(c)); });
    return s;
}

} // namespace

double separation(const SkyPoint& a, const SkyPoint& b) {
    const double da = a.dec * kDegree, db = b.dec * kDegree;
    const double h = std::pow(std::sin(0.5 * (da - db)), 2) +
                     std::cos(da) * std::cos(db) * std::pow(std::sin(0.5 * (a.ra - b.ra) * kDegree), 2);
    return 2 * std::asin(std::min(1.0, std::sqrt(h))) / kDegree;
}

SkyPoint WorldCoordinates::to_sky(Point p) const {
    double x = p.x - pixel.x, y = p.y - pixel.y;
    if (order > 0) {
        const double dx = value_of(gain_x, order, x, y), dy = value_of(gain_y, order, x, y);
        x += dx, y += dy;
    }
    return unproject(sky, {cd[0] * x + cd[1] * y, cd[2] * x + cd[3] * y});
}

Point WorldCoordinates::to_pixel(const SkyPoint& s) const {
    const Point plane = project(sky, s);
    if (!std::isfinite(plane.x)) return plane;
    const auto back = inverse(cd);
    const double u = back[0] * plane.x + back[1] * plane.y, v = back[2] * plane.x + back[3] * plane.y;
    double x = u, y = v; // distortions are small and smooth: a few steps do
    for (int round = 0; order > 0 && round < 50; ++round) {
        const double nx = u - value_of(gain_x, order, x, y), ny = v - value_of(gain_y, order, x, y);
        const double moved = std::hypot(nx - x, ny - y);
        x = nx, y = ny;
        if (!(moved > 1e-9)) break;
    }
    return {pixel.x + x, pixel.y + y};
}

double WorldCoordinates::arcsec_per_pixel() const {
    return 3600 * std::sqrt(std::abs(cd[0] * cd[3] - cd[1] * cd[2]));
}

WorldCoordinates WorldCoordinates::with_rows_reversed(int height) const {
    WorldCoordinates w = *this;
    w.pixel.y = height - 1 - pixel.y;
    w.cd = {cd[0], -cd[1], cd[2], -cd[3]};
    for (std::size_t i = 0; i < gain_x.size(); ++i)
        for (std::size_t j = 0; j < gain_x.size(); ++j) {
            const double sign = j % 2 ? -1 : 1;
            w.gain_x[i][j] = sign * gain_x[i][j];
            w.gain_y[i][j] = -sign * gain_y[i][j];
        }
    return w;
}

std::optional<WorldCoordinates> read_world(const Header& h, std::string* wrong) {
    const auto refuse = [&](const std::string& why) -> std::optional<WorldCoordinates> {
        if (wrong) *wrong = why;
        return std::nullopt;
    };
    const std::string type1 = upper(h.text("CTYPE1").value_or("")), type2 = upper(h.text("CTYPE2").value_or(""));
    if (type1.empty() && type2.empty()) return std::nullopt;
    const bool swapped = type1.starts_with("DEC-");
    const std::string &ra = swapped ? type2 : type1, &dec = swapped ? type1 : type2;
    if (!ra.starts_with("RA--") || !dec.starts_with("DEC-"))
        return refuse(fmt::format("a WCS in {} and {}, not right ascension and declination", type1, type2));
    if (ra.substr(4, 4) != "-TAN" || dec.substr(4, 4) != "-TAN")
        return refuse(fmt::format("a WCS of the projection {}, where TAN can be read", ra.substr(4)));
    WorldCoordinates w;
    const auto x0 = h.number("CRPIX1"), y0 = h.number("CRPIX2"), l1 = h.number("CRVAL1"), l2 = h.number("CRVAL2");
    if (!x0 || !y0 || !l1 || !l2) return refuse("a WCS without CRPIX or CRVAL");
    w.pixel = {*x0 - 1, *y0 - 1};
    w.sky = swapped ? SkyPoint{*l2, *l1} : SkyPoint{*l1, *l2};
    if (!(std::abs(w.sky.dec) <= 90) || !(std::abs(w.sky.ra) <= 360))
        return refuse(fmt::format("a WCS at {:g}, {:g} degrees, which is nowhere", *l1, *l2));
    std::array<double, 4> m{};
    const double d1 = h.number("CDELT1").value_or(1), d2 = h.number("CDELT2").value_or(1);
    if (h.find("CD1_1") || h.find("CD1_2") || h.find("CD2_1") || h.find("CD2_2")) {
        m = {h.number("CD1_1").value_or(0), h.number("CD1_2").value_or(0), h.number("CD2_1").value_or(0),
             h.number("CD2_2").value_or(0)};
    } else if (h.find("PC1_1") || h.find("PC1_2") || h.find("PC2_1") || h.find("PC2_2")) {
        m = {d1 * h.number("PC1_1").value_or(1), d1 * h.number("PC1_2").value_or(0), d2 * h.number("PC2_1").value_or(0),
             d2 * h.number("PC2_2").value_or(1)};
    } else if (h.find("CDELT1") && h.find("CDELT2")) {
        const double turn = h.number("CROTA2").value_or(0) * kDegree;
        m = {d1 * std::cos(turn), -d2 * std::sin(turn), d1 * std::sin(turn), d2 * std::cos(turn)};
    } else {
        return refuse("a WCS without a scale");
    }
    if (swapped) m = {m[2], m[3], m[0], m[1]};
    w.cd = m;
    const Eigen::Matrix2d linear = (Eigen::Matrix2d() << m[0], m[1], m[2], m[3]).finished();
    const Eigen::Vector2d sides = linear.jacobiSvd().singularValues();
    constexpr double kSquare = 1.2, kFinest = 1e-3, kCoarsest = 3600; // ratio of the sides; arc seconds
    if (!(sides[1] > 0) || sides[0] > kSquare * sides[1] || 3600 * sides[0] > kCoarsest || 3600 * sides[0] < kFinest)
        return refuse(
            fmt::format("a WCS whose pixels are {:.3g} x {:.3g} arc seconds", 3600 * sides[0], 3600 * sides[1]));
    if (ra.ends_with("-SIP")) {
        const double orders[] = {h.number("A_ORDER").value_or(0), h.number("B_ORDER").value_or(0)};
        const double most = std::max(orders[0], orders[1]);
        if (!(most >= 0 && most <= WorldCoordinates::kMostOrder))
            return refuse(fmt::format("a WCS with a distortion of order {:g}", most));
        w.order = static_cast<int>(most);
        read_polynomial(h, 'A', static_cast<int>(orders[0]), w.gain_x);
        read_polynomial(h, 'B', static_cast<int>(orders[1]), w.gain_y);
    }
    if (const double pole = h.number("LONPOLE").value_or(180); std::abs(pole - 180) > 1e-6)
        return refuse(fmt::format("a WCS that is turned about its pole (LONPOLE {:g})", pole));
    w.frame = h.text({"RADESYS", "RADECSYS"}).value_or("");
    w.equinox = h.text("EQUINOX").value_or("");
    return w;
}

void write_world(Header& h, const WorldCoordinates& w, int width, int height) {
    const char* sip = w.order > 0 ? "-SIP" : "";
    h.set("WCSAXES", 2LL, "axes of the world coordinates");
    h.set("CTYPE1", fmt::format("RA---TAN{}", sip), "gnomonic projection");
    h.set("CTYPE2", fmt::format("DEC--TAN{}", sip), "gnomonic projection");
    h.set("CUNIT1", "deg");
    h.set("CUNIT2", "deg");
    h.set("CRPIX1", w.pixel.x + 1, "pixel of the reference point");
    h.set("CRPIX2", w.pixel.y + 1, "pixel of the reference point");
    h.set("CRVAL1", w.sky.ra, "[deg] right ascension there");
    h.set("CRVAL2", w.sky.dec, "[deg] declination there");
    h.set("CD1_1", w.cd[0], "[deg/px]");
    h.set("CD1_2", w.cd[1], "[deg/px]");
    h.set("CD2_1", w.cd[2], "[deg/px]");
    h.set("CD2_2", w.cd[3], "[deg/px]");
    if (!w.frame.empty()) h.set("RADESYS", w.frame, "celestial frame");
    if (!w.equinox.empty()) {
        char* end = nullptr;
        if (const double year = std::strtod(w.equinox.c_str(), &end); end && *end == '\0') h.set("EQUINOX", year);
    }
    if (w.order == 0) return;
    const auto cards = [&](const std::string& name, const WorldCoordinates::Polynomial& p) {
        h.set(name + "_ORDER", static_cast<long long>(w.order), "of the distortion polynomial");
        for (int i = 0; i <= w.order; ++i)
            for (int j = 0; i + j <= w.order; ++j)
                if (const double v = p[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)]; v != 0)
                    h.set(fmt::format("{}_{}_{}", name, i, j), v);
    };
    cards("A", w.gain_x);
    cards("B", w.gain_y);
    // The way back, which other programs ask for: fitted at places all over the image.
    constexpr int kLattice = 21;
    std::vector<Point> ideal;
    Eigen::MatrixXd gain(kLattice * kLattice, 2);
    for (int row = 0; row < kLattice; ++row)
        for (int column = 0; column < kLattice; ++column) {
            const double x = static_cast<double>(column) / (kLattice - 1) * (width - 1) - w.pixel.x,
                         y = static_cast<double>(row) / (kLattice - 1) * (height - 1) - w.pixel.y;
            const double dx = value_of(w.gain_x, w.order, x, y), dy = value_of(w.gain_y, w.order, x, y);
            gain.row(static_cast<Eigen::Index>(ideal.size())) << -dx, -dy;
            ideal.push_back({x + dx, y + dy});
        }
    const double size = std::max(1.0, 0.5 * std::max(width, height));
    const Eigen::MatrixXd found = fit_powers(ideal, gain, w.order, size);
    WorldCoordinates::Polynomial ap{}, bp{};
    for (int i = 0; i <= w.order; ++i)
        for (int j = 0; i + j <= w.order; ++j) {
            const double unit = std::pow(size, i + j);
            ap[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)] = found(column_of(w.order, i, j), 0) / unit;
            bp[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)] = found(column_of(w.order, i, j), 1) / unit;
        }
    cards("AP", ap);
    cards("BP", bp);
}

std::optional<WorldCoordinates> fit_world(const std::vector<SkySample>& samples, int width, int height,
                                          double tolerance, double* left) {
    constexpr std::size_t kEnough = 50;
    if (samples.size() < kEnough) return std::nullopt;
    WorldCoordinates best;
    double best_left = std::numeric_limits<double>::infinity();
    const Point middle{0.5 * (width - 1), 0.5 * (height - 1)};
    const double size = 0.5 * std::hypot(width, height);
    std::vector<Point> at;
    for (const SkySample& s : samples)
        at.push_back({s.pixel.x - middle.x, s.pixel.y - middle.y});
    constexpr int kHighest = 7;
    for (int order = 1; order <= kHighest; ++order) {
        WorldCoordinates w;
        w.pixel = middle;
        w.sky = best_left < 1e30 ? best.sky : samples[samples.size() / 2].sky;
        for (int round = 0; round < 6; ++round) { // until the projection touches at the middle
            Eigen::MatrixXd plane(static_cast<Eigen::Index>(samples.size()), 2);
            for (std::size_t k = 0; k < samples.size(); ++k) {
                const Point p = project(w.sky, samples[k].sky);
                if (!std::isfinite(p.x)) return std::nullopt;
                plane.row(static_cast<Eigen::Index>(k)) << p.x, p.y;
            }
            const Eigen::MatrixXd c = fit_powers(at, plane, order, size);
            const auto power = [&](int i, int j, int axis) {
                return c(column_of(order, i, j), axis) / std::pow(size, i + j);
            };
            w.cd = {power(1, 0, 0), power(0, 1, 0), power(1, 0, 1), power(0, 1, 1)};
            if (!(std::abs(w.cd[0] * w.cd[3] - w.cd[1] * w.cd[2]) > 0)) return std::nullopt;
            const auto back = inverse(w.cd);
            w.order = order > 1 ? order : 0;
            w.gain_x = {}, w.gain_y = {};
            for (int i = 0; i <= w.order; ++i)
                for (int j = 0; i + j <= w.order; ++j) {
                    if (i + j < 2) continue;
                    const double xi = power(i, j, 0), eta = power(i, j, 1);
                    w.gain_x[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)] = back[0] * xi + back[1] * eta;
                    w.gain_y[static_cast<std::size_t>(i)][static_cast<std::size_t>(j)] = back[2] * xi + back[3] * eta;
                }
            w.sky = unproject(w.sky, {c(0, 0), c(0, 1)});
        }
        double worst = 0;
        for (const SkySample& s : samples) {
            const Point p = w.to_pixel(s.sky);
            worst = std::max(worst, std::hypot(p.x - s.pixel.x, p.y - s.pixel.y));
        }
        if (!std::isfinite(worst)) continue;
        if (worst < best_left) best = w, best_left = worst;
        if (best_left < tolerance) break;
    }
    if (!std::isfinite(best_left)) return std::nullopt;
    if (left) *left = best_left;
    return best;
}

} // namespace kasane
