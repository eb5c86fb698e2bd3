// `kasane export`: lights and master lights for other programs.
#include "common.hpp"

#include <kasane/base/error.hpp>
#include <kasane/frames/words.hpp>
#include <kasane/project/export_frames.hpp>
#include <kasane/project/export_lights.hpp>
#include <kasane/project/export_masters.hpp>
#include <kasane/report/export_text.hpp>
#include <kasane/report/json.hpp>

#include <fmt/format.h>
#include <iostream>
#include <nlohmann/json.hpp>
#include <sstream>

namespace kasane::cli {

namespace {

/// Before any work: what only the other kind of export knows is an error.
void refuse(bool given, const char* option, const char* subject) {
    if (given) throw UsageError(fmt::format("{} means nothing to 'export {}'", option, subject), {}, "Leave it out");
}

/// Options of master lights alone.
void refuse_options_of_masters(const Arguments& a) {
    for (const auto& [given, option] :
         std::initializer_list<std::pair<bool, const char*>>{{!a.images.empty(), "IMAGE"},
                                                             {a.linear, "--linear"},
                                                             {a.stretched, "--stretched"},
                                                             {!a.range.empty(), "--range"},
                                                             {!a.name.empty(), "--name"},
                                                             {a.quality.has_value(), "--quality"},
                                                             {a.stretch.has_value(), "--stretch"},
                                                             {a.black.has_value(), "--black"}})
        refuse(given, option, a.subject.c_str());
}

int export_lights(const Arguments& a, const Context& context) {
    refuse_options_of_masters(a);
    refuse(a.registered, "--registered", "lights");
    refuse(a.blank_rejected, "--rejected-as-nan", "lights");
    const std::string how = a.how.empty() ? "copy" : a.how.front();
    if (a.how.size() > 1 || (how != "copy" && how != "hardlink" && how != "symlink"))
        throw UsageError(fmt::format("lights are not exported as {}", fmt::join(a.how, ", ")), {},
                         "It is copy, hardlink or symlink");
    GradeOptions options;
    options.run = options_of(a);
    const GradeReport report = grade_project(options, context);
    require_some(report, a);
    const ExportedLights done = kasane::export_lights(report, {a.target,
                                                               how == "hardlink"  ? ExportHow::hard_link
                                                               : how == "symlink" ? ExportHow::symbolic_link
                                                                                  : ExportHow::copy,
                                                               a.only_dropped, fold_filter(a.filter), a.night});
    if (a.json)
        print_json({{"folder", a.target.string()}, {"exported", done.exported}, {"there_already", done.there_already}});
    else
        std::cout << fmt::format("{} {} lights {} {}{}\n", done.exported, a.only_dropped ? "dropped" : "kept",
                                 how == "copy" ? "copied into" : "linked into", a.target.string(),
                                 done.there_already ? fmt::format("; {} were there already", done.there_already) : "");
    return done.exported + done.there_already > 0 ? Exit::done : Exit::done_with_findings;
}

MasterExportOptions master_export_options(const Arguments& a) {
    refuse(a.only_dropped, "--dropped", "masters");
    refuse(!a.night.empty(), "--night", "masters");
    refuse(a.registered, "--registered", "masters");
    refuse(a.blank_rejected, "--rejected-as-nan", "masters");
    if (a.linear && a.stretched)
        throw UsageError("--linear and --stretched contradict each other", {}, "Leave one of them out");
    MasterExportOptions o;
    o.project = options_of(a);
    o.files = a.images;
    o.to = a.target;
    if (!a.how.empty()) o.formats.clear();
    for (const std::string& name : a.how) {
        const auto format = master_format_named(name);
        if (!format)
            throw UsageError(fmt::format("\"{}\" is no format of master lights", name), {},
                             fmt::format("It is {}", fmt::join(kMasterFormatNames, ", ")));
        o.formats.push_back(*format);
    }
    if (a.linear || a.stretched) o.stretched = a.stretched;
    if (!a.range.empty()) {
        std::istringstream in(a.range);
        LinearRange range;
        std::string more;
        if (!(in >> range.black >> range.white) || in >> more)
            throw UsageError(fmt::format("\"{}\" is no range", a.range), {}, "Say black and white in ADU: \"0 65535\"");
        o.range = range;
    }
    if (a.stretch) o.stretch.background = static_cast<float>(*a.stretch);
    if (a.black) o.stretch.black_sigmas = static_cast<float>(*a.black);
    if (!a.name.empty()) o.name = a.name;
    if (a.quality) o.quality = *a.quality;
    o.filter = a.filter;
    return o;
}

int export_frames(const Arguments& a, const Context& context) {
    refuse_options_of_masters(a);
    const std::string how = a.how.empty() ? "fits" : a.how.front();
    if (a.how.size() > 1 || (how != "fits" && how != "tiff-float"))
        throw UsageError(fmt::format("single lights are not exported as {}", fmt::join(a.how, ", ")), {},
                         "It is fits or tiff-float");
    const FrameExportReport report = export_frames({options_of(a), a.target, a.registered, how == "tiff-float",
                                                    a.only_dropped, a.blank_rejected, a.filter, a.night},
                                                   context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << export_text(report, columns());
    return report.left_out.empty() && report.written + report.there_already > 0 ? Exit::done : Exit::done_with_findings;
}

} // namespace

int run_export(const Arguments& a, const Context& context) {
    if (a.subject == "lights") return export_lights(a, context);
    if (a.subject == "frames") return export_frames(a, context);
    const MasterExportReport report = export_masters(master_export_options(a), context);
    if (a.json)
        print_json(to_json(report));
    else
        std::cout << export_text(report, columns());
    return report.clean() ? Exit::done : Exit::done_with_findings;
}

} // namespace kasane::cli
