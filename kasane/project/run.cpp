#include <kasane/project/run.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/project/scan.hpp>
#include <kasane/project/session.hpp>

#include <fmt/format.h>

namespace fs = std::filesystem;

namespace kasane {

fs::path default_output(const fs::path& folder) {
    return folder / "kasane";
}

namespace {

/// The ledger lies beside what it describes: in the project, or in the output folder if that is elsewhere (so that a
/// project on a read-only disk works).
fs::path ledger_folder(const RunOptions& options) {
    return (options.output.empty() ? options.folder : options.output) / ".kasane";
}

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
                        "Name the folder that holds the FITS files of a target");
    }
    std::string why;
    for (const Finding& f : s.pairing.findings)
        if (f.code == "colour-filter-array" || f.code == "role-unknown") why += "; " + f.text;
    throw DataError(fmt::format("there are no lights among its {} exposures{}", s.exposures.size(), why),
                    options.folder, "Add lights, or check with 'kasane scan' what each file was taken for");
}

} // namespace

RunReport run_project(const RunOptions& options, const Context& context) {
    const Stopwatch clock;
    std::error_code failed;
    if (!fs::is_directory(options.folder, failed))
        throw InputError("is not a folder", options.folder, "Name the folder that holds the exposures");
    const fs::path output = options.output.empty() ? default_output(options.folder) : options.output;
    Ledger ledger(ledger_folder(options));
    RunReport report;
    report.folder = options.folder.string();
    report.output = output.string();
    if (ledger.was_damaged())
        report.findings.push_back(
            {Level::note, "ledger-damaged", {}, "the ledger was damaged and has been begun anew", ""});

    Scan scan = scan_folder(options.folder, output, &ledger, context);
    report.findings.insert(report.findings.end(), scan.findings.begin(), scan.findings.end());
    Session session{options, output, context, ledger, std::move(scan.exposures), {}, {}, report};
    session.pairing = pair_frames(session.exposures, options.pairing);
    require_lights(options, session, scan);
    report.findings.insert(report.findings.end(), session.pairing.findings.begin(), session.pairing.findings.end());
    require_writable_folder(output);
    for (const char* sub : {"masters", "lights", "."})
        remove_leftovers(output / sub);

    make_masters(session);
    make_stacks(session);
    report.time = clock.seconds();
    return report;
}

} // namespace kasane
