#include <kasane/report/json.hpp>

#include <cmath>
#include <nlohmann/json.hpp>

namespace kasane {

namespace {

nlohmann::json number(double v) {
    return std::isfinite(v) ? nlohmann::json(v) : nlohmann::json(nullptr);
}

nlohmann::json figures_json(const Figures& figures) {
    nlohmann::json out;
    for (int m = 0; m < kMeasures; ++m)
        out[measure_info(static_cast<Measure>(m)).name] = number(figures[static_cast<Measure>(m)]);
    return out;
}

nlohmann::json prediction_json(const Prediction& p) {
    return {{"frames", p.frames},
            {"seconds", p.seconds},
            {"effective_seconds", p.effective_seconds},
            {"noise", p.noise},
            {"fwhm", p.fwhm}};
}

nlohmann::json frame_json(const FrameGrade& f) {
    nlohmann::json zones = nlohmann::json::array(), streaks = nlohmann::json::array();
    for (const Zone& z : f.shape.zones)
        zones.push_back({{"stars", z.stars}, {"fwhm", z.fwhm}, {"eccentricity", z.eccentricity}, {"angle", z.angle}});
    for (const Streak& s : f.streaks)
        streaks.push_back({s.x0, s.y0, s.x1, s.y1});
    return {{"file", f.path},
            {"content", f.content},
            {"night", f.night},
            {"filter", f.filter},
            {"panel", f.panel},
            {"kin", f.kin},
            {"start", f.start},
            {"measures", figures_json(f.figures)},
            {"zones", zones},
            {"tilt_angle", f.shape.tilt_angle},
            {"streaks", streaks},
            {"keep", f.verdict.keep},
            {"by", author_name(f.verdict.author)},
            {"reason", f.verdict.reason},
            {"limits", f.verdict.limits},
            {"note", f.decision ? f.decision->note : ""}};
}

} // namespace

nlohmann::json to_json(const GradeReport& r) {
    nlohmann::json stacks = nlohmann::json::array(), drifts = nlohmann::json::array(),
                   findings = nlohmann::json::array();
    for (const StackGrade& s : r.stacks) {
        nlohmann::json frames = nlohmann::json::array(), limits = nlohmann::json::array(),
                       nights = nlohmann::json::array(), curve = nlohmann::json::array();
        for (const FrameGrade& f : s.frames)
            frames.push_back(frame_json(f));
        for (const LimitEffect& e : s.limits)
            limits.push_back({{"limit", limit_text(e.limit)},
                              {"drops", e.drops},
                              {"alone", e.alone},
                              {"without", prediction_json(e.without)},
                              {"looser", prediction_json(e.looser)},
                              {"tighter", prediction_json(e.tighter)}});
        for (const NightGrade& n : s.nights)
            nights.push_back({{"night", n.night},
                              {"frames", n.frames},
                              {"kept", n.kept},
                              {"seconds", n.seconds},
                              {"kept_seconds", n.kept_seconds},
                              {"effective_seconds", n.effective_seconds},
                              {"fwhm", n.fwhm},
                              {"transparency", n.transparency},
                              {"background", n.background}});
        for (const Prediction& p : s.curve)
            curve.push_back(prediction_json(p));
        stacks.push_back({{"name", s.name},
                          {"target", s.target},
                          {"filter", s.filter},
                          {"arcsec_per_pixel", s.arcsec},
                          {"frames", frames},
                          {"limits", limits},
                          {"nights", nights},
                          {"all", prediction_json(s.all)},
                          {"kept", prediction_json(s.kept)},
                          {"curve", curve}});
    }
    for (const NightDrift& d : r.drifts)
        drifts.push_back({{"night", d.night},
                          {"sensor", d.sensor},
                          {"x_rate", d.drift.x_rate},
                          {"y_rate", d.drift.y_rate},
                          {"rotation_rate", d.drift.rotation_rate},
                          {"scatter", d.drift.scatter},
                          {"period", d.drift.period},
                          {"amplitude", d.drift.amplitude},
                          {"diagnosis", d.drift.diagnosis}});
    for (const Finding& f : r.findings)
        findings.push_back(to_json(f));
    return {{"folder", r.folder}, {"limits", r.limits},   {"stacks", stacks},
            {"drifts", drifts},   {"findings", findings}, {"time", r.time}};
}

} // namespace kasane
