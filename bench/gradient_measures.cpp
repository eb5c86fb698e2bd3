// F17: what a gradient that is taken off leaves of itself, and takes of a nebula that covers most of the field.
#include "fidelity_measures.hpp"

#include <kasane/finishing/gradient.hpp>
#include <kasane/sky/random.hpp>
#include <kasane/sky/scene.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <functional>

namespace kasane::bench {

namespace {

constexpr int kWidth = 1800, kHeight = 1200;
constexpr double kSky = 500, kNoise = 5, kNebula = 60;

using Shape = std::function<double(double x, double y)>; // -1 to 1 along both sides

struct Case {
    const char* name;
    Image nebula; ///< ADU
};

/// A dome with structure: two thirds of the field.
Image dome() {
    Image out(kWidth, kHeight);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x) {
            const double u = 2.0 * x / kWidth - 1, v = 2.0 * y / kHeight - 1, r = std::hypot(1.1 * u, v);
            out(x, y) =
                static_cast<float>(kNebula * std::max(0.0, 1 - r) * (1 + 0.5 * std::sin(9 * u) * std::cos(7 * v)));
        }
    return out;
}

/// The simulator's own: filaments in a veil that fades over all of the field.
Image lantern(const Workers& workers) {
    sky::SceneOptions o;
    o.filters = {"R"};
    o.stars = 0, o.galaxy = 0, o.nebula = 1;
    const sky::Scene scene = sky::make_scene(o, workers);
    const Image& map = scene.extended.at("R");
    constexpr double kFine = 0.63, kBrightest = 240; // pixels of the map; ADU
    Image out(kWidth, kHeight);
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            out(x, y) = static_cast<float>(kBrightest * static_cast<double>(scene.extended_at(
                                                            map, kFine * (x - kWidth / 2), kFine * (y - kHeight / 2))));
    return out;
}

struct Outcome {
    double left = 0; ///< of the gradient, from end to end
    double lost = 0; ///< of the nebula's light over its faint surroundings
};

Outcome take(const Image& nebula, const Shape& gradient, std::uint64_t seed, const Workers& workers) {
    Image image(kWidth, kHeight);
    sky::Random noise(seed), field(seed + 1);
    const auto shape = [&](int x, int y) { return gradient(2.0 * x / kWidth - 1, 2.0 * y / kHeight - 1); };
    for (int y = 0; y < kHeight; ++y)
        for (int x = 0; x < kWidth; ++x)
            image(x, y) =
                static_cast<float>(kSky + shape(x, y) + static_cast<double>(nebula(x, y)) + kNoise * noise.normal());
    for (int i = 0; i < 400; ++i) { // stars of three pixels
        const double x = field.uniform(20, kWidth - 20), y = field.uniform(20, kHeight - 20),
                     peak = 20 * std::pow(500.0, std::pow(field.uniform(0, 1), 2));
        for (int j = -8; j <= 8; ++j)
            for (int k = -8; k <= 8; ++k) {
                const int u = static_cast<int>(x) + k, v = static_cast<int>(y) + j;
                image(u, v) +=
                    static_cast<float>(peak * std::exp(-0.5 * (std::pow(u - x, 2) + std::pow(v - y, 2)) / 1.62));
            }
    }
    const Gradient g = fit_gradient(image.plane(), detect_stars(image.plane()), {}, workers);
    std::vector<float> sorted;
    for (int y = 0; y < kHeight; y += 4)
        for (int x = 0; x < kWidth; x += 4)
            sorted.push_back(nebula(x, y));
    std::sort(sorted.begin(), sorted.end());
    const float faint = sorted[sorted.size() / 5], bright = sorted[2 * sorted.size() / 5];
    double least = 1e9, most = -1e9, lowest = 1e9, highest = -1e9;
    double taken[2] = {}, light[2] = {}, count[2] = {}; // where nebula is faint, where it is bright
    for (int y = 0; y < kHeight; y += 4)
        for (int x = 0; x < kWidth; x += 4) {
            const double is = shape(x, y), off = static_cast<double>(g.surface.at(x, y)) - is;
            least = std::min(least, off), most = std::max(most, off);
            lowest = std::min(lowest, is), highest = std::max(highest, is);
            const float here = nebula(x, y);
            if (here > faint && here <= bright) continue;
            const std::size_t where = here > bright;
            taken[where] += off, light[where] += static_cast<double>(here), ++count[where];
        }
    const auto more = [&](const double(&sum)[2]) { return sum[1] / count[1] - sum[0] / count[0]; };
    return {(most - least) / (highest - lowest), more(taken) / more(light)};
}

} // namespace

std::vector<Figure> gradients_left(const Context& context) {
    std::vector<Figure> figures;
    const Case cases[] = {{"a nebula over two thirds of the field", dome()},
                          {"filaments in a veil over all of it", lantern(context.workers)}};
    const std::pair<const char*, Shape> shapes[] = {
        {"linear", [](double x, double y) { return 30 * x - 20 * y; }},
        {"quadratic", [](double x, double y) { return 25 * x + 15 * x * x - 20 * x * y + 10 * y * y; }}};
    for (const Case& c : cases)
        for (const auto& [order, shape] : shapes) {
            Outcome worst;
            for (const std::uint64_t seed : {11u, 22u, 33u}) {
                const Outcome o = take(c.nebula, shape, seed, context.workers);
                worst.left = std::max(worst.left, o.left);
                worst.lost = std::max(worst.lost, std::abs(o.lost));
            }
            figures.push_back({"F17", fmt::format("gradient left, {}, {} (worst of three)", order, c.name),
                               100 * worst.left, "%", 10});
            figures.push_back(
                {"F17", fmt::format("the nebula's light, {}, {}", order, c.name), 100 * worst.lost, "%", 2});
        }
    return figures;
}

} // namespace kasane::bench
