#include <kasane/project/run.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/frames/checks.hpp>
#include <kasane/project/scan.hpp>
#include <kasane/project/session.hpp>

#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

Recipe recipe_of(const RunOptions& options) {
    return options.recipe ? *options.recipe : read_recipe(options.folder);
}

fs::path output_of(const RunOptions& options, const Recipe& recipe) {
    const fs::path output =
        !options.output.empty() ? options.output : options.folder / (recipe.output.empty() ? "kasane" : recipe.output);
    std::error_code failed;
    if (fs::weakly_canonical(output, failed) == fs::weakly_canonical(options.folder, failed))
        throw UsageError("is the folder of the exposures itself; results would lie among them and hide them", output,
                         "Name a folder of its own with --output, or output in the recipe");
    if (fs::exists(output, failed) && !fs::is_directory(output, failed))
        throw UsageError("is not a folder, though the results should go there", output,
                         "Name another one with --output, or output in the recipe");
    return output;
}

fs::path memory_folder(const RunOptions& options) {
    return (options.output.empty() ? options.folder : options.output) / ".kasane";
}

namespace {

void require_lights(const RunOptions& options, const Session& s, const Scan& scan) {
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

} // namespace

RunReport run_project(const RunOptions& options, const Context& context) {
    const Stopwatch clock;
    std::error_code failed;
    if (!fs::is_directory(options.folder, failed))
        throw InputError("is not a folder", options.folder, "Name the folder that holds the exposures");
    const Recipe recipe = recipe_of(options);
    const fs::path output = output_of(options, recipe);
    Ledger ledger(memory_folder(options));
    PixelCache cache(memory_folder(options) / "cache", recipe.cache_bytes);
    RunReport report;
    report.folder = options.folder.string();
    report.output = output.string();
    if (ledger.was_damaged())
        report.findings.push_back(
            {Level::note,
             "ledger-damaged",
             {ledger.put_aside().lexically_proximate(options.folder).string()},
             "the ledger could not be used as it was (damaged, or of a newer version); it lies here now, and "
             "what it knew is found out again",
             "Delete it if you like"});

    Scan scan = scan_folder({options.folder, output, recipe, &cache, true}, ledger, context);
    report.findings.insert(report.findings.end(), scan.findings.begin(), scan.findings.end());
    VerdictFile verdicts = VerdictFile::read(verdict_file(options.folder));
    Session session{options,
                    recipe,
                    cache,
                    output,
                    context,
                    ledger,
                    std::move(scan.exposures),
                    {},
                    {},
                    report,
                    std::move(verdicts)};
    pair_session(session, scan);
    require_lights(options, session, scan);
    require_free_places(session);
    for (const auto& list : {session.pairing.findings, check_frames(session.exposures, session.pairing, scan.looks)})
        report.findings.insert(report.findings.end(), list.begin(), list.end());
    for (const Finding& f : session.verdicts.unused(session.exposures))
        report.findings.push_back(f);
    require_writable_folder(output);
    remove_all_leftovers(session);
    remember_names(session);

    const Work todo = remaining_work(session);
    if (const auto short_of = memory_finding(session, todo)) report.findings.push_back(*short_of);
    const Stopwatch work;
    make_masters(session);
    make_stacks(session);
    remember_speed(session, todo, work.seconds());
    const auto sums = checksum_findings(session);
    report.findings.insert(report.findings.end(), sums.begin(), sums.end());
    if (ledger.forgotten() > 0)
        report.findings.push_back({Level::note,
                                   "ledger-rows-forgotten",
                                   {},
                                   fmt::format("{} entries of the ledger were not as they had been written; what they "
                                               "held was found out again",
                                               ledger.forgotten()),
                                   ""});
    report.time = clock.seconds();
    return report;
}

} // namespace kasane
