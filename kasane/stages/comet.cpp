#include <kasane/stages/comet.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/stages/canvas_sky.hpp>
#include <kasane/stages/comet_header.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>
#include <unordered_map>

namespace kasane {

namespace {

constexpr const char* kRemedy = "See [comet] in kasane.toml";

/// A pixel of the frame on the grid that it is measured on.
Point on_measured_grid(Point pixel, int cell) {
    return {(pixel.x + 0.5) / cell - 0.5, (pixel.y + 0.5) / cell - 0.5};
}

/// A star where most of the lights show it.
struct FixedStar {
    Point at; ///< on the reference's grid
    int seen = 0;
};

/// Stars that stand still: seen at one place by two fifths of the lights or more.
std::vector<Point> fixed_stars(const std::vector<const Light*>& lights) {
    constexpr double kRadius = 1.5, kShare = 0.4; // pixels
    std::unordered_map<std::int64_t, std::vector<std::size_t>> cells;
    std::vector<FixedStar> all;
    const auto key = [](int i, int j) { return static_cast<std::int64_t>(i) * (1 << 24) + j; };
    for (const Light* l : lights)
        for (const Star& s : l->measures->main().stars) {
            const Point p = l->registration->to_frame.unmap({s.x, s.y});
            if (!(std::abs(p.x) < 1e6 && std::abs(p.y) < 1e6)) continue;
            const int i = static_cast<int>(std::floor(p.x / kRadius)), j = static_cast<int>(std::floor(p.y / kRadius));
            std::optional<std::size_t> same;
            for (int b = -1; b <= 1 && !same; ++b)
                for (int a = -1; a <= 1 && !same; ++a)
                    if (const auto it = cells.find(key(i + a, j + b)); it != cells.end())
                        for (const std::size_t k : it->second)
                            if (std::hypot(all[k].at.x - p.x, all[k].at.y - p.y) < kRadius) same = k;
            if (same) {
                ++all[*same].seen;
                continue;
            }
            cells[key(i, j)].push_back(all.size());
            all.push_back({p, 1});
        }
    std::vector<Point> out;
    for (const FixedStar& s : all)
        if (s.seen >= std::max(2.0, kShare * static_cast<double>(lights.size()))) out.push_back(s.at);
    return out;
}

class Solving {
public:
    Solving(const Session& session, Calibrations& calibrations, const GradedLights& graded,
            std::vector<StackDoubt>& doubts)
        : s_(session), calibrations_(calibrations), graded_(graded), doubts_(doubts) {
        for (const auto& stack : graded.lights)
            for (const Light& l : stack)
                if (l.registration && l.measures && middle_of(*l.exposure)) lights_.push_back(&l);
    }

    std::optional<CometSolution> run(const std::vector<CometMark>& marks) {
        std::vector<CometSighting> seen = placed(marks);
        auto fit = fit_comet_path(seen);
        if (!fit) return std::nullopt;
        CometSolution out;
        out.stars = fixed_stars(lights_);
        constexpr double kByHand = 12, kKnown = 5; // pixels by which it may lie beside
        int found = 0;
        for (const double reach : {kByHand, kKnown}) {
            std::vector<std::optional<CometMiddle>> middles = look(fit->path, out.stars, reach);
            std::vector<CometSighting> own;
            std::vector<std::size_t> whose;
            for (std::size_t k = 0; k < lights_.size(); ++k)
                if (middles[k]) {
                    const double side = std::max(0.05, lights_[k]->registration->to_frame.at(middles[k]->at).scale());
                    constexpr double kLeast = 0.1; // pixels: the light's own place among the stars
                    own.push_back({*middle_of(*lights_[k]->exposure),
                                   lights_[k]->registration->to_frame.unmap(middles[k]->at),
                                   std::hypot(kLeast, middles[k]->sigma / side)});
                    whose.push_back(k);
                }
            constexpr std::size_t kEnough = 3;
            constexpr double kShare = 0.3, kScatter = 2; // of the lights; pixels
            const auto next = own.size() >= kEnough ? fit_comet_path(own) : std::nullopt;
            const auto agree = next ? std::count(next->used.begin(), next->used.end(), true) : 0;
            // What lies along a path by chance, or stands still, is no comet.
            if (!next || static_cast<double>(agree) < std::max(3.0, kShare * static_cast<double>(lights_.size())) ||
                next->rms > kScatter || !passes(next->path, seen)) {
                by_marks_alone(static_cast<std::size_t>(agree));
                places_.clear();
                fit = fit_comet_path(seen);
                found = 0;
                break;
            }
            fit = next;
            found = static_cast<int>(agree);
            places_.clear();
            for (std::size_t i = 0; i < whose.size(); ++i)
                if (next->used[i]) {
                    CometPlaceReport& p = places_[lights_[whose[i]]->exposure->path];
                    p.found = true;
                    p.off_x = next->off[i].x, p.off_y = next->off[i].y;
                }
        }
        tell_timeless();
        out.path = fit->path;
        out.rms = fit->rms;
        out.found = found;
        out.lights = static_cast<int>(lights_.size());
        describe(out);
        constexpr double kStill = 3; // pixels
        if (moved_ < kStill) {
            doubt(fmt::format("the comet moves by only {:.1f} pixels while its lights were taken: stars cannot be told "
                              "from it, and the master lights are as without it",
                              moved_),
                  "Take lights over a longer time, or leave [comet] out");
            return std::nullopt;
        }
        return out;
    }

    /// Files that could not be read on the way.
    const std::set<std::string>& unread() const { return unread_; }

private:
    void doubt(const std::string& text, const std::string& remedy, std::vector<std::string> files = {}) {
        doubts_.push_back({"comet-doubtful", std::move(files), text, remedy});
    }

    /// Lights that can only show the stars.
    void tell_timeless() {
        std::vector<std::string> files;
        for (const auto& stack : graded_.lights)
            for (const Light& l : stack)
                if (l.registration && !middle_of(*l.exposure)) files.push_back(l.exposure->path);
        if (!files.empty())
            doubt("nothing says when it was taken, so that it cannot follow the comet: it shows the stars alone",
                  "Give its time in [[files]]", std::move(files));
    }

    const Light* light_of(const std::string& file) const {
        const auto it =
            std::find_if(lights_.begin(), lights_.end(), [&](const Light* l) { return l->exposure->path == file; });
        return it == lights_.end() ? nullptr : *it;
    }

    /// The marks of this group's lights, on the reference's grid.
    std::vector<CometSighting> placed(const std::vector<CometMark>& marks) {
        std::vector<CometSighting> out;
        for (const CometMark& m : marks) {
            const Light* l = light_of(m.file);
            if (!l) {
                for (const auto& stack : graded_.lights)
                    for (const Light& other : stack)
                        if (other.exposure->path == m.file)
                            doubt("the comet is marked on it, but it could not be registered, or its time is not "
                                  "known; the mark is not used",
                                  "Mark the comet on another light", {m.file});
                continue;
            }
            constexpr double kByHand = 2; // pixels
            const Point at = on_measured_grid({m.x, m.y}, grid_cell(s_, *l->exposure));
            out.push_back({*middle_of(*l->exposure), l->registration->to_frame.unmap(at), kByHand});
        }
        return out;
    }

    /// Whether a path comes by where a hand marked it.
    static bool passes(const CometPath& path, const std::vector<CometSighting>& marks) {
        constexpr double kReach = 15; // pixels
        return std::all_of(marks.begin(), marks.end(), [&](const CometSighting& m) {
            const Point p = path.at(m.time);
            return std::hypot(p.x - m.at.x, p.y - m.at.y) < kReach;
        });
    }

    void by_marks_alone(std::size_t found) {
        doubt(fmt::format(
                  "the comet is seen where its marks put it on {} of {} lights only: its path is that of the marks "
                  "alone",
                  found, lights_.size()),
              "Look at the marks in [comet], and mark it on more lights if it is faint");
    }

    /// Where each light shows it, on the grid that it is measured on.
    std::vector<std::optional<CometMiddle>> look(const CometPath& path, const std::vector<Point>& stars, double reach) {
        std::vector<std::optional<CometMiddle>> out(lights_.size());
        std::vector<std::optional<FileFailure>> failed(lights_.size()); // told again where they are integrated
        std::vector<std::shared_ptr<const FrameView>> views(lights_.size());
        for (std::size_t k = 0; k < lights_.size(); ++k) { // one after another: they share masters
            s_.context.workers.cancel().check();
            const auto measures = lights_[k]->measures;
            failed[k] = attempt([&] {
                views[k] = calibrations_.view(*lights_[k]->plan,
                                              std::shared_ptr<const OwnCorrections>(measures, &measures->own));
            });
        }
        s_.context.workers.for_each(lights_.size(), [&](std::size_t k) {
            if (!views[k]) return;
            failed[k] = attempt([&] { out[k] = look_at(*lights_[k], *views[k], path, stars, reach); });
            views[k]->release();
        });
        for (const auto& failure : failed)
            if (failure && !failure->unfit)
                unread_.insert(failure->file.lexically_proximate(s_.options.folder).string());
        return out;
    }

    static std::optional<CometMiddle> look_at(const Light& l, const FrameView& view, const CometPath& path,
                                              const std::vector<Point>& stars, double reach) {
        const Transform& to_frame = l.registration->to_frame;
        const Measures& m = l.measures->main();
        const Point expected = to_frame.map(path.at(*middle_of(*l.exposure)));
        const double fwhm = m.fwhm > 0 ? m.fwhm : 3;
        CometSearch search;
        search.reach = reach;
        search.width = std::max(search.width, 1.2 * fwhm);
        const int half = static_cast<int>(std::ceil(reach + 6 * search.width));
        if (!(expected.x > -half && expected.y > -half && expected.x < view.width() + half &&
              expected.y < view.height() + half))
            return std::nullopt;
        const int cx = static_cast<int>(std::lround(expected.x)), cy = static_cast<int>(std::lround(expected.y));
        const Region box = intersect({cx - half, cy - half, 2 * half + 1, 2 * half + 1}, view.bounds());
        if (box.width < half || box.height < half) return std::nullopt;
        std::vector<Disc> hidden;
        for (const Point& star : stars) {
            const Point at = to_frame.map(star);
            constexpr double kWide = 2.2; // FWHM
            if (box.contains({static_cast<int>(at.x), static_cast<int>(at.y), 1, 1}))
                hidden.push_back({at.x - box.x, at.y - box.y, kWide * fwhm});
        }
        Image pixels(box.width, box.height, view.planes());
        view.read(box, views_of(pixels));
        const int plane = main_plane(view.planes());
        auto middle = find_comet(std::as_const(pixels).plane(plane), {expected.x - box.x, expected.y - box.y}, m.noise,
                                 hidden, search);
        if (middle) middle->at = {middle->at.x + box.x, middle->at.y + box.y};
        return middle;
    }

    void describe(CometSolution& out) {
        double first = 0, last = 0;
        std::vector<float> widths;
        for (const Light* l : lights_) {
            const double t = *middle_of(*l->exposure);
            first = l == lights_.front() ? t : std::min(first, t), last = l == lights_.front() ? t : std::max(last, t);
            CometPlaceReport& p = places_[l->exposure->path];
            const Point at = l->registration->to_frame.map(out.path.at(t)), rate = out.path.rate(t);
            p.file = l->exposure->path;
            p.x = at.x, p.y = at.y;
            p.smear = std::hypot(rate.x, rate.y) * l->exposure->seconds.value_or(0);
            out.smear = std::max(out.smear, p.smear);
            if (l->measures->main().fwhm > 0) widths.push_back(static_cast<float>(l->measures->main().fwhm));
        }
        out.epoch = 0.5 * (first + last);
        for (const Light* l : lights_)
            if (l->measures == graded_.reference) out.epoch = *middle_of(*l->exposure);
        out.places = places_;
        const Point from = out.path.at(first), to = out.path.at(last);
        moved_ = std::hypot(to.x - from.x, to.y - from.y);
        static const char* kDegrees[] = {"", "a straight line at one speed", "a path of second degree in time",
                                         "a path of third degree in time"};
        out.text = fmt::format("{} through {} of {} lights, {:.2f} px beside it; it moves by {:.1f} px in all, at most "
                               "{:.1f} px during a light",
                               kDegrees[std::clamp(out.path.degree(), 1, 3)], out.found, out.lights, out.rms, moved_,
                               out.smear);
        const double wide = widths.empty() ? 0 : static_cast<double>(median_in_place(widths));
        constexpr double kSmeared = 1.5; // widths of stars
        if (wide > 0 && out.smear > kSmeared * wide)
            doubt(fmt::format(
                      "the comet moves by up to {:.1f} pixels during a light, {:.1f} times the width of stars: its "
                      "middle is smeared",
                      out.smear, out.smear / wide),
                  "Take shorter lights of it");
    }

    const Session& s_;
    Calibrations& calibrations_;
    const GradedLights& graded_;
    std::vector<StackDoubt>& doubts_;
    std::vector<const Light*> lights_;
    std::map<std::string, CometPlaceReport> places_;
    std::set<std::string> unread_;
    double moved_ = 0;
};

} // namespace

std::optional<double> middle_of(const Exposure& e) {
    if (!e.time) return std::nullopt;
    return *e.time + 0.5 * e.seconds.value_or(0);
}

namespace {

/// What a light's own header says of the comet.
CometHeader header_of(const Session& s, const Exposure& e) {
    CometHeader out;
    const auto failed =
        attempt([&] { out = comet_in_header(s.open(static_cast<std::size_t>(&e - s.exposures.data()))->header()); });
    if (failed) out.wrong = failed->what_failed;
    return out;
}

bool inside(const Exposure& e, Point p) {
    return p.x >= -0.5 && p.y >= -0.5 && p.x <= e.width - 0.5 && p.y <= e.height - 0.5;
}

/// Where the comet is by the header of a light; why it is not known becomes `why`.
std::optional<Point> by_header(const Session& s, const Exposure& e, std::string& why) {
    const CometHeader told = header_of(s, e);
    if (!told.at)
        why = told.wrong.empty() ? "its header does not say where the comet is (OBJCTRA and OBJCTDEC)" : told.wrong;
    else if (!e.world)
        why = "its header says where on the sky the comet is, but not where its pixels lie there: it has no world "
              "coordinates";
    if (!why.empty()) return std::nullopt;
    const Point at = turned_pixel(e, e.world->to_pixel(*told.at));
    if (inside(e, at)) return at;
    why = fmt::format("by its header the comet is outside its {} x {} pixels", e.width, e.height);
    return std::nullopt;
}

/// A second mark from the one that there is, by the motion that its header tells: on a light of its target as far away
/// in time as there is whose pixels are known on the sky.
std::optional<CometMark> by_rate(const Session& s, const Exposure& first, const CometMark& mark, std::string& why) {
    const CometHeader told = header_of(s, first);
    if (!told.rate) {
        why = told.wrong.empty() ? "its header does not say so either (RARATE and DECRATE)" : told.wrong;
        return std::nullopt;
    }
    std::vector<const Exposure*> others;
    for (const Exposure& e : s.exposures)
        if (e.role == Role::light && e.world && middle_of(e) && e.target == first.target) others.push_back(&e);
    if (!first.world || others.size() < 2) {
        why = "its header says how it moves on the sky, but too few lights have world coordinates to follow it there";
        return std::nullopt;
    }
    const double begin = *middle_of(first);
    std::stable_sort(others.begin(), others.end(), [&](const Exposure* a, const Exposure* b) {
        return std::abs(*middle_of(*a) - begin) > std::abs(*middle_of(*b) - begin);
    });
    const SkyPoint from = first.world->to_sky(file_pixel(first, 1, {mark.x, mark.y}));
    for (const Exposure* e : others) {
        constexpr double kSecondsPerHour = 3600;
        const double hours = (*middle_of(*e) - begin) / kSecondsPerHour;
        const Point at = turned_pixel(*e, e->world->to_pixel(moved(from, *told.rate, hours)));
        if (e != &first && inside(*e, at)) return CometMark{e->path, at.x, at.y};
    }
    why = "by the motion in its header the comet is outside all other lights";
    return std::nullopt;
}

} // namespace

CometMarks comet_marks(const Session& s) {
    CometMarks marks;
    std::vector<CometMark>& out = marks.sound;
    const auto tell = [&](const std::string& text, const std::string& file = {}) {
        std::vector<std::string> files;
        if (!file.empty()) files.push_back(file);
        marks.findings.push_back({Level::warning, "comet-mark", files, text, kRemedy});
    };
    std::vector<const Exposure*> lights;
    for (const CometMark& m : s.recipe.comet) {
        const auto e = std::find_if(s.exposures.begin(), s.exposures.end(),
                                    [&](const Exposure& one) { return one.path == m.file; });
        std::string why;
        if (e == s.exposures.end() || e->role != Role::light) {
            tell("the comet is marked on it, but it is no light of this project; the mark is not used", m.file);
            continue;
        }
        const std::optional<Point> at = m.by_header() ? by_header(s, *e, why) : Point{m.x, m.y};
        if (!at) {
            tell("the comet is marked on it without a pixel, but " + why + "; the mark is not used", m.file);
        } else if (!inside(*e, *at)) {
            tell(fmt::format("the comet is marked at ({:g}, {:g}), outside its {} x {} pixels; the mark is not used",
                             m.x, m.y, e->width, e->height),
                 m.file);
        } else if (!middle_of(*e)) {
            tell("the comet is marked on it, but nothing says when it was taken; the mark is not used", m.file);
        } else {
            out.push_back({m.file, at->x, at->y});
            lights.push_back(&*e);
        }
    }
    if (s.recipe.comet.empty()) return marks;
    std::string why;
    if (out.size() == 1)
        if (const auto second = by_rate(s, *lights.front(), out.front(), why)) {
            lights.push_back(&*std::find_if(s.exposures.begin(), s.exposures.end(),
                                            [&](const Exposure& one) { return one.path == second->file; }));
            out.push_back(*second);
        }
    std::vector<double> times;
    for (const Exposure* e : lights)
        times.push_back(*middle_of(*e));
    const auto [first, last] = std::minmax_element(times.begin(), times.end());
    constexpr double kApart = 1; // seconds
    if (times.size() == 1)
        tell(fmt::format("the comet is marked on this light alone, so that nothing says how it moves: {}; the master "
                         "lights are as without it. Mark it on a second one, as far away in time as there is",
                         why),
             out.front().file);
    else if (times.size() > 1 && *last - *first < kApart)
        tell("all lights on which the comet is marked were taken at one time, so that nothing says how it moves; the "
             "master "
             "lights are as without it. Mark it on one of another time");
    if (times.size() < 2 || *last - *first < kApart) out.clear();
    return marks;
}

bool has_comet(const Session& s, const ReferenceGroup& group, const std::vector<CometMark>& marks) {
    std::set<std::string> files;
    for (const std::size_t k : group.stacks)
        for (const LightPlan& l : s.pairing.stacks[k].lights)
            files.insert(s.exposures[l.exposure].path);
    return std::count_if(marks.begin(), marks.end(), [&](const CometMark& m) { return files.count(m.file) > 0; }) > 1;
}

std::optional<CometSolution> solve_comet(const Session& session, Calibrations& calibrations, const GradedLights& graded,
                                         const std::vector<CometMark>& marks, std::vector<StackDoubt>& doubts,
                                         std::vector<std::string>& unread) {
    if (marks.empty()) return std::nullopt;
    Solving solving(session, calibrations, graded, doubts);
    std::optional<CometSolution> solution = solving.run(marks);
    unread.insert(unread.end(), solving.unread().begin(), solving.unread().end());
    return solution;
}

} // namespace kasane
