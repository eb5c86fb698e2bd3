#include "arguments.hpp"

#include <kasane/base/error.hpp>

#include <cctype>
#include <charconv>

namespace kasane::cli {

void describe(CLI::App& app, Arguments& a) {
    app.set_version_flag("--version", "kasane " KASANE_VERSION);
    app.require_subcommand(1);
    app.option_defaults()->always_capture_default(false);
    app.footer("Exit status: 0 done; 1 done, and something was set aside or found wanting; 2 the call is wrong; 3 "
               "could not be done.\n"
               "The original exposures are only ever read.");
    const auto common = [&](CLI::App* verb) {
        verb->add_option("-C", a.project, "The project's folder, if it is not this one")->type_name("DIR");
        verb->add_flag("--json", a.json, "Print the result as JSON on standard output");
        verb->add_flag("-q,--quiet", a.quiet, "No progress on standard error");
        verb->add_option("--threads", a.threads,
                         "Threads to work on (default: all cores); the result does not depend on it")
            ->check(CLI::Range(1, 1024));
        verb->add_option("--memory", a.memory, "Memory to stay within, like 4G or 800M (default: half of the machine)")
            ->type_name("SIZE");
        verb->callback([&a, verb] { a.verb = verb->get_name(); });
    };

    CLI::App* run = app.add_subcommand("run", "Make master lights from a folder of raw exposures");
    run->description("Make master lights from a folder of raw exposures.\n\n"
                     "Sorts the files into lights, darks, flats and bias; builds calibration masters; measures every "
                     "light and leaves out those\n"
                     "with plainly too few stars; registers all filters onto one reference; integrates each stack with "
                     "rejection and weights.\n"
                     "Writes FOLDER/kasane/masters, FOLDER/kasane/lights (32-bit FITS with a coverage extension, and a "
                     "stretched PNG preview\n"
                     "each) and report.txt. Works on a bare folder; a second run does only what has changed. No "
                     "intermediate frames are written.");
    run->add_option("folder", a.folder,
                    "The folder with the exposures, in sub-folders or one heap (default: the project)")
        ->type_name("FOLDER");
    run->add_option("-o,--output", a.output,
                    "Where to write results and the ledger instead of FOLDER/kasane and FOLDER/.kasane")
        ->type_name("DIR");
    common(run);

    CLI::App* scan = app.add_subcommand("scan", "Say what each file is and how Kasane knows");
    scan->description("Say what each file is and how Kasane knows.\n\n"
                      "Reads only headers and changes nothing. Prints the exposures by role, night and filter, the "
                      "stacks they would make, and what\n"
                      "could not be read or placed. With --json, every file with all that its header says.");
    scan->add_option("folder", a.folder, "The folder with the exposures (default: the project)")->type_name("FOLDER");
    common(scan);

    CLI::App* show = app.add_subcommand("show", "Look at one image: header digest, statistics, stars, preview");
    show->description("Look at one image: header digest, statistics, stars, preview.\n\n"
                      "Prints what the header says, levels and noise, and the stars found; writes a stretched preview "
                      "as PNG into this folder\n"
                      "(NAME.preview.png), because a linear image looks black. The image itself is only read.");
    show->add_option("file", a.file, "A FITS file: raw exposure, calibration master or master light")
        ->type_name("FILE")
        ->required();
    show->add_option("-p,--preview", a.preview, "Where to write the preview")->type_name("PNG");
    show->add_flag("--no-preview", a.no_preview, "Write no preview");
    common(show);

    CLI::App* demo = app.add_subcommand("demo", "Write a simulated project: three nights on the Paper Lantern Nebula");
    demo->description("Write a simulated project: three nights on the fictional Paper Lantern Nebula.\n\n"
                      "About 220 small FITS files (240 MB): lights in L, R, G, B and Ha with cloud, wind, twilight, a "
                      "meridian flip, trails and moved\n"
                      "dust; flats for each night and filter; bias and darks. The truth about them goes into DIR.truth "
                      "beside it. Then try\n"
                      "'kasane run DIR'.");
    demo->add_option("dir", a.folder, "The folder to write (default: paper-lantern)")->type_name("DIR");
    demo->add_flag("--force", a.force, "Write into a folder that is not empty, replacing files of the same names");
    common(demo);
}

std::uint64_t memory_bytes(const std::string& text) {
    double number = 0;
    const auto [end, error] = std::from_chars(text.data(), text.data() + text.size(), number);
    std::string unit(end, text.data() + text.size());
    for (char& c : unit)
        c = static_cast<char>(std::toupper(static_cast<unsigned char>(c)));
    const double factor = unit == "G" || unit == "GB" || unit == "GIB"                   ? 1073741824.0
                          : unit.empty() || unit == "M" || unit == "MB" || unit == "MIB" ? 1048576.0
                                                                                         : 0;
    if (error != std::errc{} || factor == 0 || !(number * factor >= 64 * 1048576.0) || number * factor > 1e15)
        throw UsageError("--memory " + text + " is not a size of at least 64M", {}, "Write it like 4G or 800M");
    return static_cast<std::uint64_t>(number * factor);
}

} // namespace kasane::cli
