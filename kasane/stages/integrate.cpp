#include <kasane/stages/integrate.hpp>

#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/cameras.hpp>
#include <kasane/stages/canvas_sky.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/light_doubts.hpp>
#include <kasane/stages/master_light.hpp>
#include <kasane/stages/reference_groups.hpp>
#include <kasane/stages/results.hpp>
#include <kasane/stages/stack_basis.hpp>

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/integration/binned_frame.hpp>
#include <kasane/integration/integrate.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <set>

namespace kasane {

namespace {

void drop(Light& l, const FileFailure& failure) {
    l.verdict = {false, Author::impossible, failure.what_failed + ". " + failure.remedy, {}};
    l.unread = !failure.unfit;
    l.measures.reset();
    l.registration = {};
}

class GroupWork {
public:
    GroupWork(Session& session, const ReferenceGroup& group) : s_(session), group_(group), calibrations_(session) {}

    void run() {
        const std::string remembered = remembered_reference(s_, group_);
        const std::vector<JointStack> stacks = joint_stacks(s_, group_);
        std::vector<std::string> keys;
        bool all_known = true;
        for (const JointStack& stack : stacks) {
            keys.push_back(stack_basis(s_, calibrations_, stack, remembered).key());
            std::optional<StackReport> known =
                remembered.empty() ? std::nullopt : finished_stack(s_, stack.plan, keys.back());
            all_known = all_known && known.has_value();
            done_.push_back(std::move(known));
        }
        if (!all_known) {
            graded_ = grade_group(s_, calibrations_, group_, remembered);
            for (std::size_t k = 0; k < stacks.size(); ++k) {
                const StackPlan& plan = stacks[k].plan;
                const Basis basis = stack_basis(s_, calibrations_, stacks[k], graded_.reference_fingerprint);
                const std::string key = basis.key();
                if (key != keys[k])
                    done_[k] = graded_.reference_fingerprint.empty() ? std::nullopt : finished_stack(s_, plan, key);
                if (done_[k]) continue;
                std::vector<Light> lights = lights_of(stacks[k]);
                done_[k] = make_or_tell(plan, lights, basis);
            }
        }
        for (auto& d : done_) {
            if (d->file.empty()) s_.report.findings.push_back(failure_finding(*d));
            for (const StackDoubt& doubt : d->doubts)
                s_.report.findings.push_back({Level::warning, doubt.code, doubt.files, doubt.text, doubt.remedy});
            s_.report.stacks.push_back(std::move(*d));
        }
    }

private:
    /// The lights of all parts, as they were judged, with what they tell of the sky on one scale.
    std::vector<Light> lights_of(const JointStack& stack) const {
        std::vector<Light> out;
        const Light* first = nullptr; // whose scale it is
        for (const std::size_t part : stack.parts) {
            const auto at = std::find(group_.stacks.begin(), group_.stacks.end(), part) - group_.stacks.begin();
            const std::vector<Light>& graded = graded_.lights[static_cast<std::size_t>(at)];
            std::vector<Light> lights = graded;
            const Light* here = level_reference(graded);
            if (!first) first = here;
            if (here && here != first) {
                const StarScale s = fit_star_scale(main_level_input(*first), main_level_input(*here), graded_.canvas);
                const double denser = density(*here) / density(*first);
                for (Light& l : lights)
                    l.contribution.information *= denser / (s.scale * s.scale);
            }
            out.insert(out.end(), std::make_move_iterator(lights.begin()), std::make_move_iterator(lights.end()));
        }
        return out;
    }

    /// Pixels of the light's measured grid in one of the canvas.
    double density(const Light& l) const {
        return pixel_density(l.to_frame[static_cast<std::size_t>(l.main_plane())], l.measures->width,
                             l.measures->height);
    }

    FrameReport report_of(const Light& l) const {
        FrameReport r;
        const auto name = [&](const std::optional<std::size_t>& m) {
            return m && s_.masters[*m] ? s_.pairing.masters[*m].name : "";
        };
        r.path = l.exposure->path;
        r.identity = l.exposure->identity;
        r.night = l.exposure->night;
        r.used = l.verdict.keep;
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
        const Point middle = graded_.canvas.centre();
        const Point there = l.registration->to_frame.map(middle);
        r.rotation = l.registration->to_frame.at(middle).rotation();
        r.shift_x = there.x - 0.5 * (l.measures->width - 1);
        r.shift_y = there.y - 0.5 * (l.measures->height - 1);
        r.transparency = std::isfinite(l.figures[Measure::transparency]) ? l.figures[Measure::transparency] : 0;
        r.worth = l.contribution.worth;
        return r;
    }

    LevelInput level_input(const Light& l, std::size_t plane) const {
        return {&l.measures->planes[plane], l.to_frame[plane],  l.exposure->seconds.value_or(0),
                l.measures->width,          l.measures->height, &l.measures->streaks};
    }

    LevelInput main_level_input(const Light& l) const {
        return level_input(l, static_cast<std::size_t>(l.main_plane()));
    }

    /// The frame that the others are brought to: of those kept, the one whose stars stand out most.
    static const Light* level_reference(const std::vector<Light>& lights) {
        const Light* best = nullptr;
        for (const Light& l : lights)
            if (usable(l) && (!best || l.contribution.information > best->contribution.information)) best = &l;
        return best;
    }
    static bool usable(const Light& l) { return l.verdict.keep && l.registration.result.has_value(); }

    /// The frames of a stack as the integration wants them, and the lights they come from.
    struct Assembly {
        std::vector<StackFrame> frames;
        std::vector<Light*> lights;
        std::vector<StackLevels> levels; ///< by plane
        std::vector<double> backgrounds; ///< of the level, by plane, ADU
    };

    Assembly assemble(const StackPlan& plan, std::vector<Light>& lights) {
        Assembly a;
        for (Light& l : lights) {
            if (!usable(l)) continue;
            StackFrame f;
            for (std::size_t p = 0; p < l.measures->planes.size(); ++p)
                f.planes.push_back({l.to_frame[p], {}, l.measures->planes[p].noise});
            f.electrons_per_adu = electrons_of(l);
            const auto failure = attempt([&] {
                f.source =
                    calibrations_.view(*l.plan, std::shared_ptr<const OwnCorrections>(l.measures, &l.measures->own));
            });
            if (failure) {
                drop_or_raise(l, *failure);
                continue;
            }
            a.frames.push_back(std::move(f));
            a.lights.push_back(&l);
        }
        if (a.frames.empty()) return a;
        for (std::size_t p = 0; p < a.frames.front().planes.size(); ++p) {
            std::vector<LevelInput> inputs;
            for (const Light* l : a.lights)
                inputs.push_back(level_input(*l, p));
            a.levels.push_back(fit_stack_levels(
                inputs, graded_.canvas, s_.context.workers,
                level_options(s_, plan, a.frames.front().planes.size() == 3 ? static_cast<int>(p) : -1)));
            a.backgrounds.push_back(a.levels.back().background);
            for (std::size_t k = 0; k < a.frames.size(); ++k)
                a.frames[k].planes[p].level = a.levels.back().maps[k];
        }
        for (std::size_t k = 0; k < a.frames.size(); ++k) {
            for (const StackPlane& p : a.frames[k].planes)
                if (const std::string wrong = p.level.check(); !wrong.empty()) { // one such spoils the others' levels
                    drop_or_raise(*a.lights[k], {s_.path_of(a.lights[k]->plan->exposure),
                                                 "could not be brought to the level of the others: " + wrong,
                                                 "Look at it with 'kasane show'", true});
                    return assemble(plan, lights);
                }
            a.frames[k] = binned_to_canvas(std::move(a.frames[k]), graded_.canvas);
        }
        return a;
    }

    /// By photon transfer or header; else from the sky's own noise, where its level above the offset is known.
    double electrons_of(const Light& l) const {
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

    /// Of each camera that took part one light.
    static std::vector<const Light*> first_of_each_sensor(const Assembly& a) {
        std::vector<const Light*> out;
        std::set<std::string> seen;
        for (const Light* l : a.lights)
            if (seen.insert(sensor_key(*l->exposure)).second) out.push_back(l);
        return out;
    }

    void describe_defects(const Assembly& a, StackReport& report) const {
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

    void describe_noise_model(const Assembly& a, StackReport& report) const {
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

    /// Of the plane that stands for the stack.
    static std::string levels_text(const Assembly& a) {
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
        std::string text =
            fmt::format("{}; factors by {:.0f} common stars, known to {:.2g} %", level_model_name(l.model),
                        median_in_place(stars), 100 * median_in_place(errors));
        if (by_time == a.lights.size())
            text = fmt::format("{}; factors by the exposure times", level_model_name(l.model));
        else if (by_time)
            text += fmt::format(" ({} by the exposure times: too few stars)", by_time);
        if (a.lights.size() > 1)
            text += fmt::format(
                "; the level is that of {} of {} lights together, its sky slopes by {:.3g} ADU from edge to "
                "edge (the steepest of them by {:.3g})",
                leading, a.lights.size(), l.gradient, l.steepest);
        return text;
    }

    static void describe_frame_noise(const Assembly& a, StackReport& report) {
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

    /// Integrates what can be; a file that fails on the way is dropped and the rest is done again.
    std::optional<MasterLight> integrate_good(const StackPlan& plan, std::vector<Light>& lights, Assembly& a) {
        for (;;) {
            a = assemble(plan, lights);
            if (a.frames.empty()) return std::nullopt;
            s_.context.progress.begin("integrate " + plan.name, graded_.canvas.bounds().area());
            MasterLight master = integrate(a.frames, graded_.canvas, a.backgrounds, s_.context);
            s_.context.progress.end();
            if (master.failure) {
                drop_or_raise(*a.lights[master.failure->frame], master.failure->what);
                continue;
            }
            const auto changed = std::find_if(a.lights.begin(), a.lights.end(), [&](Light* l) {
                const auto failure = attempt([&] { s_.require_unchanged(l->plan->exposure); });
                if (failure) drop_or_raise(*l, *failure);
                return failure.has_value();
            });
            if (changed == a.lights.end()) return master;
        }
    }

    /// A light that cannot be read is left out; where a master cannot, that is not the light's fault.
    void drop_or_raise(Light& l, const FileFailure& failure) const {
        if (failure.file != s_.path_of(l.plan->exposure)) failure.raise();
        drop(l, failure);
    }

    StackReport begin_report(const StackPlan& plan) const {
        StackReport report;
        report.name = plan.name;
        report.identity = plan.identity;
        report.target = plan.target;
        report.filter = plan.filter;
        report.sensor = plan.sensor;
        report.reference = graded_.reference_path;
        report.reference_fingerprint = graded_.reference_fingerprint;
        report.reference_reason = graded_.reference_reason;
        report.runners_up = graded_.runners_up;
        std::set<std::string> rigs;
        for (const LightPlan& l : plan.lights)
            rigs.insert(rig_of(s_, s_.exposures[l.exposure]));
        for (const std::string& rig : rigs)
            if (const auto it = graded_.optics.find(rig); it != graded_.optics.end())
                report.optics.push_back(it->second.text());
        return report;
    }

    /// One stack that cannot be made does not keep the others from being made. Nothing is remembered of it: the next
    /// run tries again.
    StackReport make_or_tell(const StackPlan& plan, std::vector<Light>& lights, const Basis& basis) {
        const auto failed = [&](const std::string& why) {
            StackReport report = begin_report(plan);
            report.failure = why;
            report.dropped = static_cast<int>(lights.size());
            for (const Light& l : lights)
                report.frames.push_back(report_of(l));
            for (FrameReport& f : report.frames)
                f.used = false;
            return report;
        };
        try {
            require_room(plan);
            return make(plan, lights, basis);
        } catch (const InputError& e) {
            return failed(e.what());
        } catch (const DataError& e) {
            return failed(e.what());
        } catch (const std::bad_alloc&) {
            return failed("there is not enough memory. Close other programs");
        }
    }

    /// The master light and its coverage are held in memory. Throws DataError.
    void require_room(const StackPlan& plan) const {
        const auto planes = static_cast<std::uint64_t>(result_planes(s_, plan));
        const std::uint64_t bytes =
            static_cast<std::uint64_t>(graded_.canvas.bounds().area()) * planes * 2 * sizeof(float);
        if (bytes <= s_.context.memory.for_buffers()) return;
        throw DataError(
            fmt::format("a master light of {} x {} pixels takes {:.1f} GB of memory, the budget is {:.1f} GB",
                        graded_.canvas.width, graded_.canvas.height, 1e-9 * static_cast<double>(bytes),
                        1e-9 * static_cast<double>(s_.context.memory.bytes)),
            {}, "Give more with --memory");
    }

    StackReport make(const StackPlan& plan, std::vector<Light>& lights, const Basis& basis) {
        const Stopwatch clock;
        StackReport report = begin_report(plan);
        report.doubts = find_doubts(s_, calibrations_, plan, lights);

        Assembly a;
        std::optional<MasterLight> master = integrate_good(plan, lights, a);
        report.used = static_cast<int>(a.frames.size());
        report.dropped = static_cast<int>(lights.size() - a.frames.size());
        report.unread =
            static_cast<int>(std::count_if(lights.begin(), lights.end(), [](const Light& l) { return l.unread; }));
        std::map<const Light*, FrameReport> used;
        if (master) {
            used = account(a, *master, report);
            describe_noise_model(a, report);
            describe_defects(a, report);
            describe_master_light(*master, report);
            describe_frame_noise(a, report);
            report.levels = levels_text(a);
            if (plan.mosaic) report.colour_method = colour_method_name(colour_method(s_, *a.lights.front()->exposure));
            report.file = "lights/" + plan.name + ".fits";
            report.preview = "lights/" + plan.name + ".png";
            const CanvasSky sky = sky_of_canvas(s_, graded_, {a.lights.begin(), a.lights.end()});
            report.doubts.insert(report.doubts.end(), sky.doubts.begin(), sky.doubts.end());
            report.world = sky.text;
            report.made = account_of(a, basis, *master, used);
            report.made.step("register").text += described_registration(report);
            std::vector<const Exposure*> exposures;
            for (const Light* l : a.lights)
                exposures.push_back(l->exposure);
            const Light& lead = *a.lights.front();
            write_master_light(s_.output, *master, exposures, report, sky.world,
                               std::sqrt(density(lead)) * grid_cell(s_, *lead.exposure));
        }
        for (const Light& l : lights)
            report.frames.push_back(used.count(&l) ? used.at(&l) : report_of(l));
        report.time = clock.seconds();
        for (const Light& l : lights)
            if (l.unread) s_.unread.insert(l.exposure->path);
        if (master) {
            remember_intact(s_, s_.output / report.file);
            remember_intact(s_, s_.output / report.preview);
        }
        s_.ledger.set_fact(basis.key(), json_text({{"report", report}}));
        if (master) {
            s_.ledger.set_choice("file/" + report.file, basis.key());
            s_.ledger.set_choice("basis/" + report.file, basis.text());
        }
        return report;
    }

    static std::string described_registration(const StackReport& report) {
        std::string out;
        for (const std::string& optics : report.optics)
            out += "; " + optics;
        return report.world.empty() ? out : out + "; position on the sky " + report.world;
    }

    /// The steps that made a master light: as planned, of the lights that were used, and what the integration tells.
    Provenance account_of(const Assembly& a, const Basis& basis, const MasterLight& master,
                          const std::map<const Light*, FrameReport>& used) const {
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
        made.step("level").text = levels_text(a);
        return made;
    }

    /// Weights, worths and seconds of the lights that were used.
    std::map<const Light*, FrameReport> account(const Assembly& a, const MasterLight& master, StackReport& report) {
        std::vector<double> infos, seconds;
        for (std::size_t i = 0; i < a.frames.size(); ++i) {
            const StackPlane& plane = a.frames[i].planes[static_cast<std::size_t>(a.lights[i]->main_plane())];
            infos.push_back(information(plane.level.scale.value, plane.noise) *
                            pixel_density(plane.to_frame, a.frames[i].source->width(), a.frames[i].source->height()));
            seconds.push_back(a.lights[i]->exposure->seconds.value_or(0));
        }
        const std::vector<double> worth = worths(infos, seconds);
        std::map<const Light*, FrameReport> out;
        for (std::size_t i = 0; i < a.frames.size(); ++i) {
            const Light& l = *a.lights[i];
            FrameReport r = report_of(l);
            const auto main = static_cast<std::size_t>(l.main_plane());
            r.scale = a.frames[i].planes[main].level.scale.value;
            r.scale_error = a.levels[main].scales[i].error;
            r.worth = std::isfinite(worth[i]) ? worth[i] : 0;
            r.weight = master.weights[static_cast<std::size_t>(l.main_plane())][i];
            r.dark_note = calibrations_.dark_share(*l.plan).reason;
            report.seconds_total += seconds[i];
            if (std::isfinite(worth[i])) report.seconds_effective += seconds[i] * worth[i];
            out.emplace(&l, std::move(r));
        }
        return out;
    }

    Session& s_;
    const ReferenceGroup& group_;
    Calibrations calibrations_;
    std::vector<std::optional<StackReport>> done_; ///< as group_.stacks
    GradedLights graded_;
};

} // namespace

void make_stacks(Session& s) {
    for (const ReferenceGroup& group : reference_groups(s))
        GroupWork(s, group).run();
}

} // namespace kasane
