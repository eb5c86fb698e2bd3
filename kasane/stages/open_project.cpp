#include <kasane/stages/open_project.hpp>

#include <kasane/base/error.hpp>
#include <kasane/base/output_file.hpp>
#include <kasane/stages/masters.hpp>
#include <kasane/stages/pair.hpp>
#include <kasane/stages/results.hpp>

#include <utility>

namespace fs = std::filesystem;

namespace kasane {

namespace {

/// Before anything is made there.
const RunOptions& existing(const RunOptions& options) {
    require_exposure_folder(options.folder);
    return options;
}

} // namespace

OpenProject::OpenProject(const RunOptions& options, const Context& context, const Opening& opening)
    : recipe(recipe_of(existing(options))), output(output_of(options, recipe)),
      ledger(memory_folder(options), opening.use), cache(memory_folder(options) / "cache", recipe.cache_bytes),
      scan(scan_folder({options.folder, output, recipe, &cache, opening.look_at_pixels}, ledger, context)),
      session{options, recipe, cache, output, context, ledger, std::move(scan.exposures), {}, {}, report} {
    report.folder = options.folder.string();
    report.output = output.string();
    if (opening.verdicts) session.verdicts = VerdictFile::read(verdict_file(options.folder));
    session.wants_previews = opening.previews;
    pair_session(session, scan);
}

Scan OpenProject::take_scan() {
    scan.exposures = std::move(session.exposures);
    return std::move(scan);
}

void require_free_places(const Session& s) {
    const auto with_picture = [](fs::path file) {
        require_replaceable(file);
        require_replaceable(file.replace_extension(".png"));
    };
    for (const StackPlan& plan : s.pairing.stacks)
        with_picture(light_file(s, plan));
    for (const std::size_t i : needed_masters(s.pairing))
        if (const MasterPlan& plan = s.pairing.masters[i]; !plan.existing)
            with_picture(master_file(s, plan, master_basis(s, plan).key()));
    for (const char* name : {"report.txt", "report.json"})
        require_replaceable(s.output / name);
}

void remove_all_leftovers(const Session& s) {
    for (const auto& folder : {s.options.folder, s.output, s.masters_folder(), s.output / "lights",
                               s.output / "previews", s.output / "looks"})
        remove_leftovers(folder);
    // The many folders of previews and decoded pixels are gone through only where something was cut off.
    remove_leftovers(memory_folder(s.options), s.ledger.former_was_cut_off() ? Depth::deep : Depth::folder_alone);
}

} // namespace kasane
