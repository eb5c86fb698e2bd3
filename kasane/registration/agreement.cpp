#include <kasane/registration/agreement.hpp>

#include <algorithm>
#include <cmath>

namespace kasane {

std::vector<StarMatch> match_stars(const StarPair& pair, const Transform& t, double radius) {
    std::vector<int> taken(pair.frame.size(), -1);
    std::vector<double> distance(pair.frame.size(), 0);
    for (std::size_t i = 0; i < pair.reference.size(); ++i) {
        const Point p = t.map({pair.reference[i].x, pair.reference[i].y});
        if (!std::isfinite(p.x)) continue;
        const int j = pair.index.nearest(p.x, p.y, radius);
        if (j < 0) continue;
        const auto at = static_cast<std::size_t>(j);
        const double d = std::hypot(pair.frame[at].x - p.x, pair.frame[at].y - p.y);
        if (taken[at] >= 0 && distance[at] <= d) continue;
        taken[at] = static_cast<int>(i);
        distance[at] = d;
    }
    std::vector<StarMatch> out;
    for (std::size_t j = 0; j < pair.frame.size(); ++j)
        if (taken[j] >= 0) out.push_back({taken[j], static_cast<int>(j)});
    return out;
}

CommonStars::CommonStars(const StarPair& pair, const Transform& t, const std::vector<StarMatch>& matches) {
    const StarExtent in_frame(pair.frame), in_reference(pair.reference);
    std::vector<Point> mine, theirs;
    for (const Star& s : pair.reference)
        if (const Point p = t.map({s.x, s.y}); in_frame.holds(p.x, p.y)) mine.push_back({s.x, s.y});
    for (const Star& s : pair.frame)
        if (const Point p = t.unmap({s.x, s.y}); in_reference.holds(p.x, p.y)) theirs.push_back(p);
    reference = static_cast<int>(mine.size()), frame = static_cast<int>(theirs.size());
    Bounds b{1e30, 1e30, -1e30, -1e30};
    for (const Point& p : mine)
        b = {std::min(b.left, p.x), std::min(b.top, p.y), std::max(b.right, p.x), std::max(b.bottom, p.y)};
    const auto cell = [&](Point p) -> Cell& {
        const auto index = [](double v, double low, double high) {
            return std::clamp(static_cast<int>(kCells * (v - low) / std::max(1.0, high - low)), 0, kCells - 1);
        };
        return cells[static_cast<std::size_t>(index(p.y, b.top, b.bottom) * kCells + index(p.x, b.left, b.right))];
    };
    for (const Point& p : mine)
        ++cell(p).reference;
    for (const Point& p : theirs)
        ++cell(p).frame;
    for (const StarMatch& m : matches) {
        const Star& s = pair.of_reference(m);
        ++cell({s.x, s.y}).matched;
    }
}

int CommonStars::lost(double share) const {
    constexpr double kRest = 0.35, kSure = 3.5; // of the share; standard deviations
    int n = 0;
    for (const Cell& c : cells) {
        const double wanted = share * c.both();
        n += c.matched < kRest * wanted && wanted - c.matched > kSure * std::sqrt(wanted * (1 - 0.9 * share));
    }
    return n;
}

double order_of(const StarPair& pair, const std::vector<StarMatch>& matches, const Transform& t) {
    if (matches.size() < 2) return 0;
    std::vector<Star> stars;
    std::vector<Point> residual;
    for (const StarMatch& m : matches) {
        stars.push_back(pair.of_reference(m));
        const Point p = t.map({stars.back().x, stars.back().y});
        const Star& q = pair.of_frame(m);
        residual.push_back({q.x - p.x, q.y - p.y});
    }
    const StarIndex index(stars);
    double together = 0, alone = 0;
    for (std::size_t i = 0; i < stars.size(); ++i) {
        const std::vector<int> near = index.nearest_many(stars[i].x, stars[i].y, 2);
        const auto j = static_cast<std::size_t>(near[0] == static_cast<int>(i) ? near[1] : near[0]);
        together += residual[i].x * residual[j].x + residual[i].y * residual[j].y;
        alone += residual[i].x * residual[i].x + residual[i].y * residual[i].y;
    }
    return alone > 0 ? together / alone : 0;
}

} // namespace kasane
