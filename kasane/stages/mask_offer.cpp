#include <kasane/stages/mask_offer.hpp>

#include <kasane/grading/landscape.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/masks.hpp>

#include <cmath>
#include <fmt/format.h>
#include <map>
#include <utility>

namespace kasane {

void offer_masks(Session& s, const std::vector<std::vector<Light>>& all) {
    struct Camera {
        std::vector<const std::vector<Star>*> frames;
        const Light* first = nullptr;
    };
    std::map<std::pair<std::string, std::string>, Camera> cameras; // by night and rig
    for (const auto& lights : all)
        for (const Light& l : lights) {
            if (!l.measures || !mask_key(s, *l.exposure).empty()) continue;
            Camera& c = cameras[{l.exposure->night, rig_of(s, *l.exposure)}];
            if (!c.first) c.first = &l;
            c.frames.push_back(&l.measures->main().stars);
        }
    for (const auto& [where, c] : cameras) {
        const int cell = grid_cell(s, *c.first->exposure);
        const LandscapeGuess g = guess_landscape(c.frames, c.first->measures->width, c.first->measures->height);
        if (g.hidden.empty()) continue;
        std::string polygons;
        for (const Polygon& p : g.hidden) {
            polygons += polygons.empty() ? "[" : ", [";
            for (std::size_t i = 0; i < p.size(); ++i)
                polygons += fmt::format("{}{}, {}", i ? ", " : "", std::lround(cell * p[i].first),
                                        std::lround(cell * p[i].second));
            polygons += "]";
        }
        s.report.findings.push_back(
            {Level::note,
             "landscape-suspected",
             {c.first->exposure->path},
             fmt::format("no light{} ever shows a star in {:.0f} % of the frame, along its edge: trees, a roof or "
                         "the ground may stand there",
                         where.first.empty() ? "" : " of the night " + where.first, 100 * g.share),
             fmt::format("If so, leave that part out: in kasane.toml, a [[files]] with match for these lights and "
                         "hide = [{}], or a mask",
                         polygons)});
    }
}

} // namespace kasane
