#include <kasane/registration/register.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/registration/agreement.hpp>
#include <kasane/registration/growth.hpp>
#include <kasane/registration/patterns.hpp>

#include <fmt/format.h>

namespace kasane {

namespace {

constexpr std::size_t kLeastStars = 3;

class Search {
public:
    Search(const StarPair& pair, const RegistrationOptions& o)
        : pair_(pair), o_(o), density_(pair.frame, pair.index), reference_(normal(o.reference, pair.reference)),
          frame_(normal(o.frame, pair.frame)) {}

    Outcome run() {
        const std::size_t fewer = std::min(pair_.reference.size(), pair_.frame.size());
        constexpr std::size_t kFew = 14; // fewer stars have few triangles
        if (fewer > kFew) {
            struct Round {
                double stars, tolerance;
            };
            constexpr double kWider = 4;
            constexpr Round kRounds[] = {{1, 1}, {2, 1}, {4, 1}, {1, kWider}, {8, 1}, {2.5, kWider}};
            std::size_t before = 0;
            for (const Round& r : kRounds) {
                if (!o_.thorough && &r != kRounds) return {{}, Hindrance::no_agreement, "nothing at once"};
                const double wanted = r.stars * o_.pattern_stars;
                // Where the lists are shorter, more has been tried already.
                const auto most = static_cast<std::size_t>(std::max(pair_.reference.size(), pair_.frame.size()));
                if (r.tolerance == 1 && before >= most) continue;
                if (r.tolerance == 1) before = static_cast<std::size_t>(wanted);
                PatternOptions p;
                p.stars = static_cast<int>(wanted);
                p.neighbours = o_.neighbours;
                p.ratio_tolerance = r.tolerance * o_.ratio_tolerance;
                p.radius = radius();
                pattern_stars_ = static_cast<std::size_t>(p.stars);
                if (auto found = follow(seeds_of_triangles(pair_, density_, p), Kind::any)) {
                    if (*found && &r != kRounds)
                        found->result->way =
                            fmt::format("by patterns of its {} brightest stars{}, where those of {:.0f} said nothing",
                                        std::min<std::size_t>(pattern_stars_, pair_.frame.size()),
                                        r.tolerance == 1 ? "" : " and wider tolerances", 1.0 * o_.pattern_stars);
                    return *found;
                }
            }
        }
        PatternOptions few;
        few.radius = radius();
        few.stars = 25;
        const std::vector<Affine> linear = {{}, {-1, 0, 0, 0, -1, 0}}; // as it was, or behind the meridian
        auto shifted = follow(seeds_of_shifts(pair_, density_, few, linear), Kind::shift);
        auto rigid = follow(seeds_of_pairs(pair_, density_, few, true), Kind::rigid);
        if (shifted && rigid) return (*rigid)->matched > (*shifted)->matched ? *rigid : *shifted;
        if (shifted) return *shifted;
        if (rigid) return *rigid;
        few.stars = 12;
        if (auto found = follow(seeds_of_pairs(pair_, density_, few, false), Kind::any)) return *found;
        if (part_) return *part_;
        return {{},
                Hindrance::no_agreement,
                fmt::format("no position, turn and scale brings its {} stars onto the reference's {} (best try: {} in "
                            "common, as many as chance may bring)",
                            pair_.frame.size(), pair_.reference.size(), best_seen_)};
    }

    /// The shift that most pairs agree on within reach of what is known, and what grows from there.
    Outcome refine(const Transform& about, double reach) {
        const Affine linear = about.at(reference_.centre);
        struct Pair {
            StarMatch match;
            double x, y;
        };
        std::vector<Pair> pairs;
        for (std::size_t i = 0; i < pair_.reference.size(); ++i) {
            const Point p = about.map({pair_.reference[i].x, pair_.reference[i].y});
            if (!std::isfinite(p.x)) continue;
            constexpr int kNearest = 8;
            for (const int k : pair_.index.nearest_many(p.x, p.y, kNearest)) {
                const Star& q = pair_.frame[static_cast<std::size_t>(k)];
                if (std::hypot(q.x - p.x, q.y - p.y) < reach)
                    pairs.push_back({{static_cast<int>(i), k}, q.x - p.x, q.y - p.y});
            }
        }
        tried_ = std::max<double>(1, static_cast<double>(pairs.size()));
        Seed best;
        constexpr std::size_t kMost = 2000; // pairs that shifts are tried of
        for (std::size_t i = 0; i < std::min(kMost, pairs.size()); ++i) {
            std::vector<StarMatch> with;
            for (const Pair& q : pairs)
                if (std::hypot(q.x - pairs[i].x, q.y - pairs[i].y) < radius()) with.push_back(q.match);
            if (with.size() <= best.matches.size()) continue;
            best.matches = with;
            best.to_frame = linear;
            best.to_frame.c += pairs[i].x, best.to_frame.f += pairs[i].y;
        }
        if (best.matches.size() >= kLeastStars)
            if (auto found = follow(best, Kind::rigid)) return *found;
        return {{}, Hindrance::no_agreement, "its stars do not say more"};
    }

private:
    static Normal normal(const StarGrid& grid, const std::vector<Star>& stars) {
        if (grid.width > 0 && grid.height > 0) return Normal::of(grid.width, grid.height);
        const StarExtent e(stars);
        return {{0.5 * (e.x0 + e.x1), 0.5 * (e.y0 + e.y1)}, std::max(1.0, e.half_diagonal())};
    }

    /// In which a star is looked for: what was asked for, or what the stars' own errors need.
    double radius() const {
        if (radius_ > 0) return radius_;
        constexpr double kSigmas = 3.5;
        const auto usual = [](const std::vector<Star>& stars) {
            std::vector<float> v;
            for (const Star& s : stars)
                v.push_back(static_cast<float>(s.position_sigma * s.position_sigma));
            return static_cast<double>(median_in_place(v));
        };
        const double noise = kSigmas * std::sqrt(usual(pair_.reference) + usual(pair_.frame));
        // Not so far that another star would be met as soon.
        const double room = 0.35 / std::sqrt(density_.overall());
        return radius_ = std::max(o_.match_radius, std::min(noise, room));
    }

    /// What is taken for known; the less is left open, the fewer stars do.
    enum class Kind { shift, rigid, any };

    /// The first seed that stands all tests.
    std::optional<Outcome> follow(const Seeds& seeds, Kind kind) {
        tried_ = seeds.tried + (kind == Kind::any ? tried_ : 0); // each kind has its share of the false alarms
        for (const Seed& seed : seeds.best) {
            auto found = follow(seed, kind);
            if (!found) continue;
            if (*found) return found;
            if (!part_) part_ = std::move(found);
        }
        return std::nullopt;
    }

    std::optional<Outcome> follow(const Seed& seed, Kind kind) {
        PairGrowthOptions g;
        g.radius = radius();
        std::vector<StarMatch> matches = grow_if_promising(seed, g);
        best_seen_ = std::max(best_seen_, static_cast<int>(matches.size()));
        if (matches.size() < kLeastStars) return std::nullopt;
        auto fit = fit_best(seed, matches, kind);
        if (!fit) return std::nullopt;
        return judge(*fit, matches, kind);
    }

    /// All pairs; none if among the brightest stars what grows is no more than chance brings.
    std::vector<StarMatch> grow_if_promising(const Seed& seed, const PairGrowthOptions& g) const {
        const std::size_t enough = std::max(kBrightest, 2 * pattern_stars_);
        if (std::max(pair_.reference.size(), pair_.frame.size()) <= enough) {
            std::vector<StarMatch> all = grow(pair_, seed.matches, g);
            return promising(pair_, density_, seed, all) ? all : std::vector<StarMatch>{};
        }
        const auto first = [enough](const std::vector<Star>& s) {
            return std::vector<Star>(s.begin(), s.begin() + static_cast<std::ptrdiff_t>(std::min(s.size(), enough)));
        };
        const std::vector<Star> reference = first(pair_.reference), frame = first(pair_.frame);
        const StarIndex index(frame);
        const StarPair bright{reference, frame, index};
        const std::vector<StarMatch> few = grow(bright, seed.matches, g);
        if (!promising(bright, StarDensity(frame, index), seed, few)) return {};
        std::vector<StarMatch> all = grow(pair_, few, g);
        return few.size() >= kForAffine || promising(pair_, density_, seed, all) ? all : std::vector<StarMatch>{};
    }

    /// Whether what has grown may be more than chance, with whatever lies between the frames.
    bool promising(const StarPair& pair, const StarDensity& density, const Seed& seed,
                   const std::vector<StarMatch>& grown) const {
        if (grown.size() < kLeastStars) return false;
        if (grown.size() < kForAffine) return true; // cheap to judge
        constexpr double kDoubt = -2;
        PairFit fit = start(seed.to_frame);
        for (const bool bent : {false, true}) {
            if (bent && grown.size() < kForProjective) break;
            fit.mapping = bent ? Mapping::projective : Mapping::affine;
            const bool lens = bent && !o_.reference.lens && !o_.frame.lens && grown.size() >= kForLens;
            fit.optics = lens ? Optics::radial : Optics::none;
            const auto found = fit_pair(pair, grown, fit);
            if (found &&
                log_chance(pair, density, found->transform(), grown, found->free()) + std::log(tried_) < kDoubt)
                return true;
        }
        return false;
    }

    PairFit start(const Affine& seed) const {
        PairFit f;
        f.reference = reference_, f.frame = frame_;
        f.reference_lens = numbers_of(o_.reference.lens.get(), reference_);
        f.frame_lens = numbers_of(o_.frame.lens.get(), frame_);
        f.map = normal_matrix({seed.a, seed.b, seed.c, seed.d, seed.e, seed.f, 0, 0, 1}, reference_, frame_);
        f.mapping = Mapping::similarity;
        return f;
    }

    static constexpr std::size_t kBrightest = 400; // stars that show whether a seed leads anywhere
    static constexpr std::size_t kForAffine = 10, kForProjective = 16, kForLens = 20, kForAxis = 40;

    /// As simple as the pairs allow; `matches` become those of all stars.
    std::optional<PairFit> fit_best(const Seed& seed, std::vector<StarMatch>& matches, Kind kind) const {
        PairFit first = start(seed.to_frame);
        if (o_.model) first.optics = enough(*o_.model, matches.size()).optics;
        if (o_.model)
            first.mapping = enough(*o_.model, matches.size()).mapping;
        else if (matches.size() >= kForAffine)
            first.mapping = Mapping::affine;
        else if (matches.size() <= kLeastStars && kind == Kind::shift)
            first.mapping = Mapping::shift;
        auto fit = fit_pair(pair_, matches, first);
        if (fit && fit->mapping == Mapping::shift && !o_.model) { // turned after all
            constexpr double kTwice = 4;                          // what is expected
            first.mapping = Mapping::similarity;
            if (loss(*fit, matches, matches.size()) > kTwice * static_cast<double>(matches.size()))
                fit = fit_pair(pair_, matches, first);
        }
        if (!fit) return std::nullopt;
        if (o_.model) return settle(*fit, matches);
        std::vector<StarMatch> grown = matches;
        auto best = settle(*fit, matches);
        if (grown.size() < kForProjective) return best;
        std::size_t begun = grown.size();
        for (int richness = 0; richness < kRichest; ++richness) {
            if (best && explains(*best, matches, grown.size())) return best;
            const auto simple = fit_pair(pair_, grown, first);
            if (!simple) break;
            auto choice = choose_model(pair_, grown, candidates(*simple, grown.size(), richness));
            if (!choice) break;
            PairGrowthOptions g;
            g.radius = radius();
            std::vector<StarMatch> now = grown;
            auto better = settle(*choice, now);
            // What the model adds to the pairs may lead to more.
            for (int round = 0; round < 3 && better && now.size() > grown.size(); ++round) {
                grown = now;
                better = settle(*better, now = grow(pair_, grown, g));
            }
            const std::size_t both = std::max(now.size(), matches.size());
            if (!better || (best && loss(*better, now, both) >= loss(*best, matches, both))) continue;
            best = better;
            matches = std::move(now);
            if (matches.size() > grown.size()) grown = matches;
            constexpr double kAnother = 1.5; // field, which simple models may explain better than what led there
            if (richness + 1 == kRichest && static_cast<double>(grown.size()) > kAnother * static_cast<double>(begun)) {
                begun = grown.size();
                richness = -1;
            }
        }
        return best;
    }

    /// A simple model is left where it loses pairs that hang together, or leaves order in its residuals.
    bool explains(const PairFit& fit, const std::vector<StarMatch>& matches, std::size_t grown) const {
        constexpr double kLost = 0.9, kOrdered = 2.5, kNoise = 2 * 1.386; // twice the median of two squared normals
        const auto n = static_cast<double>(matches.size());
        if (n < kLost * static_cast<double>(grown)) return false;
        std::vector<float> sorted;
        for (const double r2 : normal_residuals(pair_, matches, fit.transform()))
            sorted.push_back(static_cast<float>(r2));
        return median_in_place(sorted) < kNoise && order_of(pair_, matches, fit.transform()) * std::sqrt(n) < kOrdered;
    }

    /// What a model may have with so many stars.
    static Model enough(Model m, std::size_t stars) {
        if (stars < kForProjective) m.mapping = std::min(m.mapping, Mapping::affine);
        if (stars < kForAffine) m.mapping = std::min(m.mapping, Mapping::similarity);
        if (stars < kForLens)
            m.optics = Optics::none;
        else if (stars < kForAxis)
            m.optics = std::min(m.optics, Optics::radial);
        return m;
    }

    /// Squared residuals, cut off where they say only "wrong", as which pairs that are not there count, too.
    double loss(const PairFit& fit, const std::vector<StarMatch>& matches, std::size_t of) const {
        constexpr double kWrong = 50;
        double sum = kWrong * static_cast<double>(of - matches.size());
        for (const double r2 : normal_residuals(pair_, matches, fit.transform()))
            sum += std::min(r2, kWrong);
        return sum;
    }

    static constexpr int kRichest = 3;

    /// Models to choose from, simplest first; more of them with each step of richness.
    std::vector<PairFit> candidates(const PairFit& affine, std::size_t stars, int richness) const {
        std::vector<PairFit> all;
        const auto add = [&](Mapping mapping, Optics optics, Glass glass) {
            PairFit f = affine;
            f.mapping = mapping, f.optics = optics, f.glass = glass;
            all.push_back(f);
        };
        const bool open = !o_.reference.lens && !o_.frame.lens && stars >= kForLens;
        const Eigen::Matrix2d linear = affine.map.topLeftCorner<2, 2>();
        const double scale = std::sqrt(std::abs(linear.determinant())) * frame_.radius / reference_.radius;
        constexpr double kSameRig = 0.03;
        const bool same = std::abs(scale - 1) < kSameRig && linear.determinant() > 0;
        add(Mapping::affine, Optics::none, Glass::same);
        add(Mapping::projective, Optics::none, Glass::same);
        if (!open) return all;
        const bool axis = stars >= kForAxis;
        if (same) {
            add(Mapping::affine, Optics::radial, Glass::same);
            add(Mapping::projective, Optics::radial, Glass::same);
            if (axis) add(Mapping::projective, Optics::centred, Glass::same);
            if (axis && richness > 0) add(Mapping::projective, Optics::full, Glass::same);
        }
        if (same && richness < 2) return all;
        for (const Glass glass : {Glass::frame, Glass::reference, Glass::both}) {
            add(Mapping::projective, Optics::radial, glass);
            if (axis && richness > 0) add(Mapping::projective, Optics::centred, glass);
            if (axis && richness > 1) add(Mapping::projective, Optics::full, glass);
        }
        return all;
    }

    /// Fit and pairs until they no longer change, from near pairs only.
    std::optional<PairFit> settle(PairFit fit, std::vector<StarMatch>& matches) const {
        double spread = radius();
        for (int round = 0; round < 4; ++round) {
            const Transform t = fit.transform();
            std::vector<float> sorted;
            for (const StarMatch& m : matches) {
                const Star &s = pair_.of_reference(m), &q = pair_.of_frame(m);
                const Point p = t.map({s.x, s.y});
                const double d = std::hypot(q.x - p.x, q.y - p.y);
                if (std::isfinite(d)) sorted.push_back(static_cast<float>(d));
            }
            if (sorted.size() < kLeastStars) return std::nullopt;
            spread = 1.2 * static_cast<double>(median_in_place(sorted));
            constexpr double kNear = 4, kLeast = 0.6; // spreads; pixels
            auto next = match_stars(pair_, t, std::clamp(kNear * spread, kLeast, std::max(kLeast, radius())));
            if (next.size() < kLeastStars) return std::nullopt;
            const bool same = next == matches;
            matches = std::move(next);
            if (same && round > 0) break;
            const auto better = fit_pair(pair_, matches, fit);
            if (!better) return std::nullopt;
            fit = *better;
        }
        return fit;
    }

    std::optional<Outcome> judge(const PairFit& fit, const std::vector<StarMatch>& matches, Kind kind) {
        Registration r;
        r.to_frame = fit.transform();
        r.matched = static_cast<int>(matches.size());
        best_seen_ = std::max(best_seen_, r.matched);
        if (r.matched < (kind == Kind::any ? o_.least_matches : static_cast<int>(kLeastStars))) return std::nullopt;
        constexpr double kKinds = 3;
        double luck = log_chance(pair_, density_, r.to_frame, matches, fit.free());
        if (kind == Kind::shift) { // of its own few numbers, if that does
            PairFit shift = fit;
            shift.mapping = Mapping::shift, shift.optics = Optics::none;
            if (const auto simple = fit_pair(pair_, matches, shift))
                luck = std::min(luck, log_chance(pair_, density_, simple->transform(), matches, simple->free()));
        }
        luck += log_chance_of_brightness(pair_, matches);
        luck += std::log(1 - std::min(0.0, luck)); // of two tests together
        if (luck + std::log(kKinds * tried_) > std::log(o_.false_alarms)) return std::nullopt;
        const CommonStars common(pair_, r.to_frame, matches);
        r.share = static_cast<double>(r.matched) / std::max(1, common.both());
        if (r.share < o_.least_share) return std::nullopt;
        double squares = 0, expected = 0;
        const double scale2 = std::abs(r.to_frame.at(reference_.centre).determinant());
        for (const StarMatch& m : matches) {
            const Star &s = pair_.of_reference(m), &q = pair_.of_frame(m);
            const Point p = r.to_frame.map({s.x, s.y});
            squares += (q.x - p.x) * (q.x - p.x) + (q.y - p.y) * (q.y - p.y);
            expected += 2 * (position_variance(q) + scale2 * position_variance(s));
        }
        r.rms = std::sqrt(squares / r.matched);
        r.expected = std::sqrt(expected / r.matched * std::max(0.0, 1 - fit.free() / (2.0 * r.matched)));
        r.order = order_of(pair_, matches, r.to_frame);
        r.model = {fit.mapping, fit.optics};
        r.matches = matches;
        const int lost = common.lost(r.share);
        // A patch of what is not the model: it takes in what it can reach, at the price of its residuals.
        constexpr double kPatch = 0.4, kBent = 2.5;
        constexpr double kSmallPatch = 0.25, kSoftlyBent = 1.6;
        const auto bent_beyond = [&](double pixels, double times) {
            return r.expected > 0 && r.rms > std::max(pixels, times * r.expected);
        };
        const bool patch =
            (r.share < kPatch && bent_beyond(0.5, kBent)) || (r.share < kSmallPatch && bent_beyond(0.25, kSoftlyBent));
        // Where the density changes, both lists may end at other stars: as long as what matches is but noise apart.
        constexpr double kWide = 1.3, kOrdered = 2.5;
        const bool doubtful = r.rms > kWide * r.expected || r.order * std::sqrt(r.matched) > kOrdered;
        if ((lost > 0 && doubtful) || patch)
            return Outcome{{},
                           Hindrance::in_part_only,
                           fmt::format("{} of its {} stars lie on those of the reference, but only in a part of the "
                                       "field ({:.2f} px apart where {:.2f} are expected)",
                                       r.matched, pair_.frame.size(), r.rms, r.expected)};
        return Outcome::of(r);
    }

    const StarPair& pair_;
    const RegistrationOptions& o_;
    StarDensity density_;
    Normal reference_, frame_;
    mutable double radius_ = 0;
    double tried_ = 0;
    std::size_t pattern_stars_ = 0; ///< that the seeds being followed rest on
    int best_seen_ = 0;
    std::optional<Outcome> part_; ///< a match that holds in a part of the field only
};

} // namespace

std::string RegistrationOptions::check() const {
    if (pattern_stars < 3 || neighbours < 2)
        return fmt::format("patterns are made of three stars: {} stars with {} neighbours have none", pattern_stars,
                           neighbours);
    if (!(ratio_tolerance > 0) || !(match_radius > 0))
        return fmt::format("a tolerance ({:g}) and a radius ({:g}) are above 0", ratio_tolerance, match_radius);
    if (least_matches < 3) return fmt::format("{} matches determine no transform", least_matches);
    if (!(least_share >= 0 && least_share <= 1))
        return fmt::format("a share lies between 0 and 1, not at {:g}", least_share);
    if (!(false_alarms > 0 && false_alarms < 1))
        return fmt::format("of false alarms less than one is expected and more than none, not {:g}", false_alarms);
    return {};
}

Outcome register_stars(const std::vector<Star>& reference, const std::vector<Star>& frame,
                       const RegistrationOptions& o) {
    require_sense(o);
    if (reference.size() < kLeastStars || frame.size() < kLeastStars)
        return {{},
                Hindrance::too_few_stars,
                fmt::format("{} stars here and {} in the reference; at least {} are needed in both", frame.size(),
                            reference.size(), kLeastStars)};
    const StarIndex index(frame);
    const StarPair pair{reference, frame, index};
    return Search(pair, o).run();
}

Outcome refine_on_stars(const std::vector<Star>& reference, const std::vector<Star>& frame, const Transform& about,
                        double reach, const RegistrationOptions& o) {
    require_sense(o);
    if (reference.size() < kLeastStars || frame.size() < kLeastStars)
        return {{}, Hindrance::too_few_stars, "there are too few stars to say more"};
    const StarIndex index(frame);
    const StarPair pair{reference, frame, index};
    return Search(pair, o).refine(about, reach);
}

} // namespace kasane
