#include <kasane/normalization/level_map.hpp>

#include <kasane/image/row_arithmetic.hpp>

#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

/// Weights of the four coefficients around a place that lies a share `t` of a step beyond the second.
std::array<double, 4> basis(double t) {
    const double u = 1 - t;
    return {u * u * u / 6, (3 * t * t * t - 6 * t * t + 4) / 6, (3 * u * u * u - 6 * u * u + 4) / 6, t * t * t / 6};
}

/// The step in which a place lies, held to the lattice.
int cell_of(double place, double step, int count) {
    return std::clamp(static_cast<int>(std::floor(place / step)), 0, count - 4);
}

/// A plane along one row: its value at column 0, and what it grows by from column to column.
struct Line {
    float base, slope;
};

Line line_of(const SmoothMap& map, Point centre, int y) {
    return {static_cast<float>(map.value + map.slope_y * (y - centre.y) - map.slope_x * centre.x),
            static_cast<float>(map.slope_x)};
}

} // namespace

Lattice Lattice::over(const Canvas& canvas, double step) {
    Lattice l{
        step, static_cast<int>((canvas.width - 1) / step) + 4, static_cast<int>((canvas.height - 1) / step) + 4, {}};
    l.coefficients.assign(static_cast<std::size_t>(l.columns) * static_cast<std::size_t>(l.rows), 0.0f);
    return l;
}

LatticeBasis Lattice::basis_at(double place, int count) const {
    const int i = cell_of(place, step, count);
    return {i, basis(place / step - i)};
}

double Lattice::at(double x, double y) const {
    const auto [i, wx] = basis_at(x, columns);
    const auto [j, wy] = basis_at(y, rows);
    double sum = 0;
    for (int b = 0; b < 4; ++b)
        for (int a = 0; a < 4; ++a)
            sum += wx[static_cast<std::size_t>(a)] * wy[static_cast<std::size_t>(b)] *
                   coefficients[static_cast<std::size_t>(j + b) * static_cast<std::size_t>(columns) +
                                static_cast<std::size_t>(i + a)];
    return sum;
}

LatticeRows::LatticeRows(const Lattice& lattice, int x, int width) : lattice_(lattice) {
    if (lattice.empty() || width < 1) return;
    const double step = lattice.step;
    const auto step_of = [&](int place) { return cell_of(place, step, lattice.columns); };
    const int end = x + width;
    for (int at = x; at < end;) {
        const int i = step_of(at);
        int stop = std::clamp(static_cast<int>(std::min((i + 1) * step, 1e9)), at + 1, end);
        while (stop > at + 1 && step_of(stop - 1) != i) // to the pixel, whatever rounding says
            --stop;
        while (stop < end && step_of(stop) == i)
            ++stop;
        const int begin = static_cast<int>(std::ceil(i * step)); // of the step, wherever the row begins
        stretches_.push_back({i, at - begin, at - x, stop - at, static_cast<float>(begin / step - i)});
        at = stop;
    }
    columns_.resize(static_cast<std::size_t>(stretches_.back().first - stretches_.front().first) + 4);
}

void LatticeRows::add(int y, float* to) {
    if (stretches_.empty()) return;
    const auto [j, weights] = lattice_.basis_at(y, lattice_.rows);
    const int first = stretches_.front().first;
    for (std::size_t k = 0; k < columns_.size(); ++k) {
        double sum = 0;
        for (int b = 0; b < 4; ++b)
            sum += weights[static_cast<std::size_t>(b)] *
                   lattice_.coefficients[static_cast<std::size_t>(j + b) * static_cast<std::size_t>(lattice_.columns) +
                                         static_cast<std::size_t>(first) + k];
        columns_[k] = sum;
    }
    for (const Stretch& s : stretches_) {
        const double* four = columns_.data() + (s.first - first);
        const double a = four[0], b = four[1], c = four[2], d = four[3];
        // The cubic of this step, by powers of the share of it that lies behind.
        const std::array<float, 4> cubic{static_cast<float>((a + 4 * b + c) / 6), static_cast<float>((c - a) / 2),
                                         static_cast<float>((a - 2 * b + c) / 2),
                                         static_cast<float>((d - 3 * c + 3 * b - a) / 6)};
        add_cubic_row(cubic, s.start, static_cast<float>(1 / lattice_.step), s.from, static_cast<std::size_t>(s.count),
                      to + s.at);
    }
}

LevelRows::LevelRows(const LevelMap& map, int x, int width)
    : map_(map), x_(x), width_(width), scale_(map.scale.lattice, x, width), offset_(map.offset.lattice, x, width) {
    if (map.scale.constant() && map.offset.lattice.empty()) return;
    scales_.assign(static_cast<std::size_t>(width), static_cast<float>(map.scale.value));
    offsets_.resize(scales_.size());
}

bool LevelRows::apply(int y, float* samples) {
    const SmoothMap &scale = map_.scale, &offset = map_.offset;
    const auto width = static_cast<std::size_t>(width_);
    if (scales_.empty()) { // planes at most: in one go
        const auto factor = static_cast<float>(scale.value);
        const auto [base, slope] = line_of(offset, map_.centre, y);
        const bool same = factor == 1 && offset.constant() && offset.value == 0;
        for (int x = 0; !same && x < width_; ++x)
            samples[x] = factor * samples[x] + (base + slope * static_cast<float>(x_ + x));
        return !any_gap(samples, width);
    }
    const auto fill = [&](const SmoothMap& of, LatticeRows& lattice, std::vector<float>& to) {
        const auto [base, slope] = line_of(of, map_.centre, y);
        ramp_row(base, slope, x_, width, to.data());
        lattice.add(y, to.data());
    };
    fill(offset, offset_, offsets_);
    if (!scale.constant()) fill(scale, scale_, scales_);
    return scale_row(samples, scales_.data(), offsets_.data(), width);
}

double LevelMap::value_at(const SmoothMap& map, Point canvas) const {
    return map.value + map.slope_x * (canvas.x - centre.x) + map.slope_y * (canvas.y - centre.y) +
           (map.lattice.empty() ? 0 : map.lattice.at(canvas.x, canvas.y));
}

namespace {

/// A lattice on another canvas.
Lattice moved(const Lattice& from, const Canvas& canvas, const Affine& to_here) {
    constexpr double kFiner = 5;
    Lattice out = Lattice::over(canvas, from.step / to_here.scale() / kFiner);
    // One place more on every side than there are coefficients.
    const int columns = out.columns + 2, rows = out.rows + 2;
    std::vector<double> values;
    for (int j = 0; j < rows; ++j)
        for (int i = 0; i < columns; ++i) {
            double x = 0, y = 0;
            to_here.apply((i - 2) * out.step, (j - 2) * out.step, x, y);
            values.push_back(from.at(x, y));
        }
    const auto sharpened = [&](std::size_t at, std::size_t stride) {
        return (8 * values[at] - values[at - stride] - values[at + stride]) / 6;
    };
    const auto across = static_cast<std::size_t>(columns);
    for (int j = 0; j < out.rows; ++j)
        for (int i = 0; i < out.columns; ++i) {
            const std::size_t at = static_cast<std::size_t>(j + 1) * across + static_cast<std::size_t>(i + 1);
            const double c = (8 * sharpened(at, 1) - sharpened(at - across, 1) - sharpened(at + across, 1)) / 6;
            out.coefficients[static_cast<std::size_t>(j) * static_cast<std::size_t>(out.columns) +
                             static_cast<std::size_t>(i)] = static_cast<float>(c);
        }
    return out;
}

/// The same, with its plane; `here` is where the centre of the new canvas lies, against the centre of the old one.
SmoothMap moved(const SmoothMap& from, const Canvas& canvas, const Affine& to_here, Point here) {
    return {from.value + from.slope_x * here.x + from.slope_y * here.y,
            from.slope_x * to_here.a + from.slope_y * to_here.d, from.slope_x * to_here.b + from.slope_y * to_here.e,
            from.lattice.empty() ? Lattice{} : moved(from.lattice, canvas, to_here)};
}

} // namespace

LevelMap LevelMap::onto(const Canvas& canvas, const Affine& to_here) const {
    LevelMap out;
    out.centre = canvas.centre();
    Point here;
    to_here.apply(out.centre.x, out.centre.y, here.x, here.y);
    here = {here.x - centre.x, here.y - centre.y};
    out.scale = moved(scale, canvas, to_here, here);
    out.offset = moved(offset, canvas, to_here, here);
    return out;
}

std::string LevelMap::check() const {
    for (const SmoothMap* map : {&scale, &offset}) {
        const Lattice& l = map->lattice;
        const char* what = map == &scale ? "scale" : "offset";
        if (!std::isfinite(map->value) || !std::isfinite(map->slope_x) || !std::isfinite(map->slope_y))
            return fmt::format("the {} of a level map is not a number", what);
        if (l.empty()) continue;
        if (!(l.step > 0) || l.columns < 4 || l.rows < 4 ||
            l.coefficients.size() != static_cast<std::size_t>(l.columns) * static_cast<std::size_t>(l.rows))
            return fmt::format(
                "the lattice of a level map's {} has {} coefficients for {} x {} places {:g} pixels apart", what,
                l.coefficients.size(), l.columns, l.rows, l.step);
        if (!std::all_of(l.coefficients.begin(), l.coefficients.end(), [](float v) { return std::isfinite(v); }))
            return fmt::format("the lattice of a level map's {} holds values that are no numbers", what);
    }
    if (!(scale.value > 0)) return fmt::format("the scale of a level map is {:g}, not above 0", scale.value);
    return {};
}

} // namespace kasane
