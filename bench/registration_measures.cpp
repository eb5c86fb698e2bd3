// Registration of star lists alone: how often it is right, wrong, or says that it cannot, and how long that takes.
#include "fidelity_measures.hpp"

#include <kasane/registration/align.hpp>
#include <kasane/sky/star_views.hpp>
#include <kasane/stages/session.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <mutex>

namespace kasane::bench {

namespace {

struct Case {
    std::string what;
    sky::StarViewOptions options;
    double solved = 99.5; ///< per cent that is to be reached
    double within = 1;    ///< pixels, over the frame, corners included
};

std::vector<Case> rows() {
    std::vector<Case> all;
    const auto add = [&](const std::string& what, auto change, double solved = 99.5, double within = 1) {
        sky::StarViewOptions o;
        change(o);
        all.push_back({what, o, solved, within});
    };
    using O = sky::StarViewOptions;
    add("any turn", [](O&) {});
    add("mirrored, brightness off by 1 mag", [](O& o) { o.mirrored = 1, o.magnitudes = 1; });
    add("overlap 30 to 60 %, 40 % spurious and 20 % missing", [](O& o) {
        o.least_overlap = 0.3, o.most_overlap = 0.6, o.spurious = 0.4, o.missing = 0.2, o.magnitudes = 0.3;
    });
    add("scale 0.4 to 2.5", [](O& o) { o.least_scale = 0.4, o.most_scale = 2.5, o.magnitudes = 0.3; });
    add("scale 1.7, half the overlap",
        [](O& o) { o.least_scale = o.most_scale = 1.7, o.least_overlap = o.most_overlap = 0.5, o.magnitudes = 0.3; });
    add("clusters, overlap 30 to 100 %, scale 0.8 to 1.25", [](O& o) {
        o.clustered = 0.7, o.least_overlap = 0.3, o.least_scale = 0.8, o.most_scale = 1.25, o.magnitudes = 0.3;
    });
    add("400 stars in clusters on 1280 x 960 pixels", [](O& o) {
        o.width = 1280, o.height = 960, o.stars = 400, o.clustered = 0.7, o.least_overlap = 0.5, o.magnitudes = 0.3;
    });
    add(
        "soft stars, 0.6 px", [](O& o) { o.noise = 0.6; }, 98, 1);
    add(
        "soft stars, 1.0 px", [](O& o) { o.noise = 1.0; }, 98, 1.5);
    add(
        "soft stars, 1.5 px", [](O& o) { o.noise = 1.5; }, 98, 2);
    for (const bool turned : {false, true})
        for (const int n : {6, 8, 10})
            add(
                fmt::format("{} stars, a third spurious or missing, {}", n, turned ? "any turn" : "dithered"),
                [&](O& o) {
                    o.width = o.height = 1400;
                    o.stars = n, o.common = n - n / 3;
                    o.any_turn = turned, o.least_overlap = o.most_overlap = 0.97, o.magnitudes = 0.1;
                },
                95);
    return all;
}

std::vector<Case> distorted_rows() {
    std::vector<Case> all;
    using O = sky::StarViewOptions;
    const auto add = [&](const std::string& what, auto change) {
        sky::StarViewOptions o;
        o.width = 3000, o.height = 2000;
        change(o);
        all.push_back({what, o});
    };
    for (const double d : {0.005, 0.01, 0.02}) {
        add(fmt::format("distortion {:g} %, dithered", 100 * d),
            [d](O& o) { o.distortion = d, o.any_turn = false, o.least_overlap = 0.96, o.most_overlap = 0.99; });
        add(fmt::format("distortion {:g} %, drift of 10 % of the field", 100 * d),
            [d](O& o) { o.distortion = d, o.any_turn = false, o.least_overlap = o.most_overlap = 0.81; });
        add(fmt::format("distortion {:g} %, any turn and shift", 100 * d),
            [d](O& o) { o.distortion = d, o.least_overlap = 0.5; });
    }
    for (const double swing : {1., 5., 10.})
        for (const double d : {0.0, 0.02})
            add(fmt::format("tripod, 74 x 53 degrees, sky moved by {:g} degrees, distortion {:g} %", swing, 100 * d),
                [swing, d](O& o) {
                    o.focal = 1990, o.swing = swing, o.any_turn = false; // 3000 pixels span 74 degrees
                    o.distortion = d;
                });
    return all;
}

std::vector<Figure> measure(const std::vector<Case>& rows, const char* number, int cases, const Context& context) {
    std::vector<Figure> figures;
    for (const Case& row : rows) {
        int solved = 0, wrong = 0;
        std::vector<double> errors, times;
        std::mutex lock;
        context.workers.for_each(static_cast<std::size_t>(cases), [&](std::size_t i) {
            const sky::StarViews v = sky::star_views(row.options, 1000 + i);
            const Stopwatch clock;
            const Outcome r = register_stars(v.reference, v.frame);
            const double seconds = clock.seconds();
            const sky::TransformError e =
                r ? sky::transform_error(r->to_frame, row.options, v.truth) : sky::TransformError{};
            const std::lock_guard guard(lock);
            times.push_back(seconds);
            if (!r) return;
            const bool right = !row.options.unrelated && e.rms <= row.within;
            solved += right;
            wrong += !right;
            errors.push_back(e.rms);
        });
        std::sort(errors.begin(), errors.end());
        std::sort(times.begin(), times.end());
        const auto at = [](const std::vector<double>& v, double q) {
            return v.empty() ? 0 : v[static_cast<std::size_t>(q * static_cast<double>(v.size() - 1))];
        };
        figures.push_back(
            {number,
             fmt::format("{}: not solved of {} (median error {:.3f} px, 99 % {:.3f}; {:.1f} ms, longest {:.0f})",
                         row.what, cases, at(errors, 0.5), at(errors, 0.99), 1e3 * at(times, 0.5), 1e3 * at(times, 1)),
             row.options.unrelated ? 0 : 100.0 * (cases - solved) / cases, "%", 100 - row.solved});
        figures.push_back({number, fmt::format("{}: wrong", row.what), static_cast<double>(wrong), "cases", 0});
        if (row.options.distortion > 0 || row.options.focal > 0)
            figures.push_back(
                {number, fmt::format("{}: error of 95 % of the cases below", row.what), at(errors, 0.95), "px", 0.1});
    }
    return figures;
}

} // namespace

std::vector<Figure> registration_success(const Context& context, int cases) {
    std::vector<Case> all = rows();
    for (const auto& [stars, width, height] :
         {std::tuple{400, 1280, 960}, {400, 1936, 1096}, {200, 1936, 1096}, {30, 1280, 960}, {8, 1280, 960}}) {
        sky::StarViewOptions o;
        o.stars = stars, o.width = width, o.height = height, o.unrelated = true, o.clustered = 0.3;
        all.push_back({fmt::format("unrelated, {} stars on {} x {} pixels", stars, width, height), o});
    }
    return measure(all, "F2", cases, context);
}

std::vector<Figure> registration_through_lenses(const Context& context, int cases) {
    return measure(distorted_rows(), "F16", cases, context);
}

std::vector<Figure> panel_positions(const Context& context) {
    struct Row {
        std::string what;
        int columns, rows;
        double focal;
        int stars;
        bool known = true;
    };
    const Row rows[] = {{"3 x 3 panels of 1.4 degrees, 300 stars a light", 3, 3, 120000, 300},
                        {"2 x 1", 2, 1, 120000, 300},
                        {"5 x 4", 5, 4, 120000, 300},
                        {"3 x 3, 80 stars", 3, 3, 120000, 80},
                        {"3 x 3 of 5 degrees", 3, 3, 34000, 300},
                        {"3 x 3 of 5 degrees, focal length not told", 3, 3, 34000, 300, false}};
    std::vector<Figure> figures;
    for (const Row& row : rows) {
        sky::StarPanelOptions o;
        o.columns = row.columns, o.rows = row.rows;
        o.view.width = 3000, o.view.height = 2000;
        o.view.stars = row.stars, o.view.focal = row.focal, o.view.distortion = 0.002;
        constexpr int kCases = 5;
        std::vector<double> errors;
        int lost = 0;
        for (int seed = 0; seed < kCases; ++seed) {
            const sky::StarPanels p = sky::star_panels(o, static_cast<std::uint64_t>(seed) + 100);
            std::vector<FrameToAlign> frames;
            for (std::size_t i = 0; i < p.lists.size(); ++i)
                frames.push_back({&p.lists[i], o.view.width, o.view.height, fmt::format("{}", i), "rig",
                                  60.0 * static_cast<double>(i), row.known ? row.focal : 0});
            const Alignment found = align_frames(frames, p.middle, {}, context.workers);
            double squares = 0, count = 0;
            for (std::size_t i = 0; i < frames.size(); ++i) {
                if (!found.frames[i]) {
                    ++lost;
                    continue;
                }
                for (int y = 0; y <= 8; ++y)
                    for (int x = 0; x <= 8; ++x, ++count) {
                        const Point at{0.125 * x * (o.view.width - 1), 0.125 * y * (o.view.height - 1)};
                        const Point a = p.truth[i].unmap(at), b = found.frames[i]->to_frame.unmap(at);
                        squares += (a.x - b.x) * (a.x - b.x) + (a.y - b.y) * (a.y - b.y);
                    }
            }
            errors.push_back(std::sqrt(squares / std::max(1.0, count)));
        }
        std::sort(errors.begin(), errors.end());
        figures.push_back({"F20",
                           fmt::format("positions over {}: RMS, worst of {} mosaics (median {:.3f})", row.what, kCases,
                                       errors[errors.size() / 2]),
                           errors.back(), "px", 0.15});
        if (lost > 0) figures.push_back({"F20", fmt::format("{}: lights lost", row.what), 1.0 * lost, "", 0});
    }
    return figures;
}

} // namespace kasane::bench
