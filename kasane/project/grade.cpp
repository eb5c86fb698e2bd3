#include <kasane/project/grade.hpp>

#include <kasane/base/error.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/grading/small_frame.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/open_project.hpp>
#include <kasane/stages/pair.hpp>
#include <kasane/stages/panels.hpp>
#include <kasane/stages/rejected_records.hpp>
#include <kasane/stages/shared_grid.hpp>

#include <algorithm>
#include <cmath>
#include <fmt/format.h>
#include <map>
#include <mutex>
#include <numeric>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

std::vector<bool> kept_of(const StackGrade& stack) {
    std::vector<bool> kept;
    for (const FrameGrade& f : stack.frames)
        kept.push_back(f.verdict.keep);
    return kept;
}

std::vector<Contribution> contributions_of(const StackGrade& stack) {
    std::vector<Contribution> all;
    for (const FrameGrade& f : stack.frames)
        all.push_back(f.contribution);
    return all;
}

std::vector<Candidature> candidatures_of(const StackGrade& stack) {
    std::vector<Candidature> all;
    for (const FrameGrade& f : stack.frames) {
        Candidature c;
        c.figures = f.measures ? &f.figures : nullptr;
        c.night = f.night;
        c.filter = f.filter;
        c.kin = f.kin;
        c.person = f.decision;
        if (f.verdict.author == Author::impossible) c.hindrance = f.verdict.reason;
        all.push_back(std::move(c));
    }
    return all;
}

Prediction with_limits(const StackGrade& stack, const std::vector<Limit>& limits) {
    std::vector<bool> kept;
    for (const Verdict& v : judge(candidatures_of(stack), limits))
        kept.push_back(v.keep);
    return predict(contributions_of(stack), kept);
}

/// The limit moved by a share of its bound: a positive one drops less.
Limit moved(Limit limit, double looser) {
    if (limit.ranking) limit.ranking->count *= 1 + looser;
    if (limit.ranking && limit.ranking->percent) limit.ranking->count = std::min(100.0, limit.ranking->count);
    for (Condition& c : limit.conditions) {
        c.bound.number *= c.above == (c.bound.number > 0) ? 1 + looser : 1 - looser;
        c.bound.spreads *= 1 + looser;
    }
    return limit;
}

void describe_limits(StackGrade& stack, const std::vector<Limit>& limits) {
    stack.limits.clear();
    for (std::size_t k = 0; k < limits.size(); ++k) {
        LimitEffect e;
        e.limit = limits[k];
        for (const FrameGrade& f : stack.frames) {
            const auto& by = f.verdict.limits;
            const bool hit = std::find(by.begin(), by.end(), static_cast<int>(k)) != by.end();
            e.drops += hit;
            e.alone += hit && by.size() == 1;
        }
        constexpr double kMoved = 0.1;
        auto others = limits;
        others.erase(others.begin() + static_cast<std::ptrdiff_t>(k));
        e.without = with_limits(stack, others);
        others = limits;
        others[k] = moved(limits[k], kMoved);
        e.looser = with_limits(stack, others);
        others[k] = moved(limits[k], -kMoved);
        e.tighter = with_limits(stack, others);
        stack.limits.push_back(std::move(e));
    }
}

double median_of(const std::vector<const FrameGrade*>& frames, Measure m) {
    std::vector<float> values;
    for (const FrameGrade* f : frames)
        if (std::isfinite(f->figures[m])) values.push_back(static_cast<float>(f->figures[m]));
    return values.empty() ? 0 : median_in_place(values);
}

void describe_nights(StackGrade& stack) {
    stack.nights.clear();
    std::map<std::string, std::vector<const FrameGrade*>> kept;
    std::map<std::string, NightGrade> nights;
    for (const FrameGrade& f : stack.frames) {
        NightGrade& n = nights[f.night];
        n.night = f.night;
        ++n.frames;
        n.seconds +=
            f.contribution.seconds > 0
                ? f.contribution.seconds
                : std::max(0.0, std::isfinite(f.figures[Measure::seconds]) ? f.figures[Measure::seconds] : 0.0);
        if (!f.verdict.keep) continue;
        ++n.kept;
        n.kept_seconds += f.contribution.seconds;
        n.effective_seconds += f.contribution.seconds * f.contribution.worth;
        kept[f.night].push_back(&f);
    }
    for (auto& [name, n] : nights) {
        n.fwhm = median_of(kept[name], Measure::fwhm);
        n.transparency = median_of(kept[name], Measure::transparency);
        n.background = median_of(kept[name], Measure::background);
        stack.nights.push_back(n);
    }
}

void describe_cost(StackGrade& stack) {
    const auto all = contributions_of(stack);
    const auto kept = kept_of(stack);
    std::vector<bool> usable;
    for (const FrameGrade& f : stack.frames)
        usable.push_back(f.verdict.author != Author::impossible);
    stack.all = predict(all, usable);
    stack.kept = predict(all, kept);
    std::vector<std::size_t> order(all.size());
    std::iota(order.begin(), order.end(), std::size_t{0});
    std::stable_sort(order.begin(), order.end(),
                     [&](std::size_t a, std::size_t b) { return all[a].fwhm > all[b].fwhm; });
    stack.curve = cost_curve(all, kept, order);
}

FrameGrade grade_of(const Session& s, const Calibrations& calibrations, Light& l) {
    FrameGrade f;
    const Exposure& e = *l.exposure;
    f.path = e.path;
    f.content = e.fingerprint;
    f.night = e.night;
    f.filter = e.filter;
    f.start = e.start.empty() ? e.start_local : e.start;
    f.time = e.time;
    f.figures = l.figures;
    if (!l.measures) f.figures[Measure::seconds] = e.seconds.value_or(0);
    f.verdict = l.verdict;
    f.decision = l.decision;
    f.contribution = l.contribution;
    f.kin = l.kin;
    f.cell = grid_cell(s, e);
    if (l.registration) f.to_frame = l.registration->to_frame;
    if (l.measures) {
        f.scale = l.level.scale;
        f.key = measure_key(s, calibrations, *l.plan);
        f.shape = field_shape(*l.measures);
        f.streaks = l.measures->streaks;
        f.rejected = remembered_rejected(s, e);
        f.preview_scale = l.measures->preview_scale;
        const fs::path file = preview_file(s, f.key);
        std::error_code failed;
        if (fs::exists(file, failed)) f.preview = file.string();
    }
    f.measures = std::move(l.measures);
    return f;
}

/// The poses of all filters of a night together tell how the telescope moved; those of each sensor by themselves.
void add_drifts(const Session& s, const ReferenceGroup& group, const GradedLights& graded, GradeReport& report) {
    struct Night {
        std::vector<Pose> poses;
        std::map<int, Pose> began; ///< by panel: where its first exposure lies; from panel to panel nothing drifts
        double arcsec = 0;         ///< of a pixel
    };
    std::map<std::pair<std::string, std::string>, Night> nights; // by night and sensor
    for (std::size_t k = 0; k < group.stacks.size(); ++k)
        for (const Light& l : graded.lights[k]) {
            if (!l.registration || !l.exposure->time) continue;
            Night& night = nights[{l.exposure->night, s.pairing.stacks[group.stacks[k]].sensor}];
            Pose pose = l.pose;
            if (!graded.panels.empty()) {
                const Pose& first = night.began.emplace(l.panel, pose).first->second;
                pose.x -= first.x, pose.y -= first.y;
                pose.rotation = std::remainder(pose.rotation - first.rotation, 360.0);
            }
            night.poses.push_back(pose);
            night.arcsec = arcsec_per_pixel(*l.exposure, grid_cell(s, *l.exposure));
        }
    for (auto& [where, night] : nights) {
        std::stable_sort(night.poses.begin(), night.poses.end(),
                         [](const Pose& a, const Pose& b) { return a.time < b.time; });
        report.drifts.push_back({where.first, where.second, diagnose_drift(night.poses, night.arcsec)});
    }
}

} // namespace

bool GradeReport::clean() const {
    for (const StackGrade& s : stacks)
        for (const FrameGrade& f : s.frames)
            if (!f.verdict.keep) return false;
    return std::all_of(findings.begin(), findings.end(), [](const Finding& f) { return f.level == Level::note; });
}

namespace {

/// With the limits and the part that are asked for in place of the recipe's.
RunOptions run_options_of(const GradeOptions& options) {
    require_exposure_folder(options.run.folder);
    RunOptions run = options.run;
    run.recipe = recipe_of(options.run);
    Recipe& recipe = *run.recipe;
    auto& limits = recipe.grading.limits;
    if (!options.limits.empty()) limits = options.limits;
    limits.insert(limits.end(), options.more.begin(), options.more.end());
    for (std::string& text : limits) {
        Limit limit = parse_limit(text);
        for (std::string& f : limit.filters)
            f = fold_filter(f);
        text = limit_text(limit);
    }
    if (!options.part.empty()) recipe.grading.part = options.part;
    return run;
}

} // namespace

namespace {

/// Previews of lights that are no more, or that were measured in another way since.
void forget_old_previews(const Session& s, const GradeReport& report) {
    std::set<fs::path> current;
    for (const StackGrade& stack : report.stacks)
        for (const FrameGrade& f : stack.frames)
            if (!f.preview.empty()) current.insert(fs::path(f.preview).filename());
    std::error_code failed;
    for (fs::recursive_directory_iterator it(memory_folder(s.options) / "previews", failed), end; it != end && !failed;
         it.increment(failed))
        if (it->path().extension() == ".jpg" && !current.count(it->path().filename())) {
            std::error_code ignored;
            fs::remove(it->path(), ignored);
        }
}

} // namespace

/// What a session needs to stay alive.
struct GradedProject::Work {
    const RunOptions run;
    OpenProject project;
    Session& session;
    Calibrations calibrations;
    std::vector<const StackPlan*> plans; ///< as report.stacks
    mutable std::mutex mutex;            ///< of calibrations

    Work(const GradeOptions& options, const Context& context)
        : run(run_options_of(options)), project(run, context, {.previews = options.previews}), session(project.session),
          calibrations(session) {
        if (session.pairing.stacks.empty())
            throw DataError(
                fmt::format("there are no lights to grade among its {} exposures", session.exposures.size()),
                options.run.folder, "Add lights, or see with 'kasane check' what each file was taken for");
        if (const auto missing = reference_finding(session))
            throw UsageError(missing->text, recipe_file(options.run.folder), missing->remedy);
    }

    std::shared_ptr<const FrameView> view_of(std::size_t stack, std::size_t frame,
                                             const std::shared_ptr<const ExposureMeasures>& measures) {
        const std::lock_guard lock(mutex);
        return calibrations.view(plans[stack]->lights[frame],
                                 measures ? std::shared_ptr<const OwnCorrections>(measures, &measures->own) : nullptr);
    }

    void grade(const ReferenceGroup& group, const std::vector<Limit>& limits, GradeReport& report) {
        GradedLights graded = grade_group(session, calibrations, group, remembered_reference(session, group));
        add_drifts(session, group, graded, report);
        for (std::size_t k = 0; k < group.stacks.size(); ++k) {
            const StackPlan& plan = session.pairing.stacks[group.stacks[k]];
            StackGrade stack;
            stack.name = plan.name;
            stack.target = plan.target;
            stack.filter = plan.filter;
            stack.reference = graded.reference_path;
            stack.width = graded.canvas.width;
            stack.height = graded.canvas.height;
            const Exposure& light = session.exposures[plan.lights.front().exposure];
            stack.arcsec = arcsec_per_pixel(light, grid_cell(session, light));
            for (Light& l : graded.lights[k])
                stack.frames.push_back(grade_of(session, calibrations, l));
            if (!graded.panels.empty())
                for (std::size_t i = 0; i < stack.frames.size(); ++i) {
                    FrameGrade& f = stack.frames[i];
                    if (!graded.lights[k][i].registration) continue;
                    f.panel = graded.panels[static_cast<std::size_t>(graded.lights[k][i].panel)].name;
                    // What is forecast is of a place in a panel: a light tells nothing of the others.
                    f.contribution.information /= static_cast<double>(graded.panels.size());
                }
            describe_limits(stack, limits);
            describe_nights(stack);
            describe_cost(stack);
            report.stacks.push_back(std::move(stack));
            plans.push_back(&plan);
        }
    }
};

GradedProject::GradedProject(const GradeOptions& options, const Context& context) {
    const Stopwatch clock;
    work_ = std::make_unique<Work>(options, context);
    Session& s = work_->session;
    report.folder = options.run.folder.string();
    report.output = work_->project.output.string();
    report.limits = work_->project.recipe.grading.limits;
    report.comet = work_->project.recipe.comet;
    report.findings = work_->project.scan.findings;
    remove_all_leftovers(s);
    remember_names(s);
    make_masters(s);
    settle_panels(s);
    settle_grids(s);
    const std::vector<Limit> limits = limits_of(s);
    for (const ReferenceGroup& group : reference_groups(s))
        work_->grade(group, limits, report);
    for (const auto& list : {s.pairing.findings, work_->project.report.findings, s.verdicts.unused(s.exposures)})
        report.findings.insert(report.findings.end(), list.begin(), list.end());
    work_->project.ledger.let_go();
    if (options.previews) forget_old_previews(s, report);
    report.time = clock.seconds();
}

GradedProject::~GradedProject() = default;

FramePicture GradedProject::preview(std::size_t stack, std::size_t frame) const {
    if (stack >= work_->plans.size() || frame >= work_->plans[stack]->lights.size())
        throw UsageError("there is no such exposure", {}, {});
    const FrameGrade& f = report.stacks[stack].frames[frame];
    if (!f.measures) throw UsageError("this exposure was not measured", f.path, {});
    FramePicture picture;
    picture.scale = f.preview_scale;
    const auto look = [&] {
        const auto reader = open_frame(preview_file(work_->session, f.key));
        picture.pixels = Raster<std::uint8_t>(reader->width(), reader->height(), reader->planes());
        for (int p = 0; p < reader->planes(); ++p) {
            const Image plane = read_plane(*reader, p);
            for (int y = 0; y < plane.height(); ++y)
                for (int x = 0; x < plane.width(); ++x)
                    picture.pixels(x, y, p) = static_cast<std::uint8_t>(plane(x, y));
        }
    };
    if (attempt(look)) { // gone, or damaged
        const std::shared_ptr<const FrameView> view = work_->view_of(stack, frame, nullptr);
        make_preview(work_->session, *view, work_->plans[stack]->lights[frame], f.key);
        view->release();
        look();
    }
    return picture;
}

std::optional<StarLook> GradedProject::star(std::size_t stack, std::size_t frame, Point at, double reach) const {
    if (stack >= work_->plans.size() || frame >= work_->plans[stack]->lights.size())
        throw UsageError("there is no such exposure", {}, {});
    const auto measures = report.stacks[stack].frames[frame].measures;
    if (!measures) return std::nullopt;
    const Star* nearest = nullptr;
    for (const Star& s : measures->main().stars)
        if (const double r = std::hypot(s.x - at.x, s.y - at.y);
            r <= reach && (!nearest || r < std::hypot(nearest->x - at.x, nearest->y - at.y)))
            nearest = &s;
    if (!nearest) return std::nullopt;
    const auto view = work_->view_of(stack, frame, measures);
    const int plane = main_plane(view->planes()), half = 64; // pixels
    const Region box = intersect({static_cast<int>(std::lround(nearest->x)) - half,
                                  static_cast<int>(std::lround(nearest->y)) - half, 2 * half + 1, 2 * half + 1},
                                 view->bounds());
    const Image pixels = read_planes(*view, box);
    view->release();
    return look_at_star(pixels.plane(plane), *nearest, {static_cast<double>(box.x), static_cast<double>(box.y)},
                        measures->main().fwhm, measures->main().noise);
}

std::optional<StackFrame> GradedProject::stack_frame(std::size_t stack, std::size_t frame) const {
    if (stack >= work_->plans.size() || frame >= work_->plans[stack]->lights.size())
        throw UsageError("there is no such exposure", {}, {});
    const FrameGrade& f = report.stacks[stack].frames[frame];
    if (!f.measures || !f.to_frame || !(f.scale > 0)) return std::nullopt;
    StackFrame out;
    const auto view = work_->view_of(stack, frame, f.measures);
    out.source = view;
    for (int p = 0; p < view->planes(); ++p) {
        StackPlane one;
        one.to_frame = *f.to_frame;
        one.level.scale.value = f.scale;
        const Measures& m = f.measures->planes[std::min(f.measures->planes.size() - 1, static_cast<std::size_t>(p))];
        one.noise = m.noise;
        one.fwhm = m.fwhm;
        out.planes.push_back(std::move(one));
    }
    out.streaks = f.streaks;
    return out;
}

FramePicture GradedProject::picture(std::size_t stack, std::size_t frame, const Region& part, bool raw) const {
    if (stack >= work_->plans.size() || frame >= work_->plans[stack]->lights.size())
        throw UsageError("there is no such exposure", {}, {});
    std::shared_ptr<const FrameView> view = work_->view_of(stack, frame, report.stacks[stack].frames[frame].measures);
    if (raw) view = as_it_came(*view);
    std::optional<PreviewScale> scale;
    if (const PreviewScale& known = report.stacks[stack].frames[frame].preview_scale;
        !raw && known.planes == view->planes())
        scale = known;
    if (part.empty()) {
        SmallFrame small(view);
        return picture_of(small.finish(), small.factor(), scale);
    }
    constexpr int kMostCrop = 2000; // pixels
    const Region wanted = intersect(part, view->bounds());
    if (wanted.empty() || wanted.width > kMostCrop || wanted.height > kMostCrop)
        throw UsageError("this part does not lie in the frame, or is too large", {}, {});
    const Image pixels = read_planes(*view, wanted);
    view->release();
    return picture_of(pixels, 1, scale);
}

GradeReport grade_project(const GradeOptions& options, const Context& context) {
    return std::move(GradedProject(options, context).report);
}

void judge_again(GradeReport& report, const std::vector<std::string>& texts) {
    std::vector<Limit> limits;
    report.limits.clear();
    for (const std::string& text : texts) {
        limits.push_back(parse_limit(text));
        report.limits.push_back(limit_text(limits.back()));
    }
    for (StackGrade& stack : report.stacks) {
        const std::vector<Verdict> verdicts = judge(candidatures_of(stack), limits);
        for (std::size_t i = 0; i < stack.frames.size(); ++i)
            stack.frames[i].verdict = verdicts[i];
        describe_limits(stack, limits);
        describe_nights(stack);
        describe_cost(stack);
    }
}

std::vector<VerdictChange> changes_for(const GradeReport& report, const std::vector<Wish>& wishes) {
    struct Wanted {
        VerdictChange change;
        const Wish* by = nullptr;
        bool by_path = false;
    };
    std::vector<Wanted> wanted; // in the order of the wishes
    std::map<std::string, std::size_t> places;
    const auto word = [](const Wish& w) { return !w.decision ? "auto" : w.decision->keep ? "keep" : "drop"; };
    for (const Wish& wish : wishes) {
        const bool is_glob = wish.pattern.find_first_of("*?[") != std::string::npos;
        bool any = false;
        for (const StackGrade& s : report.stacks)
            for (const FrameGrade& f : s.frames) {
                if (!names_exposure(wish.pattern, report.folder, f.path)) continue;
                const bool by_path = f.path == wish.pattern || !is_glob;
                any = true;
                const auto [place, fresh] = places.try_emplace(f.path, wanted.size());
                if (fresh) wanted.emplace_back();
                Wanted& w = wanted[place->second];
                if (w.by && w.by_path == by_path && std::string_view(word(*w.by)) != word(wish))
                    throw UsageError(fmt::format("{} is to be both {} (by \"{}\") and {} (by \"{}\")", f.path,
                                                 word(*w.by), w.by->pattern, word(wish), wish.pattern),
                                     report.folder, "Say one of them; a path wins over a glob");
                if (w.by && w.by_path && !by_path) continue;
                w = {{f.path, f.content, wish.decision}, &wish, by_path};
            }
        if (!any)
            throw UsageError(fmt::format("\"{}\" names no light of the project", wish.pattern), report.folder,
                             "Write the path as 'kasane grade' shows it, or a glob in quotes: \"night-2/lights/L_0*\"");
    }
    std::vector<VerdictChange> changes;
    for (Wanted& w : wanted)
        changes.push_back(std::move(w.change));
    return changes;
}

} // namespace kasane
