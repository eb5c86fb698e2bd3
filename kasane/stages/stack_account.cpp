#include <kasane/stages/stack_account.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/stages/cameras.hpp>
#include <kasane/stages/stack_basis.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace kasane {

namespace {

/// Of each camera that took part one light.
std::vector<const Light*> first_of_each_sensor(const Assembly& a) {
    std::vector<const Light*> out;
    std::set<std::string> seen;
    for (const Light* l : a.lights)
        if (seen.insert(sensor_key(*l->exposure)).second) out.push_back(l);
    return out;
}

/// Of the plane that stands for the stack.
std::string levels_text(const Assembly& a, bool panels) {
    const StackLevels& l = a.levels[static_cast<std::size_t>(a.lights.front()->main_plane())];
    std::vector<float> errors, stars;
    std::size_t leading = 0, by_time = 0;
    for (std::size_t k = 0; k < a.lights.size(); ++k) {
        leading += l.shares[k] > 0;
        const StarScale& scale = l.scales[k];
        by_time += scale.stars == 0;
        errors.push_back(static_cast<float>(scale.error));
        stars.push_back(static_cast<float>(scale.stars));
    }
    if (l.model == LevelModel::none) return "none: lights as they are";
    constexpr double kLevel = 1e-6; // ADU: as panels are made
    std::string text = fmt::format("{}; factors by {:.0f} common stars, known to {:.2g} %", level_model_name(l.model),
                                   median_in_place(stars), 100 * median_in_place(errors));
    if (by_time == a.lights.size())
        text = fmt::format("{}; factors by the exposure times", level_model_name(l.model));
    else if (by_time)
        text += fmt::format(" ({} by the exposure times: too few stars)", by_time);
    if (panels && l.gradient < kLevel)
        text += fmt::format("; {} lights share it, joined where they overlap, so that the sky does not slope from edge "
                            "to edge",
                            a.lights.size());
    else if (a.lights.size() > 1)
        text +=
            fmt::format("; the level is that of {} of {} lights together, its sky slopes by {:.3g} ADU from edge to "
                        "edge (the steepest of them by {:.3g})",
                        leading, a.lights.size(), l.gradient, l.steepest);
    return text;
}

void describe_frame_noise(const Assembly& a, StackReport& report) {
    for (const Light* l : a.lights) {
        const Measures& m = l->measures->main();
        report.noise_from_level += m.noise_from_level;
        report.flat_noise_share = std::max(report.flat_noise_share, m.flat_noise_share);
    }
    constexpr double kMuch = 0.05; // as much as a tenth of the exposure
    if (report.flat_noise_share > kMuch)
        report.doubts.push_back({"flat-adds-noise",
                                 {},
                                 fmt::format("the flats of {} raise the noise of its lights by up to {:.0f} %",
                                             report.name, 100 * report.flat_noise_share),
                                 "Take more flats, or brighter ones"});
}

std::string described_registration(const StackReport& report) {
    std::string out;
    for (const std::string& optics : report.optics)
        out += "; " + optics;
    return report.world.empty() ? out : out + "; position on the sky " + report.world;
}

/// Those that were rejected much more than the others, with what may be behind it.
void doubt_much_rejected(const std::map<const Light*, FrameReport>& used, StackReport& report) {
    constexpr double kMuch = 0.05, kBeyondOthers = 4; // share of its samples; times the median of all
    constexpr std::size_t kLeast = 4;                 // lights among which one can stand out
    if (used.size() < kLeast) return;
    for (const bool high : {true, false}) {
        std::vector<float> shares;
        for (const auto& [light, f] : used)
            shares.push_back(static_cast<float>(high ? f.rejected_high : f.rejected_low));
        const double limit = std::max<double>(kMuch, kBeyondOthers * median_in_place(shares));
        for (const auto& [light, f] : used) {
            const double share = high ? f.rejected_high : f.rejected_low;
            if (share <= limit) continue;
            report.doubts.push_back(
                {"much-rejected",
                 {f.path},
                 fmt::format("{:.0f} % of its samples were rejected because they lie {} the others: {}", 100 * share,
                             high ? "above" : "below",
                             high ? "the edge of a lit cloud, a bright trail, or its level?"
                                  : "something before the sky, or its level?"),
                 "Look at it with 'kasane review'"});
        }
    }
}

} // namespace

FrameReport StackAccount::report_of(const Light& l) const {
    FrameReport r;
    const auto name = [&](const std::optional<std::size_t>& m) {
        return m && s_.masters[*m] ? s_.pairing.masters[*m].name : "";
    };
    r.path = l.exposure->path;
    r.identity = l.exposure->identity;
    r.night = l.exposure->night;
    r.used = l.verdict.keep;
    if (!graded_.panels.empty() && l.registration) r.panel = graded_.panels[static_cast<std::size_t>(l.panel)].name;
    r.unread = l.unread;
    r.reason = l.verdict.reason;
    r.by_hand = l.verdict.author == Author::person;
    r.seconds = l.exposure->seconds.value_or(0);
    r.dark = name(l.plan->dark);
    r.flat = name(l.plan->flat);
    if (!l.measures) return r;
    const Measures& m = l.measures->main();
    r.own_defects = static_cast<int>(l.measures->own.defects.size());
    r.stars = static_cast<int>(std::lround(m.count));
    r.fwhm = m.fwhm;
    r.eccentricity = m.eccentricity;
    r.background = m.background;
    r.noise = m.noise;
    if (!l.registration) return r;
    r.matched = l.registration->matched;
    r.rms = l.registration->rms;
    r.expected_rms = l.registration->expected;
    r.registered_by = l.registration->model.text();
    r.registered_how = l.registration->way;
    if (graded_.panels.empty()) {
        const Point middle = graded_.canvas.centre();
        const Point there = l.registration->to_frame.map(middle);
        r.rotation = l.registration->to_frame.at(middle).rotation();
        r.shift_x = there.x - 0.5 * (l.measures->width - 1);
        r.shift_y = there.y - 0.5 * (l.measures->height - 1);
    } else { // the middle may lie far beyond what its lens is known for
        r.rotation = l.pose.rotation;
        r.shift_x = -l.pose.x;
        r.shift_y = -l.pose.y;
    }
    r.transparency = std::isfinite(l.figures[Measure::transparency]) ? l.figures[Measure::transparency] : 0;
    r.worth = l.contribution.worth;
    return r;
}

double StackAccount::electrons_of(const Light& l) const {
    const NoiseModel model = noise_model(s_, *l.exposure);
    if (model.electrons_per_adu > 0) return model.electrons_per_adu;
    const Measures& m = l.measures->main();
    const bool offset_known = l.plan->dark || l.plan->bias || l.plan->offset_level;
    if (!offset_known || !(m.background > 0) || !(m.noise > 0)) return 0;
    // What the dark held made noise too, where the level without light is known.
    double dark = 0;
    if (l.plan->dark && s_.masters[*l.plan->dark] && l.exposure->black_level)
        dark = std::max(0.0, s_.masters[*l.plan->dark]->report.level - *l.exposure->black_level);
    return (m.background + dark) / (m.noise * m.noise);
}

double StackAccount::level_without_light(const Light& l) const {
    if (l.plan->dark && s_.masters[*l.plan->dark]) return s_.masters[*l.plan->dark]->report.level;
    return l.plan->offset_level.value_or(0);
}

void StackAccount::describe_defects(const Assembly& a, StackReport& report) const {
    DefectCounts c;
    for (const Light* l : first_of_each_sensor(a)) {
        const DefectCounts one = calibrations_.defect_counts(*l->plan);
        c.hot += one.hot, c.cold += one.cold, c.dead += one.dead, c.columns += one.columns, c.rows += one.rows;
    }
    std::size_t own = 0;
    for (const Light* l : a.lights)
        own += l->measures->own.defects.size();
    std::vector<std::string> parts;
    const auto part = [&](auto n, const char* what) {
        if (n > 0) parts.push_back(fmt::format("{} {}", n, what));
    };
    part(c.hot, "hot");
    part(c.cold, "cold");
    part(c.dead, "dead");
    part(c.columns, "columns");
    part(c.rows, "rows");
    if (own) parts.push_back(fmt::format("{} a light by itself", own / a.lights.size()));
    report.defects = fmt::format("{}", fmt::join(parts, ", "));
}

void StackAccount::describe_noise_model(const Assembly& a, StackReport& report) const {
    for (const Light* l : first_of_each_sensor(a)) {
        const NoiseModel model = noise_model(s_, *l->exposure);
        const double electrons = electrons_of(*l);
        const std::string source = !model.source.empty() ? model.source
                                   : electrons > 0       ? "the sky's own noise"
                                                         : "unknown";
        if (report.noise_model.empty()) {
            report.electrons_per_adu = electrons;
            report.noise_model = source;
        } else {
            report.noise_model += fmt::format("; {:.3g} e-/ADU by {}", electrons, source);
        }
    }
}

/// The steps that made a master light: as planned, of the lights that were used, and what the integration tells.
Provenance StackAccount::made(const Assembly& a, const Basis& basis, const MasterLight& master,
                              const StackReport& report, const std::map<const Light*, FrameReport>& used) const {
    Provenance made = basis.planned();
    Provenance::Step& gather = made.step("gather");
    gather.inputs.clear();
    for (const Light* l : a.lights) {
        const FrameReport& f = used.at(l);
        gather.inputs.push_back({Provenance::Input::Kind::exposure, f.identity, f.path,
                                 fmt::format("weight {:.5f} scale {:.5f}", f.weight, f.scale)});
    }
    Provenance::Step& calibrate = made.step("calibrate");
    std::erase_if(calibrate.inputs, [](const Provenance::Input& m) { return m.identity == kNotMade; });
    std::vector<std::string> masters;
    for (const Provenance::Input& m : calibrate.inputs)
        masters.push_back(m.name);
    calibrate.text = masters.empty() ? "no masters, defects repaired"
                                     : fmt::format("with {}; defects repaired", fmt::join(masters, ", "));
    made.step("register").text = "onto the grid of " + graded_.reference_path;
    made.merge(master.made);
    made.step("level").text = levels_text(a, !graded_.panels.empty());
    made.step("combine").text = report.combination;
    made.step("combine").set("weights", report.weights);
    made.step("register").text += described_registration(report);
    return made;
}

/// Weights, worths and seconds of the lights that were used.
std::map<const Light*, FrameReport> StackAccount::used(const Assembly& a, const MasterLight& master,
                                                       StackReport& report) const {
    std::vector<double> infos, seconds;
    for (std::size_t i = 0; i < a.frames.size(); ++i) {
        const StackPlane& plane = a.frames[i].planes[static_cast<std::size_t>(a.lights[i]->main_plane())];
        infos.push_back(information(plane.level.scale.value, plane.noise) *
                        pixel_density(plane.to_frame, a.frames[i].source->width(), a.frames[i].source->height()));
        seconds.push_back(a.lights[i]->exposure->seconds.value_or(0));
    }
    // Each panel by itself: what lies elsewhere takes nothing from it.
    std::vector<double> worth(infos.size());
    for (int panel = 0; panel < std::max(1, static_cast<int>(graded_.panels.size())); ++panel) {
        std::vector<double> its_infos, its_seconds;
        for (std::size_t i = 0; i < infos.size(); ++i)
            if (a.lights[i]->panel == panel) its_infos.push_back(infos[i]), its_seconds.push_back(seconds[i]);
        const std::vector<double> its = worths(its_infos, its_seconds);
        auto next = its.begin();
        for (std::size_t i = 0; i < infos.size(); ++i)
            if (a.lights[i]->panel == panel) worth[i] = *next++;
    }
    std::map<const Light*, FrameReport> out;
    for (std::size_t i = 0; i < a.frames.size(); ++i) {
        const Light& l = *a.lights[i];
        FrameReport r = report_of(l);
        const auto main = static_cast<std::size_t>(l.main_plane());
        r.scale = a.frames[i].planes[main].level.scale.value;
        r.scale_error = a.levels[main].scales[i].error;
        r.length = a.frames[i].length;
        r.worth = std::isfinite(worth[i]) ? worth[i] : 0;
        r.weight = master.weights[static_cast<std::size_t>(l.main_plane())][i];
        const FrameShare& fared = master.shares[i];
        const auto all = static_cast<double>(std::max<std::uint64_t>(1, fared.samples + fared.streaks));
        r.rejected_low = static_cast<double>(fared.low) / all;
        r.rejected_high = static_cast<double>(fared.high) / all;
        r.under_streaks = static_cast<double>(fared.streaks) / all;
        r.dark_note = calibrations_.dark_share(*l.plan).reason;
        report.seconds_total += seconds[i];
        if (std::isfinite(worth[i])) report.seconds_effective += seconds[i] * worth[i];
        out.emplace(&l, std::move(r));
    }
    doubt_much_rejected(out, report);
    return out;
}

void StackAccount::describe_panels(const std::vector<Light>& lights, const std::map<const Light*, FrameReport>& used,
                                   StackReport& report) const {
    report.panels.clear();
    for (const Panel& p : graded_.panels)
        report.panels.push_back({p.name, p.middle.x, p.middle.y, 0, 0, 0, 0});
    if (report.panels.empty()) return;
    for (const Light& l : lights) {
        if (!l.registration) continue; // nobody knows of which it is
        PanelReport& p = report.panels[static_cast<std::size_t>(l.panel)];
        const auto f = used.find(&l);
        if (f == used.end()) {
            ++p.dropped;
            continue;
        }
        ++p.used;
        p.seconds += f->second.seconds;
        p.effective += f->second.seconds * f->second.worth;
    }
    std::erase_if(report.panels, [](const PanelReport& p) { return p.used + p.dropped == 0; }); // of another filter
}

void StackAccount::describe_weights(const Assembly& a, const MasterLight& master, StackReport& report) const {
    std::vector<Contribution> all;
    for (std::size_t i = 0; i < a.frames.size(); ++i) {
        const StackPlane& plane = a.frames[i].planes[static_cast<std::size_t>(a.lights[i]->main_plane())];
        const double density = pixel_density(plane.to_frame, a.frames[i].source->width(), a.frames[i].source->height());
        Contribution c;
        c.information = information(plane.level.scale.value, plane.noise) * density;
        c.fwhm = plane.fwhm / std::sqrt(density);
        all.push_back(c);
    }
    const auto tell = [&](const std::string& name, const std::vector<double>& weights) {
        const Prediction p = predict_with_weights(all, weights);
        if (p.frames > 0) report.weight_costs.push_back({name, p.noise, p.fwhm});
    };
    const auto with = [&](double worth, double sharpness) {
        std::vector<double> w;
        for (const Contribution& c : all)
            w.push_back(std::pow(c.information, worth) * (c.fwhm > 0 ? std::pow(c.fwhm, sharpness) : 0));
        return w;
    };
    tell("worth", with(1, 0));
    tell("equal", with(0, 0));
    tell("worth = 1, fwhm = -1", with(1, -1));
    tell("worth = 1, fwhm = -2", with(1, -2));
    report.weights = weights_text(s_);
    const auto same = std::find_if(report.weight_costs.begin(), report.weight_costs.end(),
                                   [&](const WeightCost& c) { return c.weights == report.weights; });
    if (same == report.weight_costs.end())
        tell(report.weights, master.weights[static_cast<std::size_t>(a.lights.front()->main_plane())]);
}

void StackAccount::describe(const Assembly& a, const MasterLight& master, StackReport& report) const {
    describe_noise_model(a, report);
    describe_defects(a, report);
    describe_frame_noise(a, report);
    describe_weights(a, master, report);
    report.levels = levels_text(a, !graded_.panels.empty());
    const Provenance::Step* combine = master.made.find("combine");
    report.combination = combine ? combine->text : "";
    if (report.weights != "worth" && report.weights != "equal") report.combination += "; weighed by " + report.weights;
    const auto share = [](std::uint64_t part, std::uint64_t whole) {
        return whole > 0 ? static_cast<double>(part) / static_cast<double>(whole) : 0;
    };
    const CoreShares& c = master.cores;
    report.core_samples = share(c.samples, master.samples);
    report.core_rejected_at_first = share(c.at_first, c.samples);
    report.core_rejected = share(c.rejected, c.samples);
    report.rejected_elsewhere = share(c.rejected_elsewhere, c.elsewhere);
    report.under_streaks = share(master.under_streaks, master.samples + master.under_streaks);
    if (master.comparison) report.rejection_trials = trials_of(*master.comparison);
}

std::vector<RejectionReport> trials_of(const RejectionComparison& comparison) {
    std::vector<RejectionReport> out;
    for (std::size_t k = 0; k < comparison.trials.size(); ++k) {
        const RejectionTrial& t = comparison.trials[k];
        const std::string text = rejection_text(t.rejection);
        out.push_back({std::string(rejection_name(t.rejection)), text.empty() ? "none" : text, t.loss, t.left,
                       t.left_low, t.cores, k == comparison.chosen});
    }
    return out;
}

} // namespace kasane
