#include <kasane/stages/options.hpp>

#include <kasane/base/error.hpp>

namespace fs = std::filesystem;

namespace kasane {

void require_exposure_folder(const fs::path& folder) {
    std::error_code failed;
    if (!fs::is_directory(folder, failed))
        throw InputError("is not a folder", folder, "Name the folder that holds the exposures");
}

Recipe recipe_of(const RunOptions& options) {
    return options.recipe ? *options.recipe : read_recipe(options.folder);
}

fs::path output_of(const RunOptions& options, const Recipe& recipe) {
    const fs::path output =
        !options.output.empty() ? options.output : options.folder / (recipe.output.empty() ? "kasane" : recipe.output);
    std::error_code failed;
    if (fs::weakly_canonical(output, failed) == fs::weakly_canonical(options.folder, failed))
        throw UsageError("is the folder of the exposures itself; results would lie among them and hide them", output,
                         "Name a folder of its own with --output, or output in the recipe");
    if (fs::exists(output, failed) && !fs::is_directory(output, failed))
        throw UsageError("is not a folder, though the results should go there", output,
                         "Name another one with --output, or output in the recipe");
    return output;
}

fs::path memory_folder(const RunOptions& options) {
    return (options.output.empty() ? options.folder : options.output) / ".kasane";
}

} // namespace kasane
