#include "common.hpp"

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/image/statistics.hpp>
#include <kasane/image/stretch.hpp>
#include <kasane/io/png.hpp>
#include <kasane/io/reader.hpp>
#include <kasane/project/align.hpp>
#include <kasane/project/align_images.hpp>
#include <kasane/project/check.hpp>
#include <kasane/project/comet_marks.hpp>
#include <kasane/project/compare_images.hpp>
#include <kasane/project/finish.hpp>
#include <kasane/project/grade.hpp>
#include <kasane/project/run.hpp>
#include <kasane/report/align_pictures.hpp>
#include <kasane/report/align_table.hpp>
#include <kasane/report/compare_text.hpp>
#include <kasane/report/finish_text.hpp>
#include <kasane/report/grade_table.hpp>
#include <kasane/report/json.hpp>
#include <kasane/report/review.hpp>
#include <kasane/report/run_page.hpp>
#include <kasane/report/show.hpp>
#include <kasane/report/tables.hpp>
#include <kasane/sky/scenario.hpp>
#include <kasane/sky/variants.hpp>
#include <kasane/stages/options.hpp>
#include <kasane/stages/scan.hpp>

#include <algorithm>
#include <fmt/format.h>
#include <iostream>
#include <nlohmann/json.hpp>

namespace fs = std::filesystem;

namespace kasane::cli {

namespace {

/// --reference goes into the recipe: a run without it must not move what is finished.
void keep_reference_of(const Arguments& a, const RunOptions& options, const Context& context) {
    if (a.reference_light.empty()) return;
    const std::string kept = keep_reference(options, a.reference_light, context);
    if (!a.json && !a.quiet)
        std::cout << fmt::format("[registration] reference = \"{}\" is in {}\n\n", kept,
                                 recipe_file(options.folder).string());
}

/// --comet goes into the recipe too.
void keep_comet_of(const Arguments& a, const RunOptions& options, const Context& context) {
    if (a.comet.empty()) return;
    const std::vector<CometMark> marks = keep_comet_marks(options, a.comet, context);
    if (a.json || a.quiet) return;
    const std::string file = recipe_file(options.folder).string();
    if (marks.empty())
        std::cout << fmt::format("No comet is marked in {} any more\n\n", file);
    else
        std::cout << fmt::format("The comet is marked on {} light{}, in [comet] of {}\n\n", marks.size(),
                                 marks.size() == 1 ? "" : "s", file);
}

/// What a run made, and the exit status for it.
int tell_run(const Arguments& a, const RunReport& report, const std::optional<FinishReport>& finished = {}) {
    if (a.json) {
        nlohmann::json json = to_json(report);
        if (finished) json["finished"] = to_json(*finished);
        print_json(json);
    } else {
        std::cout << run_table(report, columns());
        if (finished) std::cout << "\n" << finish_text(*finished, columns());
    }
    const bool nothing =
        std::all_of(report.stacks.begin(), report.stacks.end(), [](const StackReport& s) { return s.file.empty(); });
    const bool clean = report.clean() && (!finished || finished->clean());
    return nothing ? Exit::not_done : clean ? Exit::done : Exit::done_with_findings;
}

/// Where the recipe asks for it. The run's own results are there whatever becomes of it.
std::optional<FinishReport> finish_after_run(const RunOptions& options, const RunReport& report,
                                             const Context& context) {
    if (!recipe_of(options).finish_after_run ||
        std::all_of(report.stacks.begin(), report.stacks.end(), [](const StackReport& s) { return s.file.empty(); }))
        return std::nullopt;
    try {
        return finish_masters({options, {}, {}, {}}, context);
    } catch (const Cancelled&) {
        throw;
    } catch (const Error& e) {
        FinishReport none;
        none.notes.push_back(std::string("nothing was finished: ") + e.what());
        return none;
    }
}

/// RFC 8089, with all but the plainest characters escaped.
std::string file_address(const fs::path& file) {
    std::string out = "file://";
    for (const char c : fs::absolute(file).string())
        if (std::isalnum(static_cast<unsigned char>(c)) || std::string_view("/._-~").find(c) != std::string_view::npos)
            out += c;
        else
            out += fmt::format("%{:02X}", static_cast<unsigned char>(c));
    return out;
}

/// The page of a run, where there is something new to show. What keeps it from being made does not spoil the run.
void write_page_of(const RunOptions& options, const RunReport& report, const Context& context) {
    if (has_page(report)) return;
    try {
        require_replaceable(page_of(report)); // before the work
        write_run_page(look_at_result(options, report, context));
    } catch (const Cancelled&) {
        throw;
    } catch (const Error& e) {
        std::cerr << "kasane: the page of this run was not written: " << e.what() << "\n";
    }
}

int report(const Arguments& a, const Context& context) {
    const RunOptions options = options_of(a);
    RunReport last = last_run(options);
    require_replaceable(page_of(last)); // before the work
    const ProjectResult result = look_at_result(options, std::move(last), context);
    const fs::path file = write_run_page(result);
    if (a.json) {
        nlohmann::json json = result_json(result);
        json["file"] = file.string();
        print_json(json);
    } else {
        std::cout << fmt::format("The report is in {}\n", file.string());
        for (const std::string& stale : result.stale)
            std::cout << "  " << wrapped(clean(stale), 4, static_cast<std::size_t>(columns())) << "\n";
        if (!result.stale.empty()) std::cout << "It shows the last run; 'kasane run' brings all up to date.\n";
    }
    if (!a.no_open && !a.json) open_browser(file_address(file));
    return result.stale.empty() && result.left_out.empty() ? Exit::done : Exit::done_with_findings;
}

int run(const Arguments& a, const Context& context) {
    keep_reference_of(a, options_of(a), context);
    keep_comet_of(a, options_of(a), context);
    const RunReport report = run_project(options_of(a), context);
    write_report(report);
    write_page_of(options_of(a), report, context);
    return tell_run(a, report, finish_after_run(options_of(a), report, context));
}

int scan(const Arguments& a, const Context& context) {
    const RunOptions options = options_of(a);
    const auto [scan, pairing] = scan_project(options, context);
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
        print_json({{"exposures", exposures},
                    {"stacks", stacks},
                    {"findings", findings},
                    {"other_files", scan.other_files},
                    {"excluded", scan.excluded}});
    } else if (scan.exposures.empty() && scan.findings.empty()) {
        std::cout << fmt::format("There are no exposures in {}. Name the folder that holds the files of a target.\n",
                                 options.folder.string());
    } else {
        std::cout << scan_table(scan, pairing, columns());
    }
    const bool wanting = scan.exposures.empty() || !scan.findings.empty() ||
                         std::any_of(pairing.findings.begin(), pairing.findings.end(),
                                     [](const Finding& f) { return f.level != Level::note; });
    return wanting ? Exit::done_with_findings : Exit::done;
}

int check(const Arguments& a, const Context& context) {
    const CheckReport report = check_project(options_of(a), context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << check_text(report, columns());
    return report.clean() && !report.pairing.stacks.empty() ? Exit::done : Exit::done_with_findings;
}

int status(const Arguments& a, const Context& context) {
    const StatusReport report = project_status(options_of(a), context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << status_text(report, columns());
    return report.all_done() ? Exit::done : Exit::done_with_findings;
}

int forget(const Arguments& a, const Context& context) {
    ForgetOptions o;
    o.remove = a.yes;
    for (const std::string& what : a.forgotten) {
        o.cache = o.cache || what == "cache" || what == "all";
        o.previews = o.previews || what == "previews" || what == "all";
        o.results = o.results || what == "results" || what == "all";
    }
    const ForgetReport report = kasane::forget(options_of(a), o, context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << forget_text(report, columns());
    return std::all_of(report.files.begin(), report.files.end(), [](const auto& f) { return f.problem.empty(); })
               ? Exit::done
               : Exit::done_with_findings;
}

int init(const Arguments& a) {
    if (a.reference) {
        std::cout << recipe_reference();
        return Exit::done;
    }
    const fs::path folder = folder_of(a), file = recipe_file(folder);
    require_exposure_folder(folder);
    std::error_code failed;
    if (fs::exists(file, failed) && !a.force)
        throw UsageError("there is a recipe already", file, "Edit it, or add --force to replace it");
    write_text_safely(file, recipe_template(), Over::anything); // --force was asked for, if one is there
    if (a.json)
        print_json({{"recipe", file.string()}});
    else
        std::cout << fmt::format("A recipe is in {}: everything in it is commented out and explained.\n",
                                 file.string());
    return Exit::done;
}

/// Where a picture of the file goes: as the call says, else for files of a project into its results, else here.
fs::path picture_file(const Arguments& a, const char* ending) {
    if (!a.preview.empty())
        return std::string_view(ending) == ".preview.png" ? a.preview : fs::path(a.preview).replace_extension(ending);
    std::error_code failed;
    const auto project = project_of(a.file, a.project);
    if (!project) return a.file.stem().string() + ending;
    RunOptions options;
    options.folder = *project;
    const fs::path looks = output_of(options, recipe_of(options)) / "looks";
    std::string name =
        fs::weakly_canonical(a.file, failed).lexically_proximate(*project).replace_extension("").string();
    std::replace(name.begin(), name.end(), '/', '-'); // two nights may have files of one name
    fs::create_directories(looks, failed);
    return fs::proximate(looks / (file_safe(name) + ending), failed);
}

/// What calibration does to the file, if it is a light of a project.
std::optional<CalibrationLook> calibrated(const Arguments& a, const Context& context) {
    if (a.raw_only) return std::nullopt;
    const auto project = project_of(a.file, a.project);
    if (!project) return std::nullopt;
    RunOptions options;
    options.folder = *project;
    Raster<std::uint8_t> picture;
    std::optional<CalibrationLook> look;
    try {
        look = look_at_calibration(options, a.file, context, picture);
    } catch (const Error& e) { // the file itself can be shown all the same
        std::cerr << "kasane: not shown after calibration: " << e.what() << "\n";
    }
    if (look && !a.no_preview) {
        const fs::path file = picture_file(a, ".calibrated.png");
        write_png(file, picture);
        look->picture = file.string();
    }
    return look;
}

int show(const Arguments& a, const Context& context) {
    const auto reader = open_frame(a.file);
    ShowReport report = examine(*reader, read_summary(a.file));
    if (!a.no_preview && !a.preview.empty()) require_output(a.preview, "picture", {".png"}); // before the work
    const auto look = report.exposure.is_master ? std::nullopt : calibrated(a, context);
    if (look) report.exposure = look->exposure; // what the project knows of it: its pixels may have told the role
    if (!a.no_preview) {
        const fs::path preview = picture_file(a, ".preview.png");
        const Raster<std::uint8_t> picture = render_preview(*reader);
        write_png(preview, a.stars ? mark_detections(picture, report) : picture);
        report.preview = preview.string();
    }
    if (a.json) {
        nlohmann::json json = to_json(report);
        json["calibration"] = look ? to_json(*look) : nlohmann::json(nullptr);
        print_json(json);
    } else {
        std::cout << show_text(report) << (look ? calibration_text(*look) : "");
    }
    return look && !look->findings.empty() ? Exit::done_with_findings : Exit::done;
}

int grade(const Arguments& a, const Context& context) {
    const GradeOptions options = grade_options(a);
    for (const auto* list : {&a.limits, &a.more_limits}) // before minutes of measuring
        for (const std::string& text : *list)
            parse_limit(text);
    grade_text({}, {.sort = a.sort, .columns = a.columns});
    if (!a.note.empty() && a.keep.empty() && a.drop.empty())
        throw UsageError("--note tells why, but there is no --keep or --drop beside it", {},
                         "Say which lights it is about");
    if (!a.csv.empty()) require_output(a.csv, "table", {".csv", ".txt"}); // before minutes of measuring
    GradeReport report = grade_project(options, context);
    require_some(report, a);
    std::vector<Wish> wishes;
    for (const std::string& pattern : a.keep)
        wishes.push_back({pattern, Decision{true, a.note}});
    for (const std::string& pattern : a.drop)
        wishes.push_back({pattern, Decision{false, a.note}});
    for (const std::string& pattern : a.automatic)
        wishes.push_back({pattern, std::nullopt});
    const std::vector<VerdictChange> changes = changes_for(report, wishes);
    if (!changes.empty()) {
        save_verdicts(options.run.folder, changes);
        report = grade_project(options, context);
    }
    if (!a.csv.empty()) write_text_safely(a.csv, grade_csv(report));
    if (a.json) {
        print_json(to_json(report));
    } else {
        constexpr std::size_t kRows = 40;
        std::cout << grade_text(report, {a.sort, a.columns, a.only_dropped, fold_filter(a.filter), a.night,
                                         a.all_rows ? 0 : kRows, columns()});
        if (!changes.empty())
            std::cout << fmt::format("\n{} verdicts by hand are in {}\n", changes.size(),
                                     verdict_file(options.run.folder).string());
    }
    return report.clean() ? Exit::done : Exit::done_with_findings;
}

int masters(const Arguments& a, const Context& context) {
    const RunReport report = build_masters(options_of(a), context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << masters_table(report, columns());
    return report.clean() ? Exit::done : Exit::done_with_findings;
}

int integrate(const Arguments& a, const Context& context) {
    RunOptions options = options_of(a);
    options.only = a.only;
    options.preview = a.in_small;
    if (a.in_small && a.compare_rejections)
        throw UsageError("--preview makes small master lights, --compare-rejections makes none", {},
                         "Leave one of them out");
    keep_comet_of(a, options, context);
    if (!a.compare_rejections) {
        const RunReport report = run_project(options, context);
        if (a.only.empty() && !a.in_small) { // they tell of all
            write_report(report);
            write_page_of(options, report, context);
        }
        const int status = tell_run(a, report);
        if (a.in_small && !a.json)
            std::cout << "These are previews at a quarter of the size; master lights and reports are as they were.\n";
        else if (!a.only.empty() && !a.json)
            std::cout << "The report is that of the last run of all stacks; 'kasane run' brings it up to date.\n";
        return status;
    }
    const RunReport report = compare_rejections(options, context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << choice_tables(report.stacks, columns())
                  << (report.findings.empty() ? "" : "Findings\n" + findings_text(report.findings, columns()));
    const bool nothing = std::all_of(report.stacks.begin(), report.stacks.end(),
                                     [](const StackReport& s) { return s.rejection_trials.empty(); });
    return nothing ? Exit::not_done : report.clean() ? Exit::done : Exit::done_with_findings;
}

int align_images(const Arguments& a, const Context& context) {
    for (const auto& [option, given] :
         {std::pair("--reference", !a.reference_light.empty()), std::pair("--csv", !a.csv.empty()),
          std::pair("--html", !a.html.empty()), std::pair("--pictures", !a.pictures.empty())})
        if (given)
            throw UsageError(fmt::format("{} is for the lights of a project, --onto for images", option), {},
                             "Leave one of them out");
    if (a.images.empty())
        throw UsageError("--onto names a grid, but no image is named that should come onto it", a.onto,
                         "Name them: kasane align A.fits B.fits --onto REF.fits. The lights of a project come onto an "
                         "image by onto in [registration] of its recipe");
    ImageAlignOptions options{a.images, a.onto, a.write, model_named(a.model)};
    if (!options.model && !a.model.empty() && a.model != "auto")
        throw UsageError(fmt::format("\"{}\" is no model", a.model), {},
                         "Models are auto, shift, similarity, affine, projective and lens");
    const ImageAlignReport report = kasane::align_images(options, context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << align_text(report, columns());
    const bool none =
        std::none_of(report.images.begin(), report.images.end(), [](const AlignedImage& i) { return i.registered; });
    return none ? Exit::not_done : report.clean() ? Exit::done : Exit::done_with_findings;
}

int compare(const Arguments& a, const Context& context) {
    const CompareReport report = compare_images({a.images, a.pictures}, context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << compare_text(report, columns());
    return report.clean() ? Exit::done : Exit::done_with_findings;
}

/// The recipe's, and what the command line says beside it.
FinishOptions finish_options(const Arguments& a, const RunOptions& project) {
    FinishOptions o;
    if (a.images.empty()) o = recipe_of(project).finish;
    if (!a.background.empty()) {
        if (a.background != "polynomial" && a.background != "spline" && a.background != "none")
            throw UsageError(fmt::format("\"{}\" is no kind of background", a.background), {},
                             "It is polynomial, spline or none");
        o.background = a.background != "none";
        o.gradient.kind = a.background == "spline" ? GradientKind::spline : GradientKind::polynomial;
        if (a.background == "spline") o.gradient.degree = 0;
    }
    if (a.sharpen) o.sharpen = *a.sharpen != 1 ? *a.sharpen : 0;
    if (!a.palette.empty()) o.palette = parse_palette(a.palette), o.combine = true;
    if (a.white == "none")
        o.white.reset();
    else if (!a.white.empty())
        o.white = parse_white(a.white);
    if (!a.crop.empty()) set_crop(o, a.crop);
    if (!a.onto.empty()) o.onto = fs::absolute(a.onto);
    if (a.turn) o.reshape.turn = *a.turn;
    o.reshape.mirror = o.reshape.mirror || a.mirror;
    if (a.bin) o.reshape.bin = *a.bin;
    if (a.stretch) o.tone.sky = *a.stretch;
    if (a.black) o.tone.black = *a.black;
    return o;
}

int finish(const Arguments& a, const Context& context) {
    RunOptions project;
    if (a.images.empty()) project = options_of(a);
    const FinishReport report = finish_masters({project, a.images, a.to, finish_options(a, project)}, context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << finish_text(report, columns());
    const bool none = std::all_of(report.images.begin(), report.images.end(),
                                  [](const FinishedImage& i) { return !i.failure.empty(); });
    return none ? Exit::not_done : report.clean() ? Exit::done : Exit::done_with_findings;
}

int align(Arguments a, const Context& context) {
    if (!a.onto.empty()) return align_images(a, context);
    if (!a.write.empty() || !a.model.empty())
        throw UsageError(
            fmt::format("{} is for images, but there is no --onto beside it", a.write.empty() ? "--model" : "--write"),
            {}, "Say with --onto which image gives the grid; a project's model is in its recipe");
    if (a.images.size() > 1)
        throw UsageError("several files or folders are named, but no grid", a.images[1],
                         "Name one project, or images and --onto IMAGE");
    if (!a.images.empty()) a.folder = a.images.front();
    const RunOptions options = options_of(a);
    if (!a.csv.empty()) require_output(a.csv, "table", {".csv", ".txt"}); // before minutes of measuring
    if (!a.html.empty()) require_output(a.html, "page", {".html", ".htm"});
    if (!a.pictures.empty()) require_writable_folder(a.pictures);
    keep_reference_of(a, options, context);
    const AlignReport report = align_project(options, context);
    require_some(report, a);
    if (!a.csv.empty()) write_text_safely(a.csv, align_csv(report));
    if (!a.html.empty()) write_text_safely(a.html, align_page(report));
    std::vector<std::string> pictures;
    if (!a.pictures.empty())
        for (const NamedPicture& p : align_pictures(report)) {
            pictures.push_back((a.pictures / (p.name + ".svg")).string());
            write_text_safely(pictures.back(), p.svg);
        }
    if (a.json) {
        nlohmann::json json = to_json(report);
        if (!pictures.empty()) json["pictures"] = pictures;
        print_json(json);
    } else {
        constexpr std::size_t kRows = 20;
        std::cout << align_text(report, {fold_filter(a.filter), a.night, a.all_rows ? 0 : kRows, columns()});
        for (const std::string& p : pictures)
            std::cout << fmt::format("  picture: {}\n", p);
        if (!a.html.empty()) std::cout << fmt::format("The page is in {}\n", a.html.string());
    }
    return report.clean() ? Exit::done : Exit::done_with_findings;
}

int review(const Arguments& a, const Context& context) {
    GradeOptions options = grade_options(a);
    if (!a.html.empty()) {
        options.previews = true;
        require_output(a.html, "page", {".html", ".htm"}); // before minutes of measuring
        const GradedProject project(options, context);
        write_text_safely(a.html, review_file(project));
        if (a.json)
            print_json({{"file", a.html.string()}});
        else
            std::cout << fmt::format("The page is in {}\n", a.html.string());
        return Exit::done;
    }
    ReviewServer server(options, context, a.port);
    if (a.json)
        print_json({{"address", server.address()}});
    else
        std::cout << fmt::format("The page is at\n  {}\nand ends with Ctrl-C.\n", server.address());
    std::cout << std::flush;
    if (!a.no_open) open_browser(server.address());
    server.serve();
    return Exit::done;
}

int demo(const Arguments& a, const Context& context) {
    const fs::path folder = a.folder.empty() ? a.project / "paper-lantern" : a.folder;
    std::error_code failed;
    if (fs::exists(folder, failed) && !a.force && (!fs::is_directory(folder) || !fs::is_empty(folder)))
        throw UsageError("this folder exists and is not empty", folder,
                         "Name another one, or add --force to replace files of the same names");
    const sky::Variant& variant = sky::demo_variant(a.variant);
    const sky::Written written = sky::write_scenario(variant.make(), folder, context);
    if (a.json) {
        print_json({{"folder", written.folder.string()},
                    {"truth", written.truth.string()},
                    {"files", written.files},
                    {"bytes", written.bytes}});
    } else {
        std::cout << fmt::format(
            "{}\n{} exposures ({:.0f} MB) in {}\nThe truth about them is in {}\n\nNow try\n  kasane "
            "check {}\n  kasane run {}\n",
            variant.story, written.files, static_cast<double>(written.bytes) / 1e6, folder.string(),
            written.truth.string(), folder.string(), folder.string());
    }
    return Exit::done;
}

} // namespace

int run_verb(const Arguments& a, const Context& context) {
    if (a.verb == "run") return run(a, context);
    if (a.verb == "scan") return scan(a, context);
    if (a.verb == "check") return check(a, context);
    if (a.verb == "status") return status(a, context);
    if (a.verb == "forget") return forget(a, context);
    if (a.verb == "init") return init(a);
    if (a.verb == "show") return show(a, context);
    if (a.verb == "masters") return masters(a, context);
    if (a.verb == "integrate") return integrate(a, context);
    if (a.verb == "grade") return grade(a, context);
    if (a.verb == "align") return align(a, context);
    if (a.verb == "compare") return compare(a, context);
    if (a.verb == "finish") return finish(a, context);
    if (a.verb == "review") return review(a, context);
    if (a.verb == "report") return report(a, context);
    if (a.verb == "export") return run_export(a, context);
    if (a.verb == "watch") return watch(a, context);
    return demo(a, context);
}

} // namespace kasane::cli
