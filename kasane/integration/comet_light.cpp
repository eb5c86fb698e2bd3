#include <kasane/integration/comet_light.hpp>
#include <kasane/integration/moving_light.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/robust_fit.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

namespace {

constexpr int kCell = 32; // pixels of squares that tell the sky

/// The plane of the sky, taken out.
Image above_the_sky(const Image& master, int p) {
    const View<const float> from = master.plane(p);
    Image out(from.width, from.height, 1, 0.0f);
    std::vector<Equation<3>> cells;
    std::vector<float> values;
    for (int y = 0; y < from.height; y += kCell)
        for (int x = 0; x < from.width; x += kCell) {
            values.clear();
            const Region r = intersect({x, y, kCell, kCell}, {0, 0, from.width, from.height});
            for (int j = r.y; j < r.bottom(); ++j)
                for (int i = r.x; i < r.right(); ++i)
                    if (std::isfinite(from(i, j))) values.push_back(from(i, j));
            if (2 * values.size() < static_cast<std::size_t>(r.area())) continue;
            cells.push_back(
                {{1, x + 0.5 * r.width, y + 0.5 * r.height}, static_cast<double>(median_in_place(values)), 1});
        }
    if (cells.empty()) return out;
    Eigen::Vector3d plane = robust_fit(cells);
    if (cells.size() < 6 || !plane.allFinite()) { // too few for a slope
        std::vector<float> levels;
        for (const Equation<3>& c : cells)
            levels.push_back(static_cast<float>(c.value));
        plane = {static_cast<double>(median_in_place(levels)), 0, 0};
    }
    for (int y = 0; y < from.height; ++y)
        for (int x = 0; x < from.width; ++x) {
            const double v = static_cast<double>(from(x, y)) - (plane[0] + plane[1] * x + plane[2] * y);
            out(x, y) = std::isfinite(v) ? static_cast<float>(v) : 0.0f;
        }
    return out;
}

/// Under a Gaussian of four pixels.
Image smoothed(const Image& image, double sigma) {
    const int reach = static_cast<int>(std::ceil(3 * sigma));
    std::vector<float> kernel;
    double sum = 0;
    for (int k = -reach; k <= reach; ++k)
        sum += std::exp(-0.5 * k * k / (sigma * sigma));
    for (int k = -reach; k <= reach; ++k)
        kernel.push_back(static_cast<float>(std::exp(-0.5 * k * k / (sigma * sigma)) / sum));
    Image across(image.width(), image.height()), out = across;
    const auto pass = [&](const Image& from, Image& to, bool down) {
        const int most = (down ? from.height() : from.width()) - 1;
        for (int y = 0; y < from.height(); ++y)
            for (int x = 0; x < from.width(); ++x) {
                float v = 0;
                for (int k = -reach; k <= reach; ++k) {
                    const int at = std::clamp((down ? y : x) + k, 0, most);
                    v += kernel[static_cast<std::size_t>(k + reach)] * (down ? from(x, at) : from(at, y));
                }
                to(x, y) = v;
            }
    };
    pass(image, across, false);
    pass(across, out, true);
    return out;
}

/// Pixels above a level that hang together with a place, or with what is highest within twenty pixels of it.
Mask patch_around(const Image& image, double level, Point place) {
    Mask out(image.width(), image.height());
    constexpr int kNear = 20;
    const int cx = static_cast<int>(std::lround(place.x)), cy = static_cast<int>(std::lround(place.y));
    const Region near =
        intersect({cx - kNear, cy - kNear, 2 * kNear + 1, 2 * kNear + 1}, {0, 0, image.width(), image.height()});
    std::vector<std::pair<int, int>> open;
    float most = static_cast<float>(level);
    for (int y = near.y; y < near.bottom(); ++y)
        for (int x = near.x; x < near.right(); ++x)
            if (image(x, y) > most) most = image(x, y), open.assign(1, {x, y});
    if (!open.empty()) out(open[0].first, open[0].second) = 1;
    while (!open.empty()) {
        const auto [x, y] = open.back();
        open.pop_back();
        for (const auto& [i, j] : {std::pair{x - 1, y}, {x + 1, y}, {x, y - 1}, {x, y + 1}}) {
            if (i < 0 || j < 0 || i >= image.width() || j >= image.height() || out(i, j)) continue;
            if (!(static_cast<double>(image(i, j)) > level)) continue;
            out(i, j) = 1;
            open.emplace_back(i, j);
        }
    }
    return out;
}

} // namespace

namespace {

/// An image in squares: means of what is there; NaN where that is less than a quarter.
Image in_squares(const Image& image, int p, int side, const Mask* hidden) {
    Image out((image.width() + side - 1) / side, (image.height() + side - 1) / side, 1, kNoData);
    for (int j = 0; j < out.height(); ++j)
        for (int i = 0; i < out.width(); ++i) {
            const Region r = intersect({i * side, j * side, side, side}, image.bounds());
            double sum = 0, n = 0;
            for (int y = r.y; y < r.bottom(); ++y)
                for (int x = r.x; x < r.right(); ++x)
                    if (const float v = image(x, y, p); v == v && !(hidden && (*hidden)(x, y)))
                        sum += static_cast<double>(v), ++n;
            if (4 * n >= static_cast<double>(r.area()) && n > 0) out(i, j) = static_cast<float>(sum / n);
        }
    return out;
}

/// Between the squares' middles, of those that have data; NaN without.
double between(const Image& image, double x, double y) {
    const int i = static_cast<int>(std::floor(x)), j = static_cast<int>(std::floor(y));
    double sum = 0, weights = 0;
    for (int b = 0; b < 2; ++b)
        for (int a = 0; a < 2; ++a) {
            const int u = i + a, v = j + b;
            if (u < 0 || v < 0 || u >= image.width() || v >= image.height()) continue;
            const double w = (a ? x - i : 1 - (x - i)) * (b ? y - j : 1 - (y - j));
            if (const float there = image(u, v); there == there) sum += w * static_cast<double>(there), weights += w;
        }
    constexpr double kLeast = 0.25;
    return weights >= kLeast ? sum / weights : static_cast<double>(kNoData);
}

/// The same by cubic convolution where all pixels around have data.
double sharply_between(const Image& image, double x, double y) {
    const int i = static_cast<int>(std::floor(x)), j = static_cast<int>(std::floor(y));
    if (i < 1 || j < 1 || i + 2 >= image.width() || j + 2 >= image.height()) return between(image, x, y);
    const std::array<double, 4> wx = cubic_weights(x - i), wy = cubic_weights(y - j);
    double sum = 0;
    for (int b = 0; b < 4; ++b)
        for (int a = 0; a < 4; ++a)
            sum += wx[static_cast<std::size_t>(a)] * wy[static_cast<std::size_t>(b)] *
                   static_cast<double>(image(i + a - 1, j + b - 1));
    return std::isfinite(sum) ? sum : between(image, x, y);
}

/// The mean of an image moved as the frames were, `forth` or back, at the places `where` (null: everywhere); `outside`:
/// what lies beyond it.
Image smeared(const Image& image, const MovingStack& stack, int side, bool forth, float outside,
              const Mask* where = nullptr) {
    Image out(image.width(), image.height(), 1, outside);
    for (int y = 0; y < image.height(); ++y)
        for (int x = 0; x < image.width(); ++x) {
            if (where && (*where)(x, y) == 0) continue;
            double sum = 0, weights = 0;
            for (std::size_t k = 0; k < stack.moved.size(); ++k) {
                const double sign = forth ? -1 : 1;
                const double u = x + sign * stack.moved[k].x / side, w = y + sign * stack.moved[k].y / side;
                const double v = side == 1 ? sharply_between(image, u, w) : between(image, u, w);
                if (!std::isfinite(v) && !std::isfinite(outside)) continue;
                sum += stack.weights[k] * (std::isfinite(v) ? v : static_cast<double>(outside));
                weights += stack.weights[k];
            }
            if (weights > 0) out(x, y) = static_cast<float>(sum / weights);
        }
    return out;
}

} // namespace

Image without_moving(const MovingStack& stack) {
    constexpr int kLeastSide = 4, kMostSquares = 600, kRounds = 40;
    const Image& stars = stack.among_stars;
    const int side = std::max(kLeastSide, std::max(stars.width(), stars.height()) / kMostSquares);
    Mask hidden(stars.width(), stars.height());
    for (const Disc& d : stack.stars) {
        const Region box =
            intersect({static_cast<int>(std::floor(d.x - d.radius)), static_cast<int>(std::floor(d.y - d.radius)),
                       static_cast<int>(2 * d.radius) + 3, static_cast<int>(2 * d.radius) + 3},
                      stars.bounds());
        for (int y = box.y; y < box.bottom(); ++y)
            for (int x = box.x; x < box.right(); ++x)
                if (std::hypot(x - d.x, y - d.y) <= d.radius) hidden(x, y) = 1;
    }
    Image out = stars;
    const Point nucleus{(stack.nucleus.x + 0.5) / side - 0.5, (stack.nucleus.y + 0.5) / side - 0.5};
    for (int p = 0; p < stars.planes(); ++p) {
        const Image still = in_squares(stars, p, side, &hidden),
                    following = in_squares(stack.on_comet, p, side, nullptr);
        Image comet(still.width(), still.height(), 1, 0.0f), trail = comet;
        const double noise = 3 * stack.noise[static_cast<std::size_t>(p)] / side;
        for (int round = 0; round < kRounds; ++round) {
            Image sky = still;
            for (std::size_t i = 0; i < sky.pixels().size(); ++i)
                sky.pixels()[i] -= trail.pixels()[i];
            const Image there = smeared(sky, stack, side, false, kNoData);
            for (std::size_t i = 0; i < comet.pixels().size(); ++i) {
                const float v = following.pixels()[i] - there.pixels()[i];
                comet.pixels()[i] = v == v ? v : 0.0f;
            }
            const Mask patch = patch_around(comet, noise, nucleus);
            for (std::size_t i = 0; i < comet.pixels().size(); ++i)
                if (patch.pixels()[i] == 0) comet.pixels()[i] = 0;
            trail = smeared(comet, stack, side, true, 0.0f);
        }
        // What is finer than the squares, pixel by pixel where the comet and its trail are.
        Mask at(out.width(), out.height()), along = at;
        Image shown(out.width(), out.height(), 1, 0.0f), fine = shown;
        for (int y = 0; y < out.height(); ++y)
            for (int x = 0; x < out.width(); ++x) {
                at(x, y) = comet(x / side, y / side) > 0;
                const double v = between(trail, (x + 0.5) / side - 0.5, (y + 0.5) / side - 0.5);
                along(x, y) = v != 0;
                shown(x, y) = std::isfinite(v) ? static_cast<float>(v) : 0.0f;
            }
        constexpr int kFineRounds = 6;
        for (int round = 0; round < kFineRounds; ++round) {
            Image sky(out.width(), out.height(), 1, kNoData);
            for (int y = 0; y < out.height(); ++y)
                for (int x = 0; x < out.width(); ++x)
                    if (!hidden(x, y)) sky(x, y) = stars(x, y, p) - shown(x, y);
            const Image there = smeared(sky, stack, 1, false, kNoData, &at);
            for (int y = 0; y < out.height(); ++y)
                for (int x = 0; x < out.width(); ++x) {
                    const float v = at(x, y) ? stack.on_comet(x, y, p) - there(x, y) : 0.0f;
                    fine(x, y) = v == v ? v : 0.0f;
                }
            shown = smeared(fine, stack, 1, true, 0.0f, &along);
        }
        for (int y = 0; y < out.height(); ++y)
            for (int x = 0; x < out.width(); ++x)
                out(x, y, p) -= shown(x, y);
    }
    return out;
}

Image light_of_comet(const Image& master, const std::vector<double>& noise, Point nucleus) {
    constexpr double kSigma = 4, kNone = 3, kWhole = 8;
    Image out(master.width(), master.height(), master.planes(), 0.0f);
    for (int p = 0; p < master.planes(); ++p) {
        const Image above = above_the_sky(master, p), smooth = smoothed(above, kSigma);
        // Of white noise, what is left of it.
        const double left = noise[static_cast<std::size_t>(p)] / (2 * kSigma * std::sqrt(kPi));
        const Mask patch = patch_around(smooth, kNone * left, nucleus);
        for (int y = 0; y < master.height(); ++y)
            for (int x = 0; x < master.width(); ++x) {
                if (!patch(x, y)) continue;
                const double snr = static_cast<double>(smooth(x, y)) / left;
                const double share = std::clamp((snr - kNone) / (kWhole - kNone), 0.0, 1.0);
                // Where it is faint, its smooth light: noise is not the comet's.
                const double sharp = std::clamp((snr - kWhole) / (4 * kWhole), 0.0, 1.0);
                out(x, y, p) = static_cast<float>(share * (sharp * static_cast<double>(above(x, y)) +
                                                           (1 - sharp) * static_cast<double>(smooth(x, y))));
            }
    }
    return out;
}

} // namespace kasane
