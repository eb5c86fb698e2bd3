#include <kasane/report/json.hpp>

#include <nlohmann/json.hpp>

namespace kasane {

namespace {

nlohmann::json points_json(const std::vector<Point>& points) {
    nlohmann::json out = nlohmann::json::array();
    for (const Point& p : points)
        out.push_back({p.x, p.y});
    return out;
}

nlohmann::json frame_json(const AlignedFrame& f) {
    nlohmann::json out = {{"file", f.path},
                          {"night", f.night},
                          {"start", f.start},
                          {"registered", f.registered},
                          {"reference", f.is_reference},
                          {"stars", f.stars}};
    if (!f.registered) {
        out["why_not"] = f.text;
        return out;
    }
    out["model"] = f.model;
    out["how"] = f.way;
    out["matched"] = f.matched;
    out["residual"] = f.rms;
    out["expected"] = f.expected;
    out["order"] = f.order;
    out["shift"] = {f.shift_x, f.shift_y};
    out["turn"] = f.turn;
    out["scale"] = f.scale;
    out["mirrored"] = f.mirrored;
    out["outline"] = points_json(f.outline);
    return out;
}

nlohmann::json lens_json(const Lens* lens) {
    if (!lens) return nullptr;
    return {{"centre", {lens->centre.x, lens->centre.y}},
            {"radius", lens->radius},
            {"radial", lens->radial},
            {"decentring", lens->decentring}};
}

} // namespace

nlohmann::json to_json(const AlignReport& r) {
    nlohmann::json grids = nlohmann::json::array(), findings = nlohmann::json::array();
    for (const AlignedGrid& g : r.grids) {
        nlohmann::json stacks = nlohmann::json::array(), rigs = nlohmann::json::array();
        for (const AlignedStack& s : g.stacks) {
            nlohmann::json frames = nlohmann::json::array();
            for (const AlignedFrame& f : s.frames)
                frames.push_back(frame_json(f));
            stacks.push_back({{"name", s.name}, {"target", s.target}, {"filter", s.filter}, {"frames", frames}});
        }
        for (const AlignedRig& rig : g.rigs)
            rigs.push_back({{"name", rig.name},
                            {"frames", rig.frames},
                            {"model", rig.optics.model.text()},
                            {"told", rig.optics.frames > 0 ? rig.optics.text() : ""},
                            {"distortion_at_corner", rig.optics.corner},
                            {"residual_before", rig.optics.before},
                            {"residual", rig.optics.after},
                            {"expected", rig.optics.expected},
                            {"lens", lens_json(rig.optics.lens.get())}});
        grids.push_back({{"name", g.name},
                         {"reference", g.reference},
                         {"reference_reason", g.reason},
                         {"runners_up", g.runners_up},
                         {"width", g.width},
                         {"height", g.height},
                         {"stacks", stacks},
                         {"rigs", rigs}});
    }
    for (const Finding& f : r.findings)
        findings.push_back(to_json(f));
    return {{"folder", r.folder}, {"grids", grids}, {"findings", findings}, {"time", r.time}};
}

nlohmann::json to_json(const ImageAlignReport& r) {
    nlohmann::json images = nlohmann::json::array();
    for (const AlignedImage& i : r.images) {
        nlohmann::json out = {{"file", i.file.string()}, {"registered", i.registered}, {"stars", i.stars}};
        if (!i.registered) {
            out["why_not"] = i.text;
        } else {
            out.update({{"model", i.model},
                        {"how", i.way},
                        {"matched", i.matched},
                        {"residual", i.rms},
                        {"expected", i.expected},
                        {"shift", {i.shift_x, i.shift_y}},
                        {"turn", i.turn},
                        {"scale", i.scale},
                        {"mirrored", i.mirrored}});
            if (!i.written.empty())
                out.update({{"written", i.written.string()}, {"covered", i.covered}, {"world", i.world}});
        }
        images.push_back(std::move(out));
    }
    return {{"onto", r.onto.string()}, {"width", r.width}, {"height", r.height},
            {"stars", r.stars},        {"images", images}, {"time", r.time}};
}

} // namespace kasane
