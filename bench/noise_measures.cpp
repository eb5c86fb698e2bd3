// F15: the noise of frames and masters as told, against what two projects that differ in nothing but their noise show.
#include "fidelity_measures.hpp"
#include "run_project.hpp"

#include <kasane/calibration/frame_view.hpp>
#include <kasane/grading/measures.hpp>
#include <kasane/integration/integrate.hpp>
#include <kasane/integration/noise_factors.hpp>
#include <kasane/normalization/levels.hpp>

#include <cmath>
#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane::bench {

namespace {

/// Standard deviation of the difference of two images over sqrt 2, by cells of 64 pixels; the median of the cells.
double noise_between(const Image& first, const Image& second, const CfaPattern& cfa, int colour) {
    constexpr int kCell = 64;
    std::vector<float> cells, values;
    for (int y = 0; y + kCell <= first.height(); y += kCell)
        for (int x = 0; x + kCell <= first.width(); x += kCell) {
            values.clear();
            for (int j = y; j < y + kCell; ++j)
                for (int i = x; i < x + kCell; ++i)
                    if (cfa.empty() || cfa.colour(i, j) == colour) values.push_back(first(i, j) - second(i, j));
            cells.push_back(clipped_statistics(values, 3).sigma / std::sqrt(2.0f));
        }
    return median_in_place(cells);
}

CalibrationSet masters_of(const Project& p, const CfaPattern& cfa) {
    CalibrationSet set;
    set.cfa = cfa;
    for (const MasterReport& m : p.report.masters) {
        if (m.role == "dark") set.dark = open_fits(fs::path(p.report.output) / m.file);
        if (m.role == "flat") set.flat = open_fits(fs::path(p.report.output) / m.file);
    }
    return set;
}

Image calibrated(const Project& p, const CalibrationSet& set, const std::string& path) {
    const CalibratedView view(open_fits(p.path() / path), set);
    Image out(view.width(), view.height());
    view.read(view.bounds(), out.plane());
    return out;
}

Affine way(const Project& p, const FrameReport& f) {
    return true_transform(p.scenario, p.light(f.path)).after(true_transform(p.scenario, p.reference()).inverse());
}

Canvas canvas_of(const Project& p) {
    return reference_canvas(p.scenario.instrument.width, p.scenario.instrument.height);
}

std::shared_ptr<const FrameView> view_of(const Project& p, const CalibrationSet& set, const std::string& path) {
    return std::make_shared<const FrameView>(std::make_shared<const CalibratedView>(open_fits(p.path() / path), set),
                                             ColourMethod::adaptive);
}

std::vector<const FrameReport*> used_of(const Project& p) {
    std::vector<const FrameReport*> out;
    for (const FrameReport& f : p.stack().frames)
        if (f.used) out.push_back(&f);
    return out;
}

/// What a run finds of all planes of a project's lights.
struct Planes {
    std::vector<StackLevels> levels;
    std::vector<ExposureMeasures> lights;
};

Planes planes_of(const Project& p, const CalibrationSet& set, const Context& context) {
    const std::vector<const FrameReport*> frames = used_of(p);
    std::vector<ExposureMeasures> measures(frames.size());
    MeasureOptions o;
    const sky::Instrument& camera = p.scenario.instrument;
    o.detect.saturation = static_cast<float>(0.9 * (camera.saturation_adu - camera.offset));
    context.workers.for_each(
        frames.size(), [&](std::size_t k) { measures[k] = measure_exposure(*view_of(p, set, frames[k]->path), o); });
    Planes out;
    for (std::size_t plane = 0; plane < measures.front().planes.size(); ++plane) {
        std::vector<LevelInput> inputs;
        for (std::size_t k = 0; k < frames.size(); ++k)
            inputs.push_back({&measures[k].planes[plane], way(p, *frames[k]), p.light(frames[k]->path).seconds,
                              camera.width, camera.height, &measures[k].streaks});
        out.levels.push_back(fit_stack_levels(inputs, canvas_of(p), context.workers));
    }
    out.lights = std::move(measures);
    return out;
}

/// The lights of `files`, with what was found of those of `told`.
MasterLight integrated(const Project& told, const Planes& planes, const Project& files, const CalibrationSet& set,
                       const Context& context) {
    std::vector<StackFrame> frames;
    for (const FrameReport* f : used_of(told)) {
        StackFrame frame;
        frame.source = view_of(files, set, f->path);
        const std::size_t k = frames.size();
        for (std::size_t p = 0; p < planes.levels.size(); ++p)
            frame.planes.push_back({way(told, *f), planes.levels[p].maps[k], planes.lights[k].planes[p].noise});
        frame.electrons_per_adu = told.scenario.instrument.gain;
        frames.push_back(std::move(frame));
    }
    std::vector<double> backgrounds;
    for (const StackLevels& plane : planes.levels)
        backgrounds.push_back(plane.background);
    return integrate(frames, canvas_of(told), backgrounds, context);
}

/// Middle of a plane, which all frames show: without a whole cell at each edge, so that patterns keep their phase.
Image middle(const Image& image, int plane) {
    constexpr int kEdge = 64;
    Image out(image.width() - 2 * kEdge, image.height() - 2 * kEdge);
    for (int y = 0; y < out.height(); ++y)
        for (int x = 0; x < out.width(); ++x)
            out(x, y) = image.plane(plane)(x + kEdge, y + kEdge);
    return out;
}

/// By how much resampling lowers the noise of a master's pixels.
double resampled(const Project& p, const CalibrationSet& set, const Planes& planes, int plane) {
    double factor = 0, weights = 0;
    std::vector<double> noise;
    for (const Measures& m : planes.lights.front().planes)
        noise.push_back(m.noise);
    const NoiseFactors factors(*view_of(p, set, p.stack().reference), noise);
    for (const FrameReport& f : p.stack().frames) {
        if (!f.used) continue;
        const double w2 = std::pow(f.weight * f.scale * f.noise, 2);
        factor += w2 * factors.factor(plane, way(p, f), canvas_of(p));
        weights += w2;
    }
    return std::sqrt(factor / weights);
}

struct Kind {
    const char* name;
    double sky; // electrons per second
    int stars;
    double fwhm;
    int calibration; // frames of each kind
    const char* cfa;
    double flat_electrons;
};

} // namespace

std::vector<Figure> told_noise(const Context& context) {
    std::vector<Figure> figures;
    for (const Kind& kind : {Kind{"dark sky, rich field", 0.4, 20000, 2.6, 16, "", 26000},
                             Kind{"bright sky, crowded field", 8, 60000, 2.2, 16, "", 26000},
                             Kind{"dark sky, sharp stars, no calibration frames", 0.8, 20000, 1.8, 0, "", 0},
                             Kind{"bright sky, dim flats", 15, 20000, 3.2, 10, "", 900},
                             Kind{"colour, rich field", 2, 20000, 3.0, 16, "RGGB", 26000}}) {
        sky::PlainOptions o;
        o.width = 960;
        o.height = 704;
        o.lights = 10;
        o.calibration = kind.calibration;
        o.stars = kind.stars;
        o.seconds = 240;
        o.fwhm = kind.fwhm;
        o.transparency_low = 0.8;
        o.nebula = 5;
        o.seed = 1500 + static_cast<std::uint64_t>(kind.stars / 100 + kind.calibration);
        sky::Scenario s = sky::plain_scenario(o);
        s.scene.faintest_rate = 0.15;
        s.scene.brightest_rate = 3000;
        s.scene.veil = 1.5;
        s.scene.texture = 0.25;
        s.instrument.hot_share = s.instrument.dead_share = 0; // nothing is repaired on the way to the truth
        if (kind.calibration == 0) { // what both projects share would be noise to the master, and none to the truth
            s.instrument.offset_pattern = s.instrument.response_spread = s.instrument.glow = 0;
            s.instrument.vignetting = 0;
            s.dust = {{}};
        }
        s.instrument.cfa = kind.cfa;
        if (!s.instrument.cfa.empty()) s.scene.filters = {"R", "G", "B"};
        for (sky::Shot& shot : s.shots) {
            if (shot.role == sky::Shot::Role::light) shot.conditions.sky = kind.sky;
            if (shot.role == sky::Shot::Role::flat) shot.flat_electrons = kind.flat_electrons;
        }
        sky::Scenario other = s;
        other.seed = s.seed + 1;
        const Project a(s, context), b(other, context, a.stack().reference);
        const CfaPattern cfa(s.instrument.cfa);
        const CalibrationSet with_a = masters_of(a, cfa), with_b = masters_of(b, cfa);
        const int main = cfa.empty() ? 0 : 1;
        double worst = 0, sum = 0, n = 0;
        double brighter =
            0; // noise in the middle, where the nebula lies, over that of the whole field, mean of the frames
        for (const FrameReport& f : a.stack().frames) {
            if (!f.used) continue;
            const Image one = calibrated(a, with_a, f.path), two = calibrated(b, with_b, f.path);
            const double truth = noise_between(one, two, cfa, main);
            brighter += noise_between(middle(one, 0), middle(two, 0), cfa, main) / truth;
            worst = std::max(worst, std::abs(f.noise / truth - 1));
            sum += f.noise / truth - 1;
            ++n;
        }
        figures.push_back({"F15",
                           fmt::format("noise of frames as told over the truth, {} ({} by their level): mean",
                                       kind.name, a.stack().noise_from_level),
                           100 * std::abs(sum / n), "%", 3});
        figures.push_back({"F15", "the worst of its frames", 100 * worst, "%", 3});
        // Both masters with the same places and levels, so that they differ in nothing but their noise.
        const Planes planes = planes_of(a, with_a, context);
        const MasterLight first = integrated(a, planes, a, with_a, context),
                          second = integrated(a, planes, b, with_b, context);
        const double truth = noise_between(middle(first.pixels, main), middle(second.pixels, main), {}, 0) /
                             (resampled(a, with_a, planes, main) * brighter / n);
        const double measured = first.noise[static_cast<std::size_t>(main)];
        figures.push_back({"F15", "noise of its master as measured (NOISE) over the truth",
                           100 * std::abs(measured / truth - 1), "%", 3});
        figures.push_back({"F15", "the same as its frames let expect (NOISEEXP)",
                           100 * std::abs(first.expected_noise[static_cast<std::size_t>(main)] / truth - 1), "%", 3});
    }
    return figures;
}

} // namespace kasane::bench
