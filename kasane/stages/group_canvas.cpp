#include <kasane/stages/group_canvas.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/units.hpp>
#include <kasane/ledger/keys.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/canvas_sky.hpp>
#include <kasane/stages/masks.hpp>
#include <kasane/stages/measure.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>

namespace kasane {

namespace {

FramingOptions framing_of(const Session& s) {
    FramingOptions o = s.recipe.canvas.framing;
    if (s.recipe.canvas.north_up) o.turn = 0;
    if (s.options.preview) o.scale *= kPreviewScale;
    return o;
}

/// What of the framing follows the lights.
bool follows_lights(const Session& s, const ReferenceGroup& group) {
    const FramingOptions& o = s.recipe.canvas.framing;
    const bool panels = !s.recipe.canvas.frame_given && known_mosaic(s, group.name);
    return panels || o.frame == Framing::everything || o.frame == Framing::common || s.recipe.canvas.north_up;
}

std::vector<const Light*> kept(const GradedLights& graded) {
    std::vector<const Light*> out;
    for (const auto& stack : graded.lights)
        for (const Light& l : stack)
            if (l.verdict.keep && l.registration && l.measures) out.push_back(&l);
    return out;
}

/// Degrees by which the picture of the reference must be turned, counter-clockwise, for north to be up in its middle.
double turn_to_north(const Session& s, const GradedLights& graded) {
    const CanvasSky sky = sky_of_canvas(s, graded, kept(graded), graded.canvas, false);
    if (!sky.world)
        throw DataError("turn = \"north up\" in [canvas], but no header of its lights says where they lie on the sky",
                        {}, "Give the turn in degrees");
    const Point middle = graded.canvas.centre();
    SkyPoint north = sky.world->to_sky(middle);
    constexpr double kStep = 0.01; // degrees
    const bool at_the_pole = north.dec + kStep > 90;
    north.dec += at_the_pole ? -kStep : kStep;
    const Point there = sky.world->to_pixel(north);
    const double sign = at_the_pole ? -1 : 1;
    return degrees(std::atan2(sign * (there.x - middle.x), -sign * (there.y - middle.y)));
}

} // namespace

namespace {

/// In pixels of the grid that the light is measured on.
std::function<bool(Point)> hidden_of(const Session& s, const Exposure& light) {
    const auto mask = mask_of(s, light);
    if (!mask) return {};
    const int cell = grid_cell(s, light);
    return [mask, cell](Point p) {
        const int x = static_cast<int>(std::lround(cell * p.x + 0.5 * (cell - 1))),
                  y = static_cast<int>(std::lround(cell * p.y + 0.5 * (cell - 1)));
        return x >= 0 && y >= 0 && x < mask->width() && y < mask->height() && (*mask)(x, y) != 0;
    };
}

} // namespace

GroupCanvas canvas_of_group(const Session& s, const GradedLights& graded) {
    FramingOptions o = framing_of(s);
    if (s.recipe.canvas.north_up) o.turn = turn_to_north(s, graded);
    if (!s.recipe.canvas.frame_given && !graded.panels.empty()) o.frame = Framing::everything;
    std::vector<FramedFrame> frames;
    bool wide = false;
    for (std::size_t k = 0; k < graded.lights.size(); ++k)
        for (const Light& l : graded.lights[k]) {
            if (!l.verdict.keep || !l.registration || !l.measures) continue;
            const std::shared_ptr<const Lens>& grid = l.registration->to_frame.canvas_lens();
            wide = wide || (grid && grid->stereographic > 0);
            frames.push_back({l.to_frame[static_cast<std::size_t>(l.main_plane())], l.measures->width,
                              l.measures->height, k, std::max(1e-12, l.contribution.information),
                              hidden_of(s, *l.exposure)});
        }
    GroupCanvas out;
    out.canvas = frame_canvas(o, graded.canvas.width, graded.canvas.height, frames);
    out.level_grid = grid_around(out.canvas, graded.canvas.width, graded.canvas.height);
    out.to_level_grid = out.level_grid.to_reference().inverse().after(out.canvas.to_reference());
    out.beyond = out.level_grid != graded.canvas;
    out.text = canvas_text(out.canvas);
    if (wide) out.text += ", in the stereographic projection, for it spans more than 40 degrees";
    if (s.recipe.canvas.north_up) out.text += ", so that north is up";
    return out;
}

void add_canvas(Key& key, const Session& s, const Calibrations& calibrations, const ReferenceGroup& group,
                const std::string& reference) {
    key.add(framing_of(s), s.recipe.canvas.north_up);
    if (follows_lights(s, group)) add_lights(key, s, calibrations, group, reference);
}

void add_lights(Key& key, const Session& s, const Calibrations& calibrations, const ReferenceGroup& group,
                const std::string& reference) {
    for (const std::size_t k : group.stacks) {
        const StackPlan& plan = s.pairing.stacks[k];
        key.add(remembered_verdicts(s, calibrations, plan, reference).value_or("not judged yet"),
                optics_identity(s, plan, reference));
        for (const LightPlan& l : plan.lights)
            key.add(measure_key(s, calibrations, l));
    }
}

} // namespace kasane
