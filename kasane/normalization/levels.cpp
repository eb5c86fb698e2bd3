#include <kasane/normalization/levels.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/registration/star_index.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

/// Inverse-variance mean of the logarithmic flux ratios, outliers clipped. False with too few stars.
bool fit_ratio(const LevelInput& reference, const LevelInput& frame, const LevelOptions& o, StarScale& level) {
    const StarIndex index(frame.measures->stars);
    struct Ratio {
        double value, variance;
    };
    std::vector<Ratio> ratios;
    for (const Star& r : reference.measures->stars) {
        if (r.saturated || r.flux < o.least_snr * r.flux_sigma) continue;
        const Point there = reference.to_frame.unmap({r.x, r.y});
        const auto [x, y] = frame.to_frame.map(there);
        const int j = index.nearest(x, y, o.match_radius);
        if (j < 0) continue;
        const Star& s = frame.measures->stars[static_cast<std::size_t>(j)];
        if (s.saturated || s.flux < o.least_snr * s.flux_sigma) continue;
        constexpr double kFloor = 0.01; // relative: flat-field and profile errors
        const double relative2 =
            std::pow(r.flux_sigma / r.flux, 2) + std::pow(s.flux_sigma / s.flux, 2) + kFloor * kFloor;
        // On the canvas a star's flux is spread over the pixels that it has there.
        const double bright = r.flux / std::abs(reference.to_frame.at(there).determinant()),
                     other = s.flux / std::abs(frame.to_frame.at(there).determinant());
        ratios.push_back({std::log(bright / other), relative2});
    }
    if (static_cast<int>(ratios.size()) < o.least_stars) return false;
    std::vector<float> values;
    for (const Ratio& r : ratios)
        values.push_back(static_cast<float>(r.value));
    double center = median_in_place(values);
    for (int i = 0; i < 6; ++i) {
        double sum = 0, weights = 0;
        int n = 0;
        for (const Ratio& r : ratios) {
            if (std::pow(r.value - center, 2) > 9 * r.variance && i > 0) continue;
            const double soft = huber_weight(r.value - center, 2.0 * std::sqrt(r.variance));
            sum += soft * r.value / r.variance;
            weights += soft / r.variance;
            ++n;
        }
        if (weights <= 0) break;
        center = sum / weights;
        level.stars = n;
    }
    level.scale = std::exp(center);
    return true;
}

StarScale fit_scale(const LevelInput& reference, const LevelInput& frame, const LevelOptions& o) {
    LevelOptions weaker = o;
    weaker.least_stars = std::min(3, o.least_stars);
    weaker.least_snr = 0.4 * o.least_snr;
    StarScale s;
    if (fit_ratio(reference, frame, o, s) || fit_ratio(reference, frame, weaker, s)) return s;
    s.scale = reference.seconds > 0 && frame.seconds > 0 ? reference.seconds / frame.seconds : 1;
    return s;
}

/// A plane through the differences of the two background meshes.
void fit_plane(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas, LevelMap& map) {
    const Background &a = reference.measures->mesh, &b = frame.measures->mesh;
    std::vector<Equation<3>> samples;
    const auto [cx, cy] = canvas.centre();
    const double step = 0.5 * a.cell;
    for (double y = 0.5 * step; y < canvas.height; y += step)
        for (double x = 0.5 * step; x < canvas.width; x += step) {
            const auto [rx, ry] = reference.to_frame.map({x, y});
            const auto [fx, fy] = frame.to_frame.map({x, y});
            // Inside the outermost cell centres of both: beyond them the meshes are constant.
            const double edge = 0.5 * a.cell;
            if (rx < edge || ry < edge || rx > reference.width - edge || ry > reference.height - edge) continue;
            if (fx < edge || fy < edge || fx > frame.width - edge || fy > frame.height - edge) continue;
            samples.push_back(
                {{1, (x - cx) / cx, (y - cy) / cy}, a.level_at(rx, ry) - map.scale.value * b.level_at(fx, fy)});
        }
    constexpr RobustOptions kClipped{Loss::clip, 8};
    constexpr std::size_t kLeastForTilt = 24; // fewer carry an offset only
    if (samples.size() >= kLeastForTilt) {
        const Eigen::Vector3d plane = robust_fit(samples, kClipped);
        map.offset = {plane[0], plane[1] / cx, plane[2] / cy, {}};
        if (plane.allFinite()) return; // else all lie in a line, and tell of no tilt across it
        map.offset = {};
    }
    if (!samples.empty()) {
        std::vector<Equation<1>> flat;
        for (const Equation<3>& e : samples)
            flat.push_back({Eigen::Matrix<double, 1, 1>(1.0), e.value});
        map.offset.value = robust_fit(flat, kClipped)[0];
    } else {
        map.offset.value = a.global_level - map.scale.value * b.global_level;
    }
}

} // namespace

std::string LevelOptions::check() const {
    if (least_stars < 1) return fmt::format("a scale needs at least one star, not {}", least_stars);
    if (!(least_snr > 0)) return fmt::format("the least signal to noise of a star is above 0, not {:g}", least_snr);
    if (!(match_radius > 0)) return fmt::format("stars match within more than 0 pixels, not {:g}", match_radius);
    return {};
}

StarScale fit_star_scale(const LevelInput& reference, const LevelInput& frame, const LevelOptions& options) {
    require_sense(options);
    return reference.measures == frame.measures ? StarScale{} : fit_scale(reference, frame, options);
}

LevelFit fit_level(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas,
                   const LevelOptions& options) {
    LevelFit fit;
    fit.map.centre = canvas.centre();
    if (reference.measures == frame.measures) return fit;
    const StarScale scale = fit_star_scale(reference, frame, options);
    fit.map.scale.value = scale.scale;
    fit.stars = scale.stars;
    fit_plane(reference, frame, canvas, fit.map);
    return fit;
}

} // namespace kasane
