#include <kasane/pairing/neighbours.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace kasane {

namespace {

struct Place {
    double right_ascension = 0, declination = 0; ///< degrees
    double side = 0;                             ///< of the field, the shorter one, degrees
};

/// Where the lights of a stack point; nothing where less than half of them say so.
std::optional<Place> place_of(const std::vector<Exposure>& exposures, const StackPlan& stack) {
    std::vector<float> declination;
    std::vector<double> x, y; // of directions on the equator: right ascensions wrap around
    double side = 0;
    for (const LightPlan& l : stack.lights) {
        const Exposure& e = exposures[l.exposure];
        const double pixel = arcsec_per_pixel(e);
        if (!e.right_ascension || !e.declination || !(pixel > 0)) continue;
        x.push_back(std::cos(radians(*e.right_ascension)));
        y.push_back(std::sin(radians(*e.right_ascension)));
        declination.push_back(static_cast<float>(*e.declination));
        side = std::max(side, pixel * std::min(e.width, e.height) / 3600);
    }
    if (2 * declination.size() <= stack.lights.size()) return std::nullopt;
    const auto middle = [](std::vector<double> v) {
        const auto at = v.begin() + static_cast<std::ptrdiff_t>(v.size() / 2);
        std::nth_element(v.begin(), at, v.end());
        return *at;
    };
    return Place{degrees(std::atan2(middle(y), middle(x))), static_cast<double>(median_in_place(declination)), side};
}

/// Between two directions, degrees (haversines: R. Sinnott, Sky & Telescope 68, 1984).
double apart(const Place& a, const Place& b) {
    const double u = std::sin(0.5 * radians(b.declination - a.declination)),
                 v = std::sin(0.5 * radians(b.right_ascension - a.right_ascension));
    const double h = u * u + std::cos(radians(a.declination)) * std::cos(radians(b.declination)) * v * v;
    return degrees(2 * std::asin(std::sqrt(std::min(1.0, h))));
}

} // namespace

std::vector<Finding> neighbouring_targets(const std::vector<Exposure>& exposures, const Pairing& pairing) {
    constexpr double kOverlap = 0.1; // of a field
    std::vector<Finding> out;
    std::set<std::pair<std::string, std::string>> told;
    for (std::size_t i = 0; i < pairing.stacks.size(); ++i)
        for (std::size_t j = i + 1; j < pairing.stacks.size(); ++j) {
            const StackPlan &a = pairing.stacks[i], &b = pairing.stacks[j];
            if (a.target == b.target || a.target.empty() || b.target.empty() || a.filter != b.filter ||
                a.sensor != b.sensor)
                continue;
            const auto first = place_of(exposures, a), second = place_of(exposures, b);
            if (!first || !second) continue;
            const double side = std::min(first->side, second->side), between = apart(*first, *second);
            if (between > (1 - kOverlap) * side) continue;
            if (!told.emplace(std::min(a.target, b.target), std::max(a.target, b.target)).second) continue;
            out.push_back(
                {Level::note,
                 "targets-overlap",
                 {exposures[a.lights.front().exposure].path, exposures[b.lights.front().exposure].path},
                 fmt::format("by the coordinates in their headers {} and {} lie {:.2g} degrees apart, less than "
                             "a field ({:.2g} degrees): each has master lights of its own",
                             a.target, b.target, between, side),
                 "To make one picture of both give them one target in [[files]]"});
        }
    return out;
}

} // namespace kasane
