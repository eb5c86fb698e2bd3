#include <kasane/normalization/levels.hpp>

#include <kasane/image/statistics.hpp>
#include <kasane/registration/star_index.hpp>

#include <Eigen/Dense>
#include <cmath>

namespace kasane {

namespace {

/// Inverse-variance mean of the logarithmic flux ratios, outliers clipped. False with too few stars.
bool fit_ratio(const LevelInput& reference, const LevelInput& frame, const LevelOptions& o, Normalization& level) {
    const StarIndex index(frame.measures->stars);
    struct Ratio {
        double value, variance;
    };
    std::vector<Ratio> ratios;
    for (const Star& r : reference.measures->stars) {
        if (r.saturated || r.flux < o.least_snr * r.flux_sigma) continue;
        const auto [x, y] = frame.to_frame.map(reference.to_frame.unmap({r.x, r.y}));
        const int j = index.nearest(x, y, o.match_radius);
        if (j < 0) continue;
        const Star& s = frame.measures->stars[static_cast<std::size_t>(j)];
        if (s.saturated || s.flux < o.least_snr * s.flux_sigma) continue;
        constexpr double kFloor = 0.01; // relative: flat-field and profile errors
        const double relative2 =
            std::pow(r.flux_sigma / r.flux, 2) + std::pow(s.flux_sigma / s.flux, 2) + kFloor * kFloor;
        ratios.push_back({std::log(r.flux / s.flux), relative2});
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
            const double soft =
                std::min(1.0, 2.0 * std::sqrt(r.variance) / std::max(1e-9, std::abs(r.value - center))); // Huber
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

void fit_scale(const LevelInput& reference, const LevelInput& frame, const LevelOptions& o, Normalization& level) {
    LevelOptions weaker = o;
    weaker.least_stars = std::min(3, o.least_stars);
    weaker.least_snr = 0.4 * o.least_snr;
    if (fit_ratio(reference, frame, o, level) || fit_ratio(reference, frame, weaker, level)) return;
    level.scale = reference.seconds > 0 && frame.seconds > 0 ? reference.seconds / frame.seconds : 1;
}

/// A plane through the differences of the two background meshes, outliers clipped.
void fit_plane(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas, Normalization& level) {
    const Background &a = reference.measures->mesh, &b = frame.measures->mesh;
    struct Sample {
        double x, y, d;
        bool used;
    };
    std::vector<Sample> samples;
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
            samples.push_back({x - cx, y - cy, a.level_at(rx, ry) - level.scale * b.level_at(fx, fy), true});
        }
    if (samples.empty()) {
        level.offset = a.global_level - level.scale * b.global_level;
        return;
    }
    Eigen::Vector3d plane = Eigen::Vector3d::Zero();
    const bool tilt = samples.size() >= 24; // fewer carry an offset only
    for (int round = 0; round < 8; ++round) {
        Eigen::Matrix3d m = Eigen::Matrix3d::Zero();
        Eigen::Vector3d v = Eigen::Vector3d::Zero();
        for (const Sample& s : samples) {
            if (!s.used) continue;
            const Eigen::Vector3d row(1, tilt ? s.x / cx : 0, tilt ? s.y / cy : 0);
            m += row * row.transpose();
            v += row * s.d;
        }
        if (!tilt) m(1, 1) = m(2, 2) = 1;
        plane = m.ldlt().solve(v);
        std::vector<float> residuals;
        for (const Sample& s : samples)
            residuals.push_back(static_cast<float>(s.d - plane[0] - plane[1] * s.x / cx - plane[2] * s.y / cy));
        std::vector<float> sorted = residuals;
        const float center = median_in_place(sorted);
        const float sigma = mad_sigma_in_place(sorted, center);
        for (std::size_t i = 0; i < samples.size(); ++i)
            samples[i].used = std::abs(residuals[i] - center) <= 2.5f * sigma + 1e-6f;
    }
    level.offset = plane[0];
    level.slope_x = plane[1] / cx;
    level.slope_y = plane[2] / cy;
}

} // namespace

Normalization fit_star_scale(const LevelInput& reference, const LevelInput& frame, const LevelOptions& options) {
    Normalization level;
    if (reference.measures != frame.measures) fit_scale(reference, frame, options, level);
    return level;
}

Normalization fit_normalization(const LevelInput& reference, const LevelInput& frame, const Canvas& canvas,
                                const LevelOptions& options) {
    Normalization level;
    if (reference.measures == frame.measures) return level;
    fit_scale(reference, frame, options, level);
    fit_plane(reference, frame, canvas, level);
    return level;
}

} // namespace kasane
