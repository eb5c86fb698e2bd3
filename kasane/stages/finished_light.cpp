#include <kasane/stages/finished_light.hpp>

#include <kasane/io/png.hpp>
#include <kasane/ledger/record_json.hpp>
#include <kasane/stages/former_light.hpp>
#include <kasane/stages/rejected_records.hpp>
#include <kasane/stages/results.hpp>
#include <kasane/stages/stack_basis.hpp>

namespace fs = std::filesystem;

namespace kasane {

std::string FinishedLight::name() const {
    return fs::path(report.file).replace_extension().generic_string();
}

void look_at_light(const Session& session, FinishedLight& light, const Workers& workers) {
    light.pictures = describe_stars(light.master, light.report, workers);
    light.report.former = keep_former(session, light.report, light.key, light.master, light.canvas);
}

void write_files(FinishedLight& light, const fs::path& output, const Workers& workers) {
    StackReport& report = light.report;
    write_master_light(output, light.master, light.exposures, report, light.world, light.canvas, light.finer,
                       std::move(light.pictures), workers);
    if (light.comet_masters)
        write_comet_masters(output, *light.comet, *light.comet_masters, light.master, light.exposures, report,
                            {light.name(), light.world, light.canvas, light.finer, workers});
    if (light.phases) write_png(output / report.sampling.picture, *light.phases);
    std::vector<std::string> all = {report.file, report.preview, report.rejection_picture};
    if (light.phases) all.push_back(report.sampling.picture);
    for (const std::string& file : files_of(report.comet))
        all.push_back(file);
    for (const std::string& file : all)
        light.files.emplace_back(output / file, "");
    workers.for_each(light.files.size(),
                     [&](std::size_t k) { light.files[k].second = intact_text(light.files[k].first); });
}

namespace {

/// What lay beside the former master light, where this has it no more.
void remove_former(const Session& s, const FinishedLight& light) {
    std::vector<std::string> former;
    if (!light.phases) former.push_back(light.name() + ".phases.png");
    if (light.report.comet.file.empty())
        for (const char* end : {"-comet.fits", "-comet.png", "-both.fits", "-both.png"})
            former.push_back(light.name() + end);
    std::error_code kept;
    for (const std::string& file : former)
        if (is_intact(s, s.output / file)) fs::remove(s.output / file, kept);
}

} // namespace

void remember_light(Session& s, const FinishedLight& light) {
    remove_former(s, light);
    // First: what a cut off run leaves intact is never taken for a file of other settings.
    s.ledger.set_choice("file/" + light.report.file, light.key);
    for (const auto& [file, text] : light.files)
        remember_intact(s, file, text);
    s.ledger.set_fact(light.key, json_text({{"report", light.report}}));
    if (s.options.preview) return;
    s.ledger.together([&] {
        for (const auto& [exposure, cells] : light.where)
            remember_rejected(s, *exposure, cells ? &*cells : nullptr);
    });
    s.ledger.set_choice("basis/" + light.report.file, light.basis);
}

} // namespace kasane
