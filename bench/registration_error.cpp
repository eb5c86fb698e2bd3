// How far registration is from the truth over the whole frame, from pixels on: rendered, measured, aligned.
#include "fidelity_measures.hpp"
#include "simulated.hpp"

#include <kasane/calibration/calibrated_view.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/registration/align.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

struct Case {
    std::string what;
    sky::PlainOptions options;
    double distortion = 0; ///< at the corner, of the lens
    double swing = 0;      ///< degrees that the sky turns over a camera that stands still, 74 degrees wide
    double goal = 0.05;    ///< pixels
};

std::vector<Case> cases() {
    std::vector<Case> all;
    sky::PlainOptions o;
    o.width = 1200;
    o.height = 800;
    o.calibration = 0;
    o.fwhm_spread = 0.3;
    o.transparency_low = 0.7;
    for (const int stars : {40, 200, 1000}) {
        o.lights = 8;
        o.stars = stars;
        o.rotation = 25;
        o.flip = true;
        o.dither = 40;
        o.seed = 100 + static_cast<std::uint64_t>(stars);
        all.push_back({fmt::format("about {} stars, turned and flipped", stars), o, 0, 0, stars > 500 ? 0.03 : 0.05});
    }
    o.lights = 12;
    o.stars = 200;
    o.flip = false;
    for (const double distortion : {0.005, 0.01, 0.02}) {
        o.rotation = 180;
        o.seed = 400 + static_cast<std::uint64_t>(1000 * distortion);
        all.push_back({fmt::format("about 200 stars, a lens of {:g} % at the corner, any turn", 100 * distortion), o,
                       distortion, 0, 0.1});
    }
    o.rotation = 0;
    o.dither = 0;
    for (const double distortion : {0., 0.02})
        all.push_back(
            {fmt::format("about 200 stars, a tripod, 74 degrees wide, a lens of {:g} % at the corner, the sky "
                         "turned by 10 degrees",
                         100 * distortion),
             o, distortion, 10, 0.1});
    return all;
}

sky::Scenario scenario_of(const Case& c) {
    sky::Scenario s = sky::plain_scenario(c.options);
    s.scene.faintest_rate = c.options.stars > 500 ? 6 : 40;
    s.scene.margin = c.options.rotation > 90 || c.swing > 0 ? 500 : s.scene.margin;
    s.instrument.hot_share = 0;
    const double w = c.options.width, h = c.options.height;
    if (c.distortion > 0) // its axis is not quite the frame's, and it has a term of higher order
        s.instrument.lens =
            Lens{{0.505 * w, 0.49 * h}, 0.5 * std::hypot(w, h), {1.2 * c.distortion, -0.2 * c.distortion, 0}, {0, 0}};
    int i = 0;
    for (sky::Shot& shot : s.shots) {
        if (shot.role != sky::Shot::Role::light) continue;
        constexpr double kHalfWidth = 37; // degrees
        if (c.swing > 0)
            shot.conditions.pointing.sky =
                sky::sky_turn(0.5 * w / std::tan(kHalfWidth * M_PI / 180), 0.2 * w, -1.2 * h,
                              c.swing * (static_cast<double>(i) / (c.options.lights - 1) - 0.5));
        ++i;
    }
    return s;
}

} // namespace

std::vector<Figure> registration_error(const Context& context) {
    std::vector<Figure> figures;
    for (const Case& c : cases()) {
        const sky::Scenario s = scenario_of(c);
        const TemporaryFolder folder;
        sky::write_scenario(s, folder.path(), context);
        const auto lights = lights_of(s);
        std::vector<Measures> measures(lights.size());
        context.workers.for_each(lights.size(), [&](std::size_t i) {
            const auto view =
                std::make_shared<const CalibratedView>(open_frame(folder.path() / lights[i]->path), CalibrationSet{});
            measures[i] = measure_exposure(view, {.detect = {.electrons_per_adu = s.instrument.gain}}).main();
        });
        std::vector<FrameToAlign> frames;
        for (std::size_t i = 0; i < lights.size(); ++i)
            frames.push_back({&measures[i].stars, c.options.width, c.options.height, lights[i]->path, "rig",
                              static_cast<double>(i)});
        const std::size_t reference = c.swing > 0 ? lights.size() / 2 : 0;
        const Alignment found = align_frames(frames, reference, {}, context.workers);
        double squares = 0, worst = 0;
        int n = 0, failed = 0;
        const auto pointing = [&](std::size_t i) -> const sky::Pointing& { return lights[i]->conditions.pointing; };
        for (std::size_t i = 0; i < lights.size(); ++i) {
            if (i == reference) continue;
            if (!found.frames[i]) {
                ++failed;
                continue;
            }
            constexpr int kGrid = 40; // nodes along the width, the corners among them
            for (int k = 0; k < (kGrid + 1) * (kGrid + 1); ++k) {
                const Point p{(c.options.width - 1.0) * (k % (kGrid + 1)) / kGrid,
                              (c.options.height - 1.0) * (k / (kGrid + 1)) / kGrid};
                const Point truth =
                    sky::pixel_of(pointing(i), s.instrument, sky::scene_at(pointing(reference), s.instrument, p));
                if (!(truth.x >= 0 && truth.y >= 0 && truth.x <= c.options.width - 1.0 &&
                      truth.y <= c.options.height - 1.0))
                    continue;
                const Point q = found.frames[i]->to_frame.map(p);
                const double error = std::hypot(truth.x - q.x, truth.y - q.y);
                squares += error * error;
                worst = std::max(worst, error);
                ++n;
            }
        }
        figures.push_back({"F1",
                           fmt::format("registration error over the frame, {}{} (largest {:.3f})", c.what,
                                       failed ? fmt::format(", {} failed", failed) : "", worst),
                           std::sqrt(squares / std::max(1, n)), "px RMS", c.goal});
    }
    return figures;
}

} // namespace kasane::bench
