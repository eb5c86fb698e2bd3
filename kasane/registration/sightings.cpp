#include <kasane/registration/sightings.hpp>

#include <kasane/registration/star_pair.hpp>

#include <algorithm>
#include <cmath>
#include <unordered_map>

namespace kasane {

void join_sightings(Adjustment& a, const std::vector<const std::vector<Star>*>& lists, std::size_t first, double cell) {
    std::unordered_map<std::uint64_t, std::vector<int>> table;
    const auto key = [](std::int64_t x, std::int64_t y) {
        return static_cast<std::uint64_t>(x) * 0x9E3779B97F4A7C15ull ^ static_cast<std::uint64_t>(y);
    };
    a.stars.clear();
    a.sightings.clear();
    std::vector<int> last; // frame that sighted each star last
    std::vector<Sighting> all;
    std::vector<int> seen;
    std::vector<std::size_t> order;
    for (std::size_t f = 0; f < a.frames.size(); ++f)
        order.push_back(f);
    std::stable_partition(order.begin(), order.end(), [&](std::size_t f) { return f == first; });
    for (const std::size_t f : order) {
        if (!lists[f]) continue;
        const auto& frame = a.frames[f];
        const Matrix3 back = frame.map.inverse();
        for (const Star& s : *lists[f]) {
            const Eigen::Vector2d ideal =
                undistorted(a.lenses[static_cast<std::size_t>(frame.glass)].numbers, frame.normal.in({s.x, s.y}));
            const Eigen::Vector2d at = mapping_slopes(back, Mapping::shift, ideal).at;
            if (!at.allFinite()) continue;
            const auto cx = static_cast<std::int64_t>(std::floor(at.x() / cell)),
                       cy = static_cast<std::int64_t>(std::floor(at.y() / cell));
            int nearest = -1;
            double least = cell * cell;
            for (std::int64_t y = cy - 1; y <= cy + 1; ++y)
                for (std::int64_t x = cx - 1; x <= cx + 1; ++x) {
                    const auto it = table.find(key(x, y));
                    if (it == table.end()) continue;
                    for (const int k : it->second) {
                        const double d2 = (a.stars[static_cast<std::size_t>(k)] - at).squaredNorm();
                        if (d2 < least && last[static_cast<std::size_t>(k)] != static_cast<int>(f))
                            least = d2, nearest = k;
                    }
                }
            if (nearest < 0) {
                nearest = static_cast<int>(a.stars.size());
                a.stars.push_back(at);
                last.push_back(-1);
                seen.push_back(0);
                table[key(cx, cy)].push_back(nearest);
            }
            const auto k = static_cast<std::size_t>(nearest);
            last[k] = static_cast<int>(f);
            ++seen[k];
            all.push_back({static_cast<int>(f), nearest, {s.x, s.y}, position_variance(s)});
        }
    }
    for (const Sighting& s : all)
        if (seen[static_cast<std::size_t>(s.star)] > 1) a.sightings.push_back(s);
}

std::vector<SightingAccount> account_of(const Adjustment& a) {
    std::vector<SightingAccount> out(a.frames.size());
    std::vector<double> squares(out.size(), 0), variances(out.size(), 0);
    for (const Sighting& s : a.sightings) {
        const Point p = a.predict(s.frame, a.stars[static_cast<std::size_t>(s.star)]);
        const double d2 = (s.at.x - p.x) * (s.at.x - p.x) + (s.at.y - p.y) * (s.at.y - p.y);
        constexpr double kWrong = 25; // squared errors; the weights have left such sightings out
        if (!(d2 <= kWrong * 2 * s.variance)) continue;
        const auto f = static_cast<std::size_t>(s.frame);
        squares[f] += d2, variances[f] += 2 * s.variance, ++out[f].stars;
    }
    for (std::size_t f = 0; f < out.size(); ++f)
        if (out[f].stars > 0) {
            out[f].rms = std::sqrt(squares[f] / out[f].stars);
            out[f].expected = std::sqrt(variances[f] / out[f].stars);
        }
    return out;
}

} // namespace kasane
