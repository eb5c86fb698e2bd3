#include <kasane/stages/integrate.hpp>

#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/align.hpp>
#include <kasane/stages/assemble.hpp>
#include <kasane/stages/cameras.hpp>
#include <kasane/stages/canvas_sky.hpp>
#include <kasane/stages/comet.hpp>
#include <kasane/stages/comet_masters.hpp>
#include <kasane/stages/composites.hpp>
#include <kasane/stages/drizzle_choice.hpp>
#include <kasane/stages/finished_light.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/group_canvas.hpp>
#include <kasane/stages/lengths.hpp>
#include <kasane/stages/light_doubts.hpp>
#include <kasane/stages/master_light.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/reference_groups.hpp>
#include <kasane/stages/results.hpp>
#include <kasane/stages/stack_account.hpp>
#include <kasane/stages/stack_basis.hpp>
#include <kasane/stages/zero_point.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/memory.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/integration/drizzle.hpp>
#include <kasane/integration/integrate.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <future>
#include <set>

namespace kasane {

namespace {

/// By its filter or its name.
bool is_named(const std::vector<std::string>& names, const StackPlan& plan) {
    return std::any_of(names.begin(), names.end(), [&](const std::string& n) {
        return n == plan.name || (!plan.filter.empty() && fold_filter(n) == fold_filter(plan.filter));
    });
}

class GroupWork {
public:
    GroupWork(Session& session, const ReferenceGroup& group, const std::vector<CometMark>& marks)
        : s_(session), group_(group), marks_(marks), calibrations_(session) {}

    void run() {
        const std::string remembered = remembered_reference(s_, group_);
        const std::vector<JointStack> stacks = wanted_stacks();
        if (stacks.empty()) return;
        std::vector<std::string> keys;
        bool all_known = true;
        for (const JointStack& stack : stacks) {
            keys.push_back(stack_basis(s_, calibrations_, group_, stack, remembered).key());
            std::optional<StackReport> known =
                remembered.empty() ? std::nullopt : finished_stack(s_, stack.plan, keys.back());
            all_known = all_known && known.has_value();
            done_.push_back(std::move(known));
        }
        if (!all_known) {
            grade(remembered);
            for (std::size_t k = 0; k < stacks.size(); ++k) {
                const StackPlan& plan = stacks[k].plan;
                const Basis basis = stack_basis(s_, calibrations_, group_, stacks[k], graded_.reference_fingerprint);
                const std::string key = basis.key();
                if (key != keys[k])
                    done_[k] = graded_.reference_fingerprint.empty() ? std::nullopt : finished_stack(s_, plan, key);
                if (done_[k]) continue;
                std::vector<Light> lights = assembler_->lights_of(stacks[k]);
                made_or_told(k, plan, lights, [&] { make(k, plan, lights, basis); });
            }
            settle();
        }
        const std::size_t first = s_.report.stacks.size();
        for (auto& d : done_) {
            if (d->file.empty()) s_.report.findings.push_back(failure_finding(*d));
            for (const StackDoubt& doubt : d->doubts)
                s_.report.findings.push_back({Level::warning, doubt.code, doubt.files, doubt.text, doubt.remedy});
            s_.report.stacks.push_back(std::move(*d));
        }
        if (s_.options.only.empty())
            make_composites(s_,
                            {s_.report.stacks.begin() + static_cast<std::ptrdiff_t>(first), s_.report.stacks.end()});
    }

    /// Nothing is made: what each rejection would do.
    void try_rejections() {
        const std::vector<JointStack> stacks = wanted_stacks();
        if (stacks.empty()) return;
        grade(remembered_reference(s_, group_));
        for (const JointStack& stack : stacks) {
            std::vector<Light> lights = assembler_->lights_of(stack);
            StackReport report = begin_report(stack.plan);
            report.failure = no_canvas_;
            while (no_canvas_.empty()) { // without what cannot be read
                const Assembly a = assembler_->assemble(stack.plan, lights);
                report.used = static_cast<int>(a.frames.size());
                if (a.frames.empty()) break;
                const RejectionComparison c = compare_rejections(a.frames, at_.canvas, a.backgrounds, s_.context,
                                                                 assembler_->options_for(stack.plan, a));
                if (c.failure) {
                    assembler_->drop_or_raise(*a.lights[c.failure->frame], c.failure->what);
                    continue;
                }
                report.rejection_trials = trials_of(c);
                break;
            }
            for (const Light& l : lights)
                report.frames.push_back(account().report_of(l));
            if (report.used == 0) s_.report.findings.push_back(failure_finding(report));
            s_.report.stacks.push_back(std::move(report));
        }
    }

private:
    /// The lights, and where their master lights lie; why there is no such place is told for each stack.
    void grade(const std::string& remembered) {
        graded_ = grade_group(s_, calibrations_, group_, remembered);
        assembler_.emplace(s_, group_, calibrations_, graded_, at_);
        try {
            at_ = canvas_of_group(s_, graded_);
        } catch (const DataError& e) {
            no_canvas_ = e.what();
            return;
        }
        int planes = 1;
        for (const std::size_t k : group_.stacks)
            planes = std::max(planes, result_planes(s_, s_.pairing.stacks[k]));
        comet_doubts_.clear();
        comet_unread_.clear();
        comet_ = solve_comet(s_, calibrations_, graded_, marks_, comet_doubts_, comet_unread_);
        drizzled_ = choose_drizzle(s_, graded_.lights, at_.canvas, planes);
        if (comet_ && drizzled_) {
            drizzled_.reset();
            comet_doubts_.push_back({"comet-doubtful",
                                     {},
                                     "lights of a comet are not drizzled; they are interpolated",
                                     "Leave [comet] or [drizzle] out"});
        }
    }

    /// Those of the group that the caller names.
    std::vector<JointStack> wanted_stacks() const {
        std::vector<JointStack> all = joint_stacks(s_, group_);
        if (!s_.options.only.empty())
            std::erase_if(all, [&](const JointStack& j) { return !is_named(s_.options.only, j.plan); });
        return all;
    }

    /// Integrates what can be; a file that fails on the way is dropped and the rest is done again.
    std::optional<MasterLight> integrate_good(const StackPlan& plan, std::vector<Light>& lights, Assembly& a) {
        const std::uint64_t all = s_.context.memory.for_buffers(), result = room_for(plan);
        constexpr std::uint64_t kShare = 4; // of what the result leaves, for the masters
        for (;;) {
            s_.context.progress.begin(kLevelStage, 1);
            const std::uint64_t taken = result + (writing_ ? writing_->bytes : 0);
            a = assembler_->assemble(plan, lights, all > taken ? (all - taken) / kShare : 0);
            s_.context.progress.end();
            if (a.frames.empty()) return std::nullopt;
            Context context = beside(a, s_.context);
            if (writing_) context.memory.bytes -= std::min(context.memory.bytes, writing_->bytes);
            context.scratch = fits_memory(plan) ? std::filesystem::path() : s_.output;
            const bool follows = comet_ && std::any_of(a.lights.begin(), a.lights.end(), [](const Light* l) {
                                     return middle_of(*l->exposure).has_value();
                                 });
            const int passes = follows ? 1 + CometMasters::kPasses : 1;
            s_.context.progress.begin((drizzled_ ? "drizzle " : "integrate ") + plan.name,
                                      passes * output().bounds().area());
            const IntegrateOptions options = assembler_->options_for(plan, a);
            IntegrateOptions first = options;
            if (follows) { // what rejection leaves of a comet nobody can tell
                first.rejection = NoRejection{};
                first.combination = Combination::mean;
            }
            MasterLight master = drizzled_ ? drizzle(a.frames, at_.canvas, a.backgrounds, context, options, *drizzled_)
                                           : integrate(a.frames, at_.canvas, a.backgrounds, context, first);
            comet_masters_.reset();
            if (follows && !master.failure) {
                CometMasters made = integrate_comet(a, master, *comet_, at_.canvas, beside(a, s_.context), options);
                master = std::move(made.stars);
                master.failure = made.failure;
                comet_masters_ = std::move(made);
            }
            s_.context.progress.end();
            if (master.failure) {
                assembler_->drop_or_raise(*a.lights[master.failure->frame], master.failure->what);
                continue;
            }
            const auto changed = std::find_if(a.lights.begin(), a.lights.end(), [&](Light* l) {
                const auto failure = attempt([&] { s_.require_unchanged(l->plan->exposure); });
                if (failure) assembler_->drop_or_raise(*l, *failure);
                return failure.has_value();
            });
            if (changed != a.lights.end()) continue;
            keep_drawn(a);
            return master;
        }
    }

    /// What was drawn on the way. What cannot be is drawn, or told of, when it is wanted.
    void keep_drawn(Assembly& a) {
        for (const auto& [light, small] : std::exchange(a.drawn, {}))
            (void)attempt([&, l = light, &of = *small] {
                s_.report.as_they_came.push_back(
                    {measure_key(s_, calibrations_, *l->plan), picture_of(of.finish(), of.factor())});
            });
    }

    /// The grid of the master lights.
    Canvas output() const { return drizzled_ ? drizzled_canvas(at_.canvas, drizzled_->scale) : at_.canvas; }

    /// What they show, in words; empty: what the reference does, pixel by pixel.
    std::string output_text() const {
        std::string text = at_.canvas != graded_.canvas ? at_.text : "";
        if (drizzled_) {
            const Canvas fine = output();
            text += fmt::format("{}DRIZZLED onto {} x {} pixels, {:g} along the side of one of the reference, by {} "
                                "drops of {:g} pixels{}",
                                text.empty() ? "" : "; ", fine.width, fine.height, fine.scale,
                                drop_shape_name(drizzled_->shape), drizzled_->drop,
                                drizzled_->restore ? ", THEIR BLUR TAKEN OUT" : "");
        }
        return text;
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
    void made_or_told(std::size_t k, const StackPlan& plan, const std::vector<Light>& lights,
                      const std::function<void()>& work) {
        const auto failed = [&](const std::string& why) {
            StackReport report = begin_report(plan);
            report.failure = why;
            report.dropped = static_cast<int>(lights.size());
            for (const Light& l : lights)
                report.frames.push_back(account().report_of(l));
            for (FrameReport& f : report.frames)
                f.used = false;
            done_[k] = std::move(report);
        };
        if (!no_canvas_.empty()) return failed(no_canvas_);
        try {
            work();
        } catch (const InputError& e) {
            failed(e.what());
        } catch (const DataError& e) {
            failed(e.what());
        } catch (const std::bad_alloc&) {
            failed("there is not enough memory. Close other programs");
        }
    }

    /// A stack that is looked at and written while the next one is made.
    struct Writing {
        std::size_t at; ///< in done_
        const StackPlan& plan;
        std::vector<Light> lights;
        std::uint64_t bytes; ///< that it takes until then
        FinishedLight light{};
        std::future<void> files{};
    };

    /// Waits for it.
    void settle() {
        if (!writing_) return;
        Writing& w = *writing_;
        made_or_told(w.at, w.plan, w.lights, [&] {
            w.files.get();
            done_[w.at] = std::move(w.light.report);
        });
        writing_.reset();
    }

    /// What one takes until it is written, with what finding its stars does.
    std::uint64_t room_to_write(const StackPlan& plan) const {
        constexpr std::uint64_t kPlanes = 2;
        return room_for(plan) + kPlanes * sizeof(float) * static_cast<std::uint64_t>(output().bounds().area());
    }

    /// Whether one can be written while the next one is made, which needs as much, and the same again for its lights.
    bool written_beside() const {
        constexpr std::uint64_t kShares = 3;
        std::uint64_t largest = 0;
        for (const std::size_t k : group_.stacks)
            largest = std::max(largest, room_to_write(s_.pairing.stacks[k]));
        return s_.context.workers.threads() > 1 && !comet_ && kShares * largest <= s_.context.memory.for_buffers();
    }

    /// What a master light, its coverage and what was rejected take. With a comet, a second result and the light of
    /// both.
    std::uint64_t room_for(const StackPlan& plan) const {
        return (comet_ ? 3 : 1) * result_bytes(output(), result_planes(s_, plan));
    }
    bool fits_memory(const StackPlan& plan) const { return room_for(plan) <= s_.context.memory.for_buffers(); }

    /// Larger results than the memory lie in files without a name, beside where they are to be written. Throws
    /// DataError.
    void require_room(const StackPlan& plan) const {
        const std::uint64_t bytes = room_for(plan);
        if (fits_memory(plan)) return;
        const Canvas canvas = output();
        const std::string what =
            fmt::format("a master light of {} x {} pixels takes {}", canvas.width, canvas.height, size_text(bytes));
        const char* less = drizzled_ ? "ask for a smaller scale in [drizzle]"
                           : canvas.framing == Framing::everything || canvas.scale > 1
                               ? "ask for less in [canvas]"
                               : "name another place with --output";
        if (comet_)
            throw DataError(
                fmt::format("{} of memory with a comet, the budget is {}", what, size_text(s_.context.memory.bytes)),
                {}, fmt::format("Give more with --memory, or {}", less));
        std::error_code failed;
        const auto space = std::filesystem::space(s_.output, failed);
        constexpr std::uint64_t kWritten = 2; // it, and the file that is made of it
        if (!failed && space.available < kWritten * bytes)
            throw DataError(fmt::format("{}, which is more than the memory ({}), and twice as much on the disk of {}, "
                                        "which has {} left",
                                        what, size_text(s_.context.memory.bytes), s_.output.string(),
                                        size_text(space.available)),
                            {}, fmt::format("Free some space, give more with --memory, or {}", less));
    }

    void make(std::size_t k, const StackPlan& plan, std::vector<Light>& lights, const Basis& basis) {
        const Stopwatch clock;
        require_room(plan);
        FinishedLight light;
        StackReport& report = light.report = begin_report(plan);
        report.doubts = find_doubts(s_, calibrations_, plan, lights);
        report.doubts.insert(report.doubts.end(), comet_doubts_.begin(), comet_doubts_.end());
        comet_doubts_.clear(); // told once
        report.comet.unread = comet_unread_;

        Assembly a;
        std::optional<MasterLight> master = integrate_good(plan, lights, a);
        if (master && master->samples + master->under_streaks == 0)
            throw DataError("none of its lights shows anything of what is asked for in [canvas]: " + at_.text, {},
                            "Ask for another part of the sky");
        report.used = static_cast<int>(a.frames.size());
        report.dropped = static_cast<int>(lights.size() - a.frames.size());
        report.unread =
            static_cast<int>(std::count_if(lights.begin(), lights.end(), [](const Light& l) { return l.unread; }));
        std::map<const Light*, FrameReport> used;
        if (master) {
            light.key = basis.key();
            light.basis = basis.text();
            used = describe(plan, lights, a, *master, basis, light);
        }
        for (const Light& l : lights)
            report.frames.push_back(used.count(&l) ? used.at(&l) : account().report_of(l));
        for (const Light& l : lights)
            if (l.unread) s_.unread.insert(l.exposure->path);
        if (!master) {
            report.time = clock.seconds();
            s_.ledger.set_fact(basis.key(), json_text({{"report", report}}));
            done_[k] = std::move(report);
            return;
        }
        light.where = where_rejected(lights, a, *master);
        light.master = std::move(*master);
        a = {};
        settle();
        writing_.emplace(Writing{k, plan, std::move(lights), room_to_write(plan), std::move(light)});
        // Loops of its own: those of the next stack leave it no place among theirs.
        const auto write = [&of = writing_->light, &s = s_, clock] {
            const Workers workers(s.context.workers.threads(), s.context.workers.cancel());
            look_at_light(s, of, workers);
            write_files(of, s.output, workers);
            of.report.time = clock.seconds();
            remember_light(s, of);
        };
        const bool beside = written_beside();
        writing_->files = std::async(beside ? std::launch::async : std::launch::deferred, write);
        if (!beside) settle();
    }

    /// All that is to be said of a master light, but for its frames and its stars. Returns the lights that were used.
    std::map<const Light*, FrameReport> describe(const StackPlan& plan, const std::vector<Light>& lights, Assembly& a,
                                                 MasterLight& master, const Basis& basis, FinishedLight& light) {
        StackReport& report = light.report;
        const double more = graded_.panels.empty() ? 1 : take_usual_coverage(master);
        std::map<const Light*, FrameReport> used = account().used(a, master, report);
        account().describe_panels(lights, used, report);
        account().describe(a, master, report);
        for (WeightCost& c : report.weight_costs)
            c.noise *= more;
        describe_noise(master, report);
        describe_lengths(a, master, report);
        if (plan.mosaic) // drizzled, each colour is of its own samples
            report.colour_method = drizzled_ && a.frames.front().source->sensor()
                                       ? "drizzled"
                                       : colour_method_name(colour_method(s_, *a.lights.front()->exposure));
        report.area_noise = report.noise * (drizzled_ ? 1 : interpolated_noise(*a.lights.front()));
        report.file = light_file(s_, plan).lexically_relative(s_.output).generic_string();
        report.preview = light.name() + ".png";
        report.rejection_picture = light.name() + ".rejected.png";
        report.canvas = output_text();
        PhaseCoverage phases;
        report.sampling = describe_sampling(s_, lights, at_.canvas, drizzled_, &phases);
        report.lights_fwhm =
            fwhm_on_canvas(sampled_frames(lights, at_.canvas), at_.canvas) * (drizzled_ ? drizzled_->scale : 1);
        if (drizzled_) {
            report.sampling.picture = light.name() + ".phases.png";
            light.phases = draw_phases(phases);
        }
        light.canvas = output();
        const CanvasSky sky = sky_of_canvas(s_, graded_, {a.lights.begin(), a.lights.end()}, light.canvas, at_.beyond);
        report.doubts.insert(report.doubts.end(), sky.doubts.begin(), sky.doubts.end());
        report.world = sky.text;
        light.world = sky.world;
        report.made = account().made(a, basis, master, report, used);
        if (!report.canvas.empty()) report.made.step("resample").text += "; " + report.canvas;
        for (const Light* l : a.lights)
            light.exposures.push_back(l->exposure);
        const Light& lead = *a.lights.front();
        report.zero_point = zero_point_of(s_, a, light.canvas).value_or(0);
        light.finer = std::sqrt(density_of(lead)) * grid_cell(s_, *lead.exposure) / light.canvas.scale;
        if (comet_masters_) {
            light.comet = comet_;
            light.comet_masters = std::move(comet_masters_);
            comet_masters_.reset();
        }
        return used;
    }

    /// Of a mosaic that is interpolated a plane has fewer samples than pixels: large areas are noisier than that many
    /// independent pixels, by this factor.
    double interpolated_noise(const Light& light) const {
        const std::string& letters = light.exposure->cfa;
        const ColourMethod method = colour_method(s_, *light.exposure);
        if (letters.empty() || (method != ColourMethod::adaptive && method != ColourMethod::bilinear)) return 1;
        const auto green = std::count(letters.begin(), letters.end(), 'G'); // the plane that NOISE is of
        return std::sqrt(static_cast<double>(letters.size()) / static_cast<double>(std::max<std::ptrdiff_t>(1, green)));
    }

    /// As FinishedLight has it.
    static std::vector<std::pair<const Exposure*, std::optional<RejectedCells>>>
    where_rejected(const std::vector<Light>& lights, const Assembly& a, const MasterLight& master) {
        std::vector<std::pair<const Exposure*, std::optional<RejectedCells>>> out;
        for (const Light& l : lights) {
            const auto at = std::find(a.lights.begin(), a.lights.end(), &l) - a.lights.begin();
            const auto k = static_cast<std::size_t>(at);
            out.emplace_back(l.exposure, std::nullopt);
            if (k >= a.lights.size()) continue;
            out.back().second = master.cells[k]; // of the grid that the light is measured on
            out.back().second->cell *= binned_by(l, a.frames[k]);
        }
        return out;
    }

    StackAccount account() { return {s_, calibrations_, graded_}; }

    Session& s_;
    const ReferenceGroup& group_;
    const std::vector<CometMark>& marks_;
    Calibrations calibrations_;
    std::vector<std::optional<StackReport>> done_; ///< as group_.stacks
    GradedLights graded_;
    GroupCanvas at_;
    std::optional<Assembler> assembler_; ///< of them, once they are graded
    std::optional<CometSolution> comet_;
    std::vector<StackDoubt> comet_doubts_;      ///< not told yet
    std::vector<std::string> comet_unread_;     ///< that its path lacks
    std::optional<CometMasters> comet_masters_; ///< of the stack that was integrated last
    std::optional<DrizzleOptions> drizzled_;    ///< how the master lights of the group are
    std::optional<Writing> writing_;            ///< what is not remembered yet
    std::string no_canvas_;                     ///< why there is none
};

} // namespace

namespace {

/// Throws UsageError where a name fits no stack.
void require_named(const Session& s) {
    for (const std::string& name : s.options.only) {
        const auto fits = [&](const StackPlan& p) { return is_named({name}, p); };
        if (std::any_of(s.pairing.stacks.begin(), s.pairing.stacks.end(), fits)) continue;
        std::set<std::string> there;
        for (const StackPlan& p : s.pairing.stacks)
            there.insert(p.filter.empty() ? p.name : p.filter);
        throw UsageError(fmt::format("there is no stack and no filter called '{}'", name), {},
                         fmt::format("There are {}", fmt::join(there, ", ")));
    }
}

} // namespace

void make_stacks(Session& s) {
    require_named(s);
    CometMarks marks = comet_marks(s);
    s.report.findings.insert(s.report.findings.end(), marks.findings.begin(), marks.findings.end());
    for (const ReferenceGroup& group : reference_groups(s))
        GroupWork(s, group, marks.sound).run();
}

void try_rejections(Session& s) {
    require_named(s);
    const std::vector<CometMark> none;
    for (const ReferenceGroup& group : reference_groups(s))
        GroupWork(s, group, none).try_rejections();
}

} // namespace kasane
