// Star colours and detail from the mosaics of colour sensors.
#include "fidelity_measures.hpp"
#include "simulated.hpp"

#include <kasane/calibration/frame_view.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/io/memory_frame.hpp>
#include <kasane/project/run.hpp>
#include <kasane/sky/truth.hpp>
#include <kasane/sky/variants.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <fstream>
#include <limits>

namespace fs = std::filesystem;

namespace kasane::bench {

namespace {

const char* const kColours[] = {"R", "G", "B"};

/// A clean night of a colour camera.
sky::Scenario colour_night() {
    sky::Scenario s = sky::demo_variant("colour").make();
    s.scene.nebula = s.scene.galaxy = 0;
    s.scene.stars = 300;
    s.instrument.hot_share = s.instrument.dead_share = 0;
    for (sky::Shot& shot : s.shots)
        shot.conditions.cosmic_rays = 0;
    return s;
}

void colours_of_a_run(const sky::Scenario& s, const char* method, const Context& context, std::vector<Figure>& out) {
    const TemporaryFolder folder;
    const fs::path project = folder.path() / "project";
    sky::write_scenario(s, project, context);
    std::ofstream(project / "kasane.toml") << "[colour]\nmethod = \"" << method << "\"\n";
    const RunReport report = run_project({project, {}, {}}, context);
    const StackReport& stack = report.stacks.at(0);
    const auto master = open_fits(fs::path(report.output) / stack.file);
    const sky::Shot* reference = nullptr;
    for (const sky::Shot* l : lights_of(s))
        if (l->path == stack.reference) reference = l;
    const sky::Scene scene = sky::make_scene(s.scene, context.workers);
    sky::Conditions still;
    still.pointing = reference->conditions.pointing;
    still.fwhm = 2.9;
    std::vector<Image> is, truth;
    for (int p = 0; p < 3; ++p) {
        is.push_back(read_plane(*master, p));
        truth.push_back(sky::render_truth(scene, kColours[p], s.instrument, still));
    }
    const Affine to_pixel = true_transform(s, *reference);
    std::vector<float> errors;
    const double seconds = reference->seconds;
    for (const sky::SceneStar& star : scene.stars) {
        double x = 0, y = 0;
        to_pixel.apply(star.x, star.y, x, y);
        const double weakest = seconds * std::min({star.rate.at("R"), star.rate.at("G"), star.rate.at("B")});
        const double strongest = seconds * std::max({star.rate.at("R"), star.rate.at("G"), star.rate.at("B")});
        if (weakest < 6000 || strongest > 400000) continue; // S/N above 200 in the stack
        constexpr double kRadius = 9;
        double ratio[3];
        for (std::size_t p = 0; p < 3; ++p)
            ratio[p] = aperture_flux(is[p].plane(), x, y, kRadius) / aperture_flux(truth[p].plane(), x, y, kRadius);
        for (const std::size_t p : {std::size_t{0}, std::size_t{2}})
            if (std::isfinite(ratio[p] / ratio[1])) errors.push_back(static_cast<float>(ratio[p] / ratio[1] - 1));
    }
    const std::size_t n = errors.size();
    const RobustStatistics stat = clipped_statistics(errors, 4);
    out.push_back({"F13", fmt::format("star colours (R/G and B/G), {}, mean error of {}", method, n),
                   100 * std::abs(static_cast<double>(stat.location)), "%", 0.5});
    out.push_back({"F13", fmt::format("the same, scatter from star to star, {} (noise included)", method),
                   100 * static_cast<double>(stat.sigma), "%", 1.0});
}

/// Peak signal to noise of a demosaiced noiseless star field, dB.
double demosaiced_psnr(const std::vector<Image>& truth, const std::string& letters, ColourMethod method) {
    const CfaPattern cfa(letters);
    Image mosaic(truth[0].width(), truth[0].height());
    for (int y = 0; y < mosaic.height(); ++y)
        for (int x = 0; x < mosaic.width(); ++x)
            mosaic(x, y) = truth[static_cast<std::size_t>(cfa.colour(x, y))](x, y);
    CalibrationSet set;
    set.cfa = cfa;
    const FrameView view(std::make_shared<const CalibratedView>(std::make_shared<MemoryFrame>(std::move(mosaic)), set),
                         method);
    Image out(view.width(), view.height(), 3);
    const std::array<View<float>, 3> planes = {out.plane(0), out.plane(1), out.plane(2)};
    view.read(view.bounds(), planes);
    double squares = 0;
    std::vector<float> values;
    for (int p = 0; p < 3; ++p)
        for (int y = 8; y < out.height() - 8; ++y)
            for (int x = 8; x < out.width() - 8; ++x) {
                const float t = truth[static_cast<std::size_t>(p)](x, y);
                squares += std::pow(out(x, y, p) - t, 2);
                values.push_back(t);
            }
    const double peak = quantile_in_place(values, 0.9999);
    return 10 * std::log10(peak * peak * static_cast<double>(values.size()) / squares);
}

} // namespace

std::vector<Figure> star_colours(const Context& context) {
    std::vector<Figure> out;
    const sky::Scenario s = colour_night();
    for (const char* method : {"adaptive", "bilinear"})
        colours_of_a_run(s, method, context, out);
    const sky::Scene scene = sky::make_scene(s.scene, context.workers);
    for (const double fwhm : {2.0, 3.0}) {
        sky::Conditions c;
        c.fwhm = fwhm;
        std::vector<Image> truth;
        for (const char* colour : kColours)
            truth.push_back(sky::render_truth(scene, colour, s.instrument, c));
        for (const char* letters : {"RGGB", "GBRG"}) {
            const double fine = demosaiced_psnr(truth, letters, ColourMethod::adaptive),
                         plain = demosaiced_psnr(truth, letters, ColourMethod::bilinear);
            out.push_back({"F13",
                           fmt::format("bilinear less adaptive PSNR ({:.1f} dB), FWHM {} px, {}", fine, fwhm, letters),
                           plain - fine, "dB", 0});
        }
    }
    return out;
}

} // namespace kasane::bench
