#include "arguments.hpp"

#include <kasane/base/error.hpp>
#include <kasane/project/library_versions.hpp>
#include <kasane/sky/variants.hpp>

#include <cctype>
#include <charconv>
#include <fmt/format.h>

namespace kasane::cli {

void describe(CLI::App& app, Arguments& a) {
    app.set_version_flag("--version", [] {
        std::string text = "kasane " KASANE_VERSION "\n";
        for (const LibraryVersion& l : library_versions())
            text += fmt::format("  {} {}\n", l.name, l.version);
        text.pop_back();
        return text;
    });
    app.add_option("--completion", "Print what bash, zsh or fish completes with")->type_name("SHELL");
    app.add_option("--manual-pages", "Write the manual pages into a folder")->type_name("DIR");
    app.require_subcommand(1);
    app.option_defaults()->always_capture_default(false);
    app.footer("Exit status: 0 done; 1 done, and something was set aside or found wanting; 2 the call is wrong; 3 "
               "could not be done.\n"
               "Options may stand before or after the verb. 'kasane help VERB' tells more of one.\n"
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
    run->description(
        "Make master lights from a folder of raw exposures.\n\n"
        "Sorts the files into lights, darks, flats and bias; builds calibration masters; measures every "
        "light and judges it by\n"
        "limits and by hand (see 'kasane grade'); registers all filters onto one reference; integrates "
        "each stack with rejection and\n"
        "weights.\n"
        "Writes FOLDER/kasane/masters, FOLDER/kasane/lights (32-bit FITS with coverage and what was rejected as "
        "extensions, and\n"
        "PNG previews of both), report.html and report.txt. Works on a bare folder; a second run does only what has "
        "changed: files "
        "whose "
        "size or times (of\n"
        "content or of any change) are not what they were are read again. No intermediate frames are "
        "written. A run that makes no\n"
        "master light at all ends with status 3.");
    const auto project = [&](CLI::App* verb) {
        verb->add_option("folder", a.folder,
                         "The folder with the exposures, in sub-folders or one heap (default: the project)")
            ->type_name("FOLDER");
        verb->add_option("-o,--output", a.output,
                         "Where results and the ledger lie instead of FOLDER/kasane and FOLDER/.kasane")
            ->type_name("DIR");
        common(verb);
    };
    project(run);
    run->add_option("--reference", a.reference_light,
                    "The light that gives the grid: a path, a glob in quotes, or auto; kept in kasane.toml")
        ->type_name("FILE");

    const auto comet = [&](CLI::App* verb) {
        verb->add_option(
                "--comet", a.comet,
                "Where a comet is on a light, in quotes: the file, and the pixel x and y, or the file alone where its "
                "header says that. Twice at least, as far apart in time as there are, or once where the header says "
                "how it moves; kept in kasane.toml. none forgets all")
            ->type_name("\"FILE [X Y]\"")
            ->take_all();
    };
    comet(run);

    CLI::App* scan = app.add_subcommand("scan", "Say what each file is and how Kasane knows");
    scan->description("Say what each file is and how Kasane knows.\n\n"
                      "Reads headers, and pixels only where nothing else tells the role. Prints the exposures by role, "
                      "night and filter, the stacks\n"
                      "they would make, and what could not be read or placed. With --json, every file with all that is "
                      "known of it and how. The ledger\n"
                      "remembers what was read; nothing else is written.");
    project(scan);

    CLI::App* check =
        app.add_subcommand("check", "Say what goes with what, what is wrong or missing, and what a run will cost");
    check->description(
        "Say what goes with what, what is wrong or missing, and what a run will cost.\n\n"
        "For each stack prints which darks, flats and bias calibrate its lights and why, what was not taken "
        "and what would allow it;\n"
        "then findings, each with a level (blocker, warning, note), a code in --json, the files and the "
        "remedy; then the time and the\n"
        "disk that a run will take. Makes no results.");
    project(check);

    CLI::App* status = app.add_subcommand("status", "Say what is done, what is stale, and why");
    status->description(
        "Say what is done, what is stale, and why.\n\n"
        "Compares every result with the files and the recipe as they are now. A result is stale when one of "
        "its exposures, its masters or\n"
        "a setting that matters to it has changed; files that were only moved or renamed change nothing. "
        "Results that nothing asks for any\n"
        "more are named. Makes no results.");
    project(status);

    CLI::App* forget = app.add_subcommand("forget", "Let go of what can be made again, and of results nobody asks for");
    forget->description("Let go of what can be made again, and of results that nothing asks for any more.\n\n"
                        "Names what would go and how much that is; removes it with --yes. 'cache': decoded pixels of "
                        "camera raw files and "
                        "the like. 'previews':\n"
                        "the pictures of lights that the review page shows, and of what master lights were before; "
                        "making new ones takes "
                        "measuring the\n"
                        "lights again. 'results': masters, master lights and images in the results that neither the "
                        "files nor the recipe "
                        "ask for (see\n"
                        "'kasane status'). What a person wrote (kasane.toml, verdicts.toml, marks), exposures, and "
                        "what the ledger knows "
                        "stay.");
    forget->add_option("what", a.forgotten, "What to let go of: cache, previews, results, or all of them")
        ->check(CLI::IsMember({"cache", "previews", "results", "all"}))
        ->type_name("WHAT")
        ->required();
    forget->add_flag("--yes", a.yes, "Remove what is named");
    forget
        ->add_option("-o,--output", a.output,
                     "Where the results are (default: kasane in the folder, or as the recipe says)")
        ->type_name("DIR");
    common(forget);

    CLI::App* grade =
        app.add_subcommand("grade", "Measure every light, judge it, and say what the verdicts do to the result");
    grade->description(
        "Measure every light, judge it, and say what the verdicts do to the result.\n\n"
        "Prints each light with its measures (a small bar: full is the best of its stack), worst first, the "
        "reasons of those dropped, what\n"
        "each limit costs and gains, the nights, and how the telescope moved. Capitals (KEEP, DROP) mark verdicts "
        "by hand; they go into\n"
        "verdicts.toml, stand over limits, and --auto takes them back. Limits are tried here with --limit and kept in "
        "kasane.toml. See\n"
        "docs/grading.md for the measures and the grammar of limits. Makes masters that are missing; no other "
        "results.");
    project(grade);
    grade->add_option("--limits", a.limits, "Judge by these instead of the recipe's (one an argument)")
        ->type_name("LIMIT");
    grade->add_option("--limit", a.more_limits, "Judge by this one too: \"fwhm > 1.3 x median\"")
        ->type_name("LIMIT")
        ->take_all();
    grade->add_option("--keep", a.keep, "Keep these lights whatever limits say: paths or globs in quotes")
        ->type_name("FILE");
    grade->add_option("--drop", a.drop, "Drop these lights by hand")->type_name("FILE");
    grade->add_option("--auto", a.automatic, "Leave these lights to the limits again")->type_name("FILE");
    grade->add_option("--note", a.note, "Why, to be kept with --keep or --drop");
    grade->add_option("--part", a.part, "Measure inside a rectangle of the frames only: \"x y width height\" in pixels")
        ->type_name("PIXELS");
    grade->add_option("--sort", a.sort, "verdict (dropped first, then worth), time, file, or a measure; worst first")
        ->type_name("MEASURE");
    grade->add_option("--columns", a.columns, "Which measures to show")->type_name("MEASURE")->delimiter(',');
    grade->add_option("--filter", a.filter, "Only this filter");
    grade->add_option("--night", a.night, "Only this night, as 2031-03-12");
    grade->add_flag("--dropped", a.only_dropped, "Only lights that are dropped");
    grade->add_flag("--all", a.all_rows, "Every light (else at most 40 of a stack)");
    grade->add_option("--csv", a.csv, "Write every light with all its measures as CSV")->type_name("FILE");

    CLI::App* masters = app.add_subcommand("masters", "Build the calibration masters");
    masters->description("Build the calibration masters.\n\n"
                         "Makes what is missing or stale of the bias, dark and flat masters that the lights of the "
                         "folder need, into\n"
                         "FOLDER/kasane/masters or the recipe's library, and prints them. 'kasane run' does this too.");
    project(masters);

    CLI::App* integrate = app.add_subcommand("integrate", "Make the master lights, or some of them, or try rejections");
    integrate->description(
        "Make the master lights, or some of them, or try rejections.\n\n"
        "Does the last step of 'kasane run': what was measured before is not measured again, so that other settings "
        "of\n"
        "[canvas], [integration] or [normalization] in kasane.toml cost an integration only. --only keeps to some "
        "filters and\n"
        "leaves the other master lights as they are. --preview makes small ones to look at, of a quarter of the width, "
        "in\n"
        "FOLDER/kasane/previews, and leaves the real ones as they are. --compare-rejections makes none: it tries all "
        "rejections on a "
        "part\n"
        "of each stack's own pixels, with outliers added, and prints what each would cost and leave, with the one "
        "that\n"
        "'rejection = \"auto\"' takes.");
    project(integrate);
    comet(integrate);
    integrate->add_option("--only", a.only, "Only this filter or stack; may be given again")->type_name("NAME");
    integrate->add_flag("--preview", a.in_small, "At a quarter of the size, into kasane/previews");
    integrate->add_flag("--compare-rejections", a.compare_rejections,
                        "Make nothing; print what each rejection would do");

    CLI::App* align =
        app.add_subcommand("align", "Register the lights and report it; or put images onto another's grid");
    align->description(
        "Register the lights and report it; or put images onto another's grid.\n\n"
        "In a project: solves what lies between all lights (shift, turn, scale, the lens of the rig) and prints which "
        "light gives the\n"
        "grid and why, then a table a stack and night, worst first: stars matched, residual against what the stars' "
        "own "
        "errors let\n"
        "expect, shift, turn, scale, and how a light was found that did not fit at once. --reference says which light "
        "gives the grid\n"
        "and is kept in kasane.toml. Makes masters that are missing; no other results.\n\n"
        "With --onto: registers any images (masters, stills, another camera's; scale 0.2 to 5, turned, mirrored, "
        "distorted) onto one of\n"
        "them, and with --write puts them there as FITS with coverage. docs/registration.md tells more.");
    align->add_option("what", a.images, "The project's folder; with --onto, the images")->type_name("FOLDER|IMAGE");
    align->add_option("--onto", a.onto, "The image whose grid the images come onto")->type_name("IMAGE");
    align->add_option("--write", a.write, "Write them there, each as NAME.on-GRID.fits")->type_name("DIR");
    align
        ->add_option("--model", a.model,
                     "What may lie between images: auto, shift, similarity, affine, projective, lens")
        ->type_name("MODEL");
    align
        ->add_option("--reference", a.reference_light,
                     "The light that gives the grid: a path, a glob in quotes, or auto; kept in kasane.toml")
        ->type_name("FILE");
    align->add_option("--filter", a.filter, "Only this filter");
    align->add_option("--night", a.night, "Only this night, as 2031-03-12");
    align->add_flag("--all", a.all_rows, "Every light (else at most 20 of a stack and night)");
    align->add_option("--csv", a.csv, "Write every light as CSV")->type_name("FILE");
    align->add_option("--html", a.html, "Write tables and pictures as one page")->type_name("FILE");
    align
        ->add_option("--pictures", a.pictures,
                     "Write the pictures (SVG): of each rig what the stars leave, its lens, where the frames lie; "
                     "lights that failed with their stars")
        ->type_name("DIR");
    align->add_option("-o,--output", a.output, "Where results and the ledger lie instead of FOLDER/kasane")
        ->type_name("DIR");
    common(align);

    CLI::App* review =
        app.add_subcommand("review", "Look through the nights in the browser, set limits by eye, decide");
    review->description(
        "Look through the nights in the browser, set limits by eye, decide.\n\n"
        "Serves one page to this machine's browsers alone and opens it (or prints its address): the measures through "
        "each night, limits as\n"
        "lines to drag, what dropping costs, and the pictures to flip through. Nothing is saved until it is accepted; "
        "then verdicts go into\n"
        "verdicts.toml, limits into kasane.toml, and every acceptance can be undone. Ctrl-C ends it. With --html, "
        "writes the page as one\n"
        "file to read and send instead.");
    project(review);
    review->add_option("--html", a.html, "Write the page as one self-contained file and serve nothing")
        ->type_name("FILE");
    review->add_option("--port", a.port, "The port to serve on (default: any free one)")->check(CLI::Range(1, 65535));
    review->add_flag("--no-open", a.no_open, "Only print the address; open no browser");

    CLI::App* watching = app.add_subcommand("watch", "While a night goes on: look at lights as they arrive");
    watching->description(
        "While a night goes on: look at lights as they arrive.\n\n"
        "Each new light is measured, registered and judged; it is told with its figures, and a small master light of "
        "its stack grows\n"
        "by it, with the noise so far and what another hour would make of it: here, and on the review page, where one "
        "can decide\n"
        "meanwhile. Files that are still being written are waited for. Masters are built as they are needed; nothing "
        "is measured twice.\n"
        "The small master is a weighted mean without rejection, but for trails that were found. With --json, one line "
        "for each look that\n"
        "brought something. Ctrl-C ends it; 'kasane run' goes on from there.");
    project(watching);
    watching->add_option("--port", a.port, "The port to serve the page on (default: any free one)")
        ->check(CLI::Range(1, 65535));
    watching->add_flag("--no-open", a.no_open, "Only print the address of the page; open no browser");
    watching->add_flag("--no-page", a.no_page, "Serve no page");

    CLI::App* report = app.add_subcommand("report", "Write one page of the result: how it grew, every decision");
    report->description(
        "Write one page of the result: how it grew, every decision.\n\n"
        "Writes report.html into the results, one file to read, keep or send, and opens it (or prints where it is): "
        "the "
        "master lights\n"
        "with their figures and what was found wanting; noise against exposure through the nights, and what more would "
        "add; pictures to\n"
        "blink; the stars over the field, each with its profile at a click; and why everything was done as it was. "
        "'kasane "
        "run' writes\n"
        "it too. Shows the last run: no light is measured again unless what was remembered of it was let go of.");
    project(report);
    report->add_flag("--no-open", a.no_open, "Only print where it is; open no browser");

    CLI::App* exporting = app.add_subcommand("export", "Lights or master lights for another program, into a folder");
    exporting->description(
        "Lights or master lights for another program, into a folder.\n\n"
        "'export masters DIR' writes the master lights of the last run, or the images that are "
        "named, in the formats of "
        "--as: fits (32-bit\nfloats, as measured), tiff (16 bits), tiff-float, png (16 bits), "
        "png-8, jpeg. FITS and floats are linear, the "
        "others stretched, unless\n--linear or --stretched says otherwise; what 0 and 1 are, and "
        "what is cut off, is printed and "
        "stands in the file. Pictures have an ICC\nprofile.\n\n"
        "'export frames DIR' writes the kept (or dropped) lights calibrated, or with --registered on one grid, as "
        "32-bit "
        "floats (--as fits, or\ntiff-float), headers kept; --rejected-as-nan leaves out what is rejected in their "
        "stack. A call that was "
        "broken off goes on where\nit stood.\n\n"
        "'export lights DIR' copies or links the kept (or dropped) lights.\n\n"
        "The folder must lie outside the project, or, for masters, among its results. Originals are "
        "never moved, changed "
        "or deleted; a file\nthat somebody else wrote is never replaced.");
    exporting->add_option("what", a.subject, "What to export: masters, frames or lights")
        ->check(CLI::IsMember({"lights", "frames", "masters"}))
        ->type_name("WHAT")
        ->required();
    exporting->add_option("to", a.target, "The folder to fill; made if it is missing")->type_name("DIR")->required();
    exporting->add_option("images", a.images, "masters: these instead of the project's")->type_name("IMAGE");
    exporting->add_option("--as", a.how, "lights: copy, hardlink or symlink; masters, frames: formats")
        ->delimiter(',')
        ->allow_extra_args(false)
        ->type_name("HOW");
    exporting->add_flag("--linear", a.linear, "masters: numbers that go with the light");
    exporting->add_flag("--stretched", a.stretched, "masters: to be looked at as they are");
    exporting->add_option("--range", a.range, "masters: what 0 and 1 of linear pictures are, in ADU")
        ->type_name("\"BLACK WHITE\"");
    exporting->add_option("--stretch", a.stretch, "masters: how bright the sky is shown, 0.01 to 0.6")
        ->type_name("SHARE");
    exporting->add_option("--black", a.black, "masters: what is black: so many sigma below the sky")
        ->type_name("SIGMA");
    exporting->add_option("--name", a.name, "masters: of the files, of {name}, {target}, {filter}, {seconds}, {frames}")
        ->type_name("TEMPLATE");
    exporting->add_option("--quality", a.quality, "masters: of a JPEG, 1 to 100 (92)")->type_name("N");
    exporting->add_flag("--registered", a.registered, "frames: on the grid of their group, interpolated");
    exporting->add_flag("--rejected-as-nan", a.blank_rejected,
                        "frames: without the pixels that are rejected in their stack");
    exporting->add_flag("--dropped", a.only_dropped, "lights, frames: the dropped ones instead of the kept ones");
    exporting->add_option("--filter", a.filter, "Only this filter");
    exporting->add_option("--night", a.night, "lights, frames: only this night, as 2031-03-12");
    exporting->add_option("-o,--output", a.output, "Where the results are, if not in the project")->type_name("DIR");
    common(exporting);

    CLI::App* init =
        app.add_subcommand("init", "Write a recipe, kasane.toml, with every key commented out and explained");
    init->description(
        "Write a recipe, kasane.toml, with every key commented out and explained.\n\n"
        "A recipe is never needed. It tells what folder names mean, what headers lack or have wrong, which "
        "files to leave out, where other\n"
        "darks and masters are kept, and how strictly frames must agree. docs/recipe.md explains all of it. A "
        "misspelt key is an error that\n"
        "names the right one.");
    init->add_option("folder", a.folder, "The project (default: this folder)")->type_name("FOLDER");
    init->add_flag("--force", a.force, "Replace a recipe that is there");
    init->add_flag("--reference", a.reference, "Write nothing; print all keys with their meaning, as Markdown");
    common(init);

    CLI::App* compare =
        app.add_subcommand("compare", "Judge images of one field against each other, on the same stars and sky");
    compare->description(
        "Judge images of one field against each other, on the same stars and the same sky.\n\n"
        "Any images that show the same stars: master lights of other settings or nights, single exposures, FITS, TIFF "
        "or "
        "PNG of other\n"
        "programs; of any scale from 0.2 to 5, turned, mirrored. Each is measured on its own pixels. Noise is that of "
        "discs the size of a\n"
        "star, so that interpolation and drizzle flatter nobody; depth is the light of a star at 5 sigma, in units of "
        "the "
        "first image.\n"
        "--pictures writes them side by side, split, their difference, and crops pixel by pixel. Nothing else is "
        "written.");
    compare->add_option("images", a.images, "Two or more; the others are held against the first")
        ->type_name("IMAGE")
        ->required();
    compare->add_option("--pictures", a.pictures, "Write pictures of them (PNG)")->type_name("DIR");
    common(compare);

    CLI::App* finish = app.add_subcommand("finish", "Make pictures of master lights: gradients off, colour, stretch");
    finish->description(
        "Make pictures of master lights: gradients off, filters combined in colour, white balanced, stretched.\n\n"
        "Finishes what the last run of the project made, or the images that are named, which lie on one canvas. R, G "
        "and B become one "
        "picture\nin colour, with the brightness of L where there is one; --palette makes one of any filters; what is "
        "left is finished by "
        "itself.\nFor each: NAME.fits, linear; NAME.tif, 16 bits and stretched, for an editor; NAME.png to look at; "
        "and pictures of what "
        "was taken\nfor sky. Nothing is changed in place. [finish] of the recipe says how; options here go before it. "
        "docs/results.md "
        "tells more.");
    finish->add_option("images", a.images, "Instead of the project's master lights")->type_name("IMAGE");
    finish->add_option("-o,--output", a.output, "Where the run's results are, if it was told another folder")
        ->type_name("DIR");
    finish->add_option("--to", a.to, "Where the results go (otherwise into finished among the project's)")
        ->type_name("DIR");
    finish->add_option("--background", a.background, "Gradient: polynomial, spline or none")->type_name("KIND");
    finish
        ->add_option("--sharpen", a.sharpen,
                     "Width of the stars afterwards over that before, 0.6 to 0.95, or 1: as it is")
        ->type_name("SHARE");
    finish->add_option("--palette", a.palette, "What makes red, green and blue: \"Ha; 0.3 Ha + 0.7 OIII; OIII\"")
        ->type_name("SUMS");
    finish->add_option("--white", a.white, "stars, none, \"x y width height\", or factors \"1.2 1 0.9\"")
        ->type_name("WHAT");
    finish->add_option("--onto", a.onto, "An image whose grid all are brought onto first")->type_name("IMAGE");
    finish->add_option("--crop", a.crop, "What is kept: \"X Y W H\", or \"coverage 0.9\"")->type_name("PART");
    finish->add_option("--turn", a.turn, "90, 180 or 270 degrees counter-clockwise")->type_name("DEGREES");
    finish->add_flag("--mirror", a.mirror, "Left and right change places");
    finish->add_option("--bin", a.bin, "Means over squares of so many pixels")->type_name("N");
    finish->add_option("--stretch", a.stretch, "How bright the sky is shown, 0.01 to 0.6")->type_name("SHARE");
    finish->add_option("--black", a.black, "What is black: so many sigma below the sky")->type_name("SIGMA");
    common(finish);

    CLI::App* show = app.add_subcommand("show", "Look at one image: header digest, statistics, stars, preview");
    show->description("Look at one image: header digest, statistics, stars, preview.\n\n"
                      "Prints what the header says, levels and noise, and the stars found; writes a stretched preview "
                      "as PNG (NAME.preview.png),\n"
                      "because a linear image looks black: into this folder, or for files of a project into the folder "
                      "looks of its results. The\n"
                      "image itself is only read, and no file that Kasane did not write is ever replaced.\n\n"
                      "A light of a project (a folder with a recipe, or one that was scanned or run before) is shown "
                      "before and after\n"
                      "calibration too: NAME.calibrated.png holds both, whole and where they differ most, stretched "
                      "alike, and the text\n"
                      "says what is left of vignetting, dust and hot pixels, and whether the flat fits.");
    show->add_option("file", a.file, "An image: raw exposure, calibration master or master light")
        ->type_name("FILE")
        ->required();
    show->add_option("-p,--preview", a.preview, "Where to write the preview")->type_name("PNG");
    show->add_flag("--no-preview", a.no_preview, "Write no pictures");
    show->add_flag("--stars", a.stars, "Draw the stars and streaks that were found on the preview");
    show->add_flag("--raw", a.raw_only, "Only the file itself, even if it is a light of a project");
    common(show);

    CLI::App* demo = app.add_subcommand("demo", "Write a simulated project: three nights on the Paper Lantern Nebula");
    std::string variants;
    for (const sky::Variant& v : sky::demo_variants())
        variants += fmt::format("  {:<10} {}\n", v.name, v.story);
    demo->description(
        "Write a simulated project on the fictional Paper Lantern Nebula.\n\n"
        "Without --variant: about 220 small FITS files (240 MB), lights in L, R, G, B and Ha with cloud, wind, "
        "twilight, a meridian flip,\n"
        "trails and moved dust; flats for each night and filter; bias and darks. The truth about them goes into "
        "DIR.truth beside it. Then try\n"
        "'kasane check DIR' and 'kasane run DIR'. The variants:\n" +
        variants);
    std::vector<std::string> names;
    for (const sky::Variant& v : sky::demo_variants())
        names.push_back(v.name);
    demo->add_option("--variant", a.variant, "Which project to write")->check(CLI::IsMember(names))->type_name("NAME");
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
