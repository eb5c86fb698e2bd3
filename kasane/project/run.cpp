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
    if (!options.output.empty()) return options.output;
    return options.folder / (recipe.output.empty() ? "kasane" : recipe.output);
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
        throw DataError("there are no exposures in this folder" + others + broken, options.folder,
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
            {Level::note, "ledger-damaged", {}, "the ledger was damaged and has been begun anew", ""});

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
    session.pairing = pair_frames(session.exposures, recipe.pairing);
    require_lights(options, session, scan);
    for (const auto& list : {session.pairing.findings, check_frames(session.exposures, session.pairing, scan.looks)})
        report.findings.insert(report.findings.end(), list.begin(), list.end());
    for (const Finding& f : session.verdicts.unused(session.exposures))
        report.findings.push_back(f);
    require_writable_folder(output);
    for (const char* sub : {"masters", "lights", "."})
        remove_leftovers(output / sub);

    const Work todo = remaining_work(session);
    const Stopwatch work;
    make_masters(session);
    make_stacks(session);
    remember_speed(session, todo, work.seconds());
    const auto sums = checksum_findings(session);
    report.findings.insert(report.findings.end(), sums.begin(), sums.end());
    report.time = clock.seconds();
    return report;
}

} // namespace kasane
