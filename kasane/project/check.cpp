#include <kasane/project/check.hpp>

#include <kasane/base/error.hpp>
#include <kasane/io/fits.hpp>
#include <kasane/pairing/checks.hpp>
#include <kasane/stages/comet.hpp>
#include <kasane/stages/composites.hpp>
#include <kasane/stages/grade.hpp>
#include <kasane/stages/integrate.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/open_project.hpp>
#include <kasane/stages/remaining_work.hpp>
#include <kasane/stages/results.hpp>
#include <kasane/stages/stack_basis.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <map>
#include <set>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// The session that a run would have, without building anything.
OpenProject looked_at(const RunOptions& options, const Context& context, bool look_at_all) {
    return OpenProject(options, context, {.use = Ledger::Use::look, .look_at_pixels = look_at_all});
}

CostEstimate estimate(OpenProject& p, const Work& work) {
    CostEstimate cost;
    cost.masters = work.masters;
    cost.lights = work.lights;
    cost.stacks = work.stacks;
    cost.composites = work.composites;
    cost.failed = static_cast<int>(work.failed.size());
    cost.result_bytes = work.result_bytes;
    cost.memory_bytes = work.memory_bytes;
    cost.cache_bytes = std::min(work.cache_bytes, p.recipe.cache_bytes);
    const auto speed = known_speed(p.session);
    cost.measured = speed.has_value();
    const int threads = p.session.context.workers.threads();
    cost.seconds = work.core_seconds() * speed.value_or(1) / threads;
    std::error_code failed;
    fs::path place = fs::absolute(p.output, failed);
    while (!fs::exists(place, failed) && place.has_parent_path() && place != place.parent_path())
        place = place.parent_path();
    const auto space = fs::space(place, failed);
    cost.free_bytes = failed ? 0 : space.available;
    cost.budget_bytes = p.session.context.memory.bytes;
    return cost;
}

void check_place(const OpenProject& p, const CostEstimate& cost, std::vector<Finding>& findings) {
    if (cost.free_bytes > 0 && cost.result_bytes + cost.cache_bytes > cost.free_bytes)
        findings.push_back(
            {Level::blocker,
             "disk-short",
             {},
             fmt::format("results need about {}{}, and {} has {} left", size_text(cost.result_bytes),
                         cost.cache_bytes ? fmt::format(" and decoded pixels {}", size_text(cost.cache_bytes)) : "",
                         p.output.string(), size_text(cost.free_bytes)),
             "Free some space, name another place with --output, or lower the cache's size in the recipe"});
    // Results among the inputs: they would be walked into, and be in the way.
    std::error_code failed;
    const std::string out = fs::weakly_canonical(p.output, failed).string() + "/";
    const std::string usual = fs::weakly_canonical(p.session.options.folder / "kasane", failed).string() + "/";
    if (out == usual) return;
    std::set<std::string> folders;
    for (std::size_t i = 0; i < p.session.exposures.size(); ++i)
        if (!p.session.exposures[i].made_by_kasane)
            folders.insert(fs::weakly_canonical(p.session.path_of(i).parent_path(), failed).string() + "/");
    for (const std::string& f : folders)
        if (out.starts_with(f) && f != fs::weakly_canonical(p.session.options.folder, failed).string() + "/") {
            findings.push_back(
                {Level::warning,
                 "output-inside-inputs",
                 {},
                 fmt::format("the results would go to {}, inside a folder of exposures", p.output.string()),
                 "Name another place with --output, or output in the recipe"});
            break;
        }
}

void sort_findings(std::vector<Finding>& findings) {
    std::stable_sort(findings.begin(), findings.end(),
                     [](const Finding& a, const Finding& b) { return a.level > b.level; });
}

} // namespace

bool CheckReport::clean() const {
    return std::all_of(findings.begin(), findings.end(), [](const Finding& f) { return f.level == Level::note; });
}

ScannedProject scan_project(const RunOptions& options, const Context& context) {
    OpenProject p = looked_at(options, context, false);
    Scan scan = p.take_scan();
    return {std::move(scan), std::move(p.session.pairing)};
}

CheckReport check_project(const RunOptions& options, const Context& context) {
    OpenProject p = looked_at(options, context, true);
    CheckReport r;
    r.folder = options.folder.string();
    r.output = p.output.string();
    const Work work = remaining_work(p.session);
    r.cost = estimate(p, work);
    r.findings = p.scan.findings;
    const auto append = [&](std::vector<Finding> list) {
        r.findings.insert(r.findings.end(), std::make_move_iterator(list.begin()), std::make_move_iterator(list.end()));
    };
    append(p.session.pairing.findings);
    if (auto missing = reference_finding(p.session)) r.findings.push_back(std::move(*missing));
    append(check_frames(p.session.exposures, p.session.pairing, p.scan.looks));
    append(joint_findings(p.session));
    append(checksum_findings(p.session));
    append(p.session.verdicts.unused(p.session.exposures));
    append(comet_marks(p.session).findings);
    if (const auto short_of = memory_finding(p.session, work)) r.findings.push_back(*short_of);
    for (const StackReport& failed : work.failed)
        r.findings.push_back(failure_finding(failed));
    if (p.session.pairing.stacks.empty())
        r.findings.push_back(
            {Level::blocker,
             "no-lights",
             {},
             p.session.exposures.empty()
                 ? fmt::format("there are no exposures{}", p.scan.excluded
                                                               ? fmt::format(" ({} files or folders are left out by "
                                                                             "the recipe)",
                                                                             p.scan.excluded)
                                                               : "")
                 : fmt::format("there are no lights among the {} exposures", p.session.exposures.size()),
             "Name the folder that holds the exposures of a target, or see with 'kasane scan' what "
             "each file was taken for"});
    if (!p.ledger.trouble().empty())
        r.findings.push_back({Level::warning,
                              "ledger-unusable",
                              {},
                              fmt::format("what earlier runs found out is not known: {}", p.ledger.trouble()),
                              "Free some space, or mend the folder .kasane"});
    check_place(p, r.cost, r.findings);
    sort_findings(r.findings);
    r.pairing = std::move(p.session.pairing);
    r.scan = p.take_scan();
    return r;
}

std::string_view state_name(ResultStatus::State state) {
    switch (state) {
    case ResultStatus::State::done:
        return "done";
    case ResultStatus::State::stale:
        return "stale";
    case ResultStatus::State::missing:
        return "not made";
    case ResultStatus::State::failed:
        return "cannot be made";
    }
    return "not made";
}

bool StatusReport::all_done() const {
    return !results.empty() && std::all_of(results.begin(), results.end(),
                                           [](const ResultStatus& r) { return r.state == ResultStatus::State::done; });
}

namespace {

/// What is known of a master light that is not made yet, or stale.
StackReport as_if_made(const Session& s, const StackPlan& plan, const std::string& file) {
    StackReport out;
    out.name = plan.name;
    out.target = plan.target;
    out.filter = plan.filter;
    out.file = file;
    out.noise = 1;
    if (result_planes(s, plan) == 3) out.colour_noise.assign(3, 1);
    return out;
}

/// Beside the master light of a stack with a comet, and made with it.
std::vector<ResultStatus> comet_results(const Session& s, const ResultStatus& stars, const CometReport& known) {
    std::vector<ResultStatus> out;
    for (const auto& [end, kind, file] :
         {std::tuple("-comet", "comet", known.file), std::tuple("-both", "comet and stars", known.both_file)}) {
        ResultStatus one = stars;
        one.name += end;
        one.kind = kind;
        one.file = file.empty() ? fmt::format("lights/{}.fits", one.name) : file;
        one.reasons.clear(); // told of the master light
        one.time = 0;
        std::error_code failed;
        if (one.state == ResultStatus::State::stale && !fs::exists(s.output / one.file, failed))
            one.state = ResultStatus::State::missing;
        out.push_back(std::move(one));
    }
    return out;
}

} // namespace

StatusReport project_status(const RunOptions& options, const Context& context) {
    OpenProject p = looked_at(options, context, false);
    assume_masters(p.session);
    Session& s = p.session;
    Calibrations calibrations(s);
    StatusReport r;
    r.folder = options.folder.string();
    r.output = p.output.string();
    r.exposures = static_cast<int>(s.exposures.size());
    r.cache_bytes = p.cache.size();
    r.cache_limit = p.cache.limit();
    r.holdings = holdings(options);
    std::set<std::string> wanted;
    const auto judge = [&](ResultStatus& status, const std::string& entry, const Basis& basis, bool finished) {
        wanted.insert(entry);
        if (finished) {
            status.state = ResultStatus::State::done;
            return;
        }
        std::error_code failed;
        const auto former = s.ledger.choice("basis/" + entry);
        if (!fs::exists(p.output / status.file, failed)) {
            status.state = ResultStatus::State::missing;
            if (former) status.reasons = {"its file is gone"};
            return;
        }
        status.state = ResultStatus::State::stale;
        status.reasons = former ? basis.changes_since(*former)
                                : std::vector<std::string>{"nothing is remembered of how it was made"};
        if (status.reasons.empty())
            status.reasons = {is_intact(s, p.output / status.file)
                                  ? "another version of Kasane remembered it in another way"
                                  : "its file was changed or its making not finished"};
    };
    for (const std::size_t i : needed_masters(s.pairing)) {
        const MasterPlan& plan = s.pairing.masters[i];
        ResultStatus status;
        status.name = plan.name;
        status.kind = "master";
        status.frames = static_cast<int>(plan.members.size());
        if (plan.existing) {
            status.file = s.exposures[plan.members.front()].path;
            status.state = ResultStatus::State::done;
        } else {
            const Basis basis = master_basis(s, plan);
            const fs::path file = master_file(s, plan, basis.key());
            status.file = file.lexically_proximate(p.output).generic_string();
            const auto report = finished_master(s, plan, basis.key());
            const auto why = failed_master(s, basis.key());
            judge(status, "masters/" + plan.name + ".fits", basis, report.has_value());
            if (why) {
                status.state = ResultStatus::State::failed;
                status.reasons = {*why};
            } else if (report && !report->unread.empty()) {
                status.reasons = {fmt::format("made without {} file{} that could not be read: {}",
                                              report->unread.size(), report->unread.size() == 1 ? "" : "s",
                                              report->unread.front())};
            }
            if (report) status.time = report->time;
        }
        r.results.push_back(std::move(status));
    }
    const auto groups = reference_groups(s);
    for (const ReferenceGroup& group : groups)
        judge_what_is_known(s, calibrations, group);
    std::vector<std::pair<const ReferenceGroup*, JointStack>> stacks;
    for (const ReferenceGroup& group : groups)
        for (JointStack& stack : joint_stacks(s, group))
            stacks.emplace_back(&group, std::move(stack));
    std::sort(stacks.begin(), stacks.end(),
              [](const auto& a, const auto& b) { return a.second.parts.front() < b.second.parts.front(); });
    std::map<std::string, std::vector<StackReport>> made_of; // by group
    std::set<std::string> unfinished;                        // groups
    std::set<const ReferenceGroup*> comets;
    for (const std::vector<CometMark> marks = comet_marks(s).sound; const ReferenceGroup& group : groups)
        if (has_comet(s, group, marks)) comets.insert(&group);
    for (const auto& [group, stack] : stacks) {
        const StackPlan& plan = stack.plan;
        ResultStatus status;
        status.name = plan.name;
        status.kind = "master light";
        status.file = "lights/" + plan.name + ".fits";
        status.frames = static_cast<int>(plan.lights.size());
        const Basis basis = stack_basis(s, calibrations, *group, stack, remembered_reference(s, *group));
        const auto report = finished_stack(s, plan, basis.key());
        judge(status, status.file, basis, report.has_value());
        if (report) status.time = report->time;
        made_of[group->name].push_back(report ? *report : as_if_made(s, plan, status.file));
        if (!report) unfinished.insert(group->name);
        if (report && report->file.empty()) {
            status.state = ResultStatus::State::failed;
            status.reasons = {"none of its lights can be used"};
            for (const FrameReport& f : report->frames)
                if (status.reasons.size() < 4) status.reasons.push_back(fmt::format("{}: {}", f.path, f.reason));
        } else if (report && report->unread > 0) {
            status.reasons = {fmt::format("made without {} light{} that could not be read", report->unread,
                                          report->unread == 1 ? "" : "s")};
        }
        std::vector<ResultStatus> beside;
        if (status.state != ResultStatus::State::failed && (report ? !report->comet.file.empty() : comets.count(group)))
            beside = comet_results(s, status, report ? report->comet : CometReport{});
        r.results.push_back(std::move(status));
        std::move(beside.begin(), beside.end(), std::back_inserter(r.results));
    }
    for (const ReferenceGroup& group : groups)
        for (const CompositePlan& plan : plan_composites(s, made_of[group.name])) {
            if (!plan.basis) continue;
            ResultStatus status;
            status.name = plan.name;
            status.kind = composite_name(plan.kind);
            status.file = plan.file;
            status.frames = static_cast<int>(plan.parts.size());
            judge(status, plan.file, *plan.basis, plan.done.has_value() && !unfinished.count(group.name));
            if (status.state == ResultStatus::State::stale && unfinished.count(group.name))
                status.reasons = {"so are master lights that it is made of"};
            if (plan.done) status.time = plan.done->time;
            r.results.push_back(std::move(status));
        }
    for (const auto& [name, text] : s.ledger.choices("basis/")) {
        std::error_code failed;
        const std::string file = name.substr(6);
        if (!wanted.count(file) && fs::exists(p.output / file, failed)) r.leftovers.push_back(file);
    }
    std::sort(r.leftovers.begin(), r.leftovers.end());
    return r;
}

} // namespace kasane
