// One command on a folder: from raw exposures to master lights and a report, doing only what is not done yet.
#pragma once

#include <kasane/base/parallel.hpp>
#include <kasane/project/recipe.hpp>
#include <kasane/project/records.hpp>

#include <filesystem>
#include <optional>

namespace kasane {

struct RunOptions {
    std::filesystem::path folder; ///< with the exposures
    std::filesystem::path output; ///< for masters, master lights and the report; empty: as the recipe says
    std::optional<Recipe> recipe; ///< nothing: the folder's own kasane.toml
};

/// Scans, pairs, builds masters, measures, registers and integrates, and writes into the output folder:
///   masters/NAME.fits and lights/NAME.fits, with previews beside the lights.
/// Files that cannot be used are set aside with a finding. Throws UsageError (another run holds the project),
/// InputError (the folder is not one), DataError (no lights), OutputError (folder not writable, disk full), Cancelled.
RunReport run_project(const RunOptions& options, const Context& context);

/// The recipe that a run works by: the options' own, else that of the folder. Throws as read_recipe does.
Recipe recipe_of(const RunOptions& options);
/// Where the results go: as the options say, else the recipe, else "kasane" in the folder.
std::filesystem::path output_of(const RunOptions& options, const Recipe& recipe);
/// Where the ledger and the cache lie: in the project, or in the output folder if the options name another (so that a
/// project on a read-only disk works).
std::filesystem::path memory_folder(const RunOptions& options);

} // namespace kasane
