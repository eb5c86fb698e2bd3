#include <kasane/grading/figures.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

#define KASANE_ROW(name, unit, digits, better, meaning, cause) MeasureInfo{#name, unit, meaning, cause, digits, better},
constexpr std::array<MeasureInfo, kMeasures> kInfo = {KASANE_MEASURES(KASANE_ROW)};
#undef KASANE_ROW

double median(std::vector<float> v) {
    return v.empty() ? 0 : median_in_place(v);
}

bool usable(const Star& s) {
    return s.fwhm > 0 && !s.saturated;
}

/// Weighted mean direction of elongations; degrees.
double mean_angle(const std::vector<const Star*>& stars) {
    double x = 0, y = 0;
    for (const Star* s : stars) {
        const double e2 = s->eccentricity * s->eccentricity, size = e2 / (2 - e2);
        x += size * std::cos(2 * radians(s->angle));
        y += size * std::sin(2 * radians(s->angle));
    }
    return degrees(0.5 * std::atan2(y, x));
}

std::vector<float> of(const std::vector<const Star*>& stars, double Star::*value) {
    std::vector<float> out;
    for (const Star* s : stars)
        out.push_back(static_cast<float>(s->*value));
    return out;
}

/// The mesh's cells whose centres lie in a rectangle; all cells if it is empty.
template <class Use>
void for_cells(const Image& mesh, int cell, const Region& part, Use use) {
    for (int j = 0; j < mesh.height(); ++j)
        for (int i = 0; i < mesh.width(); ++i) {
            const Region middle{i * cell + cell / 2, j * cell + cell / 2, 1, 1};
            if (part.empty() || part.contains(middle)) use(i, j);
        }
}

double median_of_cells(const Image& mesh, int cell, const Region& part, double otherwise) {
    std::vector<float> values;
    for_cells(mesh, cell, part, [&](int i, int j) { values.push_back(mesh(i, j)); });
    return values.empty() ? otherwise : median(values);
}

bool crosses(const Streak& s, const Region& r) {
    if (r.empty()) return true;
    double from = 0, to = 1; // the part of the line within all four edges (Y. Liang and B. Barsky, ACM TOG 3, 1984)
    const auto cut = [&](double along, double room) {
        if (along == 0) return room >= 0;
        const double t = room / along;
        if (along < 0)
            from = std::max(from, t);
        else
            to = std::min(to, t);
        return true;
    };
    const double dx = s.x1 - s.x0, dy = s.y1 - s.y0;
    const bool possible =
        cut(-dx, s.x0 - r.x) && cut(dx, r.right() - s.x0) && cut(-dy, s.y0 - r.y) && cut(dy, r.bottom() - s.y0);
    return possible && from <= to;
}

} // namespace

const MeasureInfo& measure_info(Measure measure) {
    return kInfo[static_cast<std::size_t>(measure)];
}

std::optional<Measure> measure_named(std::string_view name) {
    for (std::size_t i = 0; i < kInfo.size(); ++i)
        if (name == kInfo[i].name) return static_cast<Measure>(i);
    return std::nullopt;
}

std::string value_text(Measure measure, double value) {
    if (!std::isfinite(value)) return "-";
    const std::string text = fmt::format("{:.{}f}", value, measure_info(measure).digits);
    return text.find_first_not_of("-0.") == std::string::npos && text.starts_with('-') ? text.substr(1) : text;
}

Slope background_slope(const Background& b) {
    if (b.level.width() < 2 || b.level.height() < 2) return {};
    std::vector<Equation<3>> cells;
    for (int j = 0; j < b.level.height(); ++j)
        for (int i = 0; i < b.level.width(); ++i)
            if (std::isfinite(b.level(i, j)))
                cells.push_back(
                    {{1, 2.0 * i / (b.level.width() - 1) - 1, 2.0 * j / (b.level.height() - 1) - 1}, b.level(i, j)});
    const Eigen::Vector3d plane = robust_fit(cells);
    return {2 * std::hypot(plane[1], plane[2]), degrees(std::atan2(-plane[2], plane[1]))};
}

FieldShape field_shape(const ExposureMeasures& measures) {
    return field_shape(measures.main().stars, measures.width, measures.height);
}

FieldShape field_shape(const std::vector<Star>& stars, int width, int height) {
    FieldShape shape;
    std::array<std::vector<const Star*>, 9> zones;
    std::vector<Equation<4>> samples;
    const double cx = 0.5 * width, cy = 0.5 * height, radius = std::hypot(cx, cy);
    for (const Star& s : stars) {
        if (!usable(s)) continue;
        const int column = std::clamp(static_cast<int>(3 * s.x / std::max(1, width)), 0, 2),
                  row = std::clamp(static_cast<int>(3 * s.y / std::max(1, height)), 0, 2);
        zones[static_cast<std::size_t>(3 * row + column)].push_back(&s);
        const double error = std::max(0.02 * s.fwhm, 2 * s.position_sigma);
        const double u = (s.x - cx) / radius, v = (s.y - cy) / radius;
        samples.push_back({{1, u, v, u * u + v * v}, s.fwhm, 1 / (error * error)});
    }
    for (std::size_t z = 0; z < 9; ++z) {
        shape.zones[z].stars = static_cast<int>(zones[z].size());
        shape.zones[z].fwhm = median(of(zones[z], &Star::fwhm));
        shape.zones[z].eccentricity = median(of(zones[z], &Star::eccentricity));
        shape.zones[z].angle = zones[z].empty() ? 0 : mean_angle(zones[z]);
    }
    constexpr std::size_t kLeastStars = 20;
    if (samples.size() < kLeastStars) return shape;
    const Eigen::Vector4d p = robust_fit(samples);
    if (!(p[0] > 0)) return shape;
    shape.tilt = 2 * std::hypot(p[1], p[2]) / p[0];
    shape.tilt_angle = degrees(std::atan2(-p[2], p[1]));
    shape.curvature = p[3] / p[0];
    return shape;
}

Figures describe_frame(const ExposureMeasures& measures, double seconds, double arcsec, const Region& part) {
    const Measures& m = measures.main();
    Figures f;
    f[Measure::seconds] = seconds > 0 ? seconds : std::numeric_limits<double>::quiet_NaN();
    std::vector<const Star*> fitted;
    std::size_t inside = 0;
    for (const Star& s : m.stars) {
        if (!part.empty() &&
            !part.contains({static_cast<int>(std::lround(s.x)), static_cast<int>(std::lround(s.y)), 1, 1}))
            continue;
        ++inside;
        if (usable(s)) fitted.push_back(&s);
    }
    f[Measure::streaks] = static_cast<double>(std::count_if(measures.streaks.begin(), measures.streaks.end(),
                                                            [&](const Streak& s) { return crosses(s, part); }));
    if (part.empty()) {
        f[Measure::stars] = m.count;
        if (m.fwhm > 0) f[Measure::fwhm] = m.fwhm;
        if (m.fwhm > 0) f[Measure::eccentricity] = m.eccentricity;
        if (m.fwhm > 0) f[Measure::angle] = m.angle;
        f[Measure::background] = m.background;
        f[Measure::noise] = m.noise;
        const FieldShape shape = field_shape(measures);
        f[Measure::tilt] = shape.tilt;
        f[Measure::curvature] = shape.curvature;
        f[Measure::gradient] = background_slope(m.mesh).size;
    } else {
        const double listed = std::max<double>(1, static_cast<double>(m.stars.size()));
        f[Measure::stars] = std::round(static_cast<double>(inside) * std::max(1.0, m.count / listed));
        if (!fitted.empty()) {
            f[Measure::fwhm] = median(of(fitted, &Star::fwhm));
            f[Measure::eccentricity] = median(of(fitted, &Star::eccentricity));
            f[Measure::angle] = mean_angle(fitted);
        }
        f[Measure::background] = median_of_cells(m.mesh.level, m.mesh.cell, part, m.background);
        f[Measure::noise] = median_of_cells(m.mesh.sigma, m.mesh.cell, part, m.noise);
    }
    if (f[Measure::fwhm] > 0 && arcsec > 0) f[Measure::fwhm_arcsec] = arcsec * f[Measure::fwhm];
    if (seconds > 0) f[Measure::sky] = f[Measure::background] / seconds;
    double saturated = 0;
    int cells = 0;
    for_cells(measures.saturated, m.mesh.cell, part, [&](int i, int j) {
        saturated += measures.saturated(i, j);
        ++cells;
    });
    if (cells > 0) f[Measure::saturated] = 1e6 * saturated / cells;
    return f;
}

} // namespace kasane
