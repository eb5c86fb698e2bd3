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

/// The values of a plane and a lattice at the pixels of one row.
void fill_row(const SmoothMap& map, Point centre, const Region& row, float* to) {
    const auto [base, slope] = line_of(map, centre, row.y);
    ramp_row(base, slope, row.x, static_cast<std::size_t>(row.width), to);
    if (!map.lattice.empty()) map.lattice.add_row(row.x, row.y, row.width, to);
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

void Lattice::add_row(int x, int y, int count, float* to) const {
    const int j = cell_of(y, step, rows);
    const auto wy = basis(y / step - j);
    const auto column = [&](int i) {
        double sum = 0;
        for (int b = 0; b < 4; ++b)
            sum += wy[static_cast<std::size_t>(b)] *
                   coefficients[static_cast<std::size_t>(j + b) * static_cast<std::size_t>(columns) +
                                static_cast<std::size_t>(i)];
        return sum;
    };
    const int end = x + count;
    for (int at = x; at < end;) {
        const int i = cell_of(at, step, columns);
        const double a = column(i), b = column(i + 1), c = column(i + 2), d = column(i + 3);
        // The cubic of this step, by powers of the share of it that lies behind.
        const std::array<float, 4> cubic{static_cast<float>((a + 4 * b + c) / 6), static_cast<float>((c - a) / 2),
                                         static_cast<float>((a - 2 * b + c) / 2),
                                         static_cast<float>((d - 3 * c + 3 * b - a) / 6)};
        int stop = std::clamp(static_cast<int>(std::min((i + 1) * step, 1e9)), at + 1, end);
        while (stop > at + 1 && cell_of(stop - 1, step, columns) != i) // to the pixel, whatever rounding says
            --stop;
        while (stop < end && cell_of(stop, step, columns) == i)
            ++stop;
        const int begin = static_cast<int>(std::ceil(i * step)); // of the step, wherever the row begins
        add_cubic_row(cubic, static_cast<float>(begin / step - i), static_cast<float>(1 / step), at - begin,
                      static_cast<std::size_t>(stop - at), to + (at - x));
        at = stop;
    }
}

double LevelMap::value_at(const SmoothMap& map, Point canvas) const {
    return map.value + map.slope_x * (canvas.x - centre.x) + map.slope_y * (canvas.y - centre.y) +
           (map.lattice.empty() ? 0 : map.lattice.at(canvas.x, canvas.y));
}

void LevelMap::apply(const Region& region, View<float> samples) const {
    const auto factor = static_cast<float>(scale.value);
    if (scale.constant() && offset.lattice.empty()) { // planes at most: in one go
        if (factor == 1 && offset.constant() && offset.value == 0) return;
        for (int y = 0; y < region.height; ++y) {
            const auto [base, slope] = line_of(offset, centre, region.y + y);
            float* to = samples.row(y);
            for (int x = 0; x < region.width; ++x)
                to[x] = factor * to[x] + (base + slope * static_cast<float>(region.x + x));
        }
        return;
    }
    constexpr int kChunk = 512;
    std::array<float, kChunk> offsets, scales; // what is used of them is written before
    if (scale.constant()) std::fill_n(scales.begin(), std::min(kChunk, region.width), factor);
    for (int y = 0; y < region.height; ++y)
        for (int x = 0; x < region.width; x += kChunk) {
            const Region row{region.x + x, region.y + y, std::min(kChunk, region.width - x), 1};
            fill_row(offset, centre, row, offsets.data());
            if (!scale.constant()) fill_row(scale, centre, row, scales.data());
            float* to = samples.row(y) + x;
            scale_row(to, scales.data(), offsets.data(), static_cast<std::size_t>(row.width));
        }
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
