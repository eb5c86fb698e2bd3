#include <kasane/stages/panels.hpp>

#include <kasane/frames/panel_names.hpp>
#include <kasane/registration/align.hpp>
#include <kasane/registration/panels.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/pair.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>

namespace kasane {

namespace {

/// Lights of a group by their own targets, squeezed; in order.
using Fields = std::map<std::string, std::vector<const LightPlan*>>;

Fields fields_of(const Session& s, const ReferenceGroup& group) {
    Fields out;
    for (const std::size_t k : group.stacks)
        for (const LightPlan& l : s.pairing.stacks[k].lights)
            out[squeezed(s.exposures[l.exposure].target)].push_back(&l);
    return out;
}

/// Of each field some lights, spread over all of them; without those that cannot be measured.
std::map<std::string, std::vector<std::shared_ptr<const ExposureMeasures>>> measured(Session& s, Calibrations& c,
                                                                                     const Fields& fields) {
    constexpr std::size_t kLooked = 6;
    std::map<std::string, std::vector<std::shared_ptr<const ExposureMeasures>>> out;
    for (const auto& [target, lights] : fields) {
        std::vector<const LightPlan*> some;
        const std::size_t n = std::min(kLooked, lights.size());
        for (std::size_t k = 0; k < n; ++k)
            some.push_back(lights[k * lights.size() / n]);
        for (const Measured& m : measure_lights(s, c, some))
            if (m.measures) out[target].push_back(m.measures);
    }
    return out;
}

} // namespace

void settle_panels(Session& s) {
    Calibrations calibrations(s);
    bool parted = false;
    for (const ReferenceGroup& group : reference_groups(s)) {
        const Fields fields = fields_of(s, group);
        std::string names;
        for (const auto& [target, lights] : fields)
            names += target + " ";
        const std::string settled = "panels settled/" + group.name;
        if (fields.size() < 2 || s.ledger.choice(settled) == names) continue;
        const auto looked = measured(s, calibrations, fields);
        if (looked.size() < fields.size()) continue; // another time
        std::vector<FrameToAlign> frames;
        std::vector<std::string> target_of;
        std::size_t richest = 0;
        for (const auto& [target, lights] : looked)
            for (const auto& m : lights) {
                frames.push_back({&m->main().stars, m->width, m->height, target, "rig", 0, 0});
                target_of.push_back(target);
                if (m->main().stars.size() > frames[richest].stars->size()) richest = frames.size() - 1;
            }
        s.context.progress.begin("panels", static_cast<std::int64_t>(frames.size()));
        const Alignment found = align_frames(frames, richest, {}, s.context.workers);
        s.context.progress.end();
        std::set<std::string> together;
        for (std::size_t k = 0; k < frames.size(); ++k)
            if (found.frames[k]) together.insert(target_of[k]);
        for (const auto& [target, lights] : fields)
            if (!together.count(target)) {
                keep_panel_apart(s, target);
                parted = true;
            }
        s.ledger.set_choice(settled, names);
    }
    if (parted) pair_again(s);
}

std::vector<Finding> panel_findings(const Session& s) {
    std::vector<Finding> out;
    const std::set<std::string> apart = panels_apart(s);
    for (const StackPlan& plan : s.pairing.stacks) {
        if (!apart.count(squeezed(plan.target))) continue;
        out.push_back(
            {Level::warning,
             "panel-apart",
             {},
             fmt::format("\"{}\" is named as a panel, but shares no stars with the other panels: {} becomes a "
                         "master light of its own",
                         plan.target, plan.name),
             "Take the panel between them, or leave more overlap; then they become one picture"});
    }
    return out;
}

void find_panels(GradedLights& graded) {
    std::vector<Light*> lights;
    std::vector<PanelFrame> frames;
    for (auto& stack : graded.lights)
        for (Light& l : stack) {
            l.panel = 0;
            if (!l.registration || !l.measures) continue;
            lights.push_back(&l);
            frames.push_back({l.registration->to_frame, l.measures->width, l.measures->height});
        }
    graded.panels.clear();
    const std::vector<int> panels = panels_of(frames);
    const int count = panels.empty() ? 0 : 1 + *std::max_element(panels.begin(), panels.end());
    if (count < 2) return;
    struct Place {
        Point middle{0, 0};
        int lights = 0;
        double height = 0;
        std::map<std::string, int> names;
    };
    std::vector<Place> places(static_cast<std::size_t>(count));
    for (std::size_t k = 0; k < lights.size(); ++k) {
        Place& p = places[static_cast<std::size_t>(panels[k])];
        const Point at = frames[k].to_frame.unmap({0.5 * (frames[k].width - 1), 0.5 * (frames[k].height - 1)});
        p.middle.x += at.x, p.middle.y += at.y;
        ++p.lights;
        p.height = std::max(p.height, frames[k].height / frames[k].to_frame.at(at).scale());
        ++p.names[panel_of_name(lights[k]->exposure->target).panel];
    }
    for (Place& p : places)
        p.middle.x /= p.lights, p.middle.y /= p.lights;
    // As one reads: rows from above, each from the left. A row's panels lie within half a frame of its highest.
    std::vector<std::size_t> order(places.size());
    for (std::size_t k = 0; k < order.size(); ++k)
        order[k] = k;
    const auto higher = [&](std::size_t a, std::size_t b) { return places[a].middle.y < places[b].middle.y; };
    const auto more_left = [&](std::size_t a, std::size_t b) { return places[a].middle.x < places[b].middle.x; };
    std::stable_sort(order.begin(), order.end(), higher);
    for (auto row = order.begin(); row != order.end();) {
        const Place& highest = places[*row];
        const auto end = std::find_if(row, order.end(), [&](std::size_t k) {
            return places[k].middle.y > highest.middle.y + 0.5 * highest.height;
        });
        std::stable_sort(row, end, more_left);
        row = end;
    }
    std::vector<int> number(places.size());
    std::set<std::string> taken;
    for (std::size_t k = 0; k < order.size(); ++k) {
        const Place& p = places[order[k]];
        number[order[k]] = static_cast<int>(k);
        // What all of its lights are called, and no other panel is.
        std::string name = p.names.size() == 1 ? p.names.begin()->first : std::string();
        if (name.empty() || !taken.insert(name).second) name = fmt::format("{}", k + 1);
        graded.panels.push_back({name, p.middle, p.lights});
    }
    for (std::size_t k = 0; k < lights.size(); ++k)
        lights[k]->panel = number[static_cast<std::size_t>(panels[k])];
}

} // namespace kasane
