// F18: the depth of the same lights, drizzled and interpolated, as a comparison of both masters tells it.
#include "fidelity_measures.hpp"
#include "run_project.hpp"

#include <kasane/project/compare_images.hpp>

#include <cmath>
#include <fmt/format.h>

namespace kasane::bench {

namespace {

struct Kind {
    const char* name;
    double fwhm, transparency_low;
    int lights;
    const char* cfa;
    const char* drizzle; ///< of the recipe
};

} // namespace

std::vector<Figure> compared_depth(const Context& context) {
    std::vector<Figure> figures;
    std::uint64_t seed = 1800;
    for (const Kind& kind :
         {Kind{"sharp stars", 1.3, 0.95, 36, "", "scale = 2"},
          Kind{"sharp stars, restored", 1.3, 0.95, 36, "", "scale = 2\nrestore = true"},
          Kind{"sharp stars, unequal lights", 1.4, 0.5, 30, "", "scale = 2"},
          Kind{"usual stars", 2.2, 0.8, 24, "", "scale = 1.5"}, Kind{"colour", 1.8, 0.8, 36, "RGGB", "scale = 1"}}) {
        sky::PlainOptions o;
        o.width = 720, o.height = 540;
        o.lights = kind.lights, o.calibration = 12;
        o.stars = 900, o.seconds = 180;
        o.nebula = 1, o.rotation = 1, o.dither = 8;
        o.fwhm = kind.fwhm, o.transparency_low = kind.transparency_low;
        o.seed = ++seed;
        sky::Scenario s = sky::plain_scenario(o);
        s.instrument.cfa = kind.cfa;
        if (!s.instrument.cfa.empty()) s.scene.filters = {"R", "G", "B"};
        Project p(std::move(s), context);
        const std::filesystem::path plain = p.folder.path() / "interpolated.fits";
        std::filesystem::copy_file(std::filesystem::path(p.report.output) / p.stack().file, plain);
        std::ofstream(p.path() / "kasane.toml") << "[drizzle]\n" << kind.drizzle << "\n";
        const RunReport again = run_project({p.path(), {}, {}}, context);
        const std::filesystem::path fine = std::filesystem::path(again.output) / again.stacks.front().file;
        const CompareReport r = compare_images({{plain, fine}, {}}, context);
        const ImageJudgement &a = r.images.front().told, &b = r.images.back().told;
        figures.push_back({"F18", fmt::format("depth drizzled over interpolated, {}", kind.name),
                           100 * std::abs(b.depth / a.depth - 1), "%", 2});
    }
    return figures;
}

} // namespace kasane::bench
