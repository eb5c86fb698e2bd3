// One image that gives a grid, and others brought onto it. Internal to project/.
#pragma once

#include <kasane/integration/regrid.hpp>
#include <kasane/io/world_coordinates.hpp>
#include <kasane/project/align_images.hpp>

#include <filesystem>
#include <optional>
#include <vector>

namespace kasane {

struct OntoGrid {
    std::filesystem::path file;
    Canvas canvas;
    std::vector<Star> stars; ///< of the image that gives it
};
/// Throws InputError; DataError where the budget does not hold it.
OntoGrid grid_of(const std::filesystem::path& file, const Context& context);

struct ImageOnGrid {
    AlignedImage told; ///< not registered: why
    RegriddedImage on_grid;
    std::optional<Transform> to_image; ///< from pixels of the grid
};
/// Registers an image onto a grid; its pixels there where they are asked for. Throws as grid_of.
ImageOnGrid bring_onto(const OntoGrid& grid, const std::filesystem::path& file, const std::optional<Model>& model,
                       bool pixels, const Context& context);

/// The grid's own position on the sky, else the image's brought onto it; `text` says which.
std::optional<WorldCoordinates> world_on_grid(const OntoGrid& grid, const std::filesystem::path& file,
                                              const Transform& to_image, std::string& text);

} // namespace kasane
