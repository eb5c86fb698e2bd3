#include "verbs.hpp"

#include <kasane/base/error.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/project/run.hpp>
#include <kasane/project/scan.hpp>
#include <kasane/report/show.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/sky/scenario.hpp>

#include <fmt/format.h>
#include <iostream>

namespace fs = std::filesystem;

namespace kasane::cli {

namespace {

void print_json(const nlohmann::json& json) {
    std::cout << json_text(json, 1) << "\n";
}

fs::path folder_of(const Arguments& a) {
    return a.folder.empty() ? a.project : a.project == "." ? a.folder : a.project / a.folder;
}

int run(const Arguments& a, const Context& context) {
    RunOptions options;
    options.folder = folder_of(a);
    options.output = a.output;
    const RunReport report = run_project(options, context);
    write_report(report);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << run_table(report);
    return report.clean() ? Exit::done : Exit::done_with_findings;
}

int scan(const Arguments& a, const Context& context) {
    const fs::path folder = folder_of(a);
    const Scan scan = scan_folder(folder, default_output(folder), nullptr, context);
    const Pairing pairing = pair_frames(scan.exposures);
    if (a.json) {
        nlohmann::json exposures = nlohmann::json::array(), stacks = nlohmann::json::array(),
                       findings = nlohmann::json::array();
        for (const Exposure& e : scan.exposures)
            exposures.push_back(to_json(e));
        for (const StackPlan& s : pairing.stacks)
            stacks.push_back({{"name", s.name},
                              {"target", s.target},
                              {"filter", s.filter},
                              {"sensor", s.sensor},
                              {"lights", s.lights.size()}});
        for (const auto* list : {&scan.findings, &pairing.findings})
            for (const Finding& f : *list)
                findings.push_back(to_json(f));
        print_json(
            {{"exposures", exposures}, {"stacks", stacks}, {"findings", findings}, {"other_files", scan.other_files}});
    } else if (scan.exposures.empty() && scan.findings.empty()) {
        std::cout << fmt::format(
            "There are no exposures in {}. Name the folder that holds the FITS files of a target.\n", folder.string());
    } else {
        std::cout << scan_table(scan, pairing);
    }
    const bool wanting = scan.exposures.empty() || !scan.findings.empty() ||
                         std::any_of(pairing.findings.begin(), pairing.findings.end(),
                                     [](const Finding& f) { return f.level != Level::note; });
    return wanting ? Exit::done_with_findings : Exit::done;
}

int show(const Arguments& a) {
    const auto reader = open_frame(a.file);
    ShowReport report = examine(*reader);
    if (!a.no_preview) {
        const fs::path preview = a.preview.empty() ? fs::path(a.file.stem().string() + ".preview.png") : a.preview;
        write_png(preview, render_preview(*reader));
        report.preview = preview.string();
    }
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << show_text(report);
    return Exit::done;
}

int demo(const Arguments& a, const Context& context) {
    const fs::path folder = a.folder.empty() ? a.project / "paper-lantern" : folder_of(a);
    std::error_code failed;
    if (fs::exists(folder, failed) && !a.force && (!fs::is_directory(folder) || !fs::is_empty(folder)))
        throw UsageError("this folder exists and is not empty", folder,
                         "Name another one, or add --force to replace files of the same names");
    const sky::Written written = sky::write_scenario(sky::demo_scenario(), folder, context);
    if (a.json) {
        print_json({{"folder", written.folder.string()},
                    {"truth", written.truth.string()},
                    {"files", written.files},
                    {"bytes", written.bytes}});
    } else {
        std::cout << fmt::format("Three nights on the Paper Lantern Nebula: {} exposures ({:.0f} MB) in {}\nThe truth "
                                 "about them is in {}\n\nNow try\n  kasane scan {}\n  kasane run {}\n",
                                 written.files, static_cast<double>(written.bytes) / 1e6, folder.string(),
                                 written.truth.string(), folder.string(), folder.string());
    }
    return Exit::done;
}

} // namespace

int run_verb(const Arguments& a, const Context& context) {
    if (a.verb == "run") return run(a, context);
    if (a.verb == "scan") return scan(a, context);
    if (a.verb == "show") return show(a);
    return demo(a, context);
}

} // namespace kasane::cli
