#include <kasane/registration/chance.hpp>

#include <kasane/base/units.hpp>
#include <kasane/combination/quantiles.hpp>

namespace kasane {

double log_poisson_tail(double count, double mean) {
    if (count <= mean || count <= 0) return 0;
    if (mean <= 0) return -1e9;
    return -mean + count * std::log(mean) - log_gamma(count + 1) - std::log(1 - mean / (count + 1));
}

StarDensity::StarDensity(const std::vector<Star>& stars, const StarIndex& index)
    : stars_(stars), index_(index), overall_(static_cast<double>(stars.size()) / StarExtent(stars).area()) {}

double StarDensity::at(double x, double y) const {
    constexpr int kNear = 6;
    const std::vector<int> near = index_.nearest_many(x, y, kNear);
    if (near.size() < kNear) return overall_;
    const Star& last = stars_[static_cast<std::size_t>(near.back())];
    const double r2 = (last.x - x) * (last.x - x) + (last.y - y) * (last.y - y);
    return std::max(overall_, (kNear - 1) / (kPi * std::max(1.0, r2)));
}

double log_chance(const StarPair& pair, const StarDensity& density, const Transform& to_frame,
                  const std::vector<StarMatch>& matches, double free) {
    const StarExtent inside(pair.frame);
    double expected = 0; // chance pairs within one pixel
    int trials = 0;
    for (const Star& s : pair.reference) {
        const Point p = to_frame.map({s.x, s.y});
        if (!inside.holds(p.x, p.y)) continue;
        expected += kPi * density.at(p.x, p.y);
        ++trials;
    }
    std::vector<double> distance;
    distance.reserve(matches.size());
    for (const StarMatch& m : matches) {
        const Star &s = pair.of_reference(m), &t = pair.of_frame(m);
        const Point p = to_frame.map({s.x, s.y});
        distance.push_back(std::hypot(p.x - t.x, p.y - t.y));
    }
    std::sort(distance.begin(), distance.end());
    constexpr double kNearest = 0.25; // pixels: how well positions can be trusted to tell
    double best = 0;
    for (std::size_t i = 0; i < distance.size(); ++i) {
        const double r = std::max(kNearest, distance[i]);
        const double count = static_cast<double>(i + 1) - 0.5 * free;
        best = std::min(best, log_poisson_tail(count, std::min(expected * r * r, static_cast<double>(trials))));
    }
    return best + std::log(static_cast<double>(std::max<std::size_t>(1, matches.size()))); // radii were tried, too
}

double log_chance_of_brightness(const StarPair& pair, const std::vector<StarMatch>& matches) {
    if (matches.size() < 3) return 0;
    const auto variance = [](const std::vector<double>& v) {
        double sum = 0, squares = 0;
        for (const double x : v)
            sum += x, squares += x * x;
        const double n = static_cast<double>(v.size());
        return std::max(0.0, (squares - sum * sum / n) / (n - 1));
    };
    const auto logs = [](const std::vector<Star>& stars) {
        std::vector<double> v;
        for (const Star& s : stars)
            if (s.flux > 0) v.push_back(std::log(s.flux));
        return v;
    };
    const std::vector<double> mine = logs(pair.reference), theirs = logs(pair.frame);
    std::vector<double> ratios;
    for (const StarMatch& m : matches)
        if (pair.of_reference(m).flux > 0 && pair.of_frame(m).flux > 0)
            ratios.push_back(std::log(pair.of_frame(m).flux / pair.of_reference(m).flux));
    if (mine.size() < 3 || theirs.size() < 3 || ratios.size() < 3) return 0;
    const double by_chance = variance(mine) + variance(theirs);
    if (!(by_chance > 0)) return 0;
    // Normal logarithms: the sum of squares is chi-squared. Its lower tail below half its mean, by the leading term.
    constexpr double kLeastScatter = 0.02; // no two exposures agree better
    const double k = 0.5 * (static_cast<double>(ratios.size()) - 1);
    const double x = k * std::max(variance(ratios), kLeastScatter * kLeastScatter) / by_chance;
    if (x >= 0.5 * k) return 0;
    return std::min(0.0, k * std::log(x) - x - log_gamma(k + 1) - std::log(1 - x / (k + 1)));
}

} // namespace kasane
