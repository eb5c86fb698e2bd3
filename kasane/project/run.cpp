#include <kasane/project/run.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/pairing/checks.hpp>
#include <kasane/stages/integrate.hpp>
#include <kasane/stages/joint_stacks.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/open_project.hpp>
#include <kasane/stages/pair.hpp>
#include <kasane/stages/panels.hpp>
#include <kasane/stages/reference_groups.hpp>
#include <kasane/stages/remaining_work.hpp>
#include <kasane/stages/shared_grid.hpp>

#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

namespace {

void require_lights(const Session& s, const Scan& scan) {
    const RunOptions& options = s.options;
    if (!s.pairing.stacks.empty()) return;
    if (s.exposures.empty()) {
        const std::string others =
            scan.other_files ? fmt::format(" ({} files of other kinds are there)", scan.other_files) : "";
        const std::string broken =
            scan.findings.empty() ? ""
                                  : fmt::format("; {} could not be read, the first is {}: {}", scan.findings.size(),
                                                scan.findings.front().files.front(), scan.findings.front().text);
        const std::string left_out =
            scan.excluded ? fmt::format(" ({} files or folders are left out by the recipe)", scan.excluded) : "";
        throw DataError("there are no exposures in this folder" + others + left_out + broken, options.folder,
                        "Name the folder that holds the exposures of a target");
    }
    std::string why;
    for (const Finding& f : s.pairing.findings)
        if (f.code == "role-unknown" || f.code == "colour-image") why += "; " + f.text;
    throw DataError(
        fmt::format("there are no lights that can be integrated among its {} exposures{}", s.exposures.size(), why),
        options.folder, "Add lights, or see with 'kasane check' what each file was taken for");
}

void tell_of_ledger(OpenProject& project) {
    if (!project.ledger.was_damaged()) return;
    project.report.findings.push_back(
        {Level::note,
         "ledger-damaged",
         {project.ledger.put_aside().lexically_proximate(project.session.options.folder).string()},
         "the ledger could not be used as it was (damaged, or of a newer version); it lies here now, and "
         "what it knew is found out again",
         "Delete it if you like"});
}

} // namespace

RunReport build_masters(const RunOptions& options, const Context& context) {
    const Stopwatch clock;
    OpenProject project(options, context);
    Session& session = project.session;
    RunReport& report = project.report;
    tell_of_ledger(project);
    report.findings.insert(report.findings.end(), project.scan.findings.begin(), project.scan.findings.end());
    report.findings.insert(report.findings.end(), session.pairing.findings.begin(), session.pairing.findings.end());
    // Without lights, for a library say, all that can be.
    const std::vector<std::size_t> wanted =
        session.pairing.stacks.empty() ? all_masters(session.pairing) : needed_masters(session.pairing);
    if (session.exposures.empty())
        throw DataError("there are no exposures in this folder", options.folder,
                        "Name the folder that holds the calibration frames");
    require_free_places(session);
    require_writable_folder(project.output);
    remove_all_leftovers(session);
    remember_names(session);
    make_masters(session, wanted);
    const auto sums = checksum_findings(session);
    report.findings.insert(report.findings.end(), sums.begin(), sums.end());
    report.time = clock.seconds();
    return std::move(report);
}

namespace {

enum class Last { make, compare };

RunReport run_up_to(Last last, const RunOptions& options, const Context& context) {
    const Stopwatch clock;
    OpenProject project(options, context);
    Session& session = project.session;
    RunReport& report = project.report;
    tell_of_ledger(project);
    report.findings.insert(report.findings.end(), project.scan.findings.begin(), project.scan.findings.end());
    require_lights(session, project.scan);
    if (const auto missing = reference_finding(session))
        throw UsageError(missing->text, recipe_file(options.folder), missing->remedy);
    require_free_places(session);
    for (const auto& list :
         {session.pairing.findings, check_frames(session.exposures, session.pairing, project.scan.looks)})
        report.findings.insert(report.findings.end(), list.begin(), list.end());
    for (const Finding& f : session.verdicts.unused(session.exposures))
        report.findings.push_back(f);
    require_writable_folder(project.output);
    remove_all_leftovers(session);
    remember_names(session);

    const Work todo = remaining_work(session);
    if (const auto short_of = memory_finding(session, todo)) report.findings.push_back(*short_of);
    if (last == Last::make && options.only.empty() && !todo.stages.empty()) {
        std::vector<StageCost> stages = todo.stages;
        stages.push_back({"report", todo.report_seconds});
        const double pace = known_speed(session).value_or(1) / context.workers.threads();
        for (StageCost& stage : stages)
            stage = stage * pace;
        context.progress.expect(stages);
    }
    const Stopwatch work;
    make_masters(session);
    settle_panels(session);
    settle_grids(session);
    for (Finding& f : panel_findings(session))
        report.findings.push_back(std::move(f));
    for (Finding& f : joint_findings(session))
        report.findings.push_back(std::move(f));
    if (last == Last::make) {
        make_stacks(session);
        if (options.only.empty()) remember_speed(session, todo, work.seconds());
    } else {
        try_rejections(session);
    }
    const auto sums = checksum_findings(session);
    report.findings.insert(report.findings.end(), sums.begin(), sums.end());
    if (project.ledger.forgotten() > 0)
        report.findings.push_back({Level::note,
                                   "ledger-rows-forgotten",
                                   {},
                                   fmt::format("{} entries of the ledger were not as they had been written; what they "
                                               "held was found out again",
                                               project.ledger.forgotten()),
                                   ""});
    report.time = clock.seconds();
    return std::move(report);
}

} // namespace

RunReport run_project(const RunOptions& options, const Context& context) {
    return run_up_to(Last::make, options, context);
}

RunReport compare_rejections(const RunOptions& options, const Context& context) {
    return run_up_to(Last::compare, options, context);
}

} // namespace kasane
