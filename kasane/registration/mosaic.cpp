#include <kasane/registration/mosaic.hpp>

#include <kasane/base/units.hpp>
#include <kasane/registration/panels.hpp>
#include <kasane/registration/sightings.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <limits>
#include <map>
#include <numeric>

namespace kasane {

namespace {

/// Where the stars that a registration rests on lie in the reference.
Point middle_of(const Registration& r, const std::vector<Star>& reference) {
    Point middle{0, 0};
    for (const StarMatch& m : r.matches) {
        const Star& s = reference[static_cast<std::size_t>(m.reference)];
        middle.x += s.x, middle.y += s.y;
    }
    const double n = std::max<double>(1, static_cast<double>(r.matches.size()));
    return {middle.x / n, middle.y / n};
}

/// Its map near them: of more than that it does not know.
Affine near_stars(const Registration& r, const std::vector<Star>& reference) {
    return r.to_frame.at(middle_of(r, reference));
}

/// The similarity that comes nearest to a map, exact at a place.
Matrix3 similar_at(const Affine& map, const Normal& from, const Normal& to, Point place) {
    const Matrix3 m = normal_matrix({map.a, map.b, map.c, map.d, map.e, map.f, 0, 0, 1}, from, to);
    Matrix3 out = restricted(m, Mapping::similarity);
    const Eigen::Vector2d p = from.in(place);
    out.topRightCorner<2, 1>() += (m.topLeftCorner<2, 2>() - out.topLeftCorner<2, 2>()) * p;
    return out;
}

/// Frames that agree with their leader at once.
struct Cluster {
    struct Member {
        std::size_t frame;
        Matrix3 from_leader; ///< normal coordinates
    };
    std::size_t leader = 0;
    std::vector<Member> members; ///< the leader among them
    std::vector<Star> stars;     ///< of all of them, pixels of the leader, brightest first
    bool placed = false;
    bool placed_late = false; ///< by stars of a side alone, or through one that was
    std::string way;          ///< how it was linked
};

struct Link {
    std::size_t from = 0, to = 0; ///< clusters
    Registration found;
};

class MosaicAligner {
public:
    MosaicAligner(const MosaicProblem& problem, const Workers& workers)
        : p_(problem), frames_(problem.frames), workers_(workers) {
        for (const FrameToAlign& f : frames_)
            normals_.push_back(Normal::of(f.width, f.height));
    }

    std::optional<Alignment> run() {
        gather_clusters();
        link();
        begin();
        place_leaders();
        place_members();
        if (!several_fields()) return std::nullopt;
        solve();
        return std::move(out_);
    }

private:
    static constexpr AdjustmentOptions kAdjust{.settled = 2e-6};
    static constexpr double kFirstNear = 4, kNear = 2; ///< pixels of the reference, within which stars are joined

    const Normal& normal(std::size_t frame) const { return normals_[frame]; }

    // --- clusters

    void gather_clusters() {
        std::vector<std::size_t> lost;
        Cluster first;
        first.leader = p_.reference;
        first.placed = true;
        first.members.push_back({p_.reference, Matrix3::Identity()});
        for (std::size_t i = 0; i < frames_.size(); ++i) {
            if (i == p_.reference) continue;
            if (p_.direct[i] && shows_the_same(p_.reference, i, *p_.direct[i]))
                first.members.push_back({i, of_leader(p_.reference, i, *p_.direct[i])});
            else if (frames_[i].stars->size() >= 3)
                lost.push_back(i);
        }
        clusters_.push_back(std::move(first));
        std::stable_sort(lost.begin(), lost.end(), [&](std::size_t a, std::size_t b) {
            return frames_[a].stars->size() > frames_[b].stars->size();
        });
        // Where clouds spoiled hundreds of frames, as many would have to be held against all others, for nothing.
        const int patience = lost.size() > 200 ? 12 : 64;
        for (int alone = 0; !lost.empty();) {
            Cluster c;
            if (alone >= patience) {
                hopeless_ = lost;
                break;
            }
            c.leader = lost.front();
            c.members.push_back({c.leader, Matrix3::Identity()});
            std::vector<Outcome> found(lost.size());
            workers_.for_each(lost.size() - 1, [&](std::size_t k) {
                found[k + 1] = registered(*frames_[c.leader].stars, *frames_[lost[k + 1]].stars, false);
            });
            std::vector<std::size_t> still;
            for (std::size_t k = 1; k < lost.size(); ++k)
                if (found[k] && shows_the_same(c.leader, lost[k], *found[k]))
                    c.members.push_back({lost[k], of_leader(c.leader, lost[k], *found[k])});
                else
                    still.push_back(lost[k]);
            alone = c.members.size() > 1 ? 0 : alone + 1;
            clusters_.push_back(std::move(c));
            lost = std::move(still);
        }
        for (Cluster& c : clusters_)
            pool(c);
    }

    static Outcome registered(const std::vector<Star>& reference, const std::vector<Star>& frame, bool thorough) {
        RegistrationOptions o;
        o.thorough = thorough;
        return register_stars(reference, frame, o);
    }

    /// Not just an edge of it: of where the rest of the frame lies the common stars would tell little.
    bool shows_the_same(std::size_t leader, std::size_t frame, const Registration& r) const {
        constexpr double kMost = 0.35; // of the sides
        const Point& there = normal(frame).centre;
        const Affine back = near_stars(r, *frames_[leader].stars).inverse();
        Point middle;
        back.apply(there.x, there.y, middle.x, middle.y);
        return std::abs(middle.x - normal(leader).centre.x) < kMost * frames_[leader].width &&
               std::abs(middle.y - normal(leader).centre.y) < kMost * frames_[leader].height;
    }

    Matrix3 of_leader(std::size_t leader, std::size_t frame, const Registration& r) const {
        const Affine touch = near_stars(r, *frames_[leader].stars);
        return similar_at(touch, normal(leader), normal(frame), middle_of(r, *frames_[leader].stars));
    }

    /// The stars of a cluster on its leader's grid; where several frames show a place, those that two of them do.
    void pool(Cluster& c) const {
        constexpr std::size_t kMost = 12; // frames
        std::vector<const Cluster::Member*> some;
        for (std::size_t k = 0; k < std::min(kMost, c.members.size()); ++k)
            some.push_back(&c.members[k * c.members.size() / std::min(kMost, c.members.size())]);
        if (some.size() < 2) {
            c.stars = *frames_[c.leader].stars;
            return;
        }
        Adjustment a;
        std::vector<const std::vector<Star>*> lists;
        for (const Cluster::Member* m : some) {
            Adjustment::Frame f;
            f.normal = normal(m->frame);
            f.map = m->from_leader;
            a.frames.push_back(f);
            lists.push_back(frames_[m->frame].stars);
        }
        const Normal& grid = normal(c.leader);
        std::vector<std::vector<const Star*>> seen;
        join_sightings(a, lists, 0, kNear / grid.radius);
        seen.resize(a.stars.size());
        std::map<std::pair<double, double>, const Star*> by_place; // of one frame
        int frame = -1;
        for (const Sighting& s : a.sightings) {
            if (s.frame != frame) {
                frame = s.frame;
                by_place.clear();
                for (const Star& star : *lists[static_cast<std::size_t>(frame)])
                    by_place[{star.x, star.y}] = &star;
            }
            seen[static_cast<std::size_t>(s.star)].push_back(by_place.at({s.at.x, s.at.y}));
        }
        for (std::size_t k = 0; k < seen.size(); ++k) {
            if (seen[k].size() < 2) continue;
            Star star = *seen[k].front();
            const Point at = grid.out(a.stars[k]);
            star.x = at.x, star.y = at.y;
            c.stars.push_back(star);
        }
        std::stable_sort(c.stars.begin(), c.stars.end(), [](const Star& x, const Star& y) { return x.flux > y.flux; });
    }

    // --- links

    /// Two clusters by the stars along a side of each, of which more are common than of all.
    Outcome linked_by_sides(const Cluster& a, const Cluster& b) const {
        for (int k = 0; k < kSides * kSides; ++k) {
            const std::vector<int> mine = along(a, k / kSides), theirs = along(b, k % kSides);
            RegistrationOptions o;
            o.false_alarms /= kSides * kSides;
            Outcome found = register_stars(taken(a.stars, mine), taken(b.stars, theirs), o);
            if (!found) continue;
            for (StarMatch& m : found.result->matches)
                m = {mine[static_cast<std::size_t>(m.reference)], theirs[static_cast<std::size_t>(m.frame)]};
            return found;
        }
        return {};
    }

    static constexpr int kSides = 4;
    /// Stars of a cluster within a third of a side of its leader.
    std::vector<int> along(const Cluster& c, int side) const {
        constexpr double kDeep = 0.33;
        const double width = frames_[c.leader].width, height = frames_[c.leader].height;
        std::vector<int> out;
        for (std::size_t k = 0; k < c.stars.size(); ++k) {
            const double x = c.stars[k].x / width, y = c.stars[k].y / height;
            const double in = side == 0 ? x : side == 1 ? 1 - x : side == 2 ? y : 1 - y;
            if (in < kDeep) out.push_back(static_cast<int>(k));
        }
        return out;
    }
    static std::vector<Star> taken(const std::vector<Star>& stars, const std::vector<int>& which) {
        std::vector<Star> out;
        for (const int k : which)
            out.push_back(stars[static_cast<std::size_t>(k)]);
        return out;
    }

    /// Each cluster through those that are placed: by all stars, and what is left by those of sides.
    void link() {
        link_from({0}, false);
        std::vector<std::size_t> placed;
        for (std::size_t k = 0; k < clusters_.size(); ++k)
            if (clusters_[k].placed) placed.push_back(k);
        if (placed.size() < clusters_.size()) link_from(placed, true);
    }

    void link_from(std::vector<std::size_t> fresh, bool sides) {
        while (!fresh.empty()) {
            struct Try {
                std::size_t from, to;
                Outcome found;
            };
            std::vector<Try> tries;
            for (std::size_t k = 0; k < clusters_.size(); ++k)
                for (const std::size_t f : fresh)
                    if (!clusters_[k].placed) tries.push_back({f, k, {}});
            workers_.for_each(tries.size(), [&](std::size_t t) {
                const Cluster &from = clusters_[tries[t].from], &to = clusters_[tries[t].to];
                if (!sides || from.placed_late) tries[t].found = registered(from.stars, to.stars, true);
                if (sides && !tries[t].found) tries[t].found = linked_by_sides(from, to);
            });
            fresh.clear();
            for (Try& t : tries) {
                if (!t.found) continue;
                Cluster& c = clusters_[t.to];
                if (!c.placed) {
                    c.placed = true;
                    c.placed_late = sides;
                    fresh.push_back(t.to);
                }
                links_.push_back({t.from, t.to, std::move(*t.found.result)});
            }
            // Among those that came together, too: what one of them shares with another holds the picture together.
            std::vector<Try> beside;
            for (std::size_t a = 0; a < fresh.size(); ++a)
                for (std::size_t b = a + 1; b < fresh.size(); ++b)
                    beside.push_back({fresh[a], fresh[b], {}});
            workers_.for_each(beside.size(), [&](std::size_t t) {
                beside[t].found = registered(clusters_[beside[t].from].stars, clusters_[beside[t].to].stars, true);
            });
            for (Try& t : beside)
                if (t.found) links_.push_back({t.from, t.to, std::move(*t.found.result)});
        }
    }

    // --- places

    /// The problem without frames: rigs and what is known of the sky's curvature.
    void begin() {
        rigs_ = {frames_[p_.reference].rig};
        for (const FrameToAlign& f : frames_)
            if (std::find(rigs_.begin(), rigs_.end(), f.rig) == rigs_.end()) rigs_.push_back(f.rig);
        problem_.lenses.assign(rigs_.size(), {});
        const double focal = frames_[p_.reference].focal;
        problem_.curvature.free = true;
        if (focal > 0) {
            constexpr double kKnown = 0.2; // relative
            const double r = normal(p_.reference).radius / focal;
            problem_.curvature.value = problem_.curvature.expected = r * r;
            problem_.curvature.sigma = kKnown * r * r;
        }
    }
    int glass_of(std::size_t frame) const {
        return static_cast<int>(std::find(rigs_.begin(), rigs_.end(), frames_[frame].rig) - rigs_.begin());
    }
    Adjustment::Frame posed(std::size_t frame, const Matrix3& map, double curvature) const {
        Adjustment::Frame f;
        f.normal = normal(frame);
        f.glass = glass_of(frame);
        f.fixed = frame == p_.reference;
        f.pose = CameraPose::of(map, curvature);
        f.own_scale = f.glass != 0;
        f.map = f.fixed ? Matrix3(Matrix3::Identity()) : f.pose->map(curvature);
        return f;
    }

    /// The leaders of what is linked, by the stars of the links alone.
    void place_leaders() {
        Adjustment a = problem_;
        for (auto& lens : a.lenses)
            lens.optics = Optics::radial;
        std::vector<int> at(clusters_.size(), -1);
        const auto place = [&](std::size_t cluster, const Matrix3& map) {
            at[cluster] = static_cast<int>(a.frames.size());
            a.frames.push_back(posed(clusters_[cluster].leader, map, a.curvature.value));
        };
        place(0, Matrix3::Identity());
        for (;;) { // from the reference's on, the strongest links first
            const Link* best = nullptr;
            for (const Link& l : links_)
                if ((at[l.from] < 0) != (at[l.to] < 0) && (!best || l.found.matched > best->found.matched)) best = &l;
            if (!best) break;
            const std::vector<Star>& stars = clusters_[best->from].stars;
            const Matrix3 between = similar_at(near_stars(best->found, stars), normal(clusters_[best->from].leader),
                                               normal(clusters_[best->to].leader), middle_of(best->found, stars));
            const bool forth = at[best->from] >= 0;
            const std::size_t known = forth ? best->from : best->to, next = forth ? best->to : best->from;
            const Matrix3 step = forth ? between : Matrix3(between.inverse());
            Matrix3 map = step * a.frames[static_cast<std::size_t>(at[known])].map;
            map /= map(2, 2);
            place(next, map);
            clusters_[next].way = fmt::format("through {}: {} stars at the edge of what that shows",
                                              frames_[clusters_[known].leader].name, best->found.matched);
        }
        for (const Link& l : links_)
            for (const StarMatch& m : l.found.matches) {
                const Star &s = clusters_[l.from].stars[static_cast<std::size_t>(m.reference)],
                           &q = clusters_[l.to].stars[static_cast<std::size_t>(m.frame)];
                const auto star = static_cast<int>(a.stars.size());
                const Adjustment::Frame& f = a.frames[static_cast<std::size_t>(at[l.from])];
                a.stars.push_back(mapping_slopes(f.map.inverse(), Mapping::projective, f.normal.in({s.x, s.y})).at);
                a.sightings.push_back({at[l.from], star, {s.x, s.y}, position_variance(s)});
                a.sightings.push_back({at[l.to], star, {q.x, q.y}, position_variance(q)});
            }
        // What is linked last may be far off yet: it must not be taken for wrong.
        AdjustmentOptions all_alike = kAdjust;
        all_alike.robust = false;
        if (!a.sightings.empty() && adjust(a, all_alike).hindrance.empty() && adjust(a, kAdjust).hindrance.empty()) {
            problem_.curvature.value = a.curvature.value;
            problem_.lenses = a.lenses;
        }
        for (std::size_t c = 0; c < clusters_.size(); ++c)
            if (at[c] >= 0) leaders_[c] = a.frames[static_cast<std::size_t>(at[c])].map;
    }

    void place_members() {
        for (const auto& [c, leader] : leaders_)
            for (const Cluster::Member& m : clusters_[c].members) {
                Matrix3 map = m.from_leader * leader;
                map /= map(2, 2);
                problem_.frames.push_back(posed(m.frame, map, problem_.curvature.value));
                members_.push_back(m.frame);
                cluster_of_.push_back(c);
            }
    }

    bool several_fields() const {
        std::vector<PanelFrame> placed;
        for (std::size_t k = 0; k < members_.size(); ++k)
            placed.push_back(
                {Transform(pixel_matrix(problem_.frames[k].map, normal(p_.reference), normal(members_[k]))),
                 frames_[members_[k]].width, frames_[members_[k]].height});
        return count_panels(panels_of(placed)) > 1;
    }

    // --- all together

    /// The brightest stars of frames, so many that all frames together have not too many.
    std::vector<std::vector<Star>> lists_of(const std::vector<std::size_t>& members) const {
        constexpr std::size_t kAll = 200000, kLeast = 150, kMost = 1000;
        const std::size_t most = std::clamp(kAll / std::max<std::size_t>(1, members.size()), kLeast, kMost);
        std::vector<std::vector<Star>> out;
        for (const std::size_t i : members) {
            const std::vector<Star>& all = *frames_[i].stars;
            out.emplace_back(all.begin(), all.begin() + static_cast<std::ptrdiff_t>(std::min(all.size(), most)));
        }
        return out;
    }
    void join(Adjustment& a, const std::vector<std::size_t>& members, double near) const {
        const std::vector<std::vector<Star>> lists = lists_of(members);
        std::vector<const std::vector<Star>*> views;
        for (const auto& l : lists)
            views.push_back(&l);
        const auto first =
            static_cast<std::size_t>(std::find(members.begin(), members.end(), p_.reference) - members.begin());
        join_sightings(a, views, first, near / normal(p_.reference).radius);
    }

    struct Candidate {
        Optics optics;
        bool stretched;
        bool curved = true; ///< where headers do not tell, the sky may be flat
    };
    std::vector<Candidate> candidates(std::size_t stars) const {
        constexpr std::size_t kForLens = 20, kForAxis = 60;
        std::vector<Candidate> out;
        for (const bool curved : {false, true}) {
            if (!curved && frames_[p_.reference].focal > 0) continue;
            for (const bool stretched : {false, true}) {
                if (p_.model) {
                    out.push_back({p_.model->optics, stretched, curved});
                    continue;
                }
                out.push_back({Optics::none, stretched, curved});
                if (stars >= kForLens) out.push_back({Optics::radial, stretched, curved});
                if (stars >= kForAxis) out.push_back({Optics::centred, stretched, curved});
                if (stars >= kForAxis && stretched) out.push_back({Optics::full, stretched, curved});
            }
        }
        return out;
    }

    static void ask(Adjustment& a, const Candidate& c) {
        for (auto& lens : a.lenses) {
            lens.optics = c.optics;
            if (c.optics == Optics::none) lens.numbers.setZero();
        }
        for (auto& f : a.frames)
            f.stretched = c.stretched && !f.fixed;
        a.curvature.free = c.curved;
        if (!c.curved) a.curvature.value = 0;
    }

    /// A few frames of every cluster.
    std::vector<std::size_t> judges() const {
        constexpr std::size_t kEach = 4;
        std::vector<std::size_t> out; // places in members_
        for (const auto& [c, leader] : leaders_) {
            std::vector<std::size_t> of_it;
            for (std::size_t k = 0; k < members_.size(); ++k)
                if (cluster_of_[k] == c) of_it.push_back(k);
            const std::size_t n = std::min(c == 0 ? 2 * kEach : kEach, of_it.size());
            for (std::size_t k = 0; k < n; ++k)
                out.push_back(of_it[k * of_it.size() / n]);
        }
        return out;
    }

    /// What the stars of some frames ask for (G. Schwarz, Ann. Statist. 6, 1978). Stars that were held out would be of
    /// little use: they lie where fields overlap, and what an unknown lens does beyond does not show there.
    Candidate choose(RigOptics& told) const {
        Adjustment some = problem_;
        some.frames.clear();
        std::vector<std::size_t> members;
        for (const std::size_t k : judges()) {
            some.frames.push_back(problem_.frames[k]);
            members.push_back(members_[k]);
        }
        join(some, members, kFirstNear);
        struct Tried {
            Candidate candidate;
            double numbers = 0; ///< that are free beyond the simplest
            double scale = 0;
            std::vector<double> squares;
            SightingAccount whole;
        };
        std::vector<Tried> tried;
        double least = std::numeric_limits<double>::infinity();
        const std::vector<Candidate> all = candidates(some.stars.size());
        std::vector<Adjustment> adjusted(all.size(), some);
        std::vector<AdjustmentResult> results(all.size());
        workers_.for_each(all.size(), [&](std::size_t k) {
            ask(adjusted[k], all[k]);
            results[k] = adjust(adjusted[k], kAdjust);
        });
        for (std::size_t k = 0; k < all.size(); ++k) {
            const Candidate& c = all[k];
            const Adjustment& a = adjusted[k];
            const AdjustmentResult& result = results[k];
            if (!result.hindrance.empty()) continue;
            tried.push_back({c,
                             1.0 * freedom(c.optics) * static_cast<double>(a.lenses.size()) +
                                 (c.stretched ? 2.0 * static_cast<double>(a.frames.size() - 1) : 0) + c.curved,
                             result.scale, a.residuals(), total_of(a)});
            least = std::min(least, result.scale);
        }
        if (tried.empty()) return {Optics::none, false, true};
        const auto information = [&](const Tried& t) {
            constexpr double kWrong = 12; // squared errors along both axes: a false pair
            double sum = t.numbers * std::log(2.0 * static_cast<double>(t.squares.size()));
            for (const double r2 : t.squares)
                sum += std::min(kWrong, r2 / (least * least));
            return sum;
        };
        const auto best = std::min_element(tried.begin(), tried.end(), [&](const Tried& a, const Tried& b) {
            return information(a) < information(b);
        });
        told.before = tried.front().whole.rms, told.after = best->whole.rms, told.expected = best->whole.expected;
        return best->candidate;
    }

    static SightingAccount total_of(const Adjustment& a) {
        SightingAccount sum;
        double squares = 0, expected = 0;
        for (const SightingAccount& f : account_of(a)) {
            squares += f.stars * f.rms * f.rms, expected += f.stars * f.expected * f.expected;
            sum.stars += f.stars;
        }
        if (sum.stars > 0) sum.rms = std::sqrt(squares / sum.stars), sum.expected = std::sqrt(expected / sum.stars);
        return sum;
    }

    void solve() {
        RigOptics optics;
        const Candidate chosen = choose(optics);
        for (const double near : {kFirstNear, kNear}) {
            join(problem_, members_, near);
            ask(problem_, chosen);
            adjust(problem_, kAdjust);
        }
        optics.model = {chosen.stretched ? Mapping::affine : Mapping::similarity, chosen.optics};
        optics.stars = static_cast<int>(problem_.stars.size());
        out_.frames.resize(frames_.size());
        out_.mosaic = true;
        std::vector<std::shared_ptr<const Lens>> lenses(rigs_.size());
        for (std::size_t k = 0; k < members_.size(); ++k) {
            auto& lens = lenses[static_cast<std::size_t>(problem_.frames[k].glass)];
            if (!lens)
                lens = lens_of(problem_.lenses[static_cast<std::size_t>(problem_.frames[k].glass)].numbers,
                               problem_.frames[k].normal);
        }
        const std::shared_ptr<const Lens> wide = wide_grid();
        const std::vector<SightingAccount> accounts = account_of(problem_);
        std::map<int, int> frames_of_rig;
        for (std::size_t m = 0; m < members_.size(); ++m) {
            const Adjustment::Frame& f = problem_.frames[m];
            ++frames_of_rig[f.glass];
            Registration r;
            r.to_frame = Transform(pixel_matrix(f.map, normal(p_.reference), f.normal),
                                   lenses[static_cast<std::size_t>(f.glass)], wide);
            r.matched = accounts[m].stars;
            r.share = 1;
            r.rms = accounts[m].rms;
            r.expected = accounts[m].expected;
            r.model = optics.model;
            r.way = cluster_of_[m] == 0 ? "" : clusters_[cluster_of_[m]].way;
            constexpr int kLeast = 3;
            out_.frames[members_[m]] =
                r.matched >= kLeast || f.fixed
                    ? Outcome::of(r)
                    : Outcome{{}, Hindrance::no_agreement, "its stars do not agree with those of any other light"};
        }
        for (std::size_t g = 0; g < rigs_.size(); ++g) {
            const auto of_it = std::find_if(members_.begin(), members_.end(),
                                            [&](std::size_t i) { return frames_[i].rig == rigs_[g]; });
            if (of_it == members_.end()) continue;
            RigOptics& told = out_.rigs[rigs_[g]] = optics;
            told.lens = lenses[g];
            told.frames = frames_of_rig[static_cast<int>(g)];
            told.corner = corner_distortion(told.lens.get(), normal(*of_it));
        }
        tell_the_lost();
    }

    /// What makes the plane of the reference a grid for more than 40 degrees; nothing for less, or where the sky is
    /// flat.
    std::shared_ptr<const Lens> wide_grid() const {
        if (!(problem_.curvature.value > 0)) return nullptr;
        const Normal own = normal(p_.reference);
        const double tangent = std::sqrt(problem_.curvature.value); // of a radius of the plane
        // Directions of the corners as the reference's axes see them, degrees.
        Eigen::Vector2d least(0, 0), most(0, 0);
        for (const Adjustment::Frame& f : problem_.frames) {
            const Matrix3 back = f.map.inverse();
            const double w = f.normal.centre.x / f.normal.radius, h = f.normal.centre.y / f.normal.radius;
            for (const Eigen::Vector2d& corner :
                 {Eigen::Vector2d(-w, -h), Eigen::Vector2d(w, -h), Eigen::Vector2d(-w, h), Eigen::Vector2d(w, h)}) {
                const Eigen::Vector3d p = back * corner.homogeneous();
                // The frame's centre lies before the plane; what has the other sign there lies behind.
                const double side = p.z() * back(2, 2) > 0 ? 1 : -1;
                for (int i = 0; i < 2; ++i) {
                    const double angle = degrees(std::atan2(side * tangent * p[i] / p.z(), side));
                    least[i] = std::min(least[i], angle), most[i] = std::max(most[i], angle);
                }
            }
        }
        constexpr double kWide = 40;
        if ((most - least).maxCoeff() <= kWide) return nullptr;
        Lens grid;
        grid.centre = own.centre;
        grid.stereographic = own.radius / tangent;
        return std::make_shared<const Lens>(grid);
    }

    void tell_the_lost() {
        for (const Cluster& c : clusters_) {
            if (c.placed) continue;
            for (const Cluster::Member& m : c.members)
                out_.frames[m.frame] = {
                    {},
                    Hindrance::no_agreement,
                    c.members.size() > 1
                        ? fmt::format("it and {} other{} show one field, but share no stars with the panels that lead "
                                      "to the reference",
                                      c.members.size() - 1, c.members.size() > 2 ? "s" : "")
                        : fmt::format("its {} stars agree with no other light", frames_[m.frame].stars->size())};
        }
        for (const std::size_t i : hopeless_)
            out_.frames[i] = {
                {},
                Hindrance::no_agreement,
                fmt::format("its {} stars agree with none of the richest lights", frames_[i].stars->size())};
        for (std::size_t i = 0; i < frames_.size(); ++i)
            if (!out_.frames[i] && out_.frames[i].hindrance == Hindrance::not_tried)
                out_.frames[i] = {{},
                                  Hindrance::too_few_stars,
                                  fmt::format("{} stars here; at least 3 are needed", frames_[i].stars->size())};
    }

    const MosaicProblem& p_;
    const std::vector<FrameToAlign>& frames_;
    const Workers& workers_;
    std::vector<Normal> normals_;       ///< as frames
    std::vector<Cluster> clusters_;     ///< first the reference's
    std::vector<std::size_t> hopeless_; ///< frames that were tried as members alone
    std::vector<Link> links_;
    std::vector<std::string> rigs_;          ///< as the lenses
    std::map<std::size_t, Matrix3> leaders_; ///< by cluster that is placed: their maps
    Adjustment problem_;
    std::vector<std::size_t> members_, cluster_of_; ///< as the problem's frames
    Alignment out_;
};

} // namespace

std::optional<Alignment> align_mosaic(const MosaicProblem& problem, const Workers& workers) {
    return MosaicAligner(problem, workers).run();
}

} // namespace kasane
