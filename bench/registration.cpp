// How long registration takes, on star lists alone.
#include "rows.hpp"

#include <kasane/registration/align.hpp>
#include <kasane/sky/star_views.hpp>
#include <kasane/stages/session.hpp>

#include <algorithm>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

/// Median of one thread over some pairs, seconds.
double one_pair(const sky::StarViewOptions& o, int pairs) {
    std::vector<double> times;
    for (int i = 0; i < pairs; ++i) {
        const sky::StarViews v = sky::star_views(o, 500 + static_cast<std::uint64_t>(i));
        const Stopwatch clock;
        const Outcome r = register_stars(v.reference, v.frame);
        times.push_back(clock.seconds());
        if (r.result.has_value() == o.unrelated) fmt::print("pair {} of {} stars: not as it should be\n", i, o.stars);
    }
    std::sort(times.begin(), times.end());
    return times[times.size() / 2];
}

} // namespace

std::vector<Row> registration(const Context& context) {
    std::vector<Row> rows;
    sky::StarViewOptions o;
    o.width = 6000, o.height = 4000, o.least_overlap = 0.9;
    for (const int stars : {200, 2000, 8000}) {
        o.stars = stars;
        rows.push_back({"A1", fmt::format("register a frame of {} stars, any turn, one thread", stars),
                        1e3 * one_pair(o, 11), "ms", stars == 200 ? 10. : 150., false});
    }
    o.unrelated = true;
    for (const int stars : {200, 2000, 8000}) {
        o.stars = stars;
        rows.push_back({"A2", fmt::format("give up on a frame of {} stars of another field, one thread", stars),
                        1e3 * one_pair(o, 5), "ms", 500, false});
    }
    // The joint solution: every frame's map and the lens at once.
    sky::StarViewOptions d;
    d.width = 6000, d.height = 4000, d.any_turn = false, d.least_overlap = 0.9, d.most_overlap = 0.99;
    d.distortion = 0.01;
    constexpr int kFrames = 1000;
    const sky::StarFrames f = sky::star_frames(d, 3, kFrames);
    std::vector<FrameToAlign> list;
    for (int i = 0; i < kFrames; ++i)
        list.push_back(
            {&f.lists[static_cast<std::size_t>(i)], d.width, d.height, fmt::format("{}", i), "rig", 1.0 * i});
    const Stopwatch clock;
    const Alignment first = align_frames(list, 0, {}, context.workers);
    const double all = clock.seconds();
    RigProblem p;
    p.reference = list[0].stars;
    p.reference_normal = Normal::of(d.width, d.height);
    for (std::size_t i = 1; i < list.size(); ++i)
        if (first.frames[i])
            p.frames.push_back(
                {list[i].stars, p.reference_normal, first.frames[i]->to_frame, &first.frames[i]->matches});
    const Stopwatch again;
    const RigOptics optics = solve_rig(p, context.workers);
    rows.push_back(
        {"A3",
         fmt::format("the lens of {} frames of 200 stars ({}), chosen and solved", p.frames.size() + 1, optics.text()),
         again.seconds(), "s", 10, false});
    rows.push_back({"A4", "all of it: registered one by one, the lens, and again with it", all, "s", 20, false});
    return rows;
}

} // namespace kasane::bench
