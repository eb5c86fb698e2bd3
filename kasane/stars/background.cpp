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

// Of the differences that tell the noise of a cell where all pixels have data: neighbours share most of theirs.
constexpr int kStride = 4;   ///< within rows, where all are looked at
constexpr int kEveryRow = 3; ///< of as many one is looked at

/// The cells of a mesh that lie side by side, and what their rows give to each of them: gone through row by row, since
/// rows are long and those of a cell short.
class CellRow {
public:
    CellRow(View<const float> image, const BackgroundOptions& o, int columns) : image_(image), o_(o) {
        for (int i = 0; i < columns; ++i)
            cells_.push_back({i * o.cell, i + 1 == columns ? image.width : (i + 1) * o.cell, {}, {}});
        // Else the differences are taken of each cell for itself.
        upright_ = o.step != 1 && o.noise.uy == 0 && o.noise.vx == 0 && o.cell % kEverySecond == 0;
        stride_ = std::abs(o.noise.ux) == 1 ? kEverySecond : 1; // second neighbours share nearly nothing, or much
        taken_.resize(static_cast<std::size_t>(image.width));
        down_.resize(taken_.size());
        across_.resize(taken_.size());
    }
    bool has_differences() const { return upright_; }
    /// Values of the pixels of the rows from `top` to above `bottom`, every o.step-th, and second differences as
    /// of structureless_noise.
    void take(int top, int bottom) {
        for (Cell& c : cells_) {
            const auto area = static_cast<std::size_t>(c.right - c.left) * static_cast<std::size_t>(bottom - top);
            c.values.clear(), c.differences.clear();
            c.values.reserve(area), c.differences.reserve(area / 2);
        }
        for (int y = top; y < bottom; y += o_.step)
            for (Cell& c : cells_)
                c.values.insert(c.values.end(), image_.row(y) + c.left, image_.row(y) + c.right);
        if (!upright_ || image_.width <= 2 * std::abs(o_.noise.ux)) return;
        const int ry = std::abs(o_.noise.vy);
        for (int y = top + ry; y + ry < bottom; y += kEveryRow)
            take_differences(y);
    }
    std::vector<float>& values(int i) { return cells_[static_cast<std::size_t>(i)].values; }
    std::vector<float>& differences(int i) { return cells_[static_cast<std::size_t>(i)].differences; }

private:
    struct Cell {
        int left, right;
        std::vector<float> values, differences;
    };

    void take_differences(int y) {
        const int rx = std::abs(o_.noise.ux);
        const std::ptrdiff_t u = o_.noise.ux, v = o_.noise.vy * image_.stride;
        const float* here = image_.row(y);
        const auto width = static_cast<std::size_t>(image_.width), inside = width - 2 * static_cast<std::size_t>(rx);
        second_difference_row(here - v, here, here + v, width, down_.data());
        const float* middle = down_.data() + rx; // NaN where a pixel is: left out later
        second_difference_row(middle - u, middle, middle + u, inside, across_.data());
        if (stride_ != 1) take_every(across_.data(), static_cast<std::size_t>(stride_), inside, taken_.data());
        const float* taken = stride_ == 1 ? across_.data() : taken_.data(); // the first of a cell is rx from its edge
        for (Cell& c : cells_) {
            const int all = c.right - c.left - 2 * rx, count = (all + stride_ - 1) / stride_;
            if (all > 0)
                c.differences.insert(c.differences.end(), taken + c.left / stride_, taken + c.left / stride_ + count);
        }
    }

    View<const float> image_;
    const BackgroundOptions& o_;
    static constexpr int kEverySecond = 2;
    bool upright_ = false;
    int stride_ = 1; ///< of the differences of a row
    std::vector<Cell> cells_;
    std::vector<float> taken_, down_, across_;
};

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
    std::vector<float> differences, textures;
    constexpr int kEnough = 1000;                    // cells that tell the texture
    const int some = std::max(1, nx * ny / kEnough); // of as many
    CellRow cells(image, o, nx);
    for (int j = 0; j < ny; ++j) {
        const int top = j * o.cell, bottom = j + 1 == ny ? image.height : std::min(image.height, (j + 1) * o.cell);
        cells.take(top, bottom);
        for (int i = 0; i < nx; ++i) {
            const Region cell =
                intersect({i * o.cell, top, i + 1 == nx ? image.width : o.cell, bottom - top}, image.bounds());
            const RobustStatistics s = clipped_statistics(cells.values(i), o.clip);
            b.level(i, j) = s.location;
            b.sigma(i, j) = cells.has_differences() ? structureless_sigma(cells.differences(i))
                                                    : structureless_noise(image.crop(cell), o.noise,
                                                                          o.step == 1 ? 1 : kStride, differences);
            if ((i + 3 * j) % some != 0) continue;
            const float texture = coarse_noise(image.crop(cell), o, differences) / b.sigma(i, j);
            if (std::isfinite(texture)) textures.push_back(texture);
        }
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

MeshRow row_of(const Image& mesh, int cell, int y) {
    const double v = std::clamp((y + 0.5) / cell - 0.5, 0.0, mesh.height() - 1.0);
    const int j = std::min(static_cast<int>(v), std::max(0, mesh.height() - 2)),
              j1 = std::min(j + 1, mesh.height() - 1);
    return {mesh.plane().row(j), mesh.plane().row(j1), static_cast<float>(v - j), mesh.width(), cell};
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

void Background::level_row(int y, int first, int count, float* out) const {
    mesh_row(row_of(level, cell, y), first, count, out);
}

float Background::least_sigma(int y, int first, int count) const {
    const MeshRow row = row_of(sigma, cell, y);
    const auto knot = [&](int x) { return std::clamp((2 * x + 1 - cell) / (2 * cell), 0, row.cells - 1); };
    const int last = std::min(knot(first + count - 1) + 1, row.cells - 1);
    float least = row.above[last];
    for (int i = knot(first); i <= last; ++i)
        least = std::min({least, row.above[i], row.below[i]});
    constexpr float kRounding = 1 - 1e-5f;
    return kRounding * least;
}

void Background::above_level_row(int y, int first, int count, const float* pixels, float* out) const {
    minus_mesh_row(row_of(level, cell, y), pixels, first, count, out);
}

} // namespace kasane
