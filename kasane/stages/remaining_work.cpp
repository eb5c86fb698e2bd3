#include <kasane/stages/remaining_work.hpp>

#include <kasane/stages/comet_masters.hpp>
#include <kasane/stages/composites.hpp>
#include <kasane/stages/drizzle_choice.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/group_canvas.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/measure.hpp>
#include <kasane/stages/results.hpp>
#include <kasane/stages/stack_basis.hpp>

#include <algorithm>
#include <cstdlib>
#include <fmt/format.h>
#include <set>

namespace kasane {

namespace {

/// Seconds on one core of a usual machine, until a run here has shown its own: for each, and for a megapixel of it.
struct Cost {
    double each, megapixel;
    double of(double megapixels) const { return each + megapixel * megapixels; }
};
// Of a frame of a master; of the sensor's defects, looked for once. Of a light: measured (and judged), registered,
// settled, brought to one level, tried with all rejections, integrated, drizzled. Of a master light: looked at and
// written, looked at for the page. Of colours: a plane of a light, but for measuring a mosaic.
constexpr Cost kMasterCost{0.012, 0.0042}, kMosaicMasterCost{0.012, 0.006}, kDefectsCost{0.02, 0.03};
constexpr Cost kMeasureCost{0.07, 0.0118}, kMeasureMosaicCost{0.07, 0.04}, kJudgeCost{0.011, 0};
constexpr Cost kRegisterCost{0.027, 0.0007}, kSettleCost{0, 0.0011};
constexpr Cost kLevelCost{0.012, 0.002}, kTrialsCost{0.04, 0}, kIntegrateCost{0.003, 0.0145},
    kDrizzleCost{0.003, 0.055};
constexpr Cost kFinishCost{0.3, 0.05}, kReportCost{0.3, 0.05};
constexpr double kWorthTiming = 1; // seconds of work below which nothing can be learnt of the speed

double megapixels(const Exposure& e) {
    return 1e-6 * e.width * e.height;
}

std::uint64_t pixels_of(const Exposure& e) {
    return static_cast<std::uint64_t>(e.width) * static_cast<std::uint64_t>(e.height);
}

void add_masters(const Session& s, Work& work) {
    StageCost masters{"masters"};
    for (const std::size_t i : needed_masters(s.pairing)) {
        const MasterPlan& plan = s.pairing.masters[i];
        if (plan.existing || !s.masters[i] || finished_master(s, plan, master_basis(s, plan).key())) continue;
        const Exposure& e = s.exposures[plan.members.front()];
        ++work.masters;
        work.result_bytes += pixels_of(e) * sizeof(float);
        const Cost& frame = e.cfa.empty() ? kMasterCost : kMosaicMasterCost;
        masters.seconds += static_cast<double>(plan.members.size()) * frame.of(megapixels(e));
    }
    if (work.masters > 0) work.stages.push_back(masters);
}

/// Bringing the lights of a stack to one level.
StageCost levels_of(const Session& s, const StackPlan& plan) {
    StageCost levels{kLevelStage};
    for (const LightPlan& l : plan.lights)
        levels.seconds += result_planes(s, plan) * kLevelCost.of(megapixels(s.exposures[l.exposure]));
    return levels;
}

StageCost add_stack(const Session& s, const StackPlan& plan, bool comet, Work& work) {
    constexpr std::uint64_t kResult = 9;   // bytes a pixel: the light and its coverage as floats, and the preview
    constexpr std::uint64_t kRejected = 4; // the same, for all planes together: what was rejected below and above
    constexpr std::uint64_t kInMemory = 12;
    ++work.stacks;
    const Exposure& first = s.exposures[plan.lights.front().exposure];
    const auto drizzle = drizzle_wanted(s); // where it is left open, twice as fine is the most likely
    const double scale = s.recipe.canvas.framing.scale * (s.options.preview ? kPreviewScale : 1) *
                         (drizzle ? drizzle->options.scale : 1);
    std::set<std::string> panels; // as far as their names tell
    for (const LightPlan& l : plan.lights)
        panels.insert(squeezed(s.exposures[l.exposure].target));
    const auto pixels = static_cast<std::uint64_t>(scale * scale * static_cast<double>(pixels_of(first))) *
                        std::max<std::size_t>(1, panels.size());
    const auto planes = static_cast<std::uint64_t>(result_planes(s, plan));
    const std::uint64_t results = comet ? 3 : 1;
    work.result_bytes += results * pixels * (kResult * planes + kRejected);
    work.memory_bytes = std::max(work.memory_bytes, results * pixels * (kInMemory * planes + kRejected));
    StageCost stack{(drizzle ? "drizzle " : "integrate ") + plan.name};
    const int passes = comet ? 1 + CometMasters::kPasses : 1;
    for (const LightPlan& l : plan.lights) {
        const double light = megapixels(s.exposures[l.exposure]);
        stack.before += kTrialsCost.of(light);
        stack.seconds +=
            drizzle ? passes * kDrizzleCost.of(light) : passes * static_cast<double>(planes) * kIntegrateCost.of(light);
    }
    stack.after = static_cast<double>(results) * kFinishCost.of(1e-6 * static_cast<double>(pixels * planes));
    return stack;
}

/// Of the lights that are not known yet.
void add_lights(const Session& s, const Calibrations& calibrations, const StackPlan& plan, StageCost& measure,
                StageCost& align, Work& work) {
    for (const LightPlan& l : plan.lights) {
        if (s.ledger.fact(measure_key(s, calibrations, l))) continue;
        const Exposure& e = s.exposures[l.exposure];
        ++work.lights;
        if (measure.before == 0) measure.before = kDefectsCost.of(megapixels(e));
        measure.seconds +=
            e.cfa.empty() ? e.planes * kMeasureCost.of(megapixels(e)) : kMeasureMosaicCost.of(megapixels(e));
        measure.after += kJudgeCost.of(megapixels(e));
        align.seconds += kRegisterCost.of(megapixels(e));
        align.after += kSettleCost.of(megapixels(e));
    }
}

} // namespace

void assume_masters(Session& s) {
    s.masters.assign(s.pairing.masters.size(), std::nullopt);
    for (const std::size_t i : needed_masters(s.pairing)) {
        // With their reports where they are done; without those that cannot be made of the files as they are.
        const std::string key = master_basis(s, s.pairing.masters[i]).key();
        if (failed_master(s, key)) continue;
        auto report = finished_master(s, s.pairing.masters[i], key).value_or(MasterReport{});
        s.masters[i] = ReadyMaster{effective_key(key, report), {}, std::move(report)};
    }
}

double Work::core_seconds() const {
    double sum = 0;
    for (const StageCost& stage : stages)
        sum += stage.whole();
    return sum;
}

Work remaining_work(Session& s) {
    const auto kept = std::move(s.masters);
    assume_masters(s);
    Work work;
    add_masters(s, work);
    Calibrations calibrations(s);
    const std::vector<CometMark> marks = comet_marks(s).sound;
    for (const ReferenceGroup& group : reference_groups(s)) {
        const bool comet = has_comet(s, group, marks);
        judge_what_is_known(s, calibrations, group);
        const std::string reference = remembered_reference(s, group);
        std::vector<StackReport> finished;
        StageCost measure{"measure"}, align{"register"};
        std::vector<StageCost> stacks;
        for (const JointStack& stack : joint_stacks(s, group)) {
            work.report_seconds += kReportCost.of(result_planes(s, stack.plan) *
                                                  megapixels(s.exposures[stack.plan.lights.front().exposure]));
            const auto done =
                finished_stack(s, stack.plan, stack_basis(s, calibrations, group, stack, reference).key());
            if (done) finished.push_back(*done);
            if (!done) {
                add_lights(s, calibrations, stack.plan, measure, align, work);
                stacks.push_back(levels_of(s, stack.plan));
                stacks.push_back(add_stack(s, stack.plan, comet, work));
            } else if (done->file.empty()) {
                work.failed.push_back(*done);
            }
        }
        if (measure.seconds > 0) work.stages.insert(work.stages.end(), {measure, align});
        work.stages.insert(work.stages.end(), stacks.begin(), stacks.end());
        for (const CompositePlan& c : plan_composites(s, finished))
            if (c.basis && !c.done) ++work.composites;
    }
    for (const Exposure& e : s.exposures)
        if (e.format != Format::fits || e.path.ends_with(".gz"))
            work.cache_bytes += pixels_of(e) * static_cast<std::uint64_t>(e.planes) * (std::abs(e.bits) > 16 ? 4 : 2);
    s.masters = kept;
    return work;
}

std::optional<Finding> memory_finding(const Session& s, const Work& work) {
    if (work.memory_bytes <= s.context.memory.bytes) return std::nullopt;
    return Finding{
        Level::note,
        "memory-short",
        {},
        fmt::format("a master light takes about {}, the memory budget is {}: while it is made it lies in files without "
                    "a name on the disk of the results, which takes longer",
                    size_text(work.memory_bytes), size_text(s.context.memory.bytes)),
        "Give more with --memory if there is more"};
}

std::optional<double> known_speed(const Session& s) {
    const auto known = s.ledger.choice("pace");
    const double v = known ? std::strtod(known->c_str(), nullptr) : 0;
    return v > 0.01 && v < 100 ? std::optional(v) : std::nullopt;
}

void remember_speed(Session& s, const Work& done, double seconds) {
    const double expected = done.core_seconds() / s.context.workers.threads();
    if (seconds > kWorthTiming && expected > 0) s.ledger.set_choice("pace", fmt::format("{:.4g}", seconds / expected));
}

} // namespace kasane
