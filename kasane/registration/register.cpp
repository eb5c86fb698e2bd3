#include <kasane/registration/register.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/robust_fit.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/registration/star_index.hpp>

#include <Eigen/Dense>
#include <algorithm>
#include <array>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace kasane {

namespace {

/// Three stars, ordered by the length of the side opposite, longest first; r1, r2 are the other sides over the longest.
struct Triangle {
    std::array<int, 3> star;
    double r1, r2;
};

std::vector<Triangle> triangles(const std::vector<Star>& stars, int count, int neighbours) {
    const auto n = std::min<std::size_t>(stars.size(), static_cast<std::size_t>(count));
    const StarIndex index(stars, n);
    std::set<std::array<int, 3>> seen;
    std::vector<Triangle> out;
    for (std::size_t s = 0; s < n; ++s) {
        const std::vector<int> near = index.nearest_many(stars[s].x, stars[s].y, neighbours + 1);
        for (std::size_t i = 0; i < near.size(); ++i)
            for (std::size_t j = i + 1; j < near.size(); ++j) {
                std::array<int, 3> t = {static_cast<int>(s), near[i], near[j]};
                std::sort(t.begin(), t.end());
                if (t[0] == t[1] || t[1] == t[2] || !seen.insert(t).second) continue;
                std::array<std::pair<double, int>, 3> sides; // length of the side opposite each star
                for (std::size_t k = 0; k < 3; ++k) {
                    const Star &p = stars[static_cast<std::size_t>(t[(k + 1) % 3])],
                               &q = stars[static_cast<std::size_t>(t[(k + 2) % 3])];
                    sides[k] = {std::hypot(p.x - q.x, p.y - q.y), t[k]};
                }
                std::sort(sides.begin(), sides.end(), std::greater<>{});
                const double longest = sides[0].first;
                if (longest < 8) continue;
                const double r1 = sides[1].first / longest, r2 = sides[2].first / longest;
                if (r2 < 0.12 || r1 > 0.995 || r1 - r2 < 0.01) continue; // needles and near-isosceles: order uncertain
                out.push_back({{sides[0].second, sides[1].second, sides[2].second}, r1, r2});
            }
    }
    return out;
}

/// The affine map through three pairs of points; three points fix it exactly.
std::optional<Affine> through_three(const std::vector<Star>& from, const std::vector<Star>& to, const Triangle& a,
                                    const Triangle& b) {
    Eigen::Matrix3d m;
    Eigen::Vector3d x, y;
    for (int k = 0; k < 3; ++k) {
        const Star &p = from[static_cast<std::size_t>(a.star[static_cast<std::size_t>(k)])],
                   &q = to[static_cast<std::size_t>(b.star[static_cast<std::size_t>(k)])];
        m.row(k) << p.x, p.y, 1;
        x[k] = q.x;
        y[k] = q.y;
    }
    if (std::abs(m.determinant()) < 1e-6) return std::nullopt;
    const auto lu = m.partialPivLu();
    const Eigen::Vector3d u = lu.solve(x), v = lu.solve(y);
    const Affine t{u[0], u[1], u[2], v[0], v[1], v[2]};
    // Like triangles give nearly a similarity; anything sheared is chance.
    const double s = t.scale();
    const double shear = std::abs(t.a * t.b + t.d * t.e) / (s * s),
                 squash = std::abs(std::hypot(t.a, t.d) / std::hypot(t.b, t.e) - 1);
    if (!(s > 0.2 && s < 5) || shear > 0.06 || squash > 0.06) return std::nullopt;
    return t;
}

struct Match {
    int reference, frame;
};

/// The stars of both frames.
struct StarPair {
    const std::vector<Star>& reference;
    const std::vector<Star>& frame;
    const StarIndex& index; ///< of `frame`
};

/// Pairs of stars that agree within `radius` under a transform, each frame star used once (by the nearest).
std::vector<Match> match_stars(const StarPair& pair, const Affine& t, double radius,
                               std::size_t most = static_cast<std::size_t>(-1)) {
    const auto& [reference, frame, frame_index] = pair;
    std::vector<int> taken(frame.size(), -1);
    std::vector<double> distance(frame.size(), 0);
    for (std::size_t i = 0; i < std::min(most, reference.size()); ++i) {
        double x = 0, y = 0;
        t.apply(reference[i].x, reference[i].y, x, y);
        const int j = frame_index.nearest(x, y, radius);
        if (j < 0) continue;
        const auto at = static_cast<std::size_t>(j);
        const double d = std::hypot(frame[at].x - x, frame[at].y - y);
        if (taken[at] >= 0 && distance[at] <= d) continue;
        taken[at] = static_cast<int>(i);
        distance[at] = d;
    }
    std::vector<Match> out;
    for (std::size_t j = 0; j < frame.size(); ++j)
        if (taken[j] >= 0) out.push_back({taken[j], static_cast<int>(j)});
    return out;
}

/// What a fit may be: a similarity where stars are few, with its handedness.
enum class Model {
    affine,
    similarity,
    mirrored_similarity,
};

/// By weighted least squares.
Affine fit_affine(const StarPair& pair, const std::vector<Match>& matches, const std::vector<double>& weight,
                  Model model) {
    const auto& [reference, frame, index] = pair;
    const bool similarity = model != Model::affine, mirrored = model == Model::mirrored_similarity;
    double sum = 0, mx = 0, my = 0, mu = 0, mv = 0;
    for (std::size_t i = 0; i < matches.size(); ++i) {
        const Star &p = reference[static_cast<std::size_t>(matches[i].reference)],
                   &q = frame[static_cast<std::size_t>(matches[i].frame)];
        sum += weight[i];
        mx += weight[i] * p.x;
        my += weight[i] * p.y;
        mu += weight[i] * q.x;
        mv += weight[i] * q.y;
    }
    mx /= sum, my /= sum, mu /= sum, mv /= sum;
    double xx = 0, xy = 0, yy = 0, xu = 0, yu = 0, xv = 0, yv = 0;
    for (std::size_t i = 0; i < matches.size(); ++i) {
        const Star &p = reference[static_cast<std::size_t>(matches[i].reference)],
                   &q = frame[static_cast<std::size_t>(matches[i].frame)];
        const double w = weight[i], x = p.x - mx, y = p.y - my, u = q.x - mu, v = q.y - mv;
        xx += w * x * x, xy += w * x * y, yy += w * y * y;
        xu += w * x * u, yu += w * y * u, xv += w * x * v, yv += w * y * v;
    }
    Affine t;
    if (similarity) {
        const double m = mirrored ? -1 : 1;
        const double c = (xu + m * yv) / (xx + yy), s = (xv - m * yu) / (xx + yy);
        t = {c, -m * s, 0, s, m * c, 0};
    } else {
        const double det = xx * yy - xy * xy;
        t = {(xu * yy - yu * xy) / det, (yu * xx - xu * xy) / det, 0,
             (xv * yy - yv * xy) / det, (yv * xx - xv * xy) / det, 0};
    }
    t.c = mu - t.a * mx - t.b * my;
    t.f = mv - t.d * mx - t.e * my;
    return t;
}

constexpr int kLeastForAffine = 10; // fewer stars do not carry six numbers safely

/// Refines a proposal on all stars: matching radius and weights tighten from round to round.
std::optional<Registration> refine(const StarPair& pair, Affine t, double radius) {
    const auto& [reference, frame, index] = pair;
    std::vector<Match> matches;
    double spread = radius;
    for (int round = 0; round < 12; ++round) {
        matches = match_stars(pair, t, std::clamp(4 * spread, 0.6, radius));
        if (matches.size() < 4) return std::nullopt;
        std::vector<double> residual(matches.size()), weight(matches.size());
        std::vector<float> sorted;
        for (std::size_t i = 0; i < matches.size(); ++i) {
            const Star &p = reference[static_cast<std::size_t>(matches[i].reference)],
                       &q = frame[static_cast<std::size_t>(matches[i].frame)];
            double x = 0, y = 0;
            t.apply(p.x, p.y, x, y);
            residual[i] = std::hypot(q.x - x, q.y - y);
            sorted.push_back(static_cast<float>(residual[i]));
        }
        spread = std::max(0.02, 1.2 * static_cast<double>(median_in_place(sorted)));
        for (std::size_t i = 0; i < matches.size(); ++i) {
            const Star &p = reference[static_cast<std::size_t>(matches[i].reference)],
                       &q = frame[static_cast<std::size_t>(matches[i].frame)];
            constexpr double kFloor = 0.02; // pixels: below this, other errors rule
            const double variance =
                p.position_sigma * p.position_sigma + q.position_sigma * q.position_sigma + kFloor * kFloor;
            const double r = residual[i] / (kBisquareTuning * std::max(spread, std::sqrt(variance)));
            weight[i] = r < 1 ? bisquare_weight(r, 0) / variance : 1e-9;
        }
        const bool few = static_cast<int>(matches.size()) < kLeastForAffine;
        t = fit_affine(pair, matches, weight,
                       !few          ? Model::affine
                       : t.mirrors() ? Model::mirrored_similarity
                                     : Model::similarity);
    }
    Registration result{t, static_cast<int>(matches.size()), 0, 0};
    double squares = 0;
    for (const Match& m : matches) {
        const Star &p = reference[static_cast<std::size_t>(m.reference)], &q = frame[static_cast<std::size_t>(m.frame)];
        double x = 0, y = 0;
        t.apply(p.x, p.y, x, y);
        squares += (q.x - x) * (q.x - x) + (q.y - y) * (q.y - y);
    }
    result.rms = std::sqrt(squares / static_cast<double>(matches.size()));
    return result;
}

struct Extent {
    double x0 = 1e30, y0 = 1e30, x1 = -1e30, y1 = -1e30;
    explicit Extent(const std::vector<Star>& stars) {
        for (const Star& s : stars) {
            x0 = std::min(x0, s.x), y0 = std::min(y0, s.y);
            x1 = std::max(x1, s.x), y1 = std::max(y1, s.y);
        }
    }
    bool holds(double x, double y) const { return x >= x0 && x <= x1 && y >= y0 && y <= y1; }
    double area() const { return std::max(1.0, (x1 - x0) * (y1 - y0)); }
};

/// How many of the reference's stars should be seen in the frame: those that fall into it, but not more than it has
/// there.
int common_stars(const std::vector<Star>& reference, const std::vector<Star>& frame, const Affine& t) {
    const Extent in_frame(frame), in_reference(reference);
    const Affine back = t.inverse();
    int a = 0, b = 0;
    for (const Star& s : reference) {
        double x = 0, y = 0;
        t.apply(s.x, s.y, x, y);
        a += in_frame.holds(x, y);
    }
    for (const Star& s : frame) {
        double x = 0, y = 0;
        back.apply(s.x, s.y, x, y);
        b += in_reference.holds(x, y);
    }
    return std::min(a, b);
}

constexpr double kMostLuck = -9; // e^-9: one false solution in ten thousand that should not be there

/// Logarithm of the probability of `count` or more where `mean` are expected (Poisson; first terms of the tail).
double log_poisson_tail(int count, double mean) {
    if (count <= mean || count <= 0) return 0;
    if (mean <= 0) return -1e9;
    return -mean + count * std::log(mean) - std::lgamma(count + 1.0) - std::log(1 - mean / (count + 1));
}

/// True pairs lie close together; chance pairs fill the matching radius evenly, a ninth of them within a third of it.
bool crowds_at_zero(const StarPair& pair, const Affine& t, double radius) {
    const auto all = match_stars(pair, t, radius).size(), near = match_stars(pair, t, radius / 3).size();
    return static_cast<double>(near) > 0.5 * static_cast<double>(all);
}

/// Too few stars for patterns still tell a shift: between two frames of one camera it is all there is, but for the half
/// turn behind the meridian, and fewer stars than for any position, turn and scale rule chance out.
std::optional<Registration> register_by_shift(const StarPair& pair, double density, const RegistrationOptions& o) {
    const auto& [reference, frame, index] = pair;
    constexpr std::size_t kBrightest = 25;
    constexpr double kRadius = 2; // pixels: what turn and seeing may do to a shift
    constexpr double kLeastShare = 0.4;
    int most = 0;
    Affine best;
    std::size_t proposals = 0;
    for (const double turn : {1.0, -1.0})
        for (std::size_t i = 0; i < std::min(kBrightest, reference.size()); ++i)
            for (std::size_t j = 0; j < std::min(kBrightest, frame.size()); ++j, ++proposals) {
                const Affine t{turn, 0,    frame[j].x - turn * reference[i].x,
                               0,    turn, frame[j].y - turn * reference[i].y};
                const auto agree = static_cast<int>(match_stars(pair, t, kRadius).size());
                if (agree <= most) continue;
                most = agree;
                best = t;
            }
    if (most < o.least_for_shift) return std::nullopt;
    auto result = refine(pair, best, kRadius);
    if (!result || result->matched < o.least_for_shift) return std::nullopt;
    const int common = common_stars(reference, frame, result->to_frame.at({}));
    result->share = static_cast<double>(result->matched) / std::max(1, common);
    const double by_chance = common * (1 - std::exp(-density * kPi * kRadius * kRadius));
    const double luck = log_poisson_tail(most - 1, by_chance) + std::log(static_cast<double>(proposals));
    if (result->share < kLeastShare || luck > kMostLuck) return std::nullopt;
    return result;
}

} // namespace

std::string RegistrationOptions::check() const {
    if (pattern_stars < 3 || neighbours < 2)
        return fmt::format("patterns are made of three stars: {} stars with {} neighbours have none", pattern_stars,
                           neighbours);
    if (!(ratio_tolerance > 0) || !(match_radius > 0))
        return fmt::format("a tolerance ({:g}) and a radius ({:g}) are above 0", ratio_tolerance, match_radius);
    if (least_matches < 3 || least_for_shift < 1)
        return fmt::format("{} matches, {} for a shift, determine no transform", least_matches, least_for_shift);
    if (!(least_share >= 0 && least_share <= 1))
        return fmt::format("a share lies between 0 and 1, not at {:g}", least_share);
    return {};
}

Outcome register_stars(const std::vector<Star>& reference, const std::vector<Star>& frame,
                       const RegistrationOptions& o) {
    require_sense(o);
    if (reference.size() < static_cast<std::size_t>(o.least_for_shift) ||
        frame.size() < static_cast<std::size_t>(o.least_for_shift)) {
        return {{},
                Hindrance::too_few_stars,
                fmt::format("{} stars here and {} in the reference; at least {} are needed in both", frame.size(),
                            reference.size(), o.least_for_shift)};
    }
    const StarIndex index(frame);
    const StarPair pair{reference, frame, index};
    const double density = static_cast<double>(frame.size()) / Extent(frame).area();
    int best_seen = 0;
    for (int stars = o.pattern_stars; stars <= 4 * o.pattern_stars; stars *= 2) {
        const std::vector<Triangle> mine = triangles(reference, stars, o.neighbours);
        std::vector<Triangle> theirs = triangles(frame, stars, o.neighbours);
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
        constexpr std::size_t kMostProposals = 20000, kTested = 60;
        if (proposals.size() > kMostProposals) proposals.resize(kMostProposals);
        std::vector<std::pair<int, Affine>> good;
        for (const Proposal& p : proposals) {
            const auto t = through_three(reference, frame, *p.a, *p.b);
            if (!t) continue;
            const int agree = static_cast<int>(match_stars(pair, *t, o.match_radius, kTested).size());
            if (agree >= 4) good.emplace_back(agree, *t);
            if (agree > static_cast<int>(0.6 * std::min<double>(kTested, static_cast<double>(reference.size()))))
                break; // plainly it
        }
        std::stable_sort(good.begin(), good.end(), [](const auto& p, const auto& q) { return p.first > q.first; });
        for (std::size_t i = 0; i < std::min<std::size_t>(good.size(), 8); ++i) {
            auto result = refine(pair, good[i].second, o.match_radius);
            if (!result) continue;
            const int common = common_stars(reference, frame, result->to_frame.at({}));
            result->share = static_cast<double>(result->matched) / std::max(1, common);
            const double radius = std::clamp(3 * result->rms, 0.6, o.match_radius);
            const double by_chance = common * (1 - std::exp(-density * kPi * radius * radius));
            // Three pairs fit any three stars; the others must be too many for chance in all the proposals looked at.
            const double luck =
                log_poisson_tail(result->matched - 3, by_chance) + std::log(static_cast<double>(proposals.size()));
            best_seen = std::max(best_seen, result->matched);
            const bool enough = result->matched >= o.least_matches && result->share >= o.least_share;
            if (enough && luck < kMostLuck && crowds_at_zero(pair, result->to_frame.at({}), o.match_radius))
                return Outcome::of(*result);
        }
    }
    if (const auto result = register_by_shift(pair, density, o)) return Outcome::of(*result);
    return {{},
            Hindrance::no_agreement,
            fmt::format("no position, turn and scale brings its {} stars onto the reference's {} (best try: {} in "
                        "common; {} are needed)",
                        frame.size(), reference.size(), best_seen, o.least_matches)};
}

std::size_t choose_reference(const std::vector<const std::vector<Star>*>& stars, const std::vector<double>& fwhm) {
    std::size_t best = 0;
    double most = -1;
    for (std::size_t i = 0; i < stars.size(); ++i) {
        const double width = fwhm[i] > 0 ? fwhm[i] : 20;
        const double score = static_cast<double>(stars[i]->size()) / (width * width);
        if (score > most) {
            most = score;
            best = i;
        }
    }
    return best;
}

} // namespace kasane
