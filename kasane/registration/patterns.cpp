#include <kasane/registration/patterns.hpp>

#include <kasane/base/units.hpp>

#include <array>
#include <optional>

namespace kasane {

namespace {

constexpr double kLeastScale = 0.2, kMostScale = 5;

/// Three stars, ordered by the length of the side opposite, longest first; r1, r2 are the other sides over the longest.
struct Triangle {
    std::array<int, 3> star;
    double r1, r2, longest;
};

std::optional<Triangle> triangle(const std::vector<Star>& stars, const std::array<int, 3>& t) {
    std::array<std::pair<double, int>, 3> sides; // length of the side opposite each star
    for (std::size_t k = 0; k < 3; ++k) {
        const Star &p = stars[static_cast<std::size_t>(t[(k + 1) % 3])],
                   &q = stars[static_cast<std::size_t>(t[(k + 2) % 3])];
        sides[k] = {std::hypot(p.x - q.x, p.y - q.y), t[k]};
    }
    std::sort(sides.begin(), sides.end(), std::greater<>{});
    const double longest = sides[0].first;
    if (longest < 8) return std::nullopt;
    const double r1 = sides[1].first / longest, r2 = sides[2].first / longest;
    if (r2 < 0.12 || r1 > 0.995 || r1 - r2 < 0.01) return std::nullopt; // needles and near-isosceles: order uncertain
    return Triangle{{sides[0].second, sides[1].second, sides[2].second}, r1, r2, longest};
}

std::vector<Triangle> triangles(const std::vector<Star>& stars, std::size_t count, int neighbours) {
    const StarIndex index(stars, count);
    std::vector<std::array<int, 3>> corners;
    for (std::size_t s = 0; s < count; ++s) {
        const std::vector<int> near = index.nearest_many(stars[s].x, stars[s].y, neighbours + 1);
        for (std::size_t i = 0; i < near.size(); ++i)
            for (std::size_t j = i + 1; j < near.size(); ++j) {
                std::array<int, 3> t = {static_cast<int>(s), near[i], near[j]};
                std::sort(t.begin(), t.end());
                if (t[0] != t[1] && t[1] != t[2]) corners.push_back(t);
            }
    }
    std::sort(corners.begin(), corners.end());
    corners.erase(std::unique(corners.begin(), corners.end()), corners.end());
    std::vector<Triangle> out;
    for (const auto& t : corners)
        if (const auto good = triangle(stars, t)) out.push_back(*good);
    return out;
}

/// The similarity that brings two points onto two others.
Affine through_two(const Star& p, const Star& q, const Star& u, const Star& v, bool mirrored) {
    const double m = mirrored ? -1 : 1, x = q.x - p.x, y = m * (q.y - p.y), d = x * x + y * y;
    const double c = ((v.x - u.x) * x + (v.y - u.y) * y) / d, s = ((v.y - u.y) * x - (v.x - u.x) * y) / d;
    return {c, -m * s, u.x - c * p.x + m * s * p.y, s, m * c, u.y - s * p.x - m * c * p.y};
}

/// The similarity of like triangles by least squares; nothing where their corners run round the other way about, or one
/// is no triangle.
std::optional<Affine> through_three(const StarPair& pair, const Triangle& a, const Triangle& b) {
    double mx = 0, my = 0, mu = 0, mv = 0;
    for (std::size_t k = 0; k < 3; ++k) {
        const Star& p = pair.of_reference({a.star[k], 0});
        const Star& q = pair.of_frame({0, b.star[k]});
        mx += p.x / 3, my += p.y / 3, mu += q.x / 3, mv += q.y / 3;
    }
    double xx = 0, straight_c = 0, straight_s = 0, mirror_c = 0, mirror_s = 0;
    for (std::size_t k = 0; k < 3; ++k) {
        const Star& p = pair.of_reference({a.star[k], 0});
        const Star& q = pair.of_frame({0, b.star[k]});
        const double x = p.x - mx, y = p.y - my, u = q.x - mu, v = q.y - mv;
        xx += x * x + y * y;
        straight_c += x * u + y * v, straight_s += x * v - y * u;
        mirror_c += x * u - y * v, mirror_s += x * v + y * u;
    }
    const bool mirrored = std::hypot(mirror_c, mirror_s) > std::hypot(straight_c, straight_s);
    const double c = (mirrored ? mirror_c : straight_c) / xx, s = (mirrored ? mirror_s : straight_s) / xx;
    const double m = mirrored ? -1 : 1;
    Affine t{c, -m * s, 0, s, m * c, 0};
    t.c = mu - t.a * mx - t.b * my;
    t.f = mv - t.d * mx - t.e * my;
    const double scale = std::hypot(c, s);
    return scale > kLeastScale && scale < kMostScale ? std::optional(t) : std::nullopt;
}

/// Whether a star is near a place: a table of cells about as wide as stars are apart, several times as quick as a tree
/// for the one question that is asked a million times.
class NearTable {
public:
    NearTable(const std::vector<Star>& stars, std::size_t count) : extent_(stars) {
        count = std::min(count, stars.size());
        cell_ = std::max(1.0, std::sqrt(extent_.area() / static_cast<double>(std::max<std::size_t>(1, count))));
        constexpr double kMostCells = 1000; // along a side
        cell_ = std::max({cell_, (extent_.x1 - extent_.x0) / kMostCells, (extent_.y1 - extent_.y0) / kMostCells});
        columns_ = static_cast<int>((extent_.x1 - extent_.x0) / cell_) + 1;
        rows_ = static_cast<int>((extent_.y1 - extent_.y0) / cell_) + 1;
        begin_.assign(static_cast<std::size_t>(columns_) * static_cast<std::size_t>(rows_) + 1, 0);
        for (std::size_t i = 0; i < count; ++i)
            ++begin_[cell_of(stars[i]) + 1];
        for (std::size_t k = 1; k < begin_.size(); ++k)
            begin_[k] += begin_[k - 1];
        points_.resize(count);
        std::vector<int> at(begin_.begin(), begin_.end() - 1);
        for (std::size_t i = 0; i < count; ++i)
            points_[static_cast<std::size_t>(at[cell_of(stars[i])]++)] = {stars[i].x, stars[i].y};
    }

    bool near(double x, double y, double r) const {
        const int x0 = column(x - r), x1 = column(x + r), y0 = row(y - r), y1 = row(y + r);
        for (int j = y0; j <= y1; ++j) {
            const std::size_t line = static_cast<std::size_t>(j) * static_cast<std::size_t>(columns_);
            const int end = begin_[line + static_cast<std::size_t>(x1) + 1];
            for (int k = begin_[line + static_cast<std::size_t>(x0)]; k < end; ++k) {
                const auto& [px, py] = points_[static_cast<std::size_t>(k)];
                if ((px - x) * (px - x) + (py - y) * (py - y) <= r * r) return true;
            }
        }
        return false;
    }

private:
    int column(double x) const { return std::clamp(static_cast<int>((x - extent_.x0) / cell_), 0, columns_ - 1); }
    int row(double y) const { return std::clamp(static_cast<int>((y - extent_.y0) / cell_), 0, rows_ - 1); }
    std::size_t cell_of(const Star& s) const {
        return static_cast<std::size_t>(row(s.y)) * static_cast<std::size_t>(columns_) +
               static_cast<std::size_t>(column(s.x));
    }
    StarExtent extent_;
    double cell_ = 1;
    int columns_ = 1, rows_ = 1;
    std::vector<int> begin_; ///< of each cell's points, and the end
    std::vector<std::pair<double, double>> points_;
};

/// Tests proposals on the stars around them and keeps the best that differ.
class Trial {
public:
    Trial(const StarPair& pair, const StarDensity& density, const PatternOptions& o)
        : pair_(pair), density_(density), o_(o), stars_(std::min<std::size_t>(pair.reference.size(), count(o))),
          // The frame's counterpart of a bright star is bright, within a factor.
          tested_(pair.frame, 2 * count(o)), near_(pair.frame, 2 * count(o)), own_(pair.reference, stars_),
          half_(StarExtent(pair.reference).half_diagonal()) {
        around_.resize(stars_);
    }

    /// A proposal that rests on stars `at` of the reference and `there` of the frame, known `baseline` pixels wide in
    /// the reference; true if it is plainly right.
    bool operator()(const Affine& t, int at, int there, double baseline, int fixed) {
        const std::vector<int>& near = around(at);
        const double scale = t.scale();
        double area = 0; // in which stars are looked for
        int agree = 0, seen = 0;
        for (const int i : near) {
            const Star& s = pair_.reference[static_cast<std::size_t>(i)];
            double x = 0, y = 0;
            t.apply(s.x, s.y, x, y);
            if (!extent().holds(x, y)) continue;
            const Star& c = pair_.reference[static_cast<std::size_t>(at)];
            // A similarity of noisy stars errs more, the farther away from them.
            const double lever = std::hypot(s.x - c.x, s.y - c.y) / baseline, r = o_.radius * std::max(1.0, lever);
            ++seen;
            area += kPi * r * r;
            agree += near_.near(x, y, r);
            constexpr int kEnoughToTell = 10;
            if (seen == kEnoughToTell && agree <= fixed) return false;
        }
        if (agree < fixed + 1) return false;
        const Star& f = pair_.frame[static_cast<std::size_t>(there)];
        const double expected = std::min<double>(seen, density_.at(f.x, f.y) * share() * area);
        const double luck = log_poisson_tail(agree - fixed, expected);
        constexpr double kLeastLuck = -2;
        if (luck > kLeastLuck) return false;
        const bool full = found_.best.size() >= o_.most;
        if (full && luck >= found_.best.back().luck) return false;
        for (Seed& known : found_.best)
            if (alike(known.to_frame, t, scale)) {
                if (luck < known.luck) {
                    known.luck = luck, known.to_frame = t, known.matches = {{at, there}};
                    sort();
                }
                return found_.best.front().luck < kPlain;
            }
        if (full) found_.best.pop_back();
        found_.best.push_back({t, {{at, there}}, luck});
        sort();
        return found_.best.front().luck < kPlain;
    }

    /// The seeds, each with the stars around it that agree.
    Seeds finish(double tried) {
        for (Seed& seed : found_.best) {
            const StarMatch first = seed.matches.front();
            seed.matches.clear();
            std::vector<int> taken;
            for (const int i : around(first.reference)) {
                const Star& s = pair_.reference[static_cast<std::size_t>(i)];
                double x = 0, y = 0;
                seed.to_frame.apply(s.x, s.y, x, y);
                const int j = tested_.nearest(x, y, o_.radius);
                if (j < 0 || std::find(taken.begin(), taken.end(), j) != taken.end()) continue;
                taken.push_back(j);
                seed.matches.push_back({i, j});
            }
        }
        found_.tried = std::max(1.0, tried);
        return std::move(found_);
    }

private:
    static constexpr double kPlain = -30;
    static std::size_t count(const PatternOptions& o) { return static_cast<std::size_t>(o.stars); }

    void sort() {
        std::stable_sort(found_.best.begin(), found_.best.end(),
                         [](const Seed& a, const Seed& b) { return a.luck < b.luck; });
    }

    /// Whether two proposals are the same, but for the error of their stars.
    bool alike(const Affine& a, const Affine& b, double scale) const {
        constexpr double kTurn = 0.03; // of the linear part
        if (std::abs(a.a - b.a) > kTurn * scale || std::abs(a.b - b.b) > kTurn * scale ||
            std::abs(a.d - b.d) > kTurn * scale || std::abs(a.e - b.e) > kTurn * scale)
            return false;
        double ax = 0, ay = 0, bx = 0, by = 0;
        const Star& c = pair_.reference.front();
        a.apply(c.x, c.y, ax, ay);
        b.apply(c.x, c.y, bx, by);
        return std::hypot(ax - bx, ay - by) < std::max(3 * o_.radius, kTurn * scale * half_);
    }

    const std::vector<int>& around(int at) {
        std::vector<int>& near = around_[static_cast<std::size_t>(at)];
        if (near.empty()) {
            constexpr int kAround = 24;
            const Star& s = pair_.reference[static_cast<std::size_t>(at)];
            near = own_.nearest_many(s.x, s.y, kAround);
        }
        return near;
    }
    const StarExtent& extent() {
        if (!extent_) extent_.emplace(pair_.frame);
        return *extent_;
    }
    double share() const {
        return std::min(1.0, 2 * static_cast<double>(o_.stars) / static_cast<double>(pair_.frame.size()));
    }

    const StarPair& pair_;
    const StarDensity& density_;
    const PatternOptions& o_;
    std::size_t stars_;
    StarIndex tested_;
    NearTable near_; ///< of the same stars
    StarIndex own_;
    double half_;
    std::vector<std::vector<int>> around_;
    std::optional<StarExtent> extent_;
    Seeds found_;
};

} // namespace

Seeds seeds_of_triangles(const StarPair& pair, const StarDensity& density, const PatternOptions& o) {
    const auto most = [&](const std::vector<Star>& stars) {
        return std::min<std::size_t>(stars.size(), static_cast<std::size_t>(o.stars));
    };
    const std::vector<Triangle> mine = triangles(pair.reference, most(pair.reference), o.neighbours);
    std::vector<Triangle> theirs = triangles(pair.frame, most(pair.frame), o.neighbours);
    std::sort(theirs.begin(), theirs.end(), [](const Triangle& a, const Triangle& b) { return a.r1 < b.r1; });
    struct Proposal {
        double unlikeness;
        const Triangle *a, *b;
    };
    std::vector<Proposal> proposals;
    for (const Triangle& a : mine) {
        auto b = std::lower_bound(theirs.begin(), theirs.end(), a.r1 - o.ratio_tolerance,
                                  [](const Triangle& t, double r) { return t.r1 < r; });
        for (; b != theirs.end() && b->r1 <= a.r1 + o.ratio_tolerance; ++b) {
            const double d = std::hypot(a.r1 - b->r1, a.r2 - b->r2);
            if (d < o.ratio_tolerance) proposals.push_back({d, &a, &*b});
        }
    }
    std::stable_sort(proposals.begin(), proposals.end(),
                     [](const Proposal& p, const Proposal& q) { return p.unlikeness < q.unlikeness; });
    constexpr std::size_t kMostProposals = 20000;
    if (proposals.size() > kMostProposals) proposals.resize(kMostProposals);
    Trial trial(pair, density, o);
    for (const Proposal& p : proposals) {
        const auto t = through_three(pair, *p.a, *p.b);
        if (t && trial(*t, p.a->star[0], p.b->star[0], p.a->longest, 3)) break;
    }
    return trial.finish(static_cast<double>(proposals.size()));
}

Seeds seeds_of_pairs(const StarPair& pair, const StarDensity& density, const PatternOptions& o, bool rigid) {
    const auto n = std::min<int>(o.stars, static_cast<int>(pair.reference.size())),
               m = std::min<int>(o.stars, static_cast<int>(pair.frame.size()));
    Trial trial(pair, density, o);
    double tried = 0;
    for (int i = 0; i < n; ++i)
        for (int j = i + 1; j < n; ++j)
            for (int k = 0; k < m; ++k)
                for (int l = 0; l < m; ++l) {
                    if (k == l) continue;
                    const Star &p = pair.of_reference({i, 0}), &q = pair.of_reference({j, 0}),
                               &u = pair.of_frame({0, k}), &v = pair.of_frame({0, l});
                    const double here = std::hypot(p.x - q.x, p.y - q.y), there = std::hypot(u.x - v.x, u.y - v.y);
                    if (here < 8 || there < 8) continue;
                    const double scale = there / here;
                    constexpr double kAlike = 0.004; // what focus and refraction may do to the scale of one rig
                    const double error = 3 * std::sqrt(position_variance(p) + position_variance(q) +
                                                       position_variance(u) + position_variance(v));
                    if (rigid ? std::abs(there - here) > kAlike * here + error
                              : scale < kLeastScale || scale > kMostScale)
                        continue;
                    for (const bool mirrored : {false, true}) {
                        if (rigid && mirrored) continue;
                        ++tried;
                        if (trial(through_two(p, q, u, v, mirrored), i, k, here, 2)) return trial.finish(tried);
                    }
                }
    return trial.finish(tried);
}

Seeds seeds_of_shifts(const StarPair& pair, const StarDensity& density, const PatternOptions& o,
                      const std::vector<Affine>& linear) {
    const auto n = std::min<int>(o.stars, static_cast<int>(pair.reference.size())),
               m = std::min<int>(o.stars, static_cast<int>(pair.frame.size()));
    Trial trial(pair, density, o);
    double tried = 0;
    for (const Affine& l : linear)
        for (int i = 0; i < n; ++i)
            for (int j = 0; j < m; ++j) {
                const Star &s = pair.of_reference({i, 0}), &q = pair.of_frame({0, j});
                Affine t = l;
                t.c = q.x - l.a * s.x - l.b * s.y;
                t.f = q.y - l.d * s.x - l.e * s.y;
                ++tried;
                constexpr double kFarthest = 1e9; // pixels: a known turn does not err more, the farther away
                if (trial(t, i, j, kFarthest, 1)) return trial.finish(tried);
            }
    return trial.finish(tried);
}

} // namespace kasane
