#include <kasane/stars/background.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/row_arithmetic.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

/// Replaces cells that stand out from their neighbours (a bright star, no data) by the neighbours' median; all others
/// stay as they are, so that a gradient keeps its slope up to the edge.
Image without_outliers(const Image& level, const Image& sigma) {
    constexpr float kOutlier = 0.5f; // in units of a pixel's noise: a clean cell is known far better than that
    Image out = level;
    std::vector<float> around;
    for (int y = 0; y < level.height(); ++y)
        for (int x = 0; x < level.width(); ++x) {
            around.clear();
            for (int reach = 1; around.empty() && reach <= std::max(level.width(), level.height()); ++reach)
                for (int j = std::max(0, y - reach); j <= std::min(level.height() - 1, y + reach); ++j)
                    for (int i = std::max(0, x - reach); i <= std::min(level.width() - 1, x + reach); ++i)
                        if (std::isfinite(level(i, j))) around.push_back(level(i, j));
            const float median = around.empty() ? 0 : median_in_place(around);
            const float spread = mad_sigma_in_place(around, median); // a slope spreads them too
            if (!(std::abs(level(x, y) - median) <= kOutlier * sigma(x, y) + 2 * spread)) out(x, y) = median;
        }
    return out;
}

float median_of(const Image& image) {
    std::vector<float> v;
    for (const float p : image.pixels())
        if (std::isfinite(p)) v.push_back(p);
    return v.empty() ? 0 : median_in_place(v);
}

/// Noise of a cell, from a quarter of the pixels where all have data.
float cell_noise(View<const float> cell, const BackgroundOptions& o, std::vector<float>& differences) {
    constexpr int kStride = 4;
    return structureless_noise(cell, o.noise, o.step == 1 ? 1 : kStride, differences);
}

/// The same from differences along rows alone, and twice as far apart: stars and nebula take more part in it.
float coarse_noise(View<const float> cell, const BackgroundOptions& o, std::vector<float>& differences) {
    const int lag = 2 * std::max(std::abs(o.noise.ux), std::abs(o.noise.vx)), stride = o.step == 1 ? 1 : 8;
    differences.resize(static_cast<std::size_t>(cell.height) * static_cast<std::size_t>(cell.width / stride + 1));
    float* out = differences.data();
    for (int y = 0; y < cell.height; y += o.step == 1 ? 2 : 1) {
        const float* row = cell.row(y);
        for (int x = lag + y % stride; x + lag < cell.width; x += stride)
            *out++ = row[x - lag] - 2 * row[x] + row[x + lag];
    }
    differences.resize(static_cast<std::size_t>(out - differences.data()));
    return clipped_statistics(differences, 3.0f).sigma / std::sqrt(6.0f);
}

} // namespace

Background measure_background(View<const float> image, const BackgroundOptions& o) {
    const int nx = std::max(1, (image.width + o.cell / 2) / o.cell),
              ny = std::max(1, (image.height + o.cell / 2) / o.cell);
    Background b{.level = Image(nx, ny), .sigma = Image(nx, ny), .cell = o.cell, .means = {}};
    std::vector<float> values, differences, textures;
    for (int j = 0; j < ny; ++j)
        for (int i = 0; i < nx; ++i) {
            const Region cell = intersect(
                {i * o.cell, j * o.cell, i + 1 == nx ? image.width : o.cell, j + 1 == ny ? image.height : o.cell},
                image.bounds());
            values.resize(static_cast<std::size_t>(cell.area()));
            std::size_t n = 0;
            for (int y = cell.y; y < cell.bottom(); ++y) {
                const float* row = image.row(y);
                fetch_ahead(row + cell.right(), std::min(o.cell, image.width - cell.right())); // the next cell
                for (int x = cell.x + (y & 1) * (o.step - 1); x < cell.right(); x += o.step)
                    values[n++] = row[x];
            }
            values.resize(n);
            const RobustStatistics s = clipped_statistics(values, o.clip);
            b.level(i, j) = s.location;
            b.sigma(i, j) = cell_noise(image.crop(cell), o, differences);
            const float texture = coarse_noise(image.crop(cell), o, differences) / b.sigma(i, j);
            if (std::isfinite(texture)) textures.push_back(texture);
        }
    b.level = without_outliers(b.level, b.sigma);
    b.global_level = median_of(b.level);
    for (float& v : b.sigma.pixels()) // without data, or full of one value
        if (!(v > 0)) v = kNoData;
    b.global_sigma = median_of(b.sigma);
    if (!textures.empty()) b.texture = median_in_place(textures);
    for (float& v : b.sigma.pixels())
        if (!(v > 0)) v = b.global_sigma;
    return b;
}

namespace {

/// Bilinear between the centres of cells.
float mesh_at(const Image& mesh, int cell, double x, double y) {
    const double u = std::clamp((x + 0.5) / cell - 0.5, 0.0, mesh.width() - 1.0);
    const double v = std::clamp((y + 0.5) / cell - 0.5, 0.0, mesh.height() - 1.0);
    const int i = std::min(static_cast<int>(u), std::max(0, mesh.width() - 2)),
              j = std::min(static_cast<int>(v), std::max(0, mesh.height() - 2));
    const int i1 = std::min(i + 1, mesh.width() - 1), j1 = std::min(j + 1, mesh.height() - 1);
    const auto a = static_cast<float>(u - i), c = static_cast<float>(v - j);
    return (mesh(i, j) * (1 - a) + mesh(i1, j) * a) * (1 - c) + (mesh(i, j1) * (1 - a) + mesh(i1, j1) * a) * c;
}

void mesh_row(const Image& mesh, int cell, int y, int width, float* out) {
    const double v = std::clamp((y + 0.5) / cell - 0.5, 0.0, mesh.height() - 1.0);
    const int j = std::min(static_cast<int>(v), std::max(0, mesh.height() - 2)),
              j1 = std::min(j + 1, mesh.height() - 1);
    const auto c = static_cast<float>(v - j);
    const auto at = [&](int i) { return mesh(i, j) * (1 - c) + mesh(i, j1) * c; };
    int x = 0;
    for (int i = -1; i < mesh.width() && x < width; ++i) { // between the centres of cells i and i + 1
        const int end = i + 1 == mesh.width() ? width : std::min(width, static_cast<int>((i + 1.5) * cell));
        const float left = at(std::max(0, i)), right = at(std::min(mesh.width() - 1, i + 1));
        const float slope = (right - left) / static_cast<float>(cell);
        const float origin = left - slope * static_cast<float>((i + 0.5) * cell - 0.5);
        for (; x < end; ++x)
            out[x] = origin + slope * static_cast<float>(x);
    }
}

} // namespace

float SkyMeans::at(double x, double y, double reach_x, double reach_y) const {
    const auto middle = [&](int k, int cells, int size) {
        return k + 1 == cells ? 0.5 * ((cells - 1) * cell + size) - 0.5 : (k + 0.5) * cell - 0.5;
    };
    const auto first = [&](double from, double reach) {
        return std::max(0, static_cast<int>(std::floor((from - reach) / cell)) - 1);
    };
    const auto end = [&](double from, double reach, int cells) {
        return std::min(cells, static_cast<int>(std::floor((from + reach) / cell)) + 2);
    };
    double all = 0, w = 0, wx = 0, wy = 0, wxx = 0, wxy = 0, wyy = 0, v = 0, vx = 0, vy = 0;
    float centre = kNoData; // of the values, which are large beside what they differ by
    for (int j = first(y, reach_y); j < end(y, reach_y, values.height()); ++j) {
        const double dy = (middle(j, values.height(), height) - y) / reach_y;
        if (!(std::abs(dy) < 1)) continue;
        for (int i = first(x, reach_x); i < end(x, reach_x, values.width()); ++i) {
            const double dx = (middle(i, values.width(), width) - x) / reach_x;
            if (!(std::abs(dx) < 1)) continue;
            const double weight = (1 - std::abs(dx)) * (1 - std::abs(dy));
            all += weight;
            const float value = values(i, j);
            if (!std::isfinite(value)) continue;
            if (!std::isfinite(centre)) centre = value;
            const double off = static_cast<double>(value) - static_cast<double>(centre);
            w += weight, wx += weight * dx, wy += weight * dy;
            wxx += weight * dx * dx, wxy += weight * dx * dy, wyy += weight * dy * dy;
            v += weight * off, vx += weight * dx * off, vy += weight * dy * off;
        }
    }
    constexpr double kLeast = 0.4, kFlat = 1e-3; // of the weight; spread of the cells, squares of the reach
    if (!(w > 0) || w < kLeast * all) return kNoData;
    const double mx = wx / w, my = wy / w, mean = v / w;
    const double xx = wxx / w - mx * mx, xy = wxy / w - mx * my, yy = wyy / w - my * my;
    double at = mean;
    if (const double spread = xx * yy - xy * xy; xx > kFlat && yy > kFlat && spread > kFlat * xx * yy) {
        const double cx = vx / w - mx * mean, cy = vy / w - my * mean;
        at -= ((yy * cx - xy * cy) * mx + (xx * cy - xy * cx) * my) / spread;
    }
    return centre + static_cast<float>(at);
}

float Background::level_at(double x, double y) const {
    return mesh_at(level, cell, x, y);
}

float Background::sigma_at(double x, double y) const {
    return mesh_at(sigma, cell, x, y);
}

void Background::level_row(int y, int width, float* out) const {
    mesh_row(level, cell, y, width, out);
}

void Background::sigma_row(int y, int width, float* out) const {
    mesh_row(sigma, cell, y, width, out);
}

} // namespace kasane
