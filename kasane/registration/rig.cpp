#include <kasane/registration/rig.hpp>

#include <kasane/base/units.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/registration/unseen.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <optional>

namespace kasane {

namespace {

/// The problem of some of its frames.
Adjustment pose(const RigProblem& problem, const Model& model, const std::vector<std::size_t>& frames) {
    Adjustment a;
    a.lenses.resize(problem.own ? 1 : 2);
    a.lenses[0].numbers = numbers_of(problem.reference_lens.get(), problem.reference_normal);
    a.lenses.back().optics = model.optics;
    if (problem.own) a.lenses[0].numbers.setZero();
    const int glass = static_cast<int>(a.lenses.size()) - 1;
    a.frames.push_back({problem.reference_normal, Mapping::affine, Matrix3::Identity(), 0, true});
    const std::vector<Star>& reference = *problem.reference;
    const auto sight = [&](int frame, int star, const Star& s) {
        a.sightings.push_back({frame, star, {s.x, s.y}, position_variance(s)});
    };
    for (std::size_t i = 0; i < reference.size(); ++i)
        sight(0, static_cast<int>(i), reference[i]);
    for (const std::size_t k : frames) {
        const RigFrame& f = problem.frames[k];
        const auto index = static_cast<int>(a.frames.size());
        Adjustment::Frame frame{f.normal, model.mapping, Matrix3::Identity(), glass, false};
        const Affine touch = f.to_frame.at(problem.reference_normal.centre);
        frame.map = model.mapping == Mapping::projective
                        ? normal_matrix(f.to_frame.projective(), problem.reference_normal, f.normal)
                        : normal_matrix({touch.a, touch.b, touch.c, touch.d, touch.e, touch.f, 0, 0, 1},
                                        problem.reference_normal, f.normal);
        a.frames.push_back(frame);
        for (const StarMatch& m : *f.matches)
            sight(index, m.reference, (*f.stars)[static_cast<std::size_t>(m.frame)]);
    }
    a.stars.resize(reference.size());
    for (std::size_t i = 0; i < reference.size(); ++i)
        a.stars[i] = undistorted(a.lenses[0].numbers, problem.reference_normal.in({reference[i].x, reference[i].y}));
    return a;
}

/// All, or as many as say enough, evenly from all.
std::vector<std::size_t> some(std::size_t count, std::size_t most) {
    std::vector<std::size_t> out;
    for (std::size_t i = 0; i < std::min(count, most); ++i)
        out.push_back(i * count / std::min(count, most));
    return out;
}

/// What several folds say, if all of them were solved.
template <class Iterator>
std::optional<Unseen> together(Iterator first, Iterator last) {
    Unseen all;
    const auto folds = static_cast<double>(last - first);
    for (; first != last; ++first) {
        if (first->stars.empty()) return std::nullopt;
        all.stars.insert(all.stars.end(), first->stars.begin(), first->stars.end());
        all.pixels += first->pixels / folds;
        all.expected += first->expected / folds;
    }
    return all;
}

/// Simplest first: what each frame needs by itself counts before what all share.
std::vector<Model> candidates(std::size_t stars) {
    std::vector<Model> all;
    constexpr std::size_t kForLens = 20, kForAxis = 60; // stars of all frames
    for (const Mapping mapping : {Mapping::similarity, Mapping::affine, Mapping::projective}) {
        all.push_back({mapping, Optics::none});
        if (stars >= kForLens) all.push_back({mapping, Optics::radial});
        if (stars >= kForAxis) all.push_back({mapping, Optics::centred});
    }
    if (stars >= kForAxis) all.push_back({Mapping::projective, Optics::full});
    return all;
}

} // namespace

double corner_distortion(const Lens* lens, const Normal& n) {
    if (!lens) return 0;
    double most = 0;
    for (int k = 0; k < 8; ++k) { // the farthest corner lies at the half diagonal, in one of many directions
        const double a = 2 * kPi * k / 8;
        const Point p = n.out({std::cos(a), std::sin(a)}), q = lens->distort(p);
        if (std::isfinite(q.x)) most = std::max(most, std::hypot(q.x - p.x, q.y - p.y) / n.radius);
    }
    return most;
}

std::string RigOptics::text() const {
    std::string out = model.mapping_name();
    if (lens) out += fmt::format(" with {}, {:.2f} % at the corner", model.optics_name(), 100 * corner);
    const std::string was = fmt::format("{:.2f}", before), is = fmt::format("{:.2f}", after);
    if (after < before && was != is) out += fmt::format(" (residual {} -> {} px)", was, is);
    return out;
}

RigOptics solve_rig(const RigProblem& problem, const Workers& workers) {
    RigOptics out;
    out.frames = static_cast<int>(problem.frames.size());
    if (problem.frames.empty()) return out;
    std::vector<char> seen(problem.reference->size(), 0);
    for (const RigFrame& f : problem.frames)
        for (const StarMatch& m : *f.matches)
            seen[static_cast<std::size_t>(m.reference)] = 1;
    out.stars = static_cast<int>(std::count(seen.begin(), seen.end(), 1));

    constexpr std::size_t kEnough = 30; // frames that choose
    const std::vector<std::size_t> judges = some(problem.frames.size(), kEnough);
    struct Tried {
        Model model;
        Unseen unseen;
    };
    const std::vector<Model> models = problem.model
                                          ? std::vector<Model>{{Mapping::affine, Optics::none}, *problem.model}
                                          : candidates(static_cast<std::size_t>(out.stars));
    // Of few stars a fifth says too little: then several fifths judge, one after the other.
    constexpr int kJudges = 40;
    const int needed = (kJudges * kFolds + out.stars - 1) / std::max(1, out.stars);
    const auto folds = static_cast<std::size_t>(std::clamp(needed, 1, kFolds));
    std::vector<Unseen> unseen(models.size() * folds); // without stars: not solved
    workers.for_each(unseen.size(), [&](std::size_t k) {
        HeldOut posed = hold_out(pose(problem, models[k / folds], judges), static_cast<int>(k % folds));
        if (adjust(posed.adjustment).hindrance.empty()) unseen[k] = judge(posed);
    });
    std::vector<Tried> tried;
    for (std::size_t m = 0; m < models.size(); ++m) {
        const auto first = unseen.begin() + static_cast<std::ptrdiff_t>(m * folds);
        if (const auto all = together(first, first + static_cast<std::ptrdiff_t>(folds)))
            tried.push_back({models[m], *all});
    }
    if (tried.empty()) return out;
    std::vector<std::vector<double>> losses;
    for (const Tried& t : tried)
        losses.push_back(t.unseen.stars);
    constexpr double kWorth = 0.005; // less than between two frames: what all frames share does not average out
    const Tried* chosen = problem.model ? &tried.back() : &tried[simplest_as_good(losses, kWorth)];
    out.model = chosen->model;
    out.before = tried.front().unseen.pixels;
    out.after = chosen->unseen.pixels;
    out.expected = chosen->unseen.expected;
    if (out.model.optics == Optics::none) return out;
    HeldOut whole = hold_nothing_out(pose(problem, out.model, some(problem.frames.size(), problem.frames.size())));
    if (!adjust(whole.adjustment).hindrance.empty()) return out;
    const Normal& normal = problem.frames.front().normal;
    out.lens = lens_of(whole.adjustment.lenses.back().numbers, normal);
    out.corner = corner_distortion(out.lens.get(), normal);
    return out;
}

} // namespace kasane
