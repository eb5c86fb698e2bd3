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
#include <iterator>
#include <map>
#include <set>

namespace kasane {

namespace {

/// Lights by their own targets, squeezed; in order.
using Fields = std::map<std::string, std::vector<const LightPlan*>>;

/// Of every target that panels seem to make.
std::map<std::string, Fields> fields_of(const Session& s) {
    std::map<std::string, Fields> out;
    for (const StackPlan& plan : s.pairing.stacks)
        for (const LightPlan& l : plan.lights) {
            const std::string& target = s.exposures[l.exposure].target;
            out[squeezed(panel_of_name(target).target)][squeezed(target)].push_back(&l);
        }
    return out;
}

struct MeasuredLight {
    std::shared_ptr<const ExposureMeasures> measures;
    std::string rig;
};

/// Of each field some lights, spread over all of them; without those that cannot be measured.
std::map<std::string, std::vector<MeasuredLight>> measured(Session& s, Calibrations& c, const Fields& fields) {
    constexpr std::size_t kLooked = 6;
    std::map<std::string, std::vector<MeasuredLight>> out;
    for (const auto& [target, lights] : fields) {
        std::vector<const LightPlan*> some;
        const std::size_t n = std::min(kLooked, lights.size());
        for (std::size_t k = 0; k < n; ++k)
            some.push_back(lights[k * lights.size() / n]);
        const std::vector<Measured> all = measure_lights(s, c, some);
        for (std::size_t k = 0; k < all.size(); ++k)
            if (all[k].measures) out[target].push_back({all[k].measures, rig_of(s, s.exposures[some[k]->exposure])});
    }
    return out;
}

struct Looked {
    std::string target;
    FrameToAlign frame;
};

/// Those that come onto each other, by target; the richest leads.
std::set<std::string> linked(const std::vector<Looked>& all, const Workers& workers) {
    std::vector<FrameToAlign> frames;
    std::size_t richest = 0;
    for (const Looked& l : all) {
        frames.push_back(l.frame);
        if (l.frame.stars->size() > frames[richest].stars->size()) richest = frames.size() - 1;
    }
    const Alignment found = align_frames(frames, richest, {}, workers);
    std::set<std::string> out;
    for (std::size_t k = 0; k < all.size(); ++k)
        if (found.frames[k]) out.insert(all[k].target);
    return out;
}

} // namespace

void settle_panels(Session& s) {
    Calibrations calibrations(s);
    const auto before = panels_apart(s);
    for (const auto& [stem, fields] : fields_of(s)) {
        std::string names;
        for (const auto& [target, lights] : fields)
            names += target + " ";
        const std::string settled = "panels settled/" + stem;
        if (fields.size() < 2 || s.ledger.choice(settled) == names) continue;
        const auto measures = measured(s, calibrations, fields);
        if (measures.size() < fields.size()) continue; // another time
        std::vector<Looked> open;
        for (const auto& [target, lights] : measures)
            for (const auto& [m, rig] : lights)
                open.push_back({target, {&m->main().stars, m->width, m->height, target, rig, 0, 0}});
        s.context.progress.begin("panels", static_cast<std::int64_t>(open.size()));
        std::vector<std::set<std::string>> parts;
        while (!open.empty()) {
            parts.push_back(linked(open, s.context.workers));
            const std::size_t count = open.size();
            std::erase_if(open, [&](const Looked& l) { return parts.back().count(l.target) > 0; });
            s.context.progress.advance(static_cast<std::int64_t>(count - open.size()));
        }
        s.context.progress.end();
        const auto largest = std::max_element(parts.begin(), parts.end(),
                                              [](const auto& a, const auto& b) { return a.size() < b.size(); });
        s.ledger.together([&] {
            for (const auto& part : parts)
                for (const std::string& target : part)
                    set_panel_apart(s, target, &part == &*largest ? "" : *part.begin());
            s.ledger.set_choice(settled, names);
        });
    }
    if (panels_apart(s) != before) pair_again(s);
}

namespace {

/// Panels that another camera took than the rest, and that so do not become one picture with them.
void tell_of_other_cameras(const Session& s, std::vector<Finding>& out) {
    if (s.recipe.rigs_together) return;
    using Names = std::set<std::string>;                         // of their own targets
    std::map<std::string, std::map<std::string, Names>> cameras; // by target, by camera
    for (const StackPlan& plan : s.pairing.stacks)
        for (const LightPlan& l : plan.lights) {
            const Exposure& e = s.exposures[l.exposure];
            if (squeezed(e.target) != squeezed(plan.target)) cameras[plan.target][plan.sensor].insert(e.target);
        }
    for (const auto& [target, by_camera] : cameras) {
        const auto most = std::max_element(by_camera.begin(), by_camera.end(), [](const auto& a, const auto& b) {
            return a.second.size() < b.second.size();
        });
        for (const auto& [camera, fields] : by_camera) {
            Names alone;
            std::set_difference(fields.begin(), fields.end(), most->second.begin(), most->second.end(),
                                std::inserter(alone, alone.end()));
            if (camera == most->first || alone.empty()) continue;
            out.push_back({Level::note,
                           "panel-of-other-camera",
                           {},
                           fmt::format("\"{}\" {} taken by another camera ({}) than other panels of {}: {} on their "
                                       "grid, but in a master light of {} own",
                                       fmt::join(alone, "\" and \""), alone.size() > 1 ? "were" : "was", camera, target,
                                       alone.size() > 1 ? "they lie" : "it lies", alone.size() > 1 ? "their" : "its"),
                           "rigs = \"together\" in [pairing] makes one picture of them"});
        }
    }
}

} // namespace

std::vector<Finding> panel_findings(const Session& s) {
    std::vector<Finding> out;
    std::map<std::string, std::vector<std::string>> parts; // their stacks
    std::map<std::string, std::set<std::string>> shown;    // their targets
    const auto apart = panels_apart(s);
    for (const StackPlan& plan : s.pairing.stacks) {
        const std::string& target = s.exposures[plan.lights.front().exposure].target;
        const auto part = apart.find(squeezed(target));
        if (part == apart.end()) continue;
        parts[part->second].push_back(plan.name);
        for (const LightPlan& l : plan.lights)
            shown[part->second].insert(s.exposures[l.exposure].target);
    }
    tell_of_other_cameras(s, out);
    for (const auto& [part, stacks] : parts) {
        const bool several = shown[part].size() > 1;
        out.push_back(
            {Level::warning,
             "panel-apart",
             {},
             fmt::format("\"{}\" {} of a mosaic, but {} no stars with the other panels: {} {} of {} alone",
                         fmt::join(shown[part], "\" and \""), several ? "are named as panels" : "is named as a panel",
                         several ? "share" : "shares", fmt::join(stacks, " and "), stacks.size() > 1 ? "are" : "is",
                         several ? "them" : "it"),
             "Take the panel between them, or leave more overlap; then all become one picture"});
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
    const int count = count_panels(panels);
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

int middle_panel(const GradedLights& graded) {
    if (graded.panels.empty()) return -1;
    Point low = graded.panels.front().middle, high = low;
    for (const Panel& p : graded.panels) {
        low = {std::min(low.x, p.middle.x), std::min(low.y, p.middle.y)};
        high = {std::max(high.x, p.middle.x), std::max(high.y, p.middle.y)};
    }
    const auto off = [&](const Panel& p) {
        return std::hypot(p.middle.x - 0.5 * (low.x + high.x), p.middle.y - 0.5 * (low.y + high.y));
    };
    const auto nearest = std::min_element(graded.panels.begin(), graded.panels.end(),
                                          [&](const Panel& a, const Panel& b) { return off(a) < off(b); });
    return static_cast<int>(nearest - graded.panels.begin());
}

} // namespace kasane
