// What a caller says of a project, and where its things lie by that.
#pragma once

#include <kasane/recipe/recipe.hpp>

#include <filesystem>
#include <optional>
#include <string>
#include <vector>

namespace kasane {

struct RunOptions {
    std::filesystem::path folder;    ///< with the exposures
    std::filesystem::path output;    ///< for masters, master lights and the report; empty: as the recipe says
    std::optional<Recipe> recipe;    ///< nothing: the folder's own kasane.toml
    std::vector<std::string> only{}; ///< filters or stacks of which master lights are made; empty: all
    bool preview = false; ///< master lights at a quarter of the size, into the folder previews, beside the real ones
};

/// Throws InputError where there is no such folder.
void require_exposure_folder(const std::filesystem::path& folder);

/// The recipe that a run works by: the options' own, else that of the folder. Throws as read_recipe does.
Recipe recipe_of(const RunOptions& options);
/// Where the results go: as the options say, else the recipe, else "kasane" in the folder. Throws UsageError where they
/// cannot.
std::filesystem::path output_of(const RunOptions& options, const Recipe& recipe);
/// Where the ledger and the cache lie: in the project, or in the output folder if the options name another (so that a
/// project on a read-only disk works).
std::filesystem::path memory_folder(const RunOptions& options);

} // namespace kasane
