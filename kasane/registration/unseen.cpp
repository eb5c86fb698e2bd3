#include <kasane/registration/unseen.hpp>

#include <kasane/image/statistics.hpp>

#include <algorithm>
#include <cmath>
#include <map>

namespace kasane {

namespace {

/// `fold`: which stars are held out; none if it is negative.
HeldOut parted(Adjustment problem, int fold) {
    std::vector<int> seen(problem.stars.size(), 0);
    for (const Sighting& s : problem.sightings)
        ++seen[static_cast<std::size_t>(s.star)];
    HeldOut out;
    std::vector<Sighting> all;
    all.swap(problem.sightings);
    std::map<int, std::size_t> held;
    for (const Sighting& s : all) {
        if (seen[static_cast<std::size_t>(s.star)] < 2) continue;
        if (s.star % kFolds != fold) {
            problem.sightings.push_back(s);
            continue;
        }
        const auto [it, fresh] = held.emplace(s.star, out.held.size());
        if (fresh) {
            out.held.emplace_back();
            out.held_at.push_back(problem.stars[static_cast<std::size_t>(s.star)]);
        }
        out.held[it->second].push_back(s);
    }
    out.adjustment = std::move(problem);
    return out;
}

} // namespace

HeldOut hold_out(Adjustment problem, int fold) {
    return parted(std::move(problem), fold);
}

HeldOut hold_nothing_out(Adjustment problem) {
    return parted(std::move(problem), -1);
}

Unseen judge(const HeldOut& posed) {
    Unseen out;
    constexpr double kWrong = 25;
    std::vector<float> pixels, expected;
    for (std::size_t i = 0; i < posed.held.size(); ++i) {
        const std::vector<Sighting>& sightings = posed.held[i];
        const Eigen::Vector2d at = intersect(posed.adjustment, sightings, posed.held_at[i]);
        double sum = 0;
        const double free = static_cast<double>(sightings.size()) - 1;
        for (const Sighting& s : sightings) {
            const Point p = posed.adjustment.predict(s.frame, at);
            const double d2 = (s.at.x - p.x) * (s.at.x - p.x) + (s.at.y - p.y) * (s.at.y - p.y);
            sum += std::min(kWrong, d2 / (2 * s.variance));
            const double share = free / (free + 1);
            pixels.push_back(static_cast<float>(d2 / share));
            expected.push_back(static_cast<float>(2 * s.variance));
        }
        out.stars.push_back(sum / free);
    }
    if (out.stars.empty()) return out;
    constexpr double kMean = 1 / 1.386 * 2; // of squared lengths over their median
    out.pixels = std::sqrt(kMean * static_cast<double>(median_in_place(pixels)));
    out.expected = std::sqrt(static_cast<double>(median_in_place(expected)));
    return out;
}

} // namespace kasane
